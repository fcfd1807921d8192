"""Where a period stands in a cycle: its position by name, and its phase."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.calendar.axis import Axis
from offing.calendar.frequency import DAY, HOUR, MONTHS, WEEKDAYS, Frequency, Unit, rank_of

#: Cycle, step within it: how many positions there are and what they are called.
_POSITIONS: dict[tuple[str, str], tuple[str, ...]] = {
    ("day", "hour"): tuple(f"{hour:02d}:00" for hour in range(24)),
    ("week", "day"): tuple(day.title() for day in WEEKDAYS),
    ("week", "business day"): tuple(day.title() for day in WEEKDAYS[:5]),
    ("month", "day"): tuple(f"day {day}" for day in range(1, 32)),
    ("quarter", "month"): ("first month", "second month", "third month"),
    ("year", "week"): tuple(f"week {week:02d}" for week in range(1, 54)),
    ("year", "month"): MONTHS,
    ("year", "quarter"): ("Q1", "Q2", "Q3", "Q4"),
}
CYCLES: tuple[Unit, ...] = ("day", "week", "month", "quarter", "year")
#: What dummies separate when the user does not say: the frequency's own step where that is named, else this.
_USUAL = {"day": "hour", "week": "day", "month": "day", "quarter": "month", "year": "month"}


@dataclass(frozen=True)
class Cycle:
    """A cycle as a frequency sees it: `unit` its length, `step` what its positions are."""

    unit: Unit
    step: Unit
    frequency: Frequency

    @property
    def names(self) -> tuple[str, ...]:
        """Name of every position."""
        names = _POSITIONS[self.unit, self.step]
        if self._own_year and self.step == "month":
            return tuple(f"period {i + 1:02d}" for i in range(len(names)))  # no civil month
        return names

    @property
    def words(self) -> str:
        """What the positions are."""
        return f"{self.step} of the {self.unit}"

    def owners(self, axis: Axis) -> NDArray[np.int64]:
        """Which cycle (n,) each period's middle lies in."""
        return Frequency(self.unit).ordinals(axis.middles)

    @property
    def _own_year(self) -> bool:
        """Whether positions are counted in the frequency's own year, which is not the civil one."""
        own = self.frequency.weeks is not None or self.frequency.year_starts != "january"
        return own and self.unit == "year" and self.step == self.frequency.unit

    @property
    def regular(self) -> bool:
        """Whether the periods themselves are the positions, equally many in each cycle."""
        return self.step == self.frequency.unit and (self.unit, self.step) not in {
            ("month", "day"),
            ("year", "week"),
        }

    @property
    def harmonics_at_most(self) -> int:
        """How many harmonics the frequency can separate: half the periods of a cycle."""
        if self.regular:
            return len(self.names) // 2
        return int(self.frequency.periods_a_year / Frequency(self.unit).periods_a_year / 2)

    def positions(self, axis: Axis) -> NDArray[np.intp]:
        """Position (n,) of each period's middle, counted from 0."""
        if self._own_year:
            return self.frequency.in_year(axis.ordinals)[1].astype(np.intp)
        middles = axis.middles.astype("datetime64[us]")
        if self.step == "quarter":
            place = middles.astype("datetime64[M]").astype(np.int64) % 12 // 3
        elif self.step == "month":
            place = middles.astype("datetime64[M]").astype(np.int64) % len(self.names)
        elif self.step == "hour":
            place = middles.astype("datetime64[h]").astype(np.int64) % 24
        elif self.unit == "week":
            place = (middles.astype("datetime64[D]").astype(np.int64) + 3) % 7  # 1970-01-01 was a Thursday
        else:
            days_in = (middles - _cycle_start(middles, self.unit)).astype("timedelta64[D]").astype(np.int64)
            place = days_in if self.step == "day" else days_in // 7
        return place.astype(np.intp)

    def phases(self, axis: Axis) -> NDArray[np.float64]:
        """Share (n,) of the cycle that has passed at each period.

        For equally many periods in each cycle this is the position over their number, which makes
        harmonics exactly balanced; otherwise the share of the calendar's own cycle at the period's middle.
        """
        if self.regular:
            return self.positions(axis) / len(self.names)
        middles = axis.middles.astype("datetime64[us]")
        if self.unit in ("day", "week"):
            step = Frequency(self.unit)
            ordinals = step.ordinals(middles.astype(np.int64))
            start, end = step.starts(ordinals), step.starts(ordinals + 1)
        else:
            start = _cycle_start(middles, self.unit).astype(np.int64)
            end = _cycle_start(middles, self.unit, following=1).astype(np.int64)
        phase: NDArray[np.float64] = (middles.astype(np.int64) - start) / (end - start)
        return phase


