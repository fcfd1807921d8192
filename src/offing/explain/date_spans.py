"""Years, quarters, months and weeks that hold the periods of a series."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.calendar import Axis, Frequency, coarser_than, rank_of
from offing.calendar.axis import periods_of
from offing.calendar.frequency import UNITS, Unit

#: One period by its date, a year, quarter or month by its name such as ``2026-Q3``, or the first and the last date.
Span = str | date | tuple[str | date, str | date]

#: Years before and after the data in which names of periods are understood.
_YEARS = 40


def coarser(frequency: Frequency, by: str) -> Frequency:
    """The frequency of the groups: civil or fiscal years, say, as the series' own calendar has them.

    Raises
    ------
    InputError
        If the groups would be no longer than the periods.
    """
    longer = coarser_than(frequency.unit)
    if by not in longer:
        if by in UNITS:
            raise InputError(
                f"a series by {frequency.unit} has no sums by {by}",
                f"Longer are: {', '.join(longer) or 'none'}.",
                key="by",
            )
        raise InputError(f"found {by!r}", nearest(by, longer or UNITS), key="by")
    unit: Unit = longer[longer.index(by)]
    if frequency.weeks is not None or frequency.unit in ("quarter", "year"):
        return replace(frequency, unit=unit)
    return Frequency(unit, zone=frequency.zone, week_ends=frequency.week_ends if unit == "week" else "sunday")


def owners(axis: Axis, groups: Frequency) -> NDArray[np.int64]:
    """Ordinal (n,) of the group that holds each period's middle."""
    return groups.ordinals(axis.starts + (axis.ends - axis.starts) // 2)


@dataclass(frozen=True)
class Group:
    """A year, quarter, month or week: its name, and the periods of a series that lie in it."""

    label: str
    axis: Axis


def group_named(label: str, near: Axis) -> Group:
    """The group of a name such as ``2026``, ``2026-Q1`` or ``2026-03``, as its periods of the series.

    Raises
    ------
    InputError
        If there is none of that name.
    """
    frequency = near.frequency
    seen: dict[str, tuple[Frequency, int]] = {}
    for by in reversed(coarser_than(frequency.unit)):
        if by in ("year", "quarter", "month"):
            groups = coarser(frequency, by)
            middle = int(groups.ordinals(near.starts[-1:])[0])
            reach = round(_YEARS * groups.periods_a_year)
            named = Axis(groups, middle - reach, 2 * reach)
            seen |= dict(zip(named.labels(), ((groups, at) for at in named.ordinals.tolist()), strict=True))
    if label not in seen:
        ways = " or ".join(["2026", "2026-Q1", "2026-03"][: max(1, 5 - rank_of(frequency.unit))])
        raise InputError(f"{label!r} is no year, quarter or month near the data", f"Write it as {ways}.", key="totals")
    groups, at = seen[label]
    edges = groups.starts(np.array([at, at + 1]))
    first, last = (int(each) for each in frequency.ordinals(edges))
    around = Axis(frequency, first - 1, last - first + 3)
    inside = np.flatnonzero(owners(around, groups) == at)
    return Group(label, around.part(int(inside[0]), int(inside[-1]) + 1))


def named_span(span: object, near: Axis) -> Axis:
    """The periods of a year, quarter or month by its name, of one period by its date, or from one date to another.

    Raises
    ------
    InputError
        If it is none of these.
    """
    if isinstance(span, str):
        try:
            return group_named(span, near).axis
        except InputError:
            dates: tuple[Any, Any] = (span, span)
    elif isinstance(span, Sequence) and len(span) == 2:
        dates = span[0], span[1]
    else:
        dates = (span, span)
    try:
        low, high = periods_of(dates[0], near.frequency)[0], periods_of(dates[1], near.frequency)[1]
    except (ValueError, TypeError) as error:
        raise InputError(
            f"found {span!r}, which is not a time span",
            "Write 2026, 2026-Q3, 2026-07, a date, or two dates.",
            key="span",
        ) from error
    if high < low:
        raise InputError(f"{dates[1]} lies before {dates[0]}", "Give the earlier date first.", key="span")
    return Axis(near.frequency, low, high - low + 1)


def groups_named(stated: Mapping[str, float], near: Axis) -> list[tuple[Group, float]]:
    """Groups with the number stated for each, which must not overlap.

    Raises
    ------
    InputError
        If there is none, a number is no finite one, or two groups overlap.
    """
    if not stated:
        raise InputError("no total is given", 'Give such as {"2026": 12000}.', key="totals")
    found = []
    for label, number in stated.items():
        if isinstance(number, bool) or not isinstance(number, (int, float, np.number)) or not np.isfinite(number):
            raise InputError(f"found {number!r} for {label}", "Give a number.", key="totals")
        found.append((group_named(str(label), near), float(number)))
    found.sort(key=lambda pair: pair[0].axis.first)
    for (one, _), (other, _) in pairwise(found):
        if other.axis.first < one.axis.first + one.axis.n:
            raise InputError(f"{one.label} and {other.label} overlap", "Give one of them.", key="totals")
    return found
