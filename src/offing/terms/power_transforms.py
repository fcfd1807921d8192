"""Transformations of each value by itself: logarithms, powers, limits."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine.expressions import Call, Constant, Expression
from offing.engine.expressions import Extreme as Limit
from offing.tables import View
from offing.terms.transform_step import Series, Step, input_of, positive


@dataclass(frozen=True)
class Log(Step):
    """The natural logarithm."""

    pointwise: ClassVar[bool] = True
    name: str = "log"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """Ln x."""
        return np.asarray(np.log(positive(series(axis), axis, "logarithm")))

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """Ln x."""
        return Call("ln", x)


@dataclass(frozen=True)
class Power(Step):
    """A power of the values, which must not be negative where it is no whole number."""

    pointwise: ClassVar[bool] = True
    exponent: float

    @property
    def name(self) -> str:  # type: ignore[override]
        """Head of columns' names."""
        return f"power {self.exponent:g} of"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """X to the power."""
        return power(series(axis), self.exponent, axis)

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """X to the power."""
        return x**self.exponent


@dataclass(frozen=True)
class EstimatedPower(Step):
    """A power that is estimated between two bounds. A driver makes a form of it; by itself it changes nothing."""

    lower: float
    upper: float
    name: str = "estimated power of"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """The values as they are."""
        return series(axis)

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """The value as it is."""
        return x


@dataclass(frozen=True)
class Cap(Step):
    """Values no higher, or no lower, than a limit."""

    pointwise: ClassVar[bool] = True
    limit: float
    upper: bool

    @property
    def name(self) -> str:  # type: ignore[override]
        """Head of columns' names."""
        return f"at {'most' if self.upper else 'least'} {self.limit:g}:"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """The values, those beyond the limit at the limit."""
        return np.asarray((np.minimum if self.upper else np.maximum)(series(axis), self.limit))

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """The value, or the limit."""
        return Limit(not self.upper, x, Constant(self.limit))


@dataclass(frozen=True)
class Extreme(Step):
    """The smaller, or the larger, of the value and that of another column in the same period."""

    reference: str
    largest: bool

    @property
    def name(self) -> str:  # type: ignore[override]
        """Head of columns' names."""
        return f"{'larger' if self.largest else 'smaller'} of {self.reference.partition('.')[2] or self.reference} and"

    def needs(self) -> tuple[str, ...]:
        """The other column."""
        return (self.reference,)

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """The smaller or the larger; unknown where either is."""
        other = view.known(self.reference, axis).values
        return np.asarray((np.maximum if self.largest else np.minimum)(series(axis), other))

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """The larger or the smaller of both columns."""
        return Limit(self.largest, x, input_of(view, self.reference))


#: Powers beyond these have no use that a form would not serve better.
STEEPEST = 5.0


def power(values: Array, exponent: float, axis: Axis) -> Array:
    """Values to a power.

    Raises
    ------
    InputError
        Naming the first period where there is no such power.
    """
    wrong = values <= 0.0 if exponent < 0.0 else values < 0.0
    if exponent != round(exponent) or exponent < 0.0:
        at = np.flatnonzero(wrong)
        if len(at):
            i = int(at[0])
            raise InputError(
                f"found {values[i]:g}, of which there is no power {exponent:g}",
                "Leave out power, or correct the value.",
                period=axis.part(i, i + 1).labels()[0],
            )
    return np.asarray(np.power(values, exponent))
