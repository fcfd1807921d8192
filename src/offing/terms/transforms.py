"""Transformations of series: what a column becomes before it enters a model, on drivers and on the target alike."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, country_days
from offing.calendar.axis import instant_of
from offing.tables import View

#: A series as a function of the periods that are wanted.
Series = Callable[[Axis], Array]
#: A step as users write it: a name, or a name with what it needs, such as ``{"deflate": "prices.index"}``.
Stated = str | Mapping[str, Any]


class Step(ABC):
    """One transformation. `name` heads the names of columns."""

    name: str

    @property
    def said(self) -> str:
        """What it does, with the numbers that it learnt."""
        return self.name

    @property
    def is_change(self) -> bool:
        """Whether nothing is left of a series that stays the same."""
        return isinstance(self, (Difference, LogDifference, Growth))

    @property
    def pointwise(self) -> bool:
        """Whether a larger value stays a larger one, each period by itself."""
        return isinstance(self, (Log, Power, Cap))

    @abstractmethod
    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """Transformed values (n,) on `axis`."""

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

    @abstractmethod
    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """The factor (n,) of each period."""


@dataclass(frozen=True)
class Log(Step):
    """The natural logarithm."""

    name: str = "log"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """Ln x."""
        return np.asarray(np.log(positive(series(axis), axis, "logarithm")))


@dataclass(frozen=True)
class Power(Step):
    """A power of the values, which must not be negative where it is no whole number."""

    exponent: float

    @property
    def name(self) -> str:  # type: ignore[override]
        """Head of columns' names."""
        return f"power {self.exponent:g} of"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """X to the power."""
        return power(series(axis), self.exponent, axis)


@dataclass(frozen=True)
class EstimatedPower(Step):
    """A power that is estimated between two bounds. A driver makes a form of it; by itself it changes nothing."""

    lower: float
    upper: float
    name: str = "estimated power of"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """The values as they are."""
        return series(axis)


@dataclass(frozen=True)
class Cap(Step):
    """Values no higher, or no lower, than a limit."""

    limit: float
    upper: bool

    @property
    def name(self) -> str:  # type: ignore[override]
        """Head of columns' names."""
        return f"at {'most' if self.upper else 'least'} {self.limit:g}:"

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """The values, those beyond the limit at the limit."""
        return np.asarray((np.minimum if self.upper else np.maximum)(series(axis), self.limit))


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


@dataclass(frozen=True)
class Difference(Step):
    """The change from an earlier period; the season before where `lag` is None."""

    lag: int | None = 1
    name: str = "difference of"

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """Now, and the earlier period."""
        return (0, season_of(frequency) if self.lag is None else self.lag)

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """X less its earlier value."""
        return series(axis) - series(axis.shifted(-self.lags(axis.frequency)[1]))


@dataclass(frozen=True)
class LogDifference(Step):
    """A hundred times the change of the logarithm: about percent."""

    name: str = "log difference of"

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """Now and the period before."""
        return (0, 1)

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """100 (ln x − ln of the period before)."""
        now, before = (positive(series(each), each, "logarithm") for each in (axis, axis.shifted(-1)))
        return np.asarray(100.0 * (np.log(now) - np.log(before)))


@dataclass(frozen=True)
class Growth(Step):
    """Percent on the year before."""

    name: str = "growth of"

    def lags(self, frequency: Frequency) -> tuple[int, ...]:
        """Now and a year before."""
        return (0, frequency.year_back)

    def apply(self, series: Series, view: View, axis: Axis) -> Array:
        """100 (x / x a year before − 1)."""
        earlier = axis.shifted(-axis.frequency.year_back)
        return 100.0 * (series(axis) / positive(series(earlier), earlier, "growth") - 1.0)


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


@dataclass(frozen=True)
class Times(Factor):
    """A constant factor."""

    number: float
    name: str = "scaled"

    @property
    def said(self) -> str:
        """With the number."""
        return f"{self.number:.12g} times"

    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """The number."""
        return np.full(axis.n, self.number)


@dataclass(frozen=True)
class Index(Factor):
    """The mean of a base period made 100."""

    base: str
    name: str = "index of"

    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """100 over the mean of the base period."""
        return np.full(axis.n, 100.0 / base_mean(series, axis.frequency, self.base, "index"))


