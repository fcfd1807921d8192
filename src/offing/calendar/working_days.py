"""Which days are worked: weekends and holidays, the days between them, and how many of each a period has."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.calendar.axis import Axis
from offing.calendar.holiday_days import Days

Flags = NDArray[np.bool_]
#: How many days around a run must be known to show whether it is a long weekend.
_AROUND = 10


def weekdays_of(days: NDArray[np.int64]) -> NDArray[np.int64]:
    """Day of the week (same shape) of day numbers, Monday being 0."""
    return (days + 3) % 7  # 1970-01-01 was a Thursday


@dataclass(frozen=True)
class Calendar:
    """Consecutive days from `first` on: which are holidays (n,), which are off (n,): holidays and weekends."""

    first: int
    holiday: Flags
    off: Flags

    @property
    def numbers(self) -> NDArray[np.int64]:
        """Day numbers (n,)."""
        return np.arange(self.first, self.first + len(self.off))

    def bridges(self) -> Flags:
        """Working days (n,) between a holiday and another day off."""
        worked = ~self.off
        before, after = _shifted(self.off, 1), _shifted(self.off, -1)
        beside = _shifted(self.holiday, 1) | _shifted(self.holiday, -1)
        return worked & before & after & beside

    def before_long_weekends(self) -> Flags:
        """Working days (n,) that are followed by at least three days off, one of them a holiday."""
        edges = np.diff(self.off.astype(np.int8), prepend=0, append=0)
        starts, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
        held = np.concatenate([[0], np.cumsum(self.holiday)])
        long = (ends - starts >= 3) & (held[ends] > held[starts]) & (starts > 0)
        found = np.zeros(len(self.off), dtype=bool)
        found[starts[long] - 1] = True
        return found

    def counted(self, axis: Axis, flags: NDArray[np.generic]) -> NDArray[np.float64]:
        """Sum (n,) of what `flags` says of each day, over the days of every period."""
        sums = np.concatenate([[0.0], np.cumsum(np.asarray(flags, dtype=np.float64))])
        first, after = axis.days
        return np.asarray(sums[after - self.first] - sums[first - self.first])


def calendar_of(axis: Axis, days: Days | None) -> Calendar:
    """The days of `axis` and some around it, with the holidays that take a whole day, in all calendars together."""
    first, after = axis.days
    low, high = int(first[0]) - _AROUND, int(after[-1]) + _AROUND
    taken = np.zeros(high - low)
    if days is not None:
        inside = (days.days >= low) & (days.days < high)
        np.add.at(taken, days.days[inside] - low, days.shares[inside])
    holiday = taken >= 1.0 - 1e-9
    return Calendar(low, holiday, holiday | (weekdays_of(np.arange(low, high)) >= 5))


def easter_days(first_year: int, last_year: int) -> NDArray[np.int64]:
    """Day numbers of the Western Easter Sundays of the years."""
    from dateutil.easter import easter  # noqa: PLC0415

    epoch = np.datetime64("1970-01-01").astype("datetime64[D]")
    return np.array([(np.datetime64(easter(year)) - epoch).astype(int) for year in range(first_year, last_year + 1)])


def _shifted(flags: Flags, days: int) -> Flags:
    """What held a number of days before each day; nothing beyond the ends."""
    moved = np.zeros_like(flags)
    if days > 0:
        moved[days:] = flags[:-days]
    else:
        moved[:days] = flags[-days:]
    return moved
