"""The period of an axis that a question is about."""

from __future__ import annotations

from offing.base import InputError
from offing.calendar import Axis
from offing.calendar.axis import instant_of


def period_of(axis: Axis, period: object) -> int:
    """The place on `axis` of the period that holds a date; the first where none is given.

    Raises
    ------
    InputError
        If it is no date, or lies outside.
    """
    if period is None:
        return 0
    try:
        place = int(axis.frequency.ordinals(instant_of(period, axis.frequency))[0]) - axis.first
    except (ValueError, TypeError) as error:
        raise InputError(
            f"found {period!r}, which is not a date", "Give one within the period.", key="period"
        ) from error
    if not 0 <= place < axis.n:
        raise InputError(f"{period} does not lie within {axis.spell()}", "Give a date of one of them.", key="period")
    return place