@dataclass(frozen=True)
class DivideBy(Factor):
    """Division by another column; a deflator is 1 in its base period, or an index of which 100 means 1."""

    reference: str
    deflate: bool = False
    base: str | None = None

    @property
    def name(self) -> str:  # type: ignore[override]
        """Head of columns' names."""
        return "real" if self.deflate else f"per {self.reference.partition('.')[2] or self.reference}:"

    def needs(self) -> tuple[str, ...]:
        """The other column."""
        return (self.reference,)

    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """One over the other column, scaled."""

        def other(each: Axis) -> Array:
            return positive(view.known(self.reference, each).values, each, "quotient", self.reference)

        one = 1.0
        if self.deflate:
            one = 100.0 if self.base is None else base_mean(other, axis.frequency, self.base, "base")
        return one / other(axis)


@dataclass(frozen=True)
class PerDay(Factor):
    """Division by the days of the period: February is short."""

    name: str = "per day:"

    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """One over the number of days."""
        if axis.frequency.unit == "hour":
            raise InputError(
                "its periods are shorter than a day", "Use it for months and longer periods.", key="transform"
            )
        first, after = axis.days
        return np.asarray(1.0 / (after - first))


@dataclass(frozen=True)
class PerWorkingDay(Factor):
    """Division by the days from Monday to Friday that are no public holiday of `country`."""

    country: str | None = None
    subdivision: str | None = None
    name: str = "per working day:"

    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """One over the number of working days."""
        days = working_days(axis, self.country, self.subdivision)
        none = np.flatnonzero(days == 0)
        if len(none):
            i = int(none[0])
            raise InputError(
                "there is no working day in it",
                "Use it for months and longer periods.",
                period=axis.part(i, i + 1).labels()[0],
                key="transform",
            )
        return 1.0 / days


_NAMED: dict[str, Callable[[], Step]] = {
    "log": Log,
    "difference": Difference,
    "seasonal difference": lambda: Difference(None, "seasonal difference of"),
    "log difference": LogDifference,
    "growth": Growth,
    "standardised": Standardised,
    "per day": PerDay,
    "per working day": PerWorkingDay,
}
_WITH_VALUE = (
    "difference",
    "sum",
    "mean",
    "index",
    "times",
    "deflate",
    "per",
    "per working day",
    "power",
    "at_most",
    "at_least",
    "minimum_with",
    "maximum_with",
)
#: Powers beyond these have no use that a form would not serve better.
_STEEPEST = 5.0


def steps_of(stated: Sequence[Stated] | Stated) -> tuple[Step, ...]:
    """Steps from how users write them.

    Raises
    ------
    InputError
        For an unknown name, with the nearest known one, or a value of the wrong kind.
    """
    if isinstance(stated, (str, Mapping)) or not isinstance(stated, (list, tuple)):
        raise InputError(f"found {stated!r}", 'Give a list, such as ["log"].', key="transform")
    return tuple(_step(each) for each in stated)


def _step(stated: Stated) -> Step:
    if isinstance(stated, str):
        if stated not in _NAMED:
            if stated in _WITH_VALUE:
                raise InputError(f"'{stated}' needs a value", f"Write {{ {stated} = … }}.", key="transform")
            raise InputError(f"found {stated!r}", nearest(stated, (*_NAMED, *_WITH_VALUE)), key="transform")
        return _NAMED[stated]()
    rest = dict(stated)
    kind = next((name for name in rest if name in _WITH_VALUE), None)
    if kind is None:
        raise InputError(f"found {rest!r}", nearest(str(next(iter(rest), "")), _WITH_VALUE), key="transform")
    value = rest.pop(kind)
    extra = {"deflate": ("base",), "per working day": ("subdivision",), "power": ("between",)}.get(kind, ())
    for key in rest:
        if key not in extra:
            raise InputError(f"found {key!r} beside {kind!r}", nearest(key, extra), key="transform")
    if kind == "power":
        return _power(value, rest.get("between"))
    if kind in ("at_most", "at_least"):
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not np.isfinite(value):
            raise InputError(f"found {value!r} for {kind!r}", "Give a number.", key="transform")
        return Cap(float(value), kind == "at_most")
    whole = ("difference", "sum", "mean")
    wanted: Any = {**dict.fromkeys(whole, int), "times": (int, float)}.get(kind, str)
    if not isinstance(value, wanted) or isinstance(value, bool) or (kind in (*whole, "times") and not value > 0):
        words = {**dict.fromkeys(whole, "a whole number from 1 on"), "times": "a number above 0"}.get(kind, "a text")
        raise InputError(f"found {value!r} for {kind!r}", f"Give {words}.", key="transform")
    makers: dict[str, Callable[[Any], Step]] = {
        "difference": lambda v: Difference(v, f"difference over {v} of"),
        "sum": lambda v: Window(v, mean=False),
        "mean": lambda v: Window(v, mean=True),
        "index": Index,
        "times": lambda v: Times(float(v)),
        "deflate": lambda v: DivideBy(v, deflate=True, base=rest.get("base")),
        "per": DivideBy,
        "per working day": lambda v: PerWorkingDay(v, rest.get("subdivision")),
        "minimum_with": lambda v: Extreme(v, largest=False),
        "maximum_with": lambda v: Extreme(v, largest=True),
    }
    return makers[kind](value)


