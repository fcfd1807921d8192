"""Sums of periods: years as they were and as they are forecast, with joint intervals."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import count
from offing.base.arrays import Array
from offing.base.results import AHEAD, Entry, Result, numbered, register
from offing.base.text import in_units, number, percents, rounded, text_table, wrapped
from offing.calendar import Axis, Frequency
from offing.engine import quantile
from offing.explain.date_spans import coarser, owners
from offing.model import Forecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.model.joint_simulation import covariance_times, outcome_paths
from offing.model.rows import keyed

_WORDS = ("actual", "part forecast", "forecast", "incomplete")


@dataclass(frozen=True)
class Totals(Result, figure="totals.draw_totals"):
    """Sums or averages over years, quarters or months. Made by `offing.totals`.

    Attributes
    ----------
    axis
        The years, or other groups (g,).
    actual, forecast
        What the known outcomes and the forecast means add to each (g,); to its average where `average` is true.
    low, high
        95 % interval (g,) of the whole; outcomes that are known have none of it.
    known, ahead, missing, beyond
        How many of its periods (g,) are known, forecast, missing among the known, or neither in the data nor forecast.
    target, unit, average
        What is summed, its unit, and whether averages are reported.
    period
        What the series' periods are called.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series(range(10, 28), pd.period_range("2023-01", periods=18, freq="M"), name="sold", dtype=float)
    >>> ahead = of.Model("sold", terms=[of.Trend()]).fit(sold).forecast(6)
    >>> of.totals(ahead).table[["actual", "forecast", "status"]].round(6).to_numpy().tolist()
    [[186.0, 0.0, 'actual'], [147.0, 183.0, 'part forecast']]
    """

    axis: Axis
    actual: Array
    forecast: Array
    low: Array
    high: Array
    known: NDArray[np.int64]
    ahead: NDArray[np.int64]
    missing: NDArray[np.int64]
    beyond: NDArray[np.int64]
    target: str
    unit: str
    average: bool
    period: str

    @property
    def total(self) -> Array:
        """Actual and forecast together (g,)."""
        return self.actual + self.forecast

    @property
    def complete(self) -> NDArray[np.bool_]:
        """Whether every period (g,) is known or forecast."""
        return np.asarray((self.missing == 0) & (self.beyond == 0))

    @property
    def status(self) -> tuple[str, ...]:
        """``actual``, ``part forecast``, ``forecast`` or ``incomplete`` (g,)."""
        kind = np.where(self.ahead == 0, 0, np.where(self.known > 0, 1, 2))
        return tuple(_WORDS[i] for i in np.where(self.complete, kind, 3))

    @property
    def change(self) -> Array:
        """Share (g,) by which the whole differs from a year before, NaN where either is incomplete or not positive."""
        year = max(round(self.axis.frequency.periods_a_year), 1)
        change = np.full(self.axis.n, np.nan)
        whole = self.complete & (self.total > 0.0)
        both = whole[year:] & whole[:-year]
        change[year:][both] = self.total[year:][both] / self.total[:-year][both] - 1.0
        return change

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a year: ``actual, forecast, total, low, high, percent, periods, missing, status``.

        `percent` is against the same part of the year before, `periods` how many periods of it are known or forecast,
        `missing` how many are neither.
        """
        return pd.DataFrame(
            {
                "actual": self.actual,
                "forecast": self.forecast,
                "total": self.total,
                "low": self.low,
                "high": self.high,
                "percent": 100.0 * self.change,
                "periods": self.known + self.ahead,
                "missing": self.missing + self.beyond,
                "status": list(self.status),
            },
            index=self.axis.index,
        )

    @property
    def sentence(self) -> str:
        """What the first whole year with forecast periods comes to, or the first that has some."""
        name = in_units(self.target, self.unit)
        kind = "average" if self.average else "total"
        at = next((i for i, word in enumerate(self.status) if word in _WORDS[1:3]), None)
        if at is None:
            at = int(np.flatnonzero(self.ahead)[0])
            size = count(int((self.known + self.ahead)[at]), self.period)
            label, total = self.axis.labels()[at], number(float(self.total[at]), 4)
            return f"{name}, {kind} of {label} so far: {total} in the {size} that are known or forecast."
        change = "".join(f", {each} against the year before" for each in percents(self.change[at : at + 1]) if each)
        return (
            f"{name}, {kind} of {self.axis.labels()[at]}: {number(float(self.total[at]), 4)}{change}; with 95 % "
            f"probability from {number(float(self.low[at]), 4)} to {number(float(self.high[at]), 4)}."
        )

    @property
    def note(self) -> str:
        """Which groups are not whole."""
        labels = self.axis.labels()
        gaps = [
            f"{labels[i]} lacks {count(int((self.missing + self.beyond)[i]), self.period)}"
            for i in np.flatnonzero(~self.complete)
        ]
        return f"Incomplete: {'; '.join(gaps[:6])}{' …' if len(gaps) > 6 else ''}." if gaps else ""

    def __str__(self) -> str:
        g = self.axis.n
        cells = rounded(np.concatenate([self.actual, self.forecast, self.total, self.low, self.high]))
        columns = [
            self.axis.labels(),
            *(cells[i * g : (i + 1) * g] for i in range(5)),
            percents(self.change),
            list(self.status),
        ]
        heads = [self.axis.frequency.unit, "actual", "forecast", "total", "low", "high", "change", "status"]
        return f"{wrapped(chr(10).join(filter(None, [self.sentence, self.note])))}\n\n{text_table(heads, columns)}"


