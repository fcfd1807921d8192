"""What a driver does at each of its values, and how its effect spreads over later periods."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import Entry, Result, by_name, register
from offing.base.text import in_units, number, percent, signed, text_table
from offing.engine import quantile, running
from offing.explain.term_lookup import term_named
from offing.model.design import Design
from offing.model.fitted import Fitted
from offing.outlook import driver_column
from offing.terms import Driver

#: Points of a curve: smooth to the eye at the width of a figure.
_POINTS = 61
#: The curve is drawn so far beyond what was seen.
_BEYOND = 0.1
#: What less than this share of the first effect is left of is nothing.
_LITTLE, _LONGEST = 0.02, 60


@dataclass(frozen=True)
class Response(Result, figure="responses.draw_response"):
    """The effect of a driver at each value, against its mean. Made by `offing.response`.

    Attributes
    ----------
    value
        Values of the driver (m,), a little beyond those seen on either side.
    effect, low, high
        What the target is more there than at the driver's mean (m,), with 95 % intervals.
    seen
        The driver's values in the fitted periods.
    share
        Whether effects are shares of the level, as on the log scale.
    elasticity
        By how many percent the target changes at each value with one percent more (m,); NaN where either is not
        positive.
    beside
        At which values of other drivers, in words.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> of.response(of.Model("sold", terms=[of.Driver("rain")]).fit(data)).table.columns.tolist()
    ['value', 'effect', 'low', 'high', 'elasticity', 'seen']
    """

    driver: str
    label: str
    unit: str
    target: str
    target_unit: str
    value: Array
    effect: Array
    low: Array
    high: Array
    seen: Array
    share: bool
    elasticity: Array
    beside: str = ""

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a value: ``value, effect, low, high, elasticity, seen``."""
        inside = (self.value >= self.seen.min()) & (self.value <= self.seen.max())
        columns = {"value": self.value, "effect": self.effect, "low": self.low, "high": self.high}
        return pd.DataFrame({**columns, "elasticity": self.elasticity, "seen": inside})

    @property
    def sentence(self) -> str:
        """From the lowest to the highest value seen, in words."""
        ends = [float(self.seen.min()), float(self.seen.max())]
        first, last = (float(np.interp(end, self.value, self.effect)) for end in ends)
        change = (1.0 + last) / (1.0 + first) - 1.0 if self.share else last - first
        unit = f" {self.target_unit}" if self.target_unit else ""
        noted = percent(change) if self.share else signed(change) + unit
        between = f"from {number(ends[0])} to {in_units(number(ends[1]), self.unit)}"
        held = f"with {self.beside}" if self.beside else "other drivers unchanged"
        return f"'{self.label}' {between} moves {self.target} by {noted}, {held}."

    def __str__(self) -> str:
        rows = self.table.iloc[:: max(len(self.value) // 12, 1)]
        cells = [[number(each, 4) for each in rows[name]] for name in ("value", "effect", "low", "high")]
        cells.append([f"{each:.2f}" if np.isfinite(each) else "" for each in rows["elasticity"]])
        return f"{self.sentence}\n\n{text_table(['value', 'effect', 'from', 'to', 'elasticity'], cells)}"


def response(fit: Fitted, driver: str | None = None, *, beside: Mapping[str, float] | None = None) -> Response:
    """What the target is at each value of a driver more than at its mean, other drivers unchanged, with all lags.

    The model is run with the driver at each value throughout; on the log scale effects are shares of the level at its
    mean. The interval (95 %) counts the coefficients, shapes included.

    Parameters
    ----------
    driver
        Name of the driver's term; may be left out where there is one only. Its interactions count as well.
    beside
        Values at which other drivers are held, by their names, which matters where they interact with this one.

    Raises
    ------
    InputError
        If there is no such driver, or the model is one of changes.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=60, freq="D")
    >>> fare = np.tile([4.0, 5.0, 6.0], 20)
    >>> data = pd.DataFrame({"sold": 90.0 - 5.0 * fare + np.tile([0.1, -0.1], 30), "fare": fare}, days)
    >>> print(of.response(of.Model("sold", terms=[of.Driver("fare")]).fit(data)).sentence)
    'fare' from 4 to 6 moves sold by −10, other drivers unchanged.
    """
    term = term_named(fit, Driver, driver, "driver")
    _check(fit)
    if any(step.is_change for step in term.steps):
        raise InputError(
            f"'{term.name}' acts by its changes, so that a lasting value does nothing",
            "Ask of.effects, or of.lag_profile.",
            key="driver",
        )
    past = fit.seen(term.data)
    spread = float(np.ptp(past))
    edges = past.min() - _BEYOND * spread, past.max() + _BEYOND * spread
    if past.min() >= 0.0:
        edges = max(edges[0], float(past.min()) if past.min() > 0.0 else 0.0), edges[1]
    values = np.linspace(*edges, _POINTS)
    held = {driver_column(fit, name): float(each) for name, each in (beside or {}).items()}
    moved = [_mean_at(fit, term, held | {term.data: value}) for value in (*values.tolist(), float(past.mean()))]
    levels, rows = np.array([each[0] for each in moved]), np.array([each[1] for each in moved])
    effect, function = levels[:-1] - levels[-1], rows[:-1] - rows[-1]
    left = 1.0 - sum(fit.own) if fit.own and fit.returns else 1.0
    half = float(quantile(0.975, fit.estimate.dof)) * fit.estimate.standard_errors(function)
    effect, low, high = (each / left for each in (effect, effect - half, effect + half))
    factor = float(np.mean(1.0 / fit.factor[fit.used]))
    if fit.scale.log:
        effect, low, high = (np.expm1(each) for each in (effect, low, high))
    else:
        effect, low, high = (each * factor for each in (effect, low, high))
    size = 1.0 + effect if fit.scale.log else effect + float(np.nanmean(fit.means[fit.used]))
    known = (values > 0.0) & (size > 0.0)
    elasticity = np.full(len(values), np.nan)
    if known.sum() > 2:
        elasticity[known] = np.gradient(np.log(size[known]), np.log(values[known]))
    said = " and ".join(f"'{name}' at {number(float(each))}" for name, each in (beside or {}).items())
    return Response(
        str(term.name),
        fit.label_of(term),
        fit.view.sources.unit(term.data),
        fit.label,
        fit.unit,
        values,
        effect,
        low,
        high,
        past,
        fit.scale.log,
        elasticity,
        said,
    )


def _check(fit: Fitted) -> None:
    if not fit.scale.plain:
        raise InputError(
            f"the model is one of {fit.scale.name(fit.column)}, to which a lasting value of a driver does nothing",
            "Fit the target itself.",
            key="transform",
        )


def _mean_at(fit: Fitted, term: Driver, held: Mapping[str, float]) -> tuple[float, Array]:
    """Mean over the fitted rows of what the driver and its interactions add, and its derivative (k,).

    Columns have the values at which they are `held` throughout.
    """
    view, blocks, places = fit.view, list(fit.rows.blocks), []
    for column, value in held.items():
        view = view.holding(column, value)
    for place, each in enumerate(fit.model.terms):
        if each.name == term.name or term in each.parts:
            blocks[place] = each.block(view, fit.axis, fit.states[str(each.name)])
            places.append(place)
    mean, slope = 0.0, np.zeros(fit.layout.k)
    for place in places:
        part = replace(fit.rows, blocks=tuple(blocks)).part(place, fit.estimate.beta)
        mean += float(part.value[fit.used].mean())
        if part.whole is None:
            slope[fit.layout.slots[place].places] += part.own[fit.used].mean(axis=0)
        else:
            slope += part.whole[fit.used].mean(axis=0)
    return mean, slope


@dataclass(frozen=True)
class LagProfile(Result, figure="responses.draw_lag_profile"):
    """How the effect of one usual change of a driver spreads over periods. Made by `offing.lag_profile`.

    Attributes
    ----------
    change
        By how much the driver goes up for one period: its standard deviation, or 1 for a flag.
    lag
        Periods after it (m,), negative before.
    effect, low, high
        On the scale that is fitted (m,), with 95 % intervals.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> print(of.lag_profile(of.Model("sold", terms=[of.Driver("rain")]).fit(data)).sentence)
    1 more of 'rain' for one day adds up to −2.07, of which 100 % comes at once.
    """

    driver: str
    label: str
    unit: str
    period: str
    target: str
    change: float
    lag: Array
    effect: Array
    low: Array
    high: Array
    share: bool

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a lag: ``lag, effect, low, high, total`` with the sum so far."""
        total = np.cumsum(self.effect)
        return pd.DataFrame(
            {"lag": self.lag, "effect": self.effect, "low": self.low, "high": self.high, "total": total}
        )

    @property
    def sentence(self) -> str:
        """How much comes at once and how much later, in words."""
        whole = float(self.effect.sum())
        at_once = float(self.effect[self.lag == 0].sum())
        share = f"{100.0 * at_once / whole:.0f} %" if whole else "nothing"
        noted = percent(np.expm1(whole)) if self.share else signed(whole)
        what = in_units(number(self.change), self.unit)
        return (
            f"{what} more of '{self.label}' for one {self.period} adds up to {noted}, of which {share} comes at once."
        )

    def __str__(self) -> str:
        rows = self.table
        cells = [[f"{each:.0f}" for each in rows["lag"]]]
        cells += [[number(each, 3) for each in rows[name]] for name in ("effect", "low", "high", "total")]
        return f"{self.sentence}\n\n{text_table(['lag', 'effect', 'from', 'to', 'so far'], cells)}"


def lag_profile(fit: Fitted, driver: str | None = None) -> LagProfile:
    """How one usual change of a driver for a single period acts in that and in later periods.

    Lags, carry-over and the target's own lags are carried through, by running the model with one period changed in the
    middle of the history.

    Raises
    ------
    InputError
        If there is no such driver.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=80, freq="D")
    >>> rain = np.random.default_rng(1).gamma(1.0, 2.0, 80)
    >>> sold = 9.0 - rain + 0.5 * np.r_[0.0, rain[:-1]]
    >>> data = pd.DataFrame({"sold": sold, "rain": rain}, days)
    >>> fit = of.Model("sold", terms=[of.Driver("rain", lags=[0, 1])]).fit(data)
    >>> (of.lag_profile(fit).effect / of.lag_profile(fit).change).round(6).tolist()
    [-1.0, 0.5]
    """
    term = term_named(fit, Driver, driver, "driver")
    if fit.view.frequency(term.data) != fit.axis.frequency:
        raise InputError(
            f"'{term.name}' has the frequency {fit.view.frequency(term.data)}, not that of the target",
            "Ask of.lag_weights.",
            key="driver",
        )
    known = fit.seen(term.data)
    flag = set(np.unique(known).tolist()) <= {0.0, 1.0}
    change = 1.0 if flag else float(known.std())
    middle = fit.axis.n // 2
    place = [slot.term for slot in fit.layout.slots].index(str(term.name))
    base = 0.0 if flag else float(np.median(known))
    parts = []
    for step in (change, 0.0):
        view = fit.view.holding(term.data, base).bumped(term.data, int(fit.axis.ordinals[middle]), step)
        block = term.block(view, fit.axis, fit.states[str(term.name)])
        blocks = (*fit.rows.blocks[:place], block, *fit.rows.blocks[place + 1 :])
        parts.append(_values(replace(fit.rows, blocks=blocks), fit, place))
    value, slope = parts[0][0] - parts[1][0], parts[0][1] - parts[1][1]
    if fit.own:
        value, slope = running(value, fit.own), running(slope, fit.own)
    noted = np.flatnonzero(np.abs(value) > _LITTLE * np.abs(value).max(initial=0.0))
    first, end = (int(noted[0]), int(noted[-1])) if len(noted) else (middle, middle)
    span = slice(min(first, middle), min(max(end, middle), middle + _LONGEST) + 1)
    half = float(quantile(0.975, fit.estimate.dof)) * fit.estimate.standard_errors(slope[span])
    return LagProfile(
        str(term.name),
        fit.label_of(term),
        fit.view.sources.unit(term.data),
        fit.axis.frequency.unit,
        fit.scale.name(fit.label),
        change,
        np.arange(span.start - middle, span.stop - middle, dtype=np.float64),
        value[span],
        value[span] - half,
        value[span] + half,
        fit.scale.log and fit.scale.plain,
    )


def _values(design: Design, fit: Fitted, place: int) -> tuple[Array, Array]:
    part = design.part(place, fit.estimate.beta)
    slope = np.zeros((fit.axis.n, fit.layout.k))
    if part.whole is None:
        slope[:, fit.layout.slots[place].places] = part.own
    else:
        slope = part.whole
    return np.nan_to_num(part.value), np.nan_to_num(slope)


def _responses(study: Any, name: str) -> dict[str, Any]:
    """The responses to drivers that bend, of targets that are not changes."""
    fit = study.fits[name]
    bent = [term for term in fit.model.drivers if term.bends]
    own = [str(term.name) for term in bent if fit.scale.plain and not any(step.is_change for step in term.steps)]
    return by_name({driver: response(fit, driver) for driver in own}, always=True)


register(Entry("response", title="Responses to drivers", of=_responses, figure_for=["explain"]))