def _power(value: object, between: object) -> Step:
    """A power that is stated, or estimated between two bounds."""
    if value == "estimated":
        bounds = [_number(each) for each in between] if isinstance(between, (list, tuple)) else []
        if len(bounds) != 2 or not 0.0 < bounds[0] < bounds[1] <= _STEEPEST:
            raise InputError(
                f"found between = {between!r} for an estimated power",
                f"Give two bounds above 0 and up to {_STEEPEST:g}, such as between = [0.3, 2.0].",
                key="transform",
            )
        return EstimatedPower(bounds[0], bounds[1])
    exponent = _number(value)
    if not 0.0 < abs(exponent) <= _STEEPEST:
        raise InputError(
            f"found {value!r} for 'power'",
            f'Give a number other than 0 from −{_STEEPEST:g} to {_STEEPEST:g}, or "estimated" with between.',
            key="transform",
        )
    if between is not None:
        raise InputError("found 'between' beside a stated power", "Leave it out.", key="transform")
    return Power(exponent)


def _number(value: object) -> float:
    """A number, or NaN for anything else."""
    return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else float("nan")


def evaluate(series: Series, steps: Sequence[Step], view: View, axis: Axis) -> Array:
    """Values (n,) of a series after all steps, the first one first."""
    if not steps:
        return series(axis)
    *inner, step = steps
    return step.apply(lambda each: evaluate(series, inner, view, each), view, axis)


def reach(steps: Sequence[Step], frequency: Frequency) -> tuple[int, ...]:
    """All lags of the original series that a transformed value needs."""
    lags = {0}
    for step in steps:
        lags = {before + lag for before in lags for lag in step.lags(frequency)}
    return tuple(sorted(lags))


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


def season_of(frequency: Frequency) -> int:
    """Periods of the season that a seasonal difference looks back: a day of hours, a week of days, else a year."""
    lengths = {"hour": 24, "day": 7, "business day": 5, "week": 52, "month": 12, "quarter": 4}
    if frequency.unit not in lengths:
        raise InputError("years have no season", "Use difference.", key="transform")
    return lengths[frequency.unit]


def base_mean(series: Series, frequency: Frequency, base: str, key: str) -> float:
    """Mean of a series over a base period: a year, a month or a date, all of it known.

    Raises
    ------
    InputError
        If the text is no period, or a value there is missing.
    """
    if re.fullmatch(r"\d{4}(-\d{2}(-\d{2})?)?", base) is None:
        raise InputError(f"found {base!r}", "Give a year, a month or a date: 2020, 2020-01 or 2020-01-31.", key=key)
    try:
        opens = np.array(base).astype("datetime64")
    except ValueError as error:
        raise InputError(f"found {base!r}, which is not a date", key=key) from error
    edges = [str(each.astype("datetime64[D]")) for each in (opens, opens + 1)]
    first = int(frequency.ordinals(instant_of(edges[0], frequency))[0])
    after = instant_of(edges[1], frequency) - 1
    span = Axis(frequency, first, int(frequency.ordinals(after)[0]) - first + 1)
    values = series(span)
    if np.isnan(values).any():
        missing = int(np.flatnonzero(np.isnan(values))[0])
        raise InputError(
            f"the base {base} is not known in full at the origin",
            "Choose a base within the data.",
            period=span.part(missing, missing + 1).labels()[0],
            key="transform",
        )
    return float(positive(values, span, "index").mean())


def working_days(axis: Axis, country: str | None, subdivision: str | None) -> Array:
    """Days (n,) from Monday to Friday in each period that are no public holiday."""
    first, after = axis.days
    off: list[np.datetime64] = []
    if country is not None:
        years = np.array([first[0], after[-1] - 1]).astype("M8[D]").astype("M8[Y]").astype(int) + 1970
        off = list(country_days(country, subdivision, int(years[0]), int(years[1])).days.astype("M8[D]"))
    return np.busday_count(first.astype("M8[D]"), after.astype("M8[D]"), holidays=off).astype(np.float64)
