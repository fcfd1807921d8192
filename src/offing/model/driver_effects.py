"""What each driver does to the target, in the target's own units."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import number, percent, signed
from offing.engine import quantile
from offing.model.fit_state import FitState
from offing.terms import Driver
from offing.terms.change_transforms import Growth, LogDifference


@dataclass(frozen=True)
class Effect:
    """What a driver's change from `at_low` to `at_high` does, other drivers unchanged and all its lags carried through.

    `change`, `low`, `high` are in the target's unit, in each period; `share`, `share_low`, `share_high` are relative
    to the level at `at_low`, NaN on the level scale where the target is not always positive. `once` and `once_share`
    are those of a single period's change in that period, NaN where later periods feel nothing of it.
    """

    driver: str
    label: str
    unit: str
    at_low: float
    at_high: float
    change: float
    low: float
    high: float
    share: float
    share_low: float
    share_high: float
    once: float = float("nan")
    once_share: float = float("nan")

    @property
    def span(self) -> str:
        """The driver's change in words."""
        ends = [number(value) for value in (self.at_low, self.at_high)]
        ends = [end.rstrip("0").rstrip(".") if "." in end else end for end in ends]
        return " to ".join(ends) + (f" {self.unit}" if self.unit else "")


@dataclass(frozen=True)
class Effects(Result, figure="bars.draw_effects"):
    """Effects of all drivers, the largest first. Made by `offing.effects`.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> print(of.effects(of.Model("sold", terms=[of.Driver("rain")]).fit(data)))
    rain  0 to 1  −2.07 (95 %: −4.45 to +0.318), −34 %
    """

    effects: tuple[Effect, ...]
    target: str
    unit: str
    period: str

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a driver, with the fields of `Effect` as columns."""
        names = list(Effect.__dataclass_fields__)
        return pd.DataFrame([[getattr(each, name) for name in names] for each in self.effects], columns=names)

    @property
    def drawable(self) -> bool:
        """Whether there are drivers."""
        return bool(self.effects)

    @property
    def heading(self) -> str:
        """What the lines show."""
        return (
            f"From its 10th to its 90th percentile, other drivers unchanged, each driver changes {self.target} "
            f"in each {self.period} by:"
        )

    @property
    def lines(self) -> list[str]:
        """One line of words a driver."""
        width = max((len(each.label) for each in self.effects), default=0)
        ranges = [each.span for each in self.effects]
        wide = max((len(each) for each in ranges), default=0)
        unit = f" {self.unit}" if self.unit else ""
        return [
            f"{e.label:<{width}}  {span:<{wide}}  {signed(e.change)}{unit} (95 %: {signed(e.low)} to {signed(e.high)})"
            + (f", {percent(e.share)}" if np.isfinite(e.share) else "")
            + (f"; in one {self.period} alone {_one(e, unit)}" if np.isfinite(e.once) else "")
            for e, span in zip(self.effects, ranges, strict=True)
        ]

    def __str__(self) -> str:
        return "\n".join(self.lines) or "There are no drivers in the model."

    @property
    def sentences(self) -> str:
        """The heading and its lines."""
        return "\n".join([self.heading, *(f"  {line}" for line in self.lines)]) if self.effects else str(self)


def _one(effect: Effect, unit: str) -> str:
    return percent(effect.once_share) if np.isfinite(effect.once_share) else f"{signed(effect.once)}{unit}"


def effects(fit: FitState) -> Effects:
    """Effect of each driver from its 10th to its 90th percentile, other drivers unchanged.

    Low and high are the 10th and 90th percentile of the fitted periods, or the extremes where these are
    equal, as for a flag. The model is run with the driver at either value throughout, so that transformations
    and lags are carried through; the interval (95 %) counts the uncertainty of the coefficients, with the level at the
    low value held.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=60, freq="D")
    >>> fare = np.tile([4.0, 5.0, 6.0], 20)
    >>> data = pd.DataFrame({"sold": 90.0 - 5.0 * fare, "fare": fare}, index=days)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(data)
    >>> of.effects(fit).table["change"].round(6).tolist()
    [-10.0]
    """
    tried = [_effect(fit, term) for term in fit.model.drivers]
    found = [effect for effect in tried if effect is not None]
    found.sort(key=lambda effect: -abs(effect.change))
    if fit.scale.plain:
        return Effects(tuple(found), fit.label, fit.unit, fit.axis.frequency.unit)
    unit = "%" if fit.scale.gain == 100.0 else "" if fit.scale.log else fit.unit
    return Effects(tuple(found), f"the {fit.scale.name(fit.label)}", unit, fit.axis.frequency.unit)


def _effect(fit: FitState, driver: Driver) -> Effect | None:
    """The driver's effect; None where it needs a column that was left out, of which the data say nothing."""
    alone = not any(step.is_change for step in driver.steps)
    if alone:
        past = fit.seen(driver.data)
    elif driver.weights is not None:
        past = driver.lag_values(fit.view, fit.axis, fit.states[str(driver.name)])[fit.used][:, 0]
    else:
        past = fit.rows.blocks[_place(fit, driver)].columns[fit.used].ravel()
    at_low, at_high = (float(each) for each in np.quantile(past, (0.1, 0.9)))
    if at_low == at_high:
        at_low, at_high = float(past.min()), float(past.max())
    if at_low == at_high and alone:
        return None
    (low, below), (high, above) = (_design_at(fit, driver, value, alone=alone) for value in (at_low, at_high))
    function = (high - low).mean(axis=0, keepdims=True)
    if function[0, ~fit.estimate.kept].any():
        return None
    change = float((above - below).mean())
    change, function = in_the_long_run(fit, change, function)
    half = float(quantile(0.975, fit.estimate.dof) * fit.estimate.standard_errors(function)[0])
    changes, shares = _on_target(fit, below, np.array([change, change - half, change + half]))
    heads = "" if alone else "".join(f"{step.name} " for step in reversed(driver.steps))
    return Effect(
        str(driver.name),
        heads + fit.label_of(driver),
        fit.view.sources.unit(driver.data) if alone else _unit_of_change(driver),
        at_low,
        at_high,
        *map(float, changes),
        *map(float, shares),
        *(
            _once(fit, driver, at_low, at_high)
            if alone and (len(driver.lags) > 1 or driver.carry_over is not None)
            else ()
        ),
    )


