"""The days of holidays, and how much of a period they take."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.calendar.axis import Axis

_EPOCH = date(1970, 1, 1).toordinal()
#: A day before all others: from then on it was known.
ALWAYS = -(10**6)

Numbers = NDArray[np.int64]
Flags = NDArray[np.bool_]


@dataclass(frozen=True)
class Days:
    """Named days, one entry a holiday's day.

    Attributes
    ----------
    names
        Name (m,) of the holiday.
    days
        Day number since 1970-01-01 (m,).
    shares
        How much of the day it takes (m,): a half for half days, a region's weight for its holidays.
    known_from
        The day (m,) from which it was known.
    groups
        Group of a holiday by its name, where one is stated.
    first_year, last_year
        What the source shows; outside them, a day without a holiday is not known to be one.
    """

    names: tuple[str, ...]
    days: Numbers
    shares: NDArray[np.float64]
    known_from: Numbers
    groups: Mapping[str, str]
    first_year: int
    last_year: int

    @classmethod
    def of(cls, names: Sequence[str], days: Numbers, first_year: int, last_year: int, share: float = 1.0) -> Days:
        """Days that were always known, each once a name."""
        pairs = dict.fromkeys(zip(names, days.tolist(), strict=True))
        numbers = np.array([day for _, day in pairs], dtype=np.int64)
        m = len(pairs)
        return cls(
            tuple(name for name, _ in pairs),
            numbers,
            np.full(m, share),
            np.full(m, ALWAYS, dtype=np.int64),
            {},
            first_year,
            last_year,
        )

    def part(self, which: Flags) -> Days:
        """Some of them."""
        names = tuple(name for name, keep in zip(self.names, which.tolist(), strict=True) if keep)
        return replace(
            self, names=names, days=self.days[which], shares=self.shares[which], known_from=self.known_from[which]
        )

    def weighted(self, weight: float) -> Days:
        """The same days, each taking so much."""
        return replace(self, shares=weight * self.shares)

    def shifted(self, days: int) -> Days:
        """The days that lie `days` later, under the same names."""
        return replace(self, days=self.days + days)


def joined(parts: Iterable[Days]) -> Days:
    """All days of several sources, which are known for the years that all of them show."""
    parts = list(parts)
    groups: dict[str, str] = {}
    for part in parts:
        groups |= part.groups
    return Days(
        tuple(name for part in parts for name in part.names),
        np.concatenate([part.days for part in parts]),
        np.concatenate([part.shares for part in parts]),
        np.concatenate([part.known_from for part in parts]),
        groups,
        max(part.first_year for part in parts),
        min(part.last_year for part in parts),
    )


def day_shares(axis: Axis, days: Days, names: Sequence[str], keys: Sequence[str] | None = None) -> NDArray[np.float64]:
    """Share (n, k) of each period's days that are the holiday, for each of the k `names`.

    An hour counts with the whole day that holds it, so the same column serves every frequency. With `keys` (m,) the
    entries count under these instead of their own names.
    """
    first, after = axis.days
    place = {name: column for column, name in enumerate(names)}
    columns = np.array([place.get(key, -1) for key in (days.names if keys is None else keys)], dtype=np.int64)
    inside = (columns >= 0) & (days.days >= first[0]) & (days.days < after[-1])
    columns, numbers, weights = columns[inside], days.days[inside], days.shares[inside]
    # The periods that hold a day: one, or all hours of it.
    low = np.searchsorted(after, numbers, side="right")
    held = np.maximum(np.searchsorted(first, numbers, side="right") - low, 0)
    within = np.arange(held.sum()) - np.repeat(np.cumsum(held) - held, held)
    shares = np.zeros((axis.n, len(names)))
    np.add.at(shares, (np.repeat(low, held) + within, np.repeat(columns, held)), np.repeat(weights, held))
    return shares / (after - first)[:, None]


@lru_cache(maxsize=64)
def country_days(
    country: str, subdivision: str | None, first_year: int, last_year: int, half_days: bool = False
) -> Days:
    """Public holidays of a country, from the calendars of the `holidays` package.

    Days off in lieu count as the holiday itself, and estimated dates as certain ones; several holidays on
    one day are each kept. With `half_days`, those of the country take half of their day.

    Raises
    ------
    InputError
        If the country or its subdivision is not known there, its calendar does not cover the years, or it shows no half
        days.
    """
    whole = _country_days(country, subdivision, first_year, last_year, category="public", share=1.0)
    if not half_days:
        return whole
    half = _country_days(country, subdivision, first_year, last_year, category="half_day", share=0.5)
    return joined([whole, half])


def _country_days(
    country: str, subdivision: str | None, first_year: int, last_year: int, *, category: str, share: float
) -> Days:
    import holidays  # noqa: PLC0415  a tenth of a second that most studies need not spend

    # Days in lieu of a holiday can fall in the neighbouring year.
    years = range(first_year - 1, last_year + 2)
    try:
        calendar = holidays.country_holidays(
            country, subdiv=subdivision, years=years, expand=False, language="en_US", categories=(category,)
        )
    except NotImplementedError as error:
        raise InputError(
            str(error),
            "Give the two-letter code of a country and the code of one of its subdivisions (ISO 3166).",
            key="country" if "Country" in str(error) else "subdivision",
        ) from error
    except ValueError as error:
        raise InputError(f"the calendar of {country} has no half days", "Give a table.", key="half_days") from error
    if first_year < calendar.start_year or last_year > calendar.end_year:
        raise InputError(
            f"the calendar of {country} covers {calendar.start_year} to {calendar.end_year}, "
            f"but {first_year} to {last_year} are needed",
            "Give a table of days instead.",
            key="country",
        )
    names, days = [], []
    for day in calendar:
        for name in calendar.get_list(day):
            names.append(_plain(name))
            days.append(day.toordinal() - _EPOCH)
    return Days.of(names, np.array(days, dtype=np.int64), first_year, last_year, share)


def grouped(days: Days, groups: Mapping[str, Sequence[str]]) -> Days:
    """The days with their groups as stated: names of holidays by group.

    Raises
    ------
    InputError
        If a holiday is not among the days or is in two groups.
    """
    found = dict(days.groups)
    stated: set[str] = set()
    for group, members in groups.items():
        for member in members:
            if member not in days.names:
                raise InputError(
                    f"there is no holiday {member!r}", nearest(member, dict.fromkeys(days.names)), key="groups"
                )
            if member in stated:
                raise InputError(f"{member!r} is in two groups", "Keep one.", key="groups")
            stated.add(member)
            found[member] = group
    return replace(days, groups=found)


def _plain(name: str) -> str:
    for mark in (" (observed, estimated)", " (observed)", " (estimated)"):
        name = name.removesuffix(mark)
    return name
