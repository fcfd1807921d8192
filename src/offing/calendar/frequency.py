"""The rule of a regular time axis: where each period starts.

Period i of a frequency is [start(i), start(i + 1)), on the wall clock of its zone if it has one.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal, get_args

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, Keywords, nearest

Instants = NDArray[np.int64]
Unit = Literal["hour", "day", "business day", "week", "month", "quarter", "year"]
UNITS: tuple[Unit, ...] = get_args(Unit)
WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
)
#: Weeks of the three periods of a quarter, in the calendars that retailers keep.
PATTERNS = {"4-4-5": (4, 4, 5), "4-5-4": (4, 5, 4), "5-4-4": (5, 4, 4)}

HOUR = 3_600_000_000
DAY = 24 * HOUR
#: Whole weeks of a year, so that hours and days keep their weekday.
_YEAR: dict[str, int] = {
    "hour": 8736,
    "day": 364,
    "business day": 260,
    "week": 52,
    "month": 12,
    "quarter": 4,
    "year": 1,
}
_STEP = {"hour": HOUR, "day": DAY, "week": 7 * DAY}
_MONTHS = {"month": 1, "quarter": 3, "year": 12}
#: Periods in a mean Gregorian year of 365.25 days, to state slopes a year.
_A_YEAR = {
    "hour": 8766.0,
    "day": 365.25,
    "business day": 365.25 * 5 / 7,
    "week": 365.25 / 7,
    "month": 12.0,
    "quarter": 4.0,
    "year": 1.0,
}
#: The business day with ordinal 0 is the first one from here on, so that days of any history have counts above 0.
_FIRST_BUSINESS_DAY = np.datetime64("1800-01-01", "D")
#: 1969-12-29, the Monday before the epoch, as a day number.
_FIRST_MONDAY = -3


def rank_of(unit: str) -> int:
    """Place of a unit from the finest on; a business day is as fine as a day."""
    return [each for each in UNITS if each != "business day"].index("day" if unit == "business day" else unit)  # type: ignore[arg-type]


def coarser_than(unit: str) -> tuple[Unit, ...]:
    """The units that are coarser than one, the finest first.

    Examples
    --------
    >>> from offing.calendar import coarser_than
    >>> coarser_than("business day")
    ('week', 'month', 'quarter', 'year')
    """
    return tuple(each for each in UNITS if each != "business day" and rank_of(each) > rank_of(unit))


def weekday_named(word: str, key: str) -> int:
    """Day number of a weekday's English name, Monday being 0."""
    if str(word).lower() not in WEEKDAYS:
        raise InputError(f"found {word!r}, which is no day of the week", nearest(str(word), WEEKDAYS), key=key)
    return WEEKDAYS.index(str(word).lower())


def month_named(word: str, key: str) -> int:
    """Number of a month's English name, January being 0."""
    names = [month.lower() for month in MONTHS]
    if str(word).lower() not in names:
        raise InputError(f"found {word!r}, which is no month", nearest(str(word), names), key=key)
    return names.index(str(word).lower())


