"""The days of holidays, and how much of a period they take."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.calendar.axis import Axis

_EPOCH = date(1970, 1, 1).toordinal()


@dataclass(frozen=True)
class Days:
    """Named days: `names` (m,) and day numbers since 1970-01-01 (m,), one pair a holiday's day.

    `first_year` and `last_year` bound what the source tells; outside them, a day without a holiday is not
    known to be one.
    """

    names: tuple[str, ...]
    days: NDArray[np.int64]
    first_year: int
    last_year: int

    def shifted(self, days: int, suffix: str) -> Days:
        """The days that lie `days` later, under their names with a suffix."""
        return Days(tuple(name + suffix for name in self.names), self.days + days, self.first_year, self.last_year)


def day_shares(axis: Axis, days: Days, names: tuple[str, ...]) -> NDArray[np.float64]:
    """Share (n, k) of each period's days that are the holiday, for each of the k `names`.

    An hour counts with the whole day that holds it, so the same column serves every frequency.
    """
    first, after = axis.days
    place = {name: column for column, name in enumerate(names)}
    wanted = [(place[name], day) for name, day in zip(days.names, days.days.tolist(), strict=True) if name in place]
    columns, numbers = np.array(sorted(set(wanted)), dtype=np.int64).reshape(-1, 2).T
    # The periods that hold a day: one, or all hours of it.
    low = np.searchsorted(after, numbers, side="right")
    held = np.maximum(np.searchsorted(first, numbers, side="right") - low, 0)
    within = np.arange(held.sum()) - np.repeat(np.cumsum(held) - held, held)
    shares = np.zeros((axis.n, len(names)))
    np.add.at(shares, (np.repeat(low, held) + within, np.repeat(columns, held)), 1.0)
    return shares / (after - first)[:, None]


@lru_cache(maxsize=64)
def country_days(country: str, subdivision: str | None, first_year: int, last_year: int) -> Days:
    """Public holidays of a country, from the calendars of the `holidays` package.

    Days off in lieu count as the holiday itself, and estimated dates as certain ones; several holidays on
    one day are each kept.

    Raises
    ------
    InputError
        If the country or its subdivision is not known there, or its calendar does not cover the years.
    """
    import holidays  # noqa: PLC0415  a tenth of a second that most studies need not spend

    # Days in lieu of a holiday can fall in the neighbouring year.
    years = range(first_year - 1, last_year + 2)
    try:
        calendar = holidays.country_holidays(country, subdiv=subdivision, years=years, expand=False, language="en_US")
    except NotImplementedError as error:
        raise InputError(
            str(error),
            "Give the two-letter code of a country and the code of one of its subdivisions (ISO 3166).",
            key="country" if "Country" in str(error) else "subdivision",
        ) from error
    if first_year < calendar.start_year or last_year > calendar.end_year:
        raise InputError(
            f"the calendar of {country} tells {calendar.start_year} to {calendar.end_year}, "
            f"but {first_year} to {last_year} are needed",
            "Give a table of days instead.",
            key="country",
        )
    names, days = [], []
    for day in calendar:
        for name in calendar.get_list(day):
            names.append(_plain(name))
            days.append(day.toordinal() - _EPOCH)
    return Days(tuple(names), np.array(days, dtype=np.int64), first_year, last_year)


def _plain(name: str) -> str:
    for mark in (" (observed, estimated)", " (observed)", " (estimated)"):
        name = name.removesuffix(mark)
    return name
