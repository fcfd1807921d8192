"""What a term adds to a forecast, as expressions of its drivers' columns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.engine.expressions import Expression, Facts


@dataclass(frozen=True)
class Rows:
    """The periods `axis` of a forecast, with as many before as its expressions look back.

    `others` are those of further frequencies, with a name.
    """

    axis: Axis
    lead: int
    others: Mapping[Frequency, tuple[str, Axis]] = field(default_factory=dict)

    @cached_property
    def whole(self) -> Axis:
        """All of them."""
        return Axis(self.axis.frequency, self.axis.first - self.lead, self.axis.n + self.lead)

    def facts(self, name: str, values: Array) -> Facts:
        """Numbers (n,) of the periods of `axis`; none before."""
        return Facts(name, np.concatenate([np.full(self.lead, np.nan), np.broadcast_to(values, self.axis.n)]))


@dataclass(frozen=True)
class Summand:
    """A summand of what a term adds: a coefficient times an expression.

    `fixed` says why the expression does not follow its drivers, where it does not.
    """

    name: str
    coefficient: float
    expression: Expression
    fixed: str = ""
