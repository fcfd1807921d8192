"""Transformations that look at earlier values: differences, growth, sums and means, standardised seasons."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.engine.expressions import Call, Earlier, Expression, added
from offing.tables import View
from offing.terms.transform_step import Series, Step, positive


@dataclass(frozen=True)
class Difference(Step):
    """The change from an earlier period; the season before where `lag` is None."""

    is_change: ClassVar[bool] = True
    lag: int | None = 1
    name: str = "difference of"

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """Now, and the earlier period."""
        return (0, season_of(frequency) if self.lag is None else self.lag)

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """X less its earlier value."""
        return series(axis) - series(axis.shifted(-self.lags(axis.frequency)[1]))

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """X less its earlier value."""
        return x - Earlier(x, self.lags(axis.frequency)[1])


@dataclass(frozen=True)
class LogDifference(Step):
    """A hundred times the change of the logarithm: about percent."""

    is_change: ClassVar[bool] = True
    name: str = "log difference of"

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """Now and the period before."""
        return (0, 1)

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """100 (ln x − ln of the period before)."""
        now, before = (positive(series(each), each, "logarithm") for each in (axis, axis.shifted(-1)))
        return np.asarray(100.0 * (np.log(now) - np.log(before)))

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """100 (ln x − ln of the period before)."""
        return 100.0 * (Call("ln", x) - Call("ln", Earlier(x, 1)))


@dataclass(frozen=True)
class Growth(Step):
    """Percent on the year before."""

    is_change: ClassVar[bool] = True
    name: str = "growth of"

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """Now and a year before."""
        return (0, frequency.year_back)

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """100 (x / x a year before − 1)."""
        earlier = axis.shifted(-axis.frequency.year_back)
        return 100.0 * (series(axis) / positive(series(earlier), earlier, "growth") - 1.0)

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """100 (x / x a year before − 1)."""
        return 100.0 * (x / Earlier(x, axis.frequency.year_back) - 1.0)


@dataclass(frozen=True)
class Window(Step):
    """The sum or the mean over a number of periods up to this one."""

    number: int
    mean: bool

    @property
    def name(self) -> str:  # type: ignore[override]
        """Head of columns' names."""
        return f"{'mean' if self.mean else 'sum'} over {self.number} of"

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """All periods of the window."""
        return tuple(range(self.number))

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """The sum of the windows, or their mean; NaN where one value is unknown."""
        longer = series(Axis(axis.frequency, axis.first - self.number + 1, axis.n + self.number - 1))
        sums = np.lib.stride_tricks.sliding_window_view(longer, self.number).sum(axis=1)
        return np.asarray(sums / self.number if self.mean else sums)

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """The sum of the values up to this one, or their mean."""
        whole = added([Earlier(x, back) if back else x for back in range(self.number)])
        return whole / self.number if self.mean else whole


@dataclass(frozen=True)
class Standardised(Step):
    """Less the mean of the fitted periods, over their standard deviation."""

    centre: float | None = None
    spread: float = 1.0
    name: str = "standardised"

    def learnt(self, series: Series, view: View) -> Step:
        """With the mean and the standard deviation of the fitted periods."""
        values = series(view.rows)
        known = values[np.isfinite(values)]
        spread = float(known.std(ddof=1)) if len(known) > 1 else 0.0
        if not spread > 1e-12 * float(np.abs(known).max(initial=0.0)):
            raise InputError("it never varies in the fitted periods", "Leave out standardised.", key="transform")
        return replace(self, centre=float(known.mean()), spread=spread)

    @property
    def said(self) -> str:
        """With the mean and the standard deviation that it learnt."""
        if self.centre is None:
            return self.name
        return f"standardised (less {self.centre:.12g}, over {self.spread:.12g})"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """(x − mean) / standard deviation."""
        own = self if self.centre is not None else self.learnt(series, view)
        return np.asarray((series(axis) - own.centre) / own.spread)  # type: ignore[attr-defined]

    def formula(self, x: Expression, series: Series, view: View, axis: Axis) -> Expression:
        """(x − mean) / standard deviation."""
        own = self if self.centre is not None else self.learnt(series, view)
        return (x - own.centre) / own.spread  # type: ignore[attr-defined,no-any-return]


def season_of(frequency: Frequency) -> int:
    """Periods of the season that a seasonal difference looks back: a day of hours, a week of days, else a year."""
    lengths = {"hour": 24, "day": 7, "business day": 5, "week": 52, "month": 12, "quarter": 4}
    if frequency.unit not in lengths:
        raise InputError("years have no season", "Use difference.", key="transform")
    return lengths[frequency.unit]
