"""Holidays: the share of a period's days that each of them takes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, count, nearest
from offing.calendar import Axis, Days, country_days, day_shares
from offing.tables import View, read_days
from offing.terms.term import Block, Reference, Term, names_of


@dataclass(frozen=True)
class HolidayState:
    """The user's days if there are any, the holidays that the fitted periods hold, and their columns' names."""

    days: Days | None
    columns: tuple[str, ...]


@dataclass(frozen=True)
class Holidays(Term):
    """Named days with an effect of their own, each a column: the share of a period's days that are the holiday.

    The same term so serves hours and days (0 or 1), weeks and months. A coefficient is the effect of a period
    that is all holiday; a week with one such day has a seventh of it.

    Parameters
    ----------
    table
        Path of a CSV file or a DataFrame with columns ``name``, ``date`` and, if it has holidays of several days,
        ``until``.
    country, subdivision
        Codes of ISO 3166 for public holidays, instead of a table.
    days_before, days_after
        How many days before and after each holiday have effects of their own.
    ignore
        Holidays to leave out, by name.
    name
        The term's name.

    Raises
    ------
    InputError
        If not exactly one of `table` and `country` is given. Later: if the table ends before a period that is asked
        for, or a holiday falls there that the fitted periods never held.

    Examples
    --------
    >>> import offing as of
    >>> of.Holidays(country="NO", days_before=1).name
    'holidays'
    """

    table: str | Path | pd.DataFrame | None = field(default=None, compare=False)
    country: str | None = None
    subdivision: str | None = None
    days_before: int = 0
    days_after: int = 0
    ignore: Sequence[str] = ()
    name: str | None = "holidays"

    def __post_init__(self) -> None:
        super().__post_init__()
        if (self.table is None) == (self.country is None):
            raise InputError("holidays come from a table or from a country", "Give one of them.", key="table")
        if self.subdivision is not None and self.country is None:
            raise InputError("a subdivision needs its country", key="subdivision")
        for key in ("days_before", "days_after"):
            days = getattr(self, key)
            if isinstance(days, bool) or not isinstance(days, int) or not 0 <= days <= 30:
                raise InputError(f"found {days!r}", "Give a whole number from 0 to 30.", key=key)
        self._set(ignore=names_of(self.ignore, "ignore"))

    def learn(self, view: View) -> HolidayState:
        """Find the holidays that the fitted periods hold."""
        days = None if self.table is None else read_days(self.table)
        here = self._days(days, view.rows)
        for name in self.ignore:
            # A country may hold the ignored day for the first time in the future.
            if days is not None and name not in days.names:
                raise InputError(
                    f"there is no holiday {name!r}", nearest(name, dict.fromkeys(days.names)), key="ignore"
                )
        spread = self._spread(here)
        names = tuple(dict.fromkeys(spread.names))
        present = (day_shares(view.rows, spread, names) > 0.0).sum(axis=0)
        columns = tuple(sorted(name for name, held in zip(names, present, strict=True) if held))
        if not columns:
            raise InputError(f"no holiday falls in the fitted {view.rows.spell()}", "Leave out the term.")
        return HolidayState(days, columns)

    def block(self, view: View, axis: Axis, state: HolidayState) -> Block:
        """Shares of the days, one column a holiday."""
        spread = self._spread(self._days(state.days, axis))
        unknown = tuple(dict.fromkeys(name for name in spread.names if name not in state.columns))
        if unknown:
            rows, which = np.nonzero(day_shares(axis, spread, unknown))
            if len(rows):
                raise InputError(
                    f"{unknown[which[0]]!r} never fell in the fitted periods, so its effect is unknown",
                    f'If it has none, state ignore = ["{unknown[which[0]]}"].',
                    period=axis.part(int(rows[0]), int(rows[0]) + 1).labels()[0],
                )
        names = tuple(f"{self.name}: {column}" for column in state.columns)
        return Block(day_shares(axis, spread, state.columns), names)

    def remarks(self, view: View, state: HolidayState) -> tuple[Finding, ...]:
        """Years of the fit before the table begins: days without a holiday there may only be unknown ones."""
        year = int(view.rows.middles[0].astype("datetime64[us]").astype("datetime64[Y]").astype(int)) + 1970
        if state.days is None or year >= state.days.first_year:
            return ()
        message = f"The table of holidays begins in {state.days.first_year}, the fitted periods in {year}."
        advice = "Add the earlier years' days, or the effects are too small."
        return (Finding("holiday table", "warning", message, str(self.name), advice),)

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "no holiday"

    def reference_on(self, view: View, axis: Axis, state: HolidayState) -> Reference:
        """No holiday."""
        return Reference(np.zeros((1, len(state.columns))))

    def _days(self, own: Days | None, axis: Axis) -> Days:
        """All holidays in the years of `axis`."""
        first, after = axis.days
        years = np.array([first[0] - self.days_after, after[-1] - 1 + self.days_before]).astype("datetime64[D]")
        low, high = (int(year) for year in years.astype("datetime64[Y]").astype(int) + 1970)
        if own is None:
            return country_days(str(self.country), self.subdivision, low, high)
        if high > own.last_year:
            raise InputError(
                f"the table of holidays ends in {own.last_year}, but {axis.spell()} reach into {high}",
                f"Add the days of {high} to it.",
                key="table",
            )
        return own

    def _spread(self, days: Days) -> Days:
        """The days with those before and after them as holidays of their own, without the ignored ones."""
        keep = np.array([name not in self.ignore for name in days.names], dtype=bool)
        names = tuple(name for name in days.names if name not in self.ignore)
        core = Days(names, days.days[keep], days.first_year, days.last_year)
        parts = [core]
        parts += [core.shifted(-d, f" ({count(d, 'day')} before)") for d in range(1, self.days_before + 1)]
        parts += [core.shifted(d, f" ({count(d, 'day')} after)") for d in range(1, self.days_after + 1)]
        return Days(
            tuple(name for part in parts for name in part.names),
            np.concatenate([part.days for part in parts]),
            days.first_year,
            days.last_year,
        )
