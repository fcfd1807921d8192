"""Dated events: pulses, steps, ramps and pulses that die away."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import Literal, get_args

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.calendar import ALWAYS, Axis
from offing.tables import View
from offing.tables.event_table import Occurrences, read_occurrences
from offing.terms.term import Array, Block, Reference, Term, file_of

Form = Literal["pulse", "step", "ramp", "decay"]


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
        ``ramp``: a slope from the date on, in years. ``decay``: a pulse whose effect halves every `half_life` periods.
    half_life
        Periods in which what is left of a ``decay`` halves.
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
    half_life: float | None = None
    known_from: str | date | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        single = isinstance(self.dates, (str, date))
        self._set(dates=(self.dates,) if single else tuple(self.dates))  # type: ignore[arg-type]
        if bool(self.dates) == (self.table is not None):
            raise InputError("an event has dates or a table of them", "Give one of them.", key="dates")
        if self.form not in get_args(Form):
            raise InputError(f"found {self.form!r}", f"Allowed: {', '.join(get_args(Form))}.", key="form")
        if (self.form == "decay") != (self.half_life is not None):
            raise InputError("half_life belongs to the form decay, which needs it", "Give both.", key="half_life")
        if self.half_life is not None and not self.half_life > 0:
            raise InputError(f"found {self.half_life!r}", "Give a number above 0.", key="half_life")
        if self.until is not None and (len(self.dates) != 1 or self.form not in ("pulse", "decay")):  # type: ignore[arg-type]
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
            If none of them touches the fitted periods.
        """
        known = self._own() if self.table is None else read_occurrences(self.table)
        state = EventState(known.part(known.known_from <= view.day))
        if not (self._column(view.rows, state) != 0.0).any():
            raise InputError(
                f"it does not touch the fitted {view.rows.spell()}, so its effect is unknown",
                "Leave out the term, or give an earlier occurrence.",
                key="dates",
            )
        return state

    def block(self, view: View, axis: Axis, state: EventState) -> Block:
        """One column."""
        return Block(self._column(axis, state)[:, None], (self._column_name,))

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "no event"

    def reference_on(self, view: View, axis: Axis, state: EventState) -> Reference:
        """No event."""
        return Reference(np.zeros((1, 1)))

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

    def _column(self, axis: Axis, state: EventState) -> Array:
        if self.form != "decay":
            return _reached(axis, state.occurrences, self.form)
        # The effect of what happened before the axis reaches into it.
        back = int(np.ceil(40.0 * float(self.half_life or 1.0)))
        longer = Axis(axis.frequency, axis.first - back, axis.n + back)
        pulses = _reached(longer, state.occurrences, "pulse")
        weights = 0.5 ** (np.arange(back + 1) / float(self.half_life or 1.0))
        return np.convolve(pulses, weights)[back : back + axis.n]


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
