"""What the dummies of a season separate: positions of a cycle, alone or on each kind of day."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.calendar import WEEKDAYS, Axis, Cycle, Span, calendar_of, weekday_named, weekdays_of
from offing.calendar.frequency import DAY
from offing.terms.holiday_source import DaySource

_USUAL = {"workday": WEEKDAYS[:5], "Saturday": WEEKDAYS[5:6], "Sunday": WEEKDAYS[6:]}


@dataclass(frozen=True)
class Positions:
    """The positions of a cycle."""

    cycle: Cycle | Span

    @property
    def names(self) -> tuple[str, ...]:
        """Name of every position."""
        return self.cycle.names

    @property
    def words(self) -> str:
        """What the positions are."""
        return self.cycle.words

    @property
    def kinds(self) -> tuple[str, ...]:
        """Kinds of day that are separated: none."""
        return ()

    def positions(self, axis: Axis) -> NDArray[np.intp]:
        """Position (n,) of each period."""
        return self.cycle.positions(axis)


@dataclass(frozen=True)
class Kinds:
    """The positions of a cycle on each of some kinds of day; `of_weekday` (7,) is the kind of each weekday."""

    cycle: Cycle
    kinds: tuple[str, ...]
    of_weekday: tuple[int, ...]
    across: str
    holidays: DaySource | None

    @classmethod
    def of(
        cls, cycle: Cycle, across: str, stated: Mapping[str, Sequence[str]] | None, holidays: DaySource | None
    ) -> Kinds:
        """Each weekday, or the kinds as stated."""
        kinds: Mapping[str, Sequence[str]] = stated or _USUAL
        if across == "weekday":
            kinds = {day.title(): (day,) for day in WEEKDAYS}
        kind_of = {weekday_named(day, "kinds"): i for i, days in enumerate(kinds.values()) for day in days}
        return cls(cycle, tuple(kinds), tuple(kind_of[day] for day in range(7)), across, holidays)

    @property
    def names(self) -> tuple[str, ...]:
        """Name of every position: the kind of day, then the cycle's own name."""
        return tuple(f"{kind} {name}" for kind in self.kinds for name in self.cycle.names)

    @property
    def words(self) -> str:
        """What the positions are."""
        return f"{self.cycle.words} by {self.across}"

    def positions(self, axis: Axis) -> NDArray[np.intp]:
        """Position (n,) of each period; a holiday is of the last kind."""
        days = axis.middles // DAY
        kind = np.array(self.of_weekday)[weekdays_of(days)]
        if self.holidays is not None:
            calendar = calendar_of(axis, self.holidays.days(axis, 10, 10))
            kind = np.where(calendar.holiday[days - calendar.first], len(self.kinds) - 1, kind)
        return (kind * len(self.cycle.names) + self.cycle.positions(axis)).astype(np.intp)


Places = Positions | Kinds


def check_kinds(kinds: Mapping[str, Sequence[str]] | None, across: str | None) -> None:
    """Refuse kinds of day that do not hold every weekday once.

    Raises
    ------
    InputError
        Naming the weekday.
    """
    if kinds is None:
        return
    if across != "kind of day":
        raise InputError("kinds are kinds of day", 'State across = "kind of day".', key="kinds")
    stated = [weekday_named(day, "kinds") for days in kinds.values() for day in days]
    for day, name in enumerate(WEEKDAYS):
        if stated.count(day) != 1:
            found = "no kind of day" if day not in stated else "two kinds of day"
            raise InputError(f"{name.title()} is of {found}", "Give each weekday one kind.", key="kinds")
