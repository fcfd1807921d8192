"""Joint paths of a forecast's periods."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, get_args

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import number, rounded, text_table, wrapped
from offing.calendar import Axis
from offing.engine import SEED
from offing.explain.date_spans import coarser, named_span, owners
from offing.model import Forecast
from offing.model.joint_simulation import Noise, outcome_paths
from offing.model.rows import SHOWN


@dataclass(frozen=True)
class Paths(Result, figure="adjusted.draw_paths"):
    """Joint paths of the outcomes that a forecast expects. Made by `offing.paths`.

    Attributes
    ----------
    forecast
        What they belong to.
    values
        Outcomes (m, h), one path a row.
    noise
        Whether noise is ``normal`` or ``resampled`` from the fit's residuals.
    series
        Names of the series that are summed, where there are several.
    periods
        Some of the forecast's periods; all of them if it is not said.
    means
        The forecast means of several series together.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=60)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2019-01", periods=60, freq="M"), name="sold")
    >>> found = of.paths(of.Model("sold").fit(sold).forecast(12))
    >>> found.values.shape, found.totals("year").shape
    ((5000, 12), (1, 8))
    """

    forecast: Forecast
    values: Array
    noise: Noise
    series: tuple[str, ...] = ()
    periods: Axis | None = None
    means: Array | None = None

    @property
    def label(self) -> str:
        """What is forecast; of several series their sum."""
        fit = self.forecast.fit
        return f"{fit.column}, {len(self.series)} series together" if self.series else fit.label

    def within(self, span: object) -> Paths:
        """The same for some of the periods: ``2026``, ``2026-Q3``, ``2026-07``, one date, or a pair of dates.

        Raises
        ------
        InputError
            If no forecast period lies there.
        """
        own, axis = named_span(span, self.axis), self.axis
        at = np.flatnonzero((axis.ordinals >= own.first) & (axis.ordinals < own.first + own.n))
        if not len(at):
            found = f"no forecast period of {axis.spell()} lies in {span}"
            raise InputError(found, "Give a span among them.", key="span")
        part = axis.part(int(at[0]), int(at[-1]) + 1)
        return replace(self, values=self.values[:, at], periods=part)

    @property
    def axis(self) -> Axis:
        """The forecast periods."""
        return self.periods or self.forecast.axis

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period: the mean of the paths and their quantiles."""
        return _quantiles(self.values, self.axis.index)

    @property
    def mean(self) -> Array:
        """The forecast means (h,) of the periods."""
        whole = self.forecast.mean if self.means is None else self.means
        return whole[self.axis.ordinals - self.forecast.axis.first]

    def totals(self, by: str | None = None) -> pd.DataFrame:
        """Sums over all periods, or over those of each year, quarter or month: their mean and quantiles.

        Only what is forecast is summed; what is known of a year that has begun is not in it.

        Raises
        ------
        InputError
            If the groups would be no longer than the periods.
        """
        if by is None:
            return _quantiles(self.values.sum(axis=1, keepdims=True), [self.axis.spell()])
        groups = coarser(self.axis.frequency, by)
        own = owners(self.axis, groups)
        first = int(own[0])
        whole = Axis(groups, first, int(own[-1]) - first + 1)
        rows = np.zeros((self.axis.n, whole.n))
        rows[np.arange(self.axis.n), own - first] = 1.0
        return _quantiles(self.values @ rows, whole.labels())

    def reaching(self, threshold: float, *, side: Side = "above", total: bool = False) -> Exceedance:
        """With which chance the outcome lies above or below a threshold: in each period, in any, and the total.

        Parameters
        ----------
        threshold
            In the target's unit.
        side
            ``above`` or ``below``.
        total
            Whether the threshold is one of the total over all periods, a budget say, and not of single ones.

        Returns
        -------
        Exceedance
            Of a threshold beyond all paths it says that its chance is less than they can show.

        Raises
        ------
        InputError
            If the threshold is no number, or the side neither above nor below.
        """
        if side not in get_args(Side):
            raise InputError(f"found {side!r}", nearest(str(side), get_args(Side)), key="side")
        if isinstance(threshold, bool) or not np.isfinite(threshold):
            raise InputError(f"found {threshold!r}", "Give a number.", key="threshold")
        return Exceedance(self, float(threshold), side, total)

    @property
    def sentence(self) -> str:
        """What the total comes to, and how sure that is."""
        row, whole = self.totals().iloc[0], float(self.mean.sum())
        unit = f" {self.forecast.fit.sum_unit}" if self.forecast.fit.unit else ""
        kind = "normal noise" if self.noise == "normal" else "noise resampled from the residuals"
        return (
            f"{self.label}, total of {self.axis.spell()}: {number(whole, 4)}{unit}, with 95 % "
            f"chance between {number(row['q0.025'], 4)} and {number(row['q0.975'], 4)} ({len(self.values):,} joint "
            f"paths, {kind})."
        )

    def __str__(self) -> str:
        shown = self.table
        columns = [self.axis.labels(), *(rounded(shown[name]) for name in shown.columns)]
        return f"{wrapped(self.sentence)}\n\n{text_table([self.axis.frequency.unit, *shown.columns], columns)}"


