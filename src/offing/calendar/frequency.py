"""The rule of a regular time axis: where each period starts.

Period i of a frequency is [start(i), start(i + 1)), on the wall clock of its zone if it has one.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, get_args

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, nearest

Instants = NDArray[np.int64]
Unit = Literal["hour", "day", "week", "month", "quarter", "year"]
UNITS: tuple[Unit, ...] = get_args(Unit)
WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")

HOUR = 3_600_000_000
DAY = 24 * HOUR
_STEP = {"hour": HOUR, "day": DAY, "week": 7 * DAY}
_MONTHS = {"month": 1, "quarter": 3, "year": 12}
#: Periods in a mean Gregorian year of 365.25 days, to state slopes a year.
_A_YEAR = {"hour": 8766.0, "day": 365.25, "week": 365.25 / 7, "month": 12.0, "quarter": 4.0, "year": 1.0}
#: 1969-12-29, the Monday before the epoch, as a day number.
_FIRST_MONDAY = -3


def weekday_named(word: str, key: str) -> int:
    """Day number of a weekday's English name, Monday being 0."""
    if str(word).lower() not in WEEKDAYS:
        raise InputError(f"found {word!r}, which is no day of the week", nearest(str(word), WEEKDAYS), key=key)
    return WEEKDAYS.index(str(word).lower())


@dataclass(frozen=True)
class Frequency:
    """A regular succession of periods.

    Parameters
    ----------
    unit
        ``hour``, ``day``, ``week``, ``month``, ``quarter`` or ``year``.
    week_ends
        Closing day of a week; only looked at with ``week``.
    zone
        Time zone of the wall clock, such as ``Europe/Lisbon``. Hours are then real hours, counted in UTC, so
        that a day may have 23 or 25 of them; all other periods start at local midnight. None: a clock
        that is never changed.

    Examples
    --------
    >>> from offing import Frequency
    >>> Frequency("week", week_ends="saturday")
    Frequency(unit='week', week_ends='saturday', zone=None)
    """

    unit: Unit
    week_ends: str = "sunday"
    zone: str | None = None

    def __post_init__(self) -> None:
        if self.unit not in UNITS:
            raise InputError(f"found {self.unit!r}", nearest(str(self.unit), UNITS), key="frequency")
        closing = weekday_named(self.week_ends, "week_ends") if self.unit == "week" else 6
        object.__setattr__(self, "week_ends", WEEKDAYS[closing])
        if self.zone is not None:
            try:
                pd.Timestamp(0, tz=self.zone)
            except (ValueError, KeyError, OSError) as error:
                raise InputError(f"found {self.zone!r}", "Give a zone such as Europe/Lisbon.", key="zone") from error

    def __str__(self) -> str:
        named = f"week ending on {self.week_ends.title()}" if self.unit == "week" else self.unit
        return f"{named} in {self.zone}" if self.zone else named

    @property
    def stated(self) -> dict[str, Any]:
        """The frequency as parameters of `offing.read`, for a table that continues another."""
        if self.unit == "week":
            return {"frequency": "week", "week_ends": self.week_ends}
        return {"frequency": self.unit}

    @property
    def periods_a_year(self) -> float:
        """Mean number of periods in a year."""
        return _A_YEAR[self.unit]

    def starts(self, ordinals: Instants) -> Instants:
        """Start instants (same shape) of the periods with the given ordinals."""
        if self.unit in _MONTHS:
            months = ordinals * _MONTHS[self.unit]
            wall = months.astype("datetime64[M]").astype("datetime64[us]").astype(np.int64)
        else:
            wall = ordinals * _STEP[self.unit] + self._shift
        return wall if self.unit == "hour" else self.instants(wall)

    def ordinals(self, instants: Instants) -> Instants:
        """Ordinal (same shape) of the period that holds each instant."""
        wall = instants if self.unit == "hour" else self.wall(instants)
        if self.unit in _MONTHS:
            months = wall.astype("datetime64[us]").astype("datetime64[M]").astype(np.int64)
            return months // _MONTHS[self.unit]
        return (wall - self._shift) // _STEP[self.unit]

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

    @property
    def _shift(self) -> int:
        if self.unit != "week":
            return 0
        return (_FIRST_MONDAY + (WEEKDAYS.index(self.week_ends) + 1) % 7) * DAY


def _stamps(instants: Instants) -> pd.DatetimeIndex:
    return pd.DatetimeIndex(instants.astype("datetime64[us]"))
