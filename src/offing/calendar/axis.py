"""A run of periods."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, datetime
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import count
from offing.calendar.frequency import DAY, Frequency, Instants

#: NumPy's units of the text that names a period; a date for all others.
_PRECISION = {"hour": "m", "month": "M", "year": "Y"}


@dataclass(frozen=True)
class Axis:
    """The `n` periods of a frequency from the ordinal `first` on.

    Examples
    --------
    >>> import pandas as pd
    >>> import offing as of
    >>> of.Axis.between(of.Frequency("month"), "2024-01-15", "2024-03-01").labels()
    ['2024-01', '2024-02', '2024-03']
    """

    frequency: Frequency
    first: int
    n: int

    @classmethod
    def between(cls, frequency: Frequency, first: object, last: object) -> Axis:
        """Axis from the period that holds the instant `first` to the one that holds `last`."""
        low, high = (int(frequency.ordinals(instant_of(each, frequency))[0]) for each in (first, last))
        return cls(frequency, low, max(high - low + 1, 0))

    @property
    def ordinals(self) -> Instants:
        """Ordinals (n,) of the periods."""
        return np.arange(self.first, self.first + self.n, dtype=np.int64)

    @cached_property
    def edges(self) -> Instants:
        """Instants (n + 1,) between the periods: all starts and the last end."""
        edges = self.frequency.starts(np.arange(self.first, self.first + self.n + 1, dtype=np.int64))
        edges.flags.writeable = False
        return edges

    @property
    def starts(self) -> Instants:
        """Start instants (n,)."""
        return self.edges[:-1]

    @property
    def ends(self) -> Instants:
        """End instants (n,), which the periods no longer hold."""
        return self._ends

    @cached_property
    def _ends(self) -> Instants:
        return self.frequency.ends(self.edges)

    @property
    def middles(self) -> Instants:
        """Wall-clock microseconds (n,) of the periods' middles; a week belongs to the year that holds its middle."""
        if self.frequency.unit == "business day":
            return self.frequency.wall(self.starts) + DAY // 2
        wall = self.frequency.wall(self.edges)
        return wall[:-1] + (wall[1:] - wall[:-1]) // 2

    @property
    def days(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """First day (n,) of every period and the day after its last, as day numbers; an hour has its whole day."""
        wall = self.frequency.wall(self.edges)
        first = wall[:-1] // DAY
        if self.frequency.per_day:
            return first, first + 1
        return first, np.maximum(-(-wall[1:] // DAY), first + 1)

    @property
    def index(self) -> pd.DatetimeIndex:
        """Pandas' index of the starts."""
        return self.frequency.index(self.starts)

    def after(self, n: int) -> Axis:
        """The `n` periods that follow."""
        return Axis(self.frequency, self.first + self.n, n)

    def part(self, start: int, stop: int) -> Axis:
        """The periods from the `start`-th up to before the `stop`-th of this run."""
        return Axis(self.frequency, self.first + start, stop - start)

    def shifted(self, periods: int) -> Axis:
        """As many periods, that many later."""
        return Axis(self.frequency, self.first + periods, self.n)

    def holds(self, other: Axis) -> bool:
        """Whether all periods of `other` are in this run."""
        return self.first <= other.first and other.first + other.n <= self.first + self.n

    def labels(self) -> list[str]:
        """A short name of every period: its start, as far as the frequency needs it."""
        wall = self.frequency.wall(self.starts).astype("datetime64[us]")
        unit, civil = self.frequency.unit, self.frequency.weeks is None
        if civil and (unit == "quarter" or self.frequency.year_starts != "january"):
            years, places = (each.tolist() for each in self.frequency.in_year(self.ordinals))
            if self.frequency.year_starts != "january":
                years = [f"{year}/{(year + 1) % 100:02d}" for year in years]
            return [f"{y}-Q{q + 1}" if unit == "quarter" else f"{y}" for y, q in zip(years, places, strict=True)]
        precision: Any = _PRECISION.get(unit, "D") if civil else "D"
        return [text.replace("T", " ") for text in np.datetime_as_string(wall, unit=precision).tolist()]

    def spell(self) -> str:
        """Word the run, such as ``208 weeks from 2021-01-04 to 2024-12-23``; a single period is its name."""
        if self.n == 1:
            return self.labels()[0]
        ends = self.part(0, 1).labels() + self.part(self.n - 1, self.n).labels()
        return f"{count(self.n, self.frequency.unit)} from {ends[0]} to {ends[1]}"


def instant_of(stamp: object, frequency: Frequency) -> Instants:
    """Instant (1,) of a date, a text or a Timestamp; one without a zone is read on the frequency's clock."""
    moment = pd.Timestamp(stamp)  # type: ignore[arg-type]
    if moment.tz is None:
        return frequency.instants(_microseconds(moment))
    instants = _microseconds(moment.tz_convert("UTC").tz_localize(None))
    return instants if frequency.zone is not None else frequency.wall(instants)


def _microseconds(moment: pd.Timestamp) -> Instants:
    return np.array([moment.to_datetime64()]).astype("datetime64[us]").astype(np.int64)


def periods_of(stamp: object, frequency: Frequency) -> tuple[int, int]:
    """Ordinals of the first and the last period that a date stands for: that which holds it, of hours the whole day.

    Raises
    ------
    ValueError, TypeError
        If it is no date.
    """
    start = instant_of(stamp, frequency)
    first = int(frequency.ordinals(start)[0])
    if frequency.unit != "hour" or not _is_day(stamp):
        return first, first
    following = pd.Timestamp(stamp) + pd.DateOffset(days=1)  # type: ignore[arg-type]
    return first, int(frequency.ordinals(instant_of(following, frequency))[0]) - 1


def _is_day(stamp: object) -> bool:
    """Whether a stamp says a day and no time of it."""
    if isinstance(stamp, str):
        return re.fullmatch(r"\d{4}-\d{2}-\d{2}", stamp.strip()) is not None
    return isinstance(stamp, date) and not isinstance(stamp, datetime)