@dataclass(frozen=True)
class Frequency(Keywords):
    """A regular succession of periods.

    Parameters
    ----------
    unit
        ``hour``, ``day``, ``business day``, ``week``, ``month``, ``quarter`` or ``year``. Business days are those from
        Monday to Friday that are not `closed`; each lasts one day, and the days after it belong to no other.
    week_ends
        Closing day of a week; only looked at with ``week`` and with `weeks`.
    zone
        Time zone of the wall clock, such as ``Europe/Lisbon``. Hours are then real hours, counted in UTC, so
        that a day may have 23 or 25 of them; all other periods start at local midnight. None: a clock
        that is never changed.
    year_starts
        First month of the year that quarters and years follow; for other units it says nothing.
    weeks
        ``4-4-5``, ``4-5-4`` or ``5-4-4`` for months, quarters and years made of whole weeks: their numbers in the three
        months of each quarter. A year has 52 weeks, or 53 where the next would else start too early; the 53rd
        belongs to its last month. None: the civil calendar.
    year_ends
        With `weeks`: a year ends on the ``last`` closing day of the month before `year_starts`, or on the one
        ``nearest`` to that month's end.
    closed
        With ``business day``: numbers, counted from 1970-01-01, of further days that are none, such as holidays.

    Examples
    --------
    >>> from offing import Frequency
    >>> print(Frequency("week", week_ends="saturday"))
    week ending on Saturday
    >>> print(Frequency("month", weeks="4-4-5", week_ends="saturday", year_starts="february"))
    month of 4-4-5 weeks ending on Saturday, year from February
    """

    unit: Unit
    week_ends: str = "sunday"
    zone: str | None = None
    year_starts: str = "january"
    weeks: str | None = None
    year_ends: str = "last"
    closed: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        if self.unit not in UNITS:
            raise InputError(f"found {self.unit!r}", nearest(str(self.unit), UNITS), key="frequency")
        if self.weeks is not None and self.weeks not in PATTERNS:
            raise InputError(f"found {self.weeks!r}", nearest(str(self.weeks), PATTERNS), key="weeks")
        if self.weeks is not None and self.unit not in _MONTHS:
            raise InputError(f"a {self.unit} is not made of {self.weeks} weeks", "Remove it.", key="weeks")
        if self.year_ends not in ("last", "nearest"):
            raise InputError(f"found {self.year_ends!r}", 'Give "last" or "nearest".', key="year_ends")
        weekdays = {day for day in self.closed if (day + 3) % 7 < 5} if self.unit == "business day" else set()
        object.__setattr__(self, "closed", tuple(sorted(weekdays)))
        # What a unit does not look at is put to its default, so that equal frequencies compare as equal.
        by_week = self.unit == "week" or self.weeks is not None
        closing = weekday_named(self.week_ends, "week_ends") if by_week else 6
        opening = month_named(self.year_starts, "year_starts")
        if self.weeks is None:
            opening = opening if self.unit in ("quarter", "year") else 0
            object.__setattr__(self, "year_ends", "last")
        object.__setattr__(self, "week_ends", WEEKDAYS[closing])
        object.__setattr__(self, "year_starts", MONTHS[opening].lower())
        if self.zone is not None:
            try:
                pd.Timestamp(0, tz=self.zone)
            except (ValueError, KeyError, OSError) as error:
                raise InputError(f"found {self.zone!r}", "Give a zone such as Europe/Lisbon.", key="zone") from error

    def __str__(self) -> str:
        named = f"week ending on {self.week_ends.title()}" if self.unit == "week" else self.unit
        if self.weeks is not None:
            named = f"{self.unit} of {self.weeks} weeks ending on {self.week_ends.title()}"
        if self.year_starts != "january":
            named += f", year from {self.year_starts.title()}"
        return f"{named} in {self.zone}" if self.zone else named

    @property
    def stated(self) -> dict[str, Any]:
        """The frequency as parameters of `offing.read`, for a table that continues another; without the zone."""
        said = {
            "frequency": self.unit,
            "week_ends": self.week_ends,
            "year_starts": self.year_starts,
            "weeks": self.weeks,
            "year_ends": self.year_ends,
        }
        usual = {"week_ends": None if self.unit == "week" else "sunday", "year_starts": "january", "year_ends": "last"}
        return {key: value for key, value in said.items() if value != usual.get(key)}

    @property
    def year_back(self) -> int:
        """How many periods lie between one and the same one a year before; whole weeks keep weekdays apart."""
        return _YEAR[self.unit]

    @property
    def periods_a_year(self) -> float:
        """Mean number of periods in a year."""
        if not self.closed:
            return _A_YEAR[self.unit]
        years = max((self.closed[-1] - self.closed[0]) / 365.25, 1.0)
        return _A_YEAR[self.unit] - len(self.closed) / years

    @property
    def per_day(self) -> bool:
        """Whether a period is one day."""
        return self.unit in ("day", "business day")

    def day_before(self, instants: Instants) -> Instants:
        """Instants (same shape) one day earlier by the clock."""
        return self.instants(self.wall(instants) - DAY)

    def ends(self, edges: Instants) -> Instants:
        """End instants (n,) of the periods whose starts and last end are `unreleased` (n + 1,)."""
        if self.unit != "business day":
            return edges[1:]
        return self.instants(self.wall(edges[:-1]) + DAY)  # a Friday ends before the Monday starts

    def newest_ended(self, instants: Instants) -> Instants:
        """Ordinal (same shape) of the newest period that has ended at each instant."""
        if self.unit == "business day":
            return self.ordinals(self.day_before(instants))
        return self.ordinals(instants) - 1  # the period that holds the instant has not ended, the one before has

    def starts(self, ordinals: Instants) -> Instants:
        """Start instants (same shape) of the periods with the given ordinals."""
        if self.weeks is not None:
            wall = self._pattern_starts(ordinals)
        elif self.unit == "business day":
            days = np.busday_offset(_FIRST_BUSINESS_DAY, ordinals, roll="forward", busdaycal=self._business)
            wall = days.astype(np.int64) * DAY
        elif self.unit in _MONTHS:
            months = ordinals * _MONTHS[self.unit] + self._first_month
            wall = months.astype("datetime64[M]").astype("datetime64[us]").astype(np.int64)
        else:
            wall = ordinals * _STEP[self.unit] + self._shift
        return wall if self.unit == "hour" else self.instants(wall)

    def ordinals(self, instants: Instants) -> Instants:
        """Ordinal (same shape) of the period that holds each instant."""
        wall = instants if self.unit == "hour" else self.wall(instants)
        if self.weeks is not None:
            return self._pattern_ordinals(wall)
        if self.unit == "business day":
            following = (wall // DAY + 1).astype("datetime64[D]")
            return np.busday_count(_FIRST_BUSINESS_DAY, following, busdaycal=self._business).astype(np.int64) - 1
        if self.unit in _MONTHS:
            months = wall.astype("datetime64[us]").astype("datetime64[M]").astype(np.int64)
            return (months - self._first_month) // _MONTHS[self.unit]
        return (wall - self._shift) // _STEP[self.unit]

    def in_year(self, ordinals: Instants) -> tuple[Instants, Instants]:
        """Year (same shape) in which each month, quarter or year starts, as its own calendar counts, and its place."""
        n = 12 // _MONTHS[self.unit]
        # Ordinals of civil quarters and fiscal ones both count from 1970; a fiscal year is named by its first month.
        shift = 0 if self.weeks is not None or self.unit == "month" else self._year_shift
        return (ordinals - shift) // n + 1970, (ordinals - shift) % n

    def wall(self, instants: Instants) -> Instants:
        """Wall-clock microseconds of instants."""
        if self.zone is None:
            return instants
        clock = _stamps(instants).tz_localize("UTC").tz_convert(self.zone).tz_localize(None)
        return clock.as_unit("us").to_numpy().astype(np.int64)

    def instants(self, wall: Instants) -> Instants:
        """Instants of wall-clock microseconds; a moment that clocks skip becomes the next one they show."""
        if self.zone is None:
            return wall
        clock = _stamps(wall).tz_localize(
            self.zone, ambiguous=np.ones(len(wall), dtype=bool), nonexistent="shift_forward"
        )
        return clock.tz_convert("UTC").tz_localize(None).as_unit("us").to_numpy().astype(np.int64)

    def index(self, instants: Instants) -> pd.DatetimeIndex:
        """Pandas' index of instants, named ``period``, with the zone where there is one."""
        clock = _stamps(instants)
        if self.zone is not None:
            clock = clock.tz_localize("UTC").tz_convert(self.zone)
        return clock.rename("period")

    @cached_property
    def _business(self) -> np.busdaycalendar:
        return np.busdaycalendar(holidays=np.array(self.closed, dtype=np.int64).astype("datetime64[D]"))

    @property
    def _shift(self) -> int:
        if self.unit != "week":
            return 0
        return (_FIRST_MONDAY + (WEEKDAYS.index(self.week_ends) + 1) % 7) * DAY

    @property
    def _first_month(self) -> int:
        """First month of the period with ordinal 0, counted from January 1970."""
        return month_named(self.year_starts, "year_starts") % _MONTHS[self.unit]

    @property
    def _year_shift(self) -> int:
        """How many periods after the one with ordinal 0 the year of 1970 starts."""
        return month_named(self.year_starts, "year_starts") // _MONTHS[self.unit]

    def _pattern_starts(self, ordinals: Instants) -> Instants:
        n = 12 // _MONTHS[self.unit]
        weeks = np.array(PATTERNS[str(self.weeks)] * 4)
        before = np.concatenate([[0], np.cumsum(weeks)])[:: _MONTHS[self.unit]][:n]
        starts: Instants = (self._year_start(ordinals // n) + 7 * before[ordinals % n]) * DAY
        return starts

    def _year_start(self, years: Instants) -> Instants:
        """First day of the years of weeks, counted from 1970: the day after the closing day of the year before."""
        opening = month_named(self.year_starts, "year_starts")
        closes = (years * 12 + opening).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64) - 1
        latest = closes + (3 if self.year_ends == "nearest" else 0)
        opens: Instants = latest - (latest + 3 - WEEKDAYS.index(self.week_ends)) % 7 + 1  # 1970-01-01 was a Thursday
        return opens

    def _pattern_ordinals(self, wall: Instants) -> Instants:
        if not wall.size:
            return wall
        years = wall.astype("datetime64[us]").astype("datetime64[Y]").astype(np.int64)
        n = 12 // _MONTHS[self.unit]
        near = np.arange((years.min() - 2) * n, (years.max() + 3) * n)
        return near[np.searchsorted(self._pattern_starts(near), wall, side="right") - 1]


def _stamps(instants: Instants) -> pd.DatetimeIndex:
    return pd.DatetimeIndex(instants.astype("datetime64[us]"))
