"""Transformations that multiply by another series, or by days."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.calendar.axis import instant_of
from offing.engine.expressions import Constant, Expression
from offing.tables import View
from offing.terms.transform_step import Factor, Series, input_of, positive, working_days


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

    def factor_formula(self, series: Series, view: View, axis: Axis) -> Expression:
        """The number."""
        return Constant(self.number)


@dataclass(frozen=True)
class Index(Factor):
    """The mean of a base period made 100."""

    base: str
    name: str = "index of"

    def factor(self, series: Series, view: View, axis: Axis) -> Array:
        """100 over the mean of the base period."""
        return np.full(axis.n, 100.0 / base_mean(series, axis.frequency, self.base, "index"))

    def factor_formula(self, series: Series, view: View, axis: Axis) -> Expression:
        """The same number throughout."""
        return Constant(100.0 / base_mean(series, axis.frequency, self.base, "index"))


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
        other = self._other(view)
        return self._scale(other, axis) / other(axis)

    def factor_formula(self, series: Series, view: View, axis: Axis) -> Expression:
        """The same of the other column."""
        return self._scale(self._other(view), axis) / input_of(view, self.reference)

    def _other(self, view: View) -> Series:
        """The other column, which must be positive."""
        return lambda each: positive(view.known(self.reference, each).values, each, "quotient", self.reference)

    def _scale(self, other: Series, axis: Axis) -> float:
        """What the other column is where it changes nothing."""
        if not self.deflate:
            return 1.0
        return 100.0 if self.base is None else base_mean(other, axis.frequency, self.base, "base")


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