def totals(forecast: Forecast, by: str = "year", *, average: bool = False) -> Totals:
    """Add up outcomes and forecast by year, quarter, month or week; a period counts where its middle lies.

    Intervals are joint: noise that neighbours share and coefficients that all periods share do not average out. On the
    level scale they are exact (Student's t); else they are quantiles of 4,000 seeded joint paths.

    Parameters
    ----------
    by
        ``year``, ``quarter``, ``month`` or ``week``, longer than the series' periods. A series by fiscal quarters or
        4-4-5 months has years of its own calendar.
    average
        Averages instead of sums, for prices, rates and loads.

    Raises
    ------
    InputError
        If `by` is no longer period.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> made = of.totals(of.Model("sold").fit(sold).forecast(2), by="quarter")
    >>> made.table["total"].tolist(), made.status
    ([12.0, 15.0], ('actual', 'part forecast'))
    """
    fit = forecast.fit
    groups = coarser(fit.axis.frequency, by)
    past, future = owners(fit.axis, groups), owners(forecast.axis, groups)
    first, last = int(past[0]), int(max(past[-1], future[-1]))
    axis = Axis(groups, first, last - first + 1)
    g = axis.n
    seen = np.isfinite(fit.target)
    known = np.bincount(past[seen] - first, minlength=g)
    missing = np.bincount(past[~seen] - first, minlength=g)
    ahead = np.bincount(future - first, minlength=g)
    # Of the first and the last group, periods lie outside; those between are whole.
    around = Axis(fit.axis.frequency, fit.axis.first, fit.axis.n + forecast.axis.n)
    beyond = np.zeros(g, dtype=np.int64)
    for at, step in ((0, -1), (g - 1, 1)):
        beyond[at] += _outside(around, groups, int(axis.ordinals[at]), step)
    size = np.maximum(known + ahead, 1) if average else np.ones(g)
    rows = np.zeros((forecast.axis.n, g))
    rows[np.arange(forecast.axis.n), future - first] = 1.0 / size[future - first]
    actual = np.bincount(past[seen] - first, fit.target[seen], minlength=g) / size
    low, high = _intervals(forecast, rows)
    return Totals(
        axis,
        actual,
        rows.T @ forecast.mean,
        actual + low,
        actual + high,
        known,
        ahead,
        missing,
        beyond,
        fit.label,
        fit.unit if average else fit.sum_unit,
        average,
        fit.axis.frequency.unit,
    )


def _outside(around: Axis, groups: Frequency, owner: int, step: int) -> int:
    """How many periods of a group lie before the axis (step −1) or after it."""
    frequency = around.frequency
    edge = groups.starts(np.array([owner, owner + 1]))
    low, high = (int(each) for each in frequency.ordinals(edge))
    if step < 0:
        outside = Axis(frequency, low - 1, max(around.first - low + 1, 0))
    else:
        outside = Axis(frequency, around.first + around.n, max(high + 1 - around.first - around.n, 0))
    return int((owners(outside, groups) == owner).sum()) if outside.n else 0


def _intervals(forecast: Forecast, rows: Array) -> tuple[Array, Array]:
    """95 % interval (g,) of outcomes' sums, from the weights (h, g) of the periods."""
    fit = forecast.fit
    if not fit.scale.log and not fit.scale.growth and fit.model.lower_limit is None and fit.model.upper_limit is None:
        variance = (rows * covariance_times(forecast, rows)).sum(axis=0)
        spread = float(quantile(0.975, fit.estimate.dof)) * np.sqrt(variance)
        centre = rows.T @ forecast.mean
        return centre - spread, centre + spread
    sums = np.vstack([paths @ rows for paths in outcome_paths(forecast)])
    low, high = np.quantile(sums, [0.025, 0.975], axis=0)
    return np.asarray(low), np.asarray(high)


def total_rows(found: Totals, fit: Fitted) -> pd.DataFrame:
    """Rows of ``totals.csv``: one a year, or other group, by its name."""
    rows = found.table.reset_index(drop=True)
    rows.insert(0, "measure", "average" if found.average else "sum")
    rows.insert(1, "by", found.axis.frequency.unit)
    rows.insert(2, "period", found.axis.labels())
    return keyed(rows, fit, AS_PLANNED)


register(
    Entry(
        "totals",
        title="Totals",
        of=lambda study, name: numbered(study.totals[name]),
        text=dict.fromkeys(AHEAD, lambda found: wrapped(found.sentence)),
        joined=True,
        figure_for=["explain"],
        files={"totals": total_rows},
        files_for=AHEAD,
        rank=20,
    )
)
