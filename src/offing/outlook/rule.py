"""What every rule for a driver's later values does."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import ClassVar

from offing.outlook.driver_future import Future
from offing.tables import View


@dataclass(frozen=True)
class Assumed:
    """A view with what a rule assumes of a driver, and what that is in words."""

    view: View
    words: str


class Rule(ABC):
    """How a driver goes on. `method` is what a study calls it."""

    method: ClassVar[str]

    @abstractmethod
    def on(self, future: Future) -> Assumed:
        """The future's view with the rule applied."""
