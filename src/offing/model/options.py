"""What is stated of a model, checked before any data are seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Protocol

import numpy as np

from offing.base import Keywords
from offing.engine import (
    Covariance,
    Dynamics,
    Loss,
)
from offing.tables import Goal, Treat
from offing.terms import Driver, Term, drivers_of, naming_term
from offing.terms.transform_step import Stated, Step
from offing.terms.transforms import steps_of


class DriverSelector(Protocol):
    """What selects drivers beside a model's terms, from what a fit without them knew."""

    def select(self, base: Any) -> Sequence[Term]:
        """The terms to add."""

    def needs(self) -> Sequence[str]:
        """The columns that it looks at."""


@dataclass(frozen=True)
class ModelOptions(Keywords):
    """The options of a `Model`, which has their meanings and defaults."""

    target: str
    terms: Sequence[Term] = ()
    scale: Literal["level", "log"] = "level"
    name: str = "main"
    treatments: Sequence[Treat] = ()
    transform: Sequence[Stated] = ()
    offset: float = 0.0
    lower_limit: float | None = None
    upper_limit: float | None = None
    errors: Literal["independent", "ar"] | None = None
    order: int | Literal["chosen"] = 1
    seasonal_lag: int | None = None
    loss: Loss = "squares"
    half_life: float | None = None
    window: int | None = None
    covariance: Covariance = "classical"
    clusters: Literal["year", "quarter", "month", "week"] | None = None
    widen_intervals: float = 1.0
    chosen: Sequence[str] = ()
    driver_selection: DriverSelector | None = None
    smooth_target: ClassVar[bool] = False

    def __post_init__(self) -> None:
        object.__setattr__(self, "chosen", tuple(self.chosen))
        object.__setattr__(self, "transform", tuple(self.transform))
        by_name = {str(term.name): term for term in self.terms}
        terms = []
        for term in self.terms:
            with naming_term(term):
                terms.append(term.among(by_name))
        object.__setattr__(self, "terms", tuple(terms))
        object.__setattr__(self, "treatments", tuple(self.treatments))

    @property
    def drivers(self) -> tuple[Driver, ...]:
        """Its terms that are drivers."""
        return drivers_of(self.terms)

    @property
    def own_lags(self) -> Term | None:
        """Its term of the target's own past, if it has one."""
        return next((term for term in self.terms if term.recursive), None)

    @property
    def dynamics(self) -> Dynamics | None:
        """How the noise of a period is taken to carry on; None where it is independent."""
        if self.errors == "ar" or (self.errors is None and any(term.needs_dynamics for term in self.terms)):
            return Dynamics(None if self.order == "chosen" else self.order, self.seasonal_lag)
        return None

    @property
    def goal(self) -> Goal:
        """What terms may know of the target."""
        return Goal(self.target, self.scale == "log", self.offset)

    def needs(self) -> tuple[str, ...]:
        """The columns that its terms, and the drivers from which it selects, look at."""
        found = [reference for term in self.terms for reference in term.needs()]
        found += [] if self.driver_selection is None else self.driver_selection.needs()
        return tuple(dict.fromkeys(found))

    @property
    def support(self) -> tuple[float, float] | None:
        """Between what values the target lies: its limits and, with the logarithm of the target itself, the offset."""
        ends = -self.offset if self.scale == "log" and not self.transform else -np.inf
        low = max(-np.inf if self.lower_limit is None else self.lower_limit, ends)
        high = np.inf if self.upper_limit is None else self.upper_limit
        return None if (low, high) == (-np.inf, np.inf) else (low, high)

    @property
    def steps(self) -> tuple[Step, ...]:
        """The target's transformations."""
        return steps_of(self.transform)


@dataclass(frozen=True)
class DriverOptions(ModelOptions):
    """Those of a driver's own model, whose target is the driver as other terms see it, smoothed or not."""

    smooth_target: ClassVar[bool] = True
