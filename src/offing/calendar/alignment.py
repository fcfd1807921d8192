"""Periods of one frequency beside those of another, by the instants at which they end."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.calendar.axis import Axis
from offing.calendar.frequency import Frequency, Instants


def on_clock_of(frequency: Frequency, other: Frequency, instants: Instants) -> Instants:
    """Instants of `other` as those of `frequency`; where one of the two has no zone, what their clocks show counts."""
    if (frequency.zone is None) == (other.zone is None):
        return instants
    wall = other.wall(instants)
    return wall if frequency.zone is None else frequency.instants(wall)


def newest_ended(frequency: Frequency, axis: Axis) -> Instants:
    """Ordinal (n,) of the newest period of `frequency` that has ended when each period of `axis` ends.

    Examples
    --------
    >>> from offing import Axis, Frequency
    >>> from offing.calendar.alignment import newest_ended
    >>> weeks, months = Frequency("week"), Axis.between(Frequency("month"), "2026-01-01", "2026-02-01")
    >>> [Axis(weeks, int(i), 1).labels()[0] for i in newest_ended(weeks, months)]       # weeks from Monday to Sunday
    ['2026-01-19', '2026-02-16']
    """
    return frequency.newest_ended(on_clock_of(frequency, axis.frequency, axis.ends))


def holding(frequency: Frequency, axis: Axis) -> Instants:
    """Ordinal (n,) of the period of `frequency` in which each period of `axis` ends: the last instant that it holds."""
    return frequency.ordinals(on_clock_of(frequency, axis.frequency, axis.ends) - 1)


def inside(frequency: Frequency, axis: Axis) -> tuple[Axis, NDArray[np.intp]]:
    """The periods of `frequency` that end within `axis`, and the place (m,) in it of the period in which each ends.

    Examples
    --------
    >>> from offing import Axis, Frequency
    >>> from offing.calendar.alignment import inside
    >>> quarters = Axis.between(Frequency("quarter"), "2026-01-01", "2026-04-01")
    >>> months, places = inside(Frequency("month"), quarters)
    >>> months.labels()[0], places.tolist()
    ('2026-01', [0, 0, 0, 1, 1, 1])
    """
    last = newest_ended(frequency, axis)
    before = int(newest_ended(frequency, Axis(axis.frequency, axis.first - 1, 1))[0])
    counts = np.diff(np.concatenate([[before], last]))
    return Axis(frequency, before + 1, int(last[-1]) - before), np.repeat(np.arange(axis.n), counts).astype(np.intp)