def _once(fit: FitState, driver: Driver, at_low: float, at_high: float) -> tuple[float, float]:
    """Change and share of the target in a single period in which the driver is high, and low in all others."""
    lasting = len(driver.lags) > 1 or driver.carry_over is not None
    if not lasting or fit.view.frequency(driver.data) != fit.axis.frequency:
        return float("nan"), float("nan")
    last = int(np.flatnonzero(fit.used)[-1])
    low = fit.view.holding(driver.data, at_low)
    moved = low.bumped(driver.data, fit.axis.first + last, at_high - at_low)
    below, above = (fit.with_column_moved(view, driver.data).linearised(fit.estimate.beta)[1] for view in (low, moved))
    change = float(above[last] - below[last])
    changes, shares = _on_target(fit, below[fit.used], np.full(3, change))
    return float(changes[0]), float(shares[0])


def _place(fit: FitState, driver: Driver) -> int:
    return [slot.term for slot in fit.layout.slots].index(str(driver.name))


def in_the_long_run(fit: FitState, change: float, function: Array) -> tuple[float, Array]:
    """A change of what is fitted and its derivative (1, k), with what own lags add to it as time goes on.

    Σ of what is left of it is 1 / (1 − Σ φ); where that has no end, the change at once stays.
    """
    if not fit.own or not fit.returns:
        return change, function
    left = 1.0 - sum(fit.own)
    longer = function / left
    for slot, term in zip(fit.layout.slots, fit.model.terms, strict=True):
        if term.recursive:
            longer[:, slot.places] += change / left**2
    return change / left, longer


def _on_target(fit: FitState, low: Array, steps: Array) -> tuple[Array, Array]:
    """Changes and shares (3,) of the target from `steps` (3,) on the working scale, from the values `low` (n,) on."""
    none = np.full(3, np.nan)
    if not fit.scale.plain:
        return steps, none  # changes of what is fitted; what they come to depends on how long they last
    factor = fit.factor[fit.used]
    level = float(fit.mean_of(low, fit.noise[fit.used], factor).mean())
    if fit.scale.log:
        changes = np.expm1(steps) * (level + fit.scale.offset * float(np.mean(1.0 / factor)))
        return changes, changes / level
    changes = steps * float(np.mean(1.0 / factor))
    # Where the target can be zero or negative, shares of it say nothing.
    return changes, changes / level if fit.target[fit.used].min() > 0.0 < level else none


def _unit_of_change(driver: Driver) -> str:
    return "%" if isinstance(driver.steps[-1], (Growth, LogDifference)) else ""


def _design_at(fit: FitState, driver: Driver, value: float, *, alone: bool) -> tuple[Array, Array]:
    """Derivative (rows used, k) and values of the model with the driver, or its transformed values, at `value`."""
    if alone:
        design = fit.with_column_moved(fit.view.holding(driver.data, value), driver.data)
    else:
        place = _place(fit, driver)
        blocks = list(fit.rows.blocks)
        if driver.weights is not None:
            blocks[place] = driver.held(fit.view, fit.axis, fit.states[str(driver.name)], value)
        else:
            blocks[place] = replace(blocks[place], columns=np.full_like(blocks[place].columns, value))
        design = replace(fit.rows, blocks=tuple(blocks))
    matrix, values = design.linearised(fit.estimate.beta)
    return matrix[fit.used], values[fit.used]
