"""How a driver goes on: one rule a way."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.base.text import number, signed
from offing.outlook.as_in import AsIn
from offing.outlook.driver_future import Future
from offing.outlook.driver_model_selection import chosen_terms
from offing.outlook.rule import Assumed, Rule
from offing.tables import overlay


@dataclass(frozen=True)
class AsPlanned(Rule):
    """As the plan says, whatever another scenario assumes.

    Examples
    --------
    >>> import offing as of
    >>> of.Scenario("back to plan", {"fare": of.AsPlanned()}).name
    'back to plan'
    """

    method = "planned"

    def on(self, future: Future) -> Assumed:
        """What was assumed before is taken back."""
        key = future.view.sources.find(future.reference)
        return Assumed(future.view.without(overlay.Assumed, key).without(overlay.Unplanned, key), "as planned")


@dataclass(frozen=True)
class LastValue(Rule):
    """The last outcome goes on, growing by `growth` percent a year if that is stated.

    Examples
    --------
    >>> import offing as of
    >>> of.LastValue(growth=2.0).growth
    2.0
    """

    growth: float = 0.0
    method = "last value"

    def __post_init__(self) -> None:
        _check_number(self.growth, "growth")

    def on(self, future: Future) -> Assumed:
        """The same value throughout, or on its way up."""
        past = future.actual(future.past)
        seen = np.flatnonzero(np.isfinite(past))
        if not len(seen):
            raise InputError(f"'{future.name}' has no outcome yet", "State a path.", key=future.name)
        last = float(past[seen[-1]])
        years = (future.axis.ordinals - future.past.first - int(seen[-1])) / future.axis.frequency.periods_a_year
        more = f", {signed(self.growth)} % a year from there" if self.growth else ""
        words = f"at its last value, {_sized(last, future)}{more}"
        return _assumed(future, last * (1.0 + self.growth / 100.0) ** years, words)


@dataclass(frozen=True)
class YearBefore(Rule):
    """Each period as the same one of the last year that is known, times `growth` percent a year.

    Examples
    --------
    >>> import offing as of
    >>> of.YearBefore(growth=3.0).method
    'year before'
    """

    growth: float = 0.0
    method = "year before"

    def __post_init__(self) -> None:
        _check_number(self.growth, "growth")

    def on(self, future: Future) -> Assumed:
        """Years are counted in whole weeks where that keeps weekdays apart."""
        back = future.axis.frequency.year_back
        values, years = np.full(future.axis.n, np.nan), np.zeros(future.axis.n)
        for k in range(1, -(-future.axis.n // back) + 1):
            earlier = future.actual(future.axis.shifted(-k * back))
            fresh = np.isnan(values) & np.isfinite(earlier)
            values[fresh], years[fresh] = earlier[fresh], k
        _check_whole(values, future, "a year before")
        more = f", {signed(self.growth)} % a year" if self.growth else ""
        return _assumed(
            future, values * (1.0 + self.growth / 100.0) ** years, f"as in the same season a year before{more}"
        )


@dataclass(frozen=True)
class Stated(Rule):
    """A stated value, a value for each period in turn, or values by date; others stay as they are.

    Examples
    --------
    >>> import offing as of
    >>> of.Stated({"2026-08-03": 21.0}).values
    {'2026-08-03': 21.0}
    """

    values: float | Sequence[float] | Mapping[str, float]
    since: object = None
    until: object = None
    method = "stated"

    def __post_init__(self) -> None:
        if isinstance(self.values, Mapping):
            numbers: list[Any] = list(self.values.values())
        else:
            listed = isinstance(self.values, (Sequence, np.ndarray)) and not isinstance(self.values, str)
            numbers = list(self.values) if listed else [self.values]  # type: ignore[arg-type]
        if not numbers:
            raise InputError(f"found {self.values!r}", "Give a number, a list, or numbers by date.", key="values")
        for each in numbers:
            _check_number(each, "values")

    def on(self, future: Future) -> Assumed:
        """Dates must lie in the forecast."""
        inside = future.between(self.since, self.until)
        values = np.full(future.axis.n, np.nan)
        if isinstance(self.values, Mapping):
            for date, each in self.values.items():
                values[future.between(date, date)] = each
            return _assumed(future, values, f"stated for {len(self.values)} dates")
        if isinstance(self.values, (int, float)):
            values[inside] = self.values
            return _assumed(future, values, f"{_sized(float(self.values), future)}{_when(self)}")
        if len(self.values) != inside.sum():
            raise InputError(
                f"found {len(self.values)} values for '{future.name}', but {int(inside.sum())} periods",
                "Give one for each, or numbers by date.",
                key="values",
            )
        values[inside] = np.asarray(self.values, dtype=np.float64)
        return _assumed(future, values, f"a stated path{_when(self)}")


@dataclass(frozen=True)
class Shift(Rule):
    """A percentage, or an amount, more than what is planned or assumed so far.

    Examples
    --------
    >>> import offing as of
    >>> of.Shift(percent=5.0, since="2026-08-01").percent
    5.0
    """

    percent: float | None = None
    amount: float | None = None
    since: object = None
    until: object = None
    method = "shift"

    def __post_init__(self) -> None:
        if (self.percent is None) == (self.amount is None):
            raise InputError("a change is a percentage or an amount", "Give percent or amount.", key="percent")
        _check_number(
            self.percent if self.amount is None else self.amount, "percent" if self.amount is None else "amount"
        )

    def on(self, future: Future) -> Assumed:
        """There must be something to change."""
        inside, values = future.between(self.since, self.until), future.values
        gone = np.flatnonzero(inside & np.isnan(values))
        if len(gone):
            at = int(gone[0])
            raise InputError(
                f"nothing is planned of '{future.name}' there, so there is nothing to change",
                "Give a plan, or state how it goes on in a scenario that this one builds on.",
                period=future.axis.part(at, at + 1).labels()[0],
                key=future.name,
            )
        moved = values * (1.0 + self.percent / 100.0) if self.percent is not None else values + (self.amount or 0.0)
        size = (
            f"{signed(self.percent)} %" if self.percent is not None else f"{signed(self.amount or 0.0)} {future.unit}"
        )
        # What is not changed is not touched, so that no change is none to the last bit.
        return _assumed(future, np.where(inside & (moved != values), moved, np.nan), f"{size.strip()}{_when(self)}")


@dataclass(frozen=True)
class Modelled(Rule):
    """As a model of the driver's own expects: trend, season and own lags, as far as a back-test finds them worth it.

    Its doubt enters the forecast's intervals; drivers of one frequency that are modelled together keep how their
    residuals go together.

    Examples
    --------
    >>> import offing as of
    >>> of.Scenario("unknown weather", {"wind": of.Modelled(), "sun": of.Modelled()}).drivers["sun"].method
    'modelled'
    """

    method = "modelled"

    def on(self, future: Future) -> Assumed:
        """What is planned is not looked at."""
        key = future.view.sources.find(future.reference)
        clear = future.view.without(overlay.Assumed, key)
        chosen = chosen_terms(future)
        return Assumed(
            clear.modelling(future.reference, chosen.terms), f"forecast by a separate model ({chosen.words})"
        )


#: Rules by what a study calls them.
METHODS: dict[str, type[Rule]] = {
    each.method: each for each in (AsPlanned, LastValue, YearBefore, Stated, Shift, AsIn, Modelled)
}


def rule_of(stated: object) -> Rule:
    """The rule that a study states: a way's name, a number, a list of numbers, or a table with `method` and its fields.

    Raises
    ------
    InputError
        Naming what is allowed.
    """
    if isinstance(stated, Rule):
        return stated
    if isinstance(stated, str):
        return rule_of({"method": stated})
    if not isinstance(stated, Mapping):
        return Stated(stated)  # type: ignore[arg-type]
    noted = dict(stated)
    method = noted.pop("method", "shift" if {"percent", "amount"} & noted.keys() else None)
    if method not in METHODS:
        raise InputError(
            "no method is stated" if method is None else f"there is no method {method!r}",
            f"Give method: {nearest(str(method or ''), METHODS)}",
            key="method",
        )
    allowed = [each.name for each in fields(METHODS[method])]  # type: ignore[arg-type]
    for key in noted:
        if key not in allowed:
            raise InputError(f"{method!r} has no {key!r}", nearest(str(key), allowed), key=str(key))
    try:
        return METHODS[method](**noted)
    except TypeError as error:
        lacking = ", ".join(name for name in allowed if name not in noted)
        raise InputError(f"{method!r} needs more than is given", f"Give {lacking}.", key="method") from error


def _assumed(future: Future, values: Array, words: str) -> Assumed:
    return Assumed(future.view.assuming(future.reference, future.axis.first, values), words)


def _check_number(value: object, key: str) -> None:
    if isinstance(value, bool) or not isinstance(value, (int, float, np.number)) or not np.isfinite(value):
        raise InputError(f"found {value!r}", "Give a number.", key=key)


def _check_whole(values: Array, future: Future, where: str) -> None:
    gone = np.flatnonzero(np.isnan(values))
    if len(gone):
        at = int(gone[0])
        raise InputError(
            f"'{future.name}' has no outcome {where} for it",
            "State a path.",
            key=future.name,
            period=future.axis.part(at, at + 1).labels()[0],
        )


def _sized(value: float, future: Future) -> str:
    return f"{number(value, 4)} {future.unit}".rstrip()


def _when(rule: Stated | Shift) -> str:
    return "".join(
        f" {word} {date}" for word, date in (("from", rule.since), ("until", rule.until)) if date is not None
    )