@dataclass(frozen=True)
class Span:
    """A cycle of any length, in microseconds, counted from 1970; positions are twelfths of it."""

    length: float
    said: str
    frequency: Frequency

    @property
    def names(self) -> tuple[str, ...]:
        """Name of every position."""
        return tuple(f"part {i + 1:02d}" for i in range(12))

    @property
    def unit(self) -> str:
        """What the cycle is called."""
        return self.said

    @property
    def words(self) -> str:
        """What the positions are."""
        return f"twelfth of {self.said}"

    @property
    def regular(self) -> bool:
        """Never: its periods need not fall alike in each cycle."""
        return False

    @property
    def harmonics_at_most(self) -> int:
        """How many harmonics the frequency can separate: half the periods of a cycle."""
        return int(self.length / (365.25 * DAY / self.frequency.periods_a_year) / 2)

    def owners(self, axis: Axis) -> NDArray[np.int64]:
        """Which cycle (n,) each period's middle lies in."""
        return np.floor(axis.middles / self.length).astype(np.int64)

    def phases(self, axis: Axis) -> NDArray[np.float64]:
        """Share (n,) of the cycle that has passed at each period's middle."""
        phase: NDArray[np.float64] = axis.middles / self.length % 1.0
        return phase

    def positions(self, axis: Axis) -> NDArray[np.intp]:
        """Position (n,) of each period's middle, counted from 0."""
        return np.floor(12.0 * self.phases(axis)).astype(np.intp)


#: Units of a stated length of a cycle, in microseconds.
_LENGTHS = {"hours": HOUR, "days": DAY, "weeks": 7 * DAY, "years": 365.25 * DAY}


def length_of(said: str) -> float | None:
    """Microseconds of a length such as ``365.25 days``; None where the text is no length.

    Raises
    ------
    InputError
        If the number or the unit of what looks like a length is not known.
    """
    number, _, unit = said.partition(" ")
    try:
        value = float(number)
    except ValueError:
        return None
    unit = unit.strip() if unit.strip().endswith("s") else f"{unit.strip()}s"
    if unit not in _LENGTHS or not 0.0 < value < float("inf"):
        raise InputError(f"found {said!r}", f"Write it as 365.25 days; units: {', '.join(_LENGTHS)}.", key="cycle")
    return value * _LENGTHS[unit]


def span_of(said: str, length: float, frequency: Frequency) -> Span:
    """Cycle of a stated length for a frequency.

    Raises
    ------
    InputError
        If it is not at least two periods long.
    """
    span = Span(length, said, frequency)
    if span.harmonics_at_most < 1:
        raise InputError(f"a cycle of {said} cannot be seen in a series by {frequency.unit}", key="cycle")
    return span


def cycle_of(unit: str, frequency: Frequency, step: str | None = None) -> Cycle:
    """Cycle of the length `unit` for a frequency, with positions of `step`.

    Raises
    ------
    InputError
        If the cycle is no longer than a period, or positions of that step do not exist in it.
    """
    if unit not in CYCLES:
        raise InputError(f"found {unit!r}", nearest(unit, CYCLES), key="cycle")
    own_rank = rank_of(frequency.unit)
    if rank_of(unit) <= own_rank:
        longer = [each for each in CYCLES if rank_of(each) > own_rank]
        raise InputError(
            f"a cycle of a {unit} cannot be seen in a series by {frequency.unit}",
            f"Longer cycles are: {', '.join(longer) or 'none'}.",
            key="cycle",
        )
    own = (unit, frequency.unit) in _POSITIONS
    chosen = step or (frequency.unit if own else _USUAL[unit])
    possible = [
        s
        for u, s in _POSITIONS
        if u == unit
        and rank_of(s) >= own_rank
        and (s == frequency.unit or (s != "business day" and (u, frequency.unit) != ("week", "business day")))
    ]
    if step is not None and step not in possible:
        raise InputError(
            f"a {unit} by {step} cannot be resolved in a series by {frequency.unit}",
            f"Possible here: {', '.join(possible) or 'none'}.",
            key="by",
        )
    return Cycle(unit, chosen, frequency)  # type: ignore[arg-type]


def _cycle_start(middles: NDArray[np.datetime64], unit: str, following: int = 0) -> NDArray[np.datetime64]:
    months = {"month": 1, "quarter": 3, "year": 12}[unit]
    first = (middles.astype("datetime64[M]").astype(np.int64) // months + following) * months
    return first.astype("datetime64[M]").astype("datetime64[us]")
