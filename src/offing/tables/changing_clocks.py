"""Times on clocks that change twice a year."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, count
from offing.calendar.frequency import HOUR
from offing.tables.date_parsing import ZONES, Stamps


def on_changing_clock(stamps: Stamps, file: str, rows: pd.Index) -> Ints:
    """Instants of hours on a clock that is changed: of an hour shown twice, the first row is the earlier one.

    Raises
    ------
    InputError
        For an hour that the clock skips, or one that it shows twice but that has only one row.
    """
    clock, early, late = _both_readings(stamps, file, rows)
    twice = np.asarray(early != late)
    seen: dict[int, list[int]] = {}
    for i in np.flatnonzero(twice).tolist():
        seen.setdefault(int(stamps.wall[i]), []).append(i)
    second = np.zeros(len(clock), dtype=bool)
    for places in seen.values():
        if len(places) != 2:
            raise InputError(
                f"the clock of {stamps.zone} shows {clock[places[0]]} twice, and "
                f"{count(len(places), 'row stands', 'rows stand')} for it",
                "Give both hours, or write offsets from UTC such as 2024-10-27T01:00+01:00.",
                file=file,
                row=int(rows[places[0]]),
            )
        second[places[1]] = True
    instants = np.where(second, _microseconds(late), _microseconds(early))
    return np.asarray(instants, dtype=np.int64)


def _both_readings(
    stamps: Stamps, file: str, rows: pd.Index
) -> tuple[pd.DatetimeIndex, pd.DatetimeIndex, pd.DatetimeIndex]:
    """The clock's times, and their instants if those shown twice are the earlier ones, and if they are the later.

    Raises
    ------
    InputError
        For a time that the clock skips.
    """
    clock = pd.DatetimeIndex(stamps.wall.astype("datetime64[us]"))
    early, late = (
        clock.tz_localize(stamps.zone, ambiguous=np.full(len(clock), first), nonexistent="NaT")
        for first in (True, False)
    )
    skipped = np.flatnonzero(early.isna())
    if len(skipped):
        i = int(skipped[0])
        raise InputError(
            f"found {clock[i]}, which the clock of {stamps.zone} skips",
            "Correct the row, or state another zone.",
            file=file,
            row=int(rows[i]),
        )
    return clock, early, late


def check_clock(stamps: Stamps, file: str, rows: pd.Index) -> None:
    """Refuse lines at times that a changed clock skips, or shows twice: nothing says to which hour these belong.

    Raises
    ------
    InputError
        Naming the first such row.
    """
    clock, early, late = _both_readings(stamps, file, rows)
    twice = np.flatnonzero(np.asarray(early != late))
    if len(twice):
        i = int(twice[0])
        raise InputError(
            f"the clock of {stamps.zone} shows {clock[i]} twice, and the lines do not say which is meant",
            "Write offsets from UTC such as 2024-10-27T01:00+01:00.",
            file=file,
            row=int(rows[i]),
        )


def _microseconds(clock: pd.DatetimeIndex) -> Ints:
    return np.asarray(clock.tz_convert("UTC").tz_localize(None).as_unit("us").to_numpy()).astype(np.int64)


def zones_of(hours: Ints) -> list[str]:
    """Zones whose clocks show all of some hours twice."""
    clock = pd.DatetimeIndex((hours * HOUR).astype("datetime64[us]"))
    found = []
    for zone in ZONES:
        early, late = (
            clock.tz_localize(zone, ambiguous=np.full(len(clock), first), nonexistent="shift_forward")
            for first in (True, False)
        )
        if (early != late).all():
            found.append(zone)
    return found


Ints = NDArray[np.int64]
