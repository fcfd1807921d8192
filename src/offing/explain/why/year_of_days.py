"""A calendar of contributions: what a term adds on every day of a year."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.base.results import Entry, Result, alone, register
from offing.base.text import in_units, number, signed, text_table, wrapped
from offing.model import Contributions
from offing.model.decomposition import BASELINE

EVERY = "all terms"


@dataclass(frozen=True)
class YearOfDays(Result, figure="what_if.draw_year_of_days"):
    """What a term, or all of them, add on every day of a year. Made by `offing.year_of_days`.

    Attributes
    ----------
    year
        The calendar year.
    label
        The term, or ``all terms``.
    values
        The contribution of each day (365 or 366,), summed over its periods, NaN where there is none. A day of a longer
        period has its share of that.
    target, unit
        What is contributed to.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([1.0, -1.0], 35), days, name="load")
    >>> fit = of.Model("load", terms=[of.Season("week")]).fit(load)
    >>> of.year_of_days(fit.contributions, term="season in week").table["contribution"].round(2).tolist()[4:8]
    [-1.43, 3.57, 3.57, -1.43]
    """

    year: int
    label: str
    values: Array
    target: str
    unit: str

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a day: its ``contribution``."""
        days = pd.date_range(f"{self.year}-01-01", periods=len(self.values), freq="D", name="day")
        return pd.DataFrame({"contribution": self.values}, index=days)

    @property
    def sentence(self) -> str:
        """The days on which it adds most and takes away most."""
        unit = f" {self.unit}" if self.unit else ""
        known = np.flatnonzero(np.isfinite(self.values))
        most, least = (int(known[pick(self.values[known])]) for pick in (np.argmax, np.argmin))
        days = self.table.index
        high, low = float(self.values[most]), float(self.values[least])
        who = "all terms together add" if self.label == EVERY else f"'{self.label}' adds"
        return (
            f"In {self.year} {who} most to {in_units(self.target, self.unit)} on {_day(days[most])} "
            f"({signed(high)}{unit} against the baseline) and least on {_day(days[least])} ({signed(low)}{unit})."
        )

    def __str__(self) -> str:
        months = self.table["contribution"].groupby(self.table.index.month)  # type: ignore[attr-defined]
        rows = [
            (f"{self.year}-{month:02d}", number(each.sum()), number(each.max()), number(each.min()))
            for month, each in months
        ]
        heads = ["month", "sum", "most in a day", "least in a day"]
        return f"{wrapped(self.sentence)}\n\n{text_table(heads, [list(each) for each in zip(*rows, strict=True)])}"


def _day(stamp: pd.Timestamp) -> str:
    return f"{stamp.day} {stamp:%B}"


def year_of_days(contributions: Contributions, *, term: str | None = None, year: int | None = None) -> YearOfDays:
    """What a term adds on every day of a year.

    Parameters
    ----------
    contributions
        Those of a fit or of a forecast.
    term
        The row; by default all terms together, which is what lies above or below the baseline.
    year
        The calendar year; by default the last one of which at least half is there, or else the last.

    Raises
    ------
    InputError
        If there is no such row, or no day of the year is there.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([1.0, -1.0], 35), days, name="load")
    >>> found = of.year_of_days(of.Model("load", terms=[of.Season("week")]).fit(load).contributions)
    >>> found.year, int(found.table["contribution"].count())
    (2024, 70)
    """
    names = contributions.rows
    if term is not None and term not in names:
        raise InputError(f"there is no contribution of {term!r}", nearest(str(term), names[1:]), key="term")
    rows = contributions.values[1:].sum(axis=0) if term is None else contributions.values[names.index(term)]
    axis = contributions.axis
    days, share = _days(contributions)
    sums = pd.Series(np.repeat(rows, share) / np.repeat(share, share), days)
    sums = sums[np.isfinite(sums)]
    by_day = sums.groupby(level=0).sum()
    counted = by_day.groupby(by_day.index.year).count()  # type: ignore[attr-defined]
    if not len(counted):
        raise InputError("no contribution is known", "Ask for those of a forecast.", key="contributions")
    if year is None:
        full = counted[counted >= 183]
        year = int((full if len(full) else counted).index[-1])
    if year not in counted.index:
        raise InputError(
            f"no day of {year} is among {axis.spell()}",
            f"Give one of {', '.join(str(each) for each in counted.index)}.",
            key="year",
        )
    whole = pd.date_range(f"{year}-01-01", f"{year}-12-31", freq="D")
    labels = dict(zip(names, (BASELINE, *contributions.labels), strict=True))
    label = EVERY if term is None else labels[term]
    return YearOfDays(year, label, by_day.reindex(whole).to_numpy(), contributions.target, contributions.unit)


def _days(contributions: Contributions) -> tuple[pd.DatetimeIndex, np.ndarray]:
    """The day of each period, or all days of those that are longer, and how many days each has."""
    axis = contributions.axis
    wall = [
        pd.DatetimeIndex(axis.frequency.wall(each).astype("datetime64[us]")).normalize()
        for each in (axis.starts, axis.ends - 1)
    ]
    count = np.maximum((wall[1] - wall[0]).days.to_numpy() + 1, 1)
    offset = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
    return pd.DatetimeIndex(np.repeat(wall[0].to_numpy(), count) + offset.astype("timedelta64[D]")), count


def _of_days(study: Any, name: str) -> YearOfDays | None:
    fit = study.fits[name]
    daily = fit.axis.frequency.unit == "hour" or fit.axis.frequency.per_day
    return year_of_days(fit.contributions, **study.options("year-of-days")) if daily and fit.model.terms else None


register(
    Entry(
        "year-of-days",
        title="A year of days",
        of=lambda study, name: alone(_of_days(study, name)),
        figure_for=["explain"],
        options=year_of_days,
    )
)
