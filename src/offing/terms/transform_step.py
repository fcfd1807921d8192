"""What a transformation of a series is: what it learns, and what it makes of the values."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from typing import Any, ClassVar

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, country_days
from offing.engine.expressions import Expression, Facts, Input
from offing.tables import View

#: A series as a function of the periods that are wanted.
Series = Callable[[Axis], Array]


#: A step as users write it: a name, or a name with what it needs, such as ``{"deflate": "prices.index"}``.
Stated = str | Mapping[str, Any]


class Step(ABC):
    """One transformation. `name` heads the names of columns."""

    name: str
    #: Whether nothing is left of a series that stays the same.
    is_change: ClassVar[bool] = False
    #: Whether a larger value stays a larger one, each period by itself.
    pointwise: ClassVar[bool] = False

    @property
    def said(self) -> str:
        """What it does, with the numbers that it learnt."""
        return self.name

    @abstractmethod
    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """Transformed values (n,) on `axis`."""

    @abstractmethod
    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """The same on the periods of `axis`, as an expression of the value `x`; `series` are its numbers."""

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """How many periods back it looks, 0 included."""
        return (0,)

    def needs(self) -> tuple[str, ...]:
        """Further columns that it looks at."""
        return ()

    def learnt(self, series: Series, view: View) -> Step:
        """The step with what it learns from the fitted periods of the untransformed series."""
        return self


class Factor(Step):
    """A step that multiplies by what is known: its way back is a division."""

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """The values times the factor."""
        return series(axis) * self.factor(series, view, axis)

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """The value times the factor."""
        return x * self.factor_formula(series, view, axis)

    @abstractmethod
    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """The factor (n,) of each period."""

    def factor_formula(self, series: Series, view: View, axis: Axis) -> Expression:
        """The factor as an expression."""
        return Facts(self.said, self.factor(series, view, axis))


def input_of(view: View, reference: str) -> Input:
    """A column of data, by the name that is the same whichever way it is referred to."""
    return Input(".".join(view.sources.find(reference)))


def positive(values: Array, axis: Axis, what: str, column: str | None = None) -> Array:
    """The values, all of them positive or unknown.

    Raises
    ------
    InputError
        Naming the first period where one is not.
    """
    wrong = np.flatnonzero(values <= 0.0)
    if len(wrong):
        i = int(wrong[0])
        raise InputError(
            f"found {values[i]:g}, of which there is no {what}",
            "Leave out transform, or correct the value.",
            column=column,
            period=axis.part(i, i + 1).labels()[0],
        )
    return values


def working_days(axis: Axis, country: str | None, subdivision: str | None) -> Array:
    """Days (n,) from Monday to Friday in each period that are no public holiday."""
    first, after = axis.days
    off: list[np.datetime64] = []
    if country is not None:
        years = np.array([first[0], after[-1] - 1]).astype("M8[D]").astype("M8[Y]").astype(int) + 1970
        off = list(country_days(country, subdivision, int(years[0]), int(years[1])).days.astype("M8[D]"))
    return np.busday_count(first.astype("M8[D]"), after.astype("M8[D]"), holidays=off).astype(np.float64)
