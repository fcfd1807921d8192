"""The trend: a straight line, or one that bends at stated dates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.calendar import Axis
from offing.calendar.axis import instant_of
from offing.tables import View
from offing.terms.term import Array, Block, Reference, Term


@dataclass(frozen=True)
class TrendState:
    """Ordinals of the first and last fitted period and of the knots, with the knots' dates."""

    first: int
    last: int
    knots: tuple[int, ...]
    dates: tuple[str, ...]


@dataclass(frozen=True)
class Trend(Term):
    """A trend that is linear between its knots and runs on beyond the data with its last slope.

    Time runs in equal steps a period and is counted in years, so that slopes are a year's change: of the
    target on the level scale, of its logarithm on the log scale.

    Parameters
    ----------
    knots
        Dates on which the slope changes. From the period that holds the date on, the new slope applies.
    reference
        Where the trend's contribution is zero: a date, or ``"a year before"`` each period; a number instead is
        the trend's own value (its first fitted period has the value 0). By default the last fitted period,
        from which a forecast starts.
    name
        The term's name.

    Examples
    --------
    >>> import offing as of
    >>> of.Trend(knots=["2023-05-01"]).name
    'trend'
    """

    knots: Sequence[str | date] = ()
    reference: str | date | float | None = None
    name: str | None = "trend"

    def __post_init__(self) -> None:
        super().__post_init__()
        if isinstance(self.knots, (str, date)):
            raise InputError(f"found {self.knots!r}", "Give a list of dates.", key="knots")
        dates = sorted({_day(knot, "knots") for knot in self.knots})
        if len(dates) != len(self.knots):
            raise InputError("a date is given twice", "Give each knot once.", key="knots")
        self._set(knots=tuple(dates))
        if isinstance(self.reference, (str, date)) and self.reference != "a year before":
            _day(self.reference, "reference")

    def learn(self, view: View) -> TrendState:
        """Place the knots among the fitted periods.

        Raises
        ------
        InputError
            If a knot lies before the second fitted period or after the last but one: the data could not tell
            the slopes on both sides apart.
        """
        rows = view.rows
        ordinals = []
        for knot in self.knots:
            at = int(rows.frequency.ordinals(instant_of(knot, rows.frequency))[0])
            if not rows.first < at < rows.first + rows.n - 1:
                raise InputError(f"{knot} lies outside the fitted {rows.spell()}", "Remove it.", key="knots")
            ordinals.append(at)
        return TrendState(rows.first, rows.first + rows.n - 1, tuple(ordinals), tuple(str(knot) for knot in self.knots))

    def block(self, view: View, axis: Axis, state: TrendState) -> Block:
        """One column of time in years, and one that starts at each knot."""
        names = (
            f"{self.name}: slope a year",
            *(f"{self.name}: slope change at {day}" for day in state.dates),
        )
        return Block(_columns(axis.ordinals, axis, state), names)

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        if self.reference is None:
            return "the trend of the last fitted period"
        return f"the trend {'' if self.reference == 'a year before' else 'at '}{self.reference}"

    def reference_on(self, view: View, axis: Axis, state: TrendState) -> Reference:
        """The columns at the period from which the trend is measured."""
        at = self.reference
        if at is None:
            return Reference(_columns(np.array([state.last]), axis, state))
        if isinstance(at, (int, float)):
            return Reference(np.zeros((1, 1 + len(state.knots))), float(at))
        if at == "a year before":
            return Reference(_columns(axis.ordinals - axis.frequency.periods_a_year, axis, state))
        day = instant_of(_day(at, "reference"), axis.frequency)
        return Reference(_columns(axis.frequency.ordinals(day), axis, state))


def _columns(ordinals: np.ndarray, axis: Axis, state: TrendState) -> Array:
    starts = np.array([state.first, *state.knots])
    since = ordinals[:, None] - starts
    bends = np.maximum(since[:, 1:], 0.0)
    return np.column_stack([since[:, :1], bends]) / axis.frequency.periods_a_year


def _day(value: object, key: str) -> str:
    try:
        return pd.Timestamp(value).date().isoformat()  # type: ignore[arg-type]
    except (ValueError, TypeError) as error:
        raise InputError(f"found {value!r}, which is not a date", "Write it as 2023-05-01.", key=key) from error
