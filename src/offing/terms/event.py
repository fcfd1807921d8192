"""Dated events: pulses, steps, ramps, and effects that fade with the distance in time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import Literal, get_args

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import ALWAYS, Axis
from offing.tables import View
from offing.tables.event_table import Occurrences, read_occurrences
from offing.terms.term import Block, Reference, Shaped, Term, Written, file_of

Form = Literal["pulse", "step", "ramp", "decay", "approach"]
#: Of an effect that lasts longer a step shows more.
_LONGEST = 60.0


@dataclass(frozen=True)
class EventState:
    """The occurrences that were known at the origin."""

    occurrences: Occurrences


@dataclass(frozen=True)
class Event(Term):
    """Something that happened on stated dates, with one effect of its own.

    Parameters
    ----------
    name
        The term's name.
    dates
        First day of each occurrence, or one date.
    until
        Last day of an occurrence, by default its first; only for one date.
    table
        Path of a CSV file or a DataFrame instead of dates: columns ``date``, and where wanted ``until``,
        ``strength`` (a number that scales the effect) and ``known_from``.
    form
        ``pulse``: the share of a period's days that the event takes. ``step``: from the date on, for good.
        ``ramp``: a slope from the date on, in years. ``decay``: a pulse whose effect halves every `half_life` periods
        after it. ``approach``: one that doubles every `half_life` periods towards it, as before a fest or a rise of
        prices that is announced.
    half_life
        Periods in which what is left of a ``decay`` halves, or an ``approach`` doubles; a number or ``"estimated"``.
    known_from
        The day from which one knew of the event: earlier origins do not count it. By default it was always known.

    Raises
    ------
    InputError
        If neither dates nor a table are given or both, or what is given does not fit the form. Later: if the event does
        not touch the fitted periods, since its effect is then unknown.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> months = pd.period_range("2024-01", periods=6, freq="M")
    >>> orders = pd.Series([5.0, 5.2, 4.8, 8.1, 7.9, 8.0], months, name="orders")
    >>> fit = of.Model("orders", terms=[of.Event("new hall", "2024-04-01", form="step")]).fit(orders)
    >>> fit.coefficients["coefficient"].round(6).tolist()
    [5.0, 3.0]
    """

    name: str | None = None
    dates: str | date | Sequence[str | date] = ()
    until: str | date | None = None
    table: str | Path | pd.DataFrame | None = field(default=None, compare=False)
    form: Form = "pulse"
    half_life: float | Literal["estimated"] | None = None
    known_from: str | date | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        single = isinstance(self.dates, (str, date))
        self._set(dates=(self.dates,) if single else tuple(self.dates))  # type: ignore[arg-type]
        if bool(self.dates) == (self.table is not None):
            raise InputError("an event has dates or a table of them", "Give one of them.", key="dates")
        if self.form not in get_args(Form):
            raise InputError(f"found {self.form!r}", f"Allowed: {', '.join(get_args(Form))}.", key="form")
        if self.fades != (self.half_life is not None):
            raise InputError(
                "half_life belongs to the forms decay and approach, which need it", "Give both.", key="half_life"
            )
        number = self.half_life not in (None, "estimated")
        if number and (isinstance(self.half_life, (str, bool)) or not self.half_life > 0):  # type: ignore[operator]
            raise InputError(f"found {self.half_life!r}", 'Give a number above 0, or "estimated".', key="half_life")
        if self.until is not None and (len(self.dates) != 1 or self.form not in ("pulse", "decay", "approach")):  # type: ignore[arg-type]
            raise InputError("until is the last day of one pulse", "Use a table for several.", key="until")
        self._own()

    def files(self) -> tuple[Path, ...]:
        """The table, where it is a file."""
        return file_of(self.table)

    def within(self, folder: Path) -> Event:
        """The same term with its table's path taken from `folder`."""
        return replace(self, table=folder / self.table) if isinstance(self.table, (str, Path)) else self

    def learn(self, view: View) -> EventState:
        """Find the occurrences that were known at the origin.

        Raises
        ------
        InputError
            If none of them touches the fitted periods; at an origin in the past the event is then as if it were not.
        """
        known = self._own() if self.table is None else read_occurrences(self.table)
        state = EventState(known.part(known.known_from <= view.day))
        if view.known_ahead is not None:
            # At an origin in the past what had not begun has no effect that anybody could have known.
            ended = int(view.rows.days[1][-1])
            return EventState(state.occurrences.part(state.occurrences.first < ended))
        if not (self._columns(view.rows, state, 1.0)[0] != 0.0).any():
            raise InputError(
                f"it does not touch the fitted {view.rows.spell()}, so its effect is unknown",
                "Leave out the term, or give an earlier occurrence.",
                key="dates",
            )
        return state

    def block(self, view: View, axis: Axis, state: EventState) -> Block:
        """One column; with its derivative where the half-life is estimated."""
        if self.half_life != "estimated":
            return Block(self._columns(axis, state, float(self.half_life or 1.0))[0][:, None], (self._column_name,))

        def columns(theta: Array) -> tuple[Array, Array]:
            value, slope = self._columns(axis, state, float(theta[0]))
            return value[:, None], slope[:, None, None]

        starts = np.array([[1.0], [3.0], [10.0]])
        longest = np.array([max(4.0, min(_LONGEST, view.rows.n / 4.0))])
        curve = Shaped(
            (f"{self.name}: half-life in periods",), np.minimum(starts, longest), np.array([0.2]), longest, columns
        )
        return Block(columns(starts[0])[0], (self._column_name,), curve=curve)

    def written(self, view: View, state: EventState, beta: Array) -> list[Written]:
        """The form over all occurrences, each by its strength."""
        found = state.occurrences
        each = "; ".join(
            f"{np.datetime64(int(first), 'D')} to {np.datetime64(int(last), 'D')} times {strength:.12g}"
            for first, last, strength in zip(found.first, found.last, found.strength, strict=True)
        )
        what = {
            "pulse": "share of the period's days",
            "step": "share of the period's days from the first on",
            "ramp": "mean over the period of the years (of 365.25 days) since the first day began",
        }
        if self.fades:
            half = float(beta[-1]) if self.half_life == "estimated" else float(self.half_life or 1.0)
            side = "after" if self.form == "decay" else "before"
            text = f"0.5 to the power (periods {side} / {half:.12g}) times the share of the days"
        else:
            text = what[self.form]
        return [Written(self._column_name, float(beta[0]), f"{text}: {each}")]

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "no event"

    def reference_on(self, view: View, axis: Axis, state: EventState) -> Reference:
        """No event."""
        nothing = self.block(view, axis, state).curve
        if isinstance(nothing, Shaped):
            nothing = replace(nothing, columns=lambda theta: (np.zeros((1, 1)), np.zeros((1, 1, 1))))
        return Reference(np.zeros((1, 1)), curve=nothing)

    @property
    def _column_name(self) -> str:
        unit = {"ramp": ": slope a year", "step": ": step"}.get(self.form, "")
        return f"{self.name}{unit}"

    def _own(self) -> Occurrences:
        """The occurrences given by dates."""
        first = np.array([_day(each, "dates") for each in self.dates], dtype=np.int64)  # type: ignore[union-attr]
        last = first if self.until is None else np.array([_day(self.until, "until")])
        if (last < first).any():
            raise InputError("the event ends before it starts", key="until")
        known = ALWAYS if self.known_from is None else _day(self.known_from, "known_from")
        return Occurrences(first, last, np.ones(len(first)), np.full(len(first), known, dtype=np.int64))

    @property
    def fades(self) -> bool:
        """Whether its effect depends on the distance in time."""
        return self.form in ("decay", "approach")

    def _columns(self, axis: Axis, state: EventState, half_life: float) -> tuple[Array, Array]:
        """The column (n,) and its derivative (n,) by the half-life."""
        if not self.fades:
            return _reached(axis, state.occurrences, self.form), np.zeros(axis.n)
        # The effect of what happens outside of the axis reaches into it, until 2⁻⁴⁰ of it is left.
        back = int(np.ceil(40.0 * (_LONGEST if self.half_life == "estimated" else half_life)))
        after = self.form == "decay"
        longer = Axis(axis.frequency, axis.first - back * after, axis.n + back)
        pulses = _reached(longer, state.occurrences, "pulse")
        at = np.flatnonzero(pulses)
        distance = (axis.ordinals[:, None] - longer.ordinals[at]) * (1.0 if after else -1.0)
        weights = np.where(distance >= 0.0, np.power(0.5, np.maximum(distance, 0.0) / half_life), 0.0)
        return weights @ pulses[at], (weights * distance) @ pulses[at] * np.log(2.0) / half_life**2


def _reached(axis: Axis, known: Occurrences, form: Form) -> Array:
    """The column (n,) of a pulse, a step or a ramp, summed over all occurrences with their strengths."""
    low, high = (each[:, None].astype(np.float64) for each in axis.days)
    first, after = known.first.astype(np.float64), known.last + 1.0
    days = high - low
    if form == "pulse":
        shares = np.maximum(np.minimum(high, after) - np.maximum(low, first), 0.0) / days
    elif form == "step":
        shares = np.clip((high - first) / days, 0.0, 1.0)
    else:
        # Mean time since the date over the period's days, in years.
        since_low, since_high = np.maximum(low - first, 0.0), np.maximum(high - first, 0.0)
        shares = (np.square(since_high) - np.square(since_low)) / (2.0 * days) / 365.25
    return np.asarray(shares @ known.strength)


def _day(value: object, key: str) -> int:
    try:
        return int(pd.Timestamp(value).toordinal()) - date(1970, 1, 1).toordinal()  # type: ignore[arg-type]
    except (ValueError, TypeError) as error:
        raise InputError(f"found {value!r}, which is not a date", "Write it as 2023-05-01.", key=key) from error