def paths(
    forecast: Forecast | Mapping[str, Forecast], *, count: int = 5000, seed: int = SEED, noise: Noise = "normal"
) -> Paths:
    """Joint paths of outcomes: noise with its dynamics, coefficients, and the drivers' own doubt.

    Parameters
    ----------
    forecast
        A forecast by recursion; equations by horizon do not say how periods vary together. Or several series of the
        same periods by name, which are summed: each has its own fit, and draws that share nothing with the others.
    count
        How many, from 500 on; rounded up to whole batches of 250. Growth on the year before has 4,000.
    seed
        Of the draws: the same gives the same paths.
    noise
        ``normal``; or ``resampled`` in blocks from the fit's residuals, which keeps their tails.

    Raises
    ------
    InputError
        For words or numbers that mean nothing, or a forecast by horizon.

    Notes
    -----
    Each draw has its mirror image (Hammersley & Morton 1956), so that on the level scale the mean of the paths is that
    of the forecast.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=60)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2019-01", periods=60, freq="M"), name="sold")
    >>> ahead = of.Model("sold").fit(sold).forecast(2)
    >>> of.paths(ahead, noise="resampled").table["mean"].round(2).tolist() == ahead.mean.round(2).tolist()
    True
    """
    if noise not in get_args(Noise):
        raise InputError(f"found {noise!r}", nearest(str(noise), get_args(Noise)), key="noise")
    if isinstance(count, bool) or not isinstance(count, (int, np.integer)) or not 500 <= count <= 1_000_000:
        raise InputError(f"found {count!r}", "Give a whole number from 500 to a million.", key="count")
    first = forecast if isinstance(forecast, Forecast) else next(iter(forecast.values()), None)
    if first is None:
        raise InputError("there is no series", "Give forecasts by the names of their series.", key="forecast")
    if noise == "resampled" and first.fit.scale.growth:
        raise InputError("growth on the year before draws its own normal noise", 'Use noise = "normal".', key="noise")
    if isinstance(forecast, Mapping):
        return _summed(forecast, count, seed, noise)
    batches = outcome_paths(forecast, -(-int(count) // _BATCH), seed, noise, mirrored=True)
    return Paths(forecast, np.vstack(list(batches)), noise)


def _summed(every: Mapping[str, Forecast], count: int, seed: int, noise: Noise) -> Paths:
    """Paths of the sum of several series."""
    first = next(iter(every.values()))
    for name, each in every.items():
        if each.axis != first.axis or each.fit.unit != first.fit.unit:
            raise InputError(
                f"series {name!r} has other periods or another unit than the first",
                "Forecast all of them as far, in one unit.",
                key="forecast",
            )
    # Series have a fit each, so that their draws are independent: another seed for each.
    own = [paths(each, count=count, seed=seed + 7919 * i, noise=noise) for i, each in enumerate(every.values())]
    values, means = np.sum([each.values for each in own], axis=0), np.sum([each.mean for each in own], axis=0)
    return Paths(first, values, noise, tuple(every), means=means)


#: Paths of a batch: 250 paths of a year of hours take 17 MB.
_BATCH = 250


Side = Literal["above", "below"]


@dataclass(frozen=True)
class Exceedance(Result, figure="totals.draw_reach"):
    """The chances that a threshold is passed. Made by ``paths.reaching``.

    Attributes
    ----------
    paths
        The paths.
    threshold, side, total
        What is passed, to which side, and whether it is a threshold of the total.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=60)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2019-01", periods=60, freq="M"), name="sold")
    >>> found = of.paths(of.Model("sold").fit(sold).forecast(3)).reaching(101.0)
    >>> bool(found.in_any > found.by_period.max()), round(float(found.first.sum() - found.in_any), 9)
    (True, 0.0)
    """

    paths: Paths
    threshold: float
    side: Side
    total: bool

    @cached_property
    def _values(self) -> Array:
        values = self.paths.values
        return values.sum(axis=1, keepdims=True) if self.total else values

    @cached_property
    def _beyond(self) -> Array:
        """By how much each value (m, h) passes the threshold; zero where it does not."""
        gap = self._values - self.threshold
        return np.maximum(gap if self.side == "above" else -gap, 0.0)

    @cached_property
    def by_period(self) -> pd.Series:
        """The chance in each period; of a total the one of the whole."""
        index = [self.paths.axis.spell()] if self.total else self.paths.axis.index
        return pd.Series((self._beyond > 0.0).mean(axis=0), index, name="chance")

    @property
    def in_any(self) -> float:
        """The chance that any period passes it."""
        return float((self._beyond > 0.0).any(axis=1).mean())

    @cached_property
    def first(self) -> pd.Series:
        """The chance that each period is the first to pass it; they add up to `in_any`."""
        passed = self._beyond > 0.0
        first = passed & (np.cumsum(passed, axis=1) == 1)
        return pd.Series(first.mean(axis=0), self.by_period.index, name="chance")

    @property
    def shortfall(self) -> float:
        """What lies beyond the threshold, summed over the periods: the mean over all paths.

        Of a capacity and ``above``, what cannot be served; of a budget and ``below``, what is missing.
        """
        return float(self._beyond.sum(axis=1).mean())

    @property
    def shortfall_if(self) -> float:
        """The same as the mean over those paths that pass the threshold at all; NaN if none does."""
        sums = self._beyond.sum(axis=1)
        return float(sums[sums > 0.0].mean()) if (sums > 0.0).any() else float("nan")

    @property
    def error(self) -> float:
        """Standard error of `in_any` from the number of paths."""
        return float(np.sqrt(self.in_any * (1.0 - self.in_any) / len(self._values)))

    @property
    def sentence(self) -> str:
        """The chances in words."""
        fit = self.paths.forecast.fit
        unit = f" {fit.sum_unit if self.total else fit.unit}" if fit.unit else ""
        what = f"{number(self.threshold, 4)}{unit}"
        verb = "exceeds" if self.side == "above" else "falls below"
        chance = _chance(self.in_any, len(self._values))
        mean = f"where it does, by {number(self.shortfall_if)}{unit} on average"
        if not self.in_any:
            mean = f"none of {len(self._values):,} paths does"
        if self.total:
            return f"The total of {self.paths.axis.spell()} {verb} {what} with {chance} chance; {mean}."
        likely = int(np.argmax(self.by_period.to_numpy()))
        label, unit_of_time = self.paths.axis.labels()[likely], self.paths.axis.frequency.unit
        there = _chance(float(self.by_period.iloc[likely]), len(self._values))
        if not self.in_any:
            return f"{self.paths.label} {verb} {what} in some {unit_of_time} with {chance} chance: {mean}."
        return (
            f"{self.paths.label} {verb} {what} in some {unit_of_time} with {chance} chance, most likely in {label} "
            f"({there}); what lies beyond adds up to {number(self.shortfall)}{unit} on average."
        )

    def __str__(self) -> str:
        if self.total:
            return wrapped(self.sentence)
        labels = self.paths.axis.labels()
        columns = [
            labels,
            [_chance(each, len(self._values)) for each in self.by_period],
            [_chance(each, len(self._values)) for each in self.first],
        ]
        heads = [self.paths.axis.frequency.unit, "chance", "first there"]
        return f"{wrapped(self.sentence)}\n\n{text_table(heads, columns)}"

    @property
    def table(self) -> pd.DataFrame:
        """One row a period: ``chance`` of lying there, and of doing so for the ``first`` time."""
        return pd.DataFrame({"chance": self.by_period, "first": self.first})


def _quantiles(values: Array, index: pd.Index | list[str]) -> pd.DataFrame:
    """The mean and quantiles of the columns of values (m, g), one row each."""
    found = np.quantile(values, SHOWN, axis=0).T
    frame: pd.DataFrame = pd.DataFrame(found, index=pd.Index(index), columns=[f"q{p:g}" for p in SHOWN])
    frame.insert(0, "mean", values.mean(axis=0))
    return frame


def _chance(value: float, n: int) -> str:
    """A chance in words: no digit that the number of paths cannot show."""
    if value * n < 5.0:
        return f"less than {max(100.0 * 5.0 / n, 0.1):.2g} %"
    if (1.0 - value) * n < 5.0:
        return f"more than {100.0 - max(100.0 * 5.0 / n, 0.1):.4g} %"
    return f"{100.0 * value:.0f} %" if 0.1 <= value <= 0.9 else f"{100.0 * value:.1f} %"
