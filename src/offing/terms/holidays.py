"""Holidays: the share of a period's days that each of them takes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal, get_args

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, count, nearest
from offing.base.arrays import Array
from offing.calendar import Axis, Days, calendar_of, day_shares, grouped, weekdays_of
from offing.calendar.frequency import WEEKDAYS
from offing.tables import View
from offing.terms.holiday_source import DaySource, check_source, day_source, tables_within
from offing.terms.term import Block, FutureColumns, Readout, Reference, Term, Written, file_of, names_of

Pooling = Literal["partial", "none", "full"]
#: Holidays without a group of their own are of this one.
_USUAL = "holiday"
#: Fewer members than this show nothing about how far members of a group differ.
_FEWEST = 3
_BRIDGE, _BEFORE_LONG = "bridge day", "day before a long weekend"


@dataclass(frozen=True, order=True)
class Piece:
    """A column: a `group` on average or its `member`, `away` days from the day, or an `other` kind of day.

    `shrinkage_group` says with which strength it is shrunk towards its group, as a text; empty where it is free.
    """

    group: str
    away: int
    member: str = ""
    other: str = ""
    shrinkage_group: str = ""


@dataclass(frozen=True)
class HolidayState:
    """The calendars as known, and the columns that the fitted periods hold."""

    source: DaySource
    pieces: tuple[Piece, ...]

    def held(self, group: str, away: int) -> list[Piece]:
        """The members' columns of a group."""
        return [each for each in self.pieces if each.member and (each.group, each.away) == (group, away)]

    def pooled(self, group: str, away: int) -> bool:
        """Whether there is a column of the group itself, on which holidays never seen can lean."""
        return any(not (e.member or e.other) and (e.group, e.away) == (group, away) for e in self.pieces)


@dataclass(frozen=True)
class Holidays(Term):
    """Named days: each has the effect of its group, and a deviation of its own as far as the data are evidence of it.

    A column holds the share of a period's days that are the holiday. The same term so serves hours and days (0 or 1),
    weeks and months. A coefficient is the effect of a period that is all holiday; a week with one such day has a
    seventh of it.

    Parameters
    ----------
    table
        Path of a CSV file or a DataFrame with columns ``name``, ``date`` and where wanted ``until`` (last day),
        ``share`` (half days: 0.5), ``group`` and ``known_from`` (before that day it was not known).
    country, subdivision
        Codes of ISO 3166 for public holidays, instead of a table.
    calendars
        Several of them, each a mapping with ``table``, or ``country`` and ``subdivision``, and a ``weight``.
    half_days
        Whether a country's half days count, as halves.
    ignore
        Holidays to leave out, by name.
    groups
        Names of holidays by group. The rest, and those for which the table states none, are one group.
    pooling
        ``partial``: a group effect, and deviations that are shrunk towards it as strongly as the data say, so that a
        holiday seen once or never leans on its group. ``none``: every holiday for itself. ``full``: the group effect
        alone. Groups of fewer than three holidays have nothing to lean on.
    days_before, days_after
        How many days before and after each holiday have effects of their own.
    window
        Whether the days around holidays have the group's ``shared`` effects, or each its ``own`` ones.
    by_weekday
        Whether the effect may differ by the weekday on which a holiday falls.
    bridge_days, before_long_weekend
        Whether working days between a holiday and another day off, and the last one before three or more days off, have
        effects.
    name
        The term's name.

    Raises
    ------
    InputError
        If not exactly one of `table`, `country` and `calendars` is given. Later: if a table ends before a period that
        is asked for, or a holiday falls there that the fitted periods never held and that has no group to lean on.

    Examples
    --------
    >>> import offing as of
    >>> of.Holidays(country="NO", days_before=1).name
    'holidays'
    """

    table: str | Path | pd.DataFrame | None = field(default=None, compare=False)
    country: str | None = None
    subdivision: str | None = None
    calendars: Sequence[Mapping[str, Any]] = ()
    half_days: bool = False
    ignore: Sequence[str] = ()
    groups: dict[str, list[str]] = field(default_factory=dict)
    pooling: Pooling = "partial"
    days_before: int = 0
    days_after: int = 0
    window: Literal["own", "shared"] = "own"
    by_weekday: bool = False
    bridge_days: bool = False
    before_long_weekend: bool = False
    grows_with: Literal["trend"] | None = None
    name: str | None = "holidays"

    def __post_init__(self) -> None:
        super().__post_init__()
        check_source(self.table, self.country, self.subdivision, self.calendars)
        if self.half_days and self.table is not None:
            raise InputError("a table says itself which days are half ones", "Add a column share.", key="half_days")
        if self.pooling not in get_args(Pooling):
            raise InputError(f"found {self.pooling!r}", f"Allowed: {', '.join(get_args(Pooling))}.", key="pooling")
        if self.window not in ("own", "shared"):
            raise InputError(f"found {self.window!r}", 'Give "own" or "shared".', key="window")
        if self.grows_with not in (None, "trend"):
            raise InputError(f"found {self.grows_with!r}", 'Give "trend", or leave it out.', key="grows_with")
        for key in ("days_before", "days_after"):
            days = getattr(self, key)
            if isinstance(days, bool) or not isinstance(days, int) or not 0 <= days <= 30:
                raise InputError(f"found {days!r}", "Give a whole number from 0 to 30.", key=key)
        self._set(ignore=names_of(self.ignore, "ignore"), calendars=tuple(self.calendars))

    @property
    def multiplies_trend(self) -> bool:  # type: ignore[override]
        """Whether its effects are shares of the level."""
        return self.grows_with == "trend"

    @property
    def holiday_table(self) -> Any:
        """Its table, if it has one."""
        return self.table

    def files(self) -> tuple[Path, ...]:
        """The tables that are files."""
        return (*file_of(self.table), *(path for each in self.calendars for path in file_of(each.get("table"))))

    def within(self, folder: Path) -> Holidays:
        """The same term with its tables' paths taken from `folder`."""
        table = folder / self.table if isinstance(self.table, (str, Path)) else self.table
        return replace(self, table=table, calendars=tables_within(self.calendars, folder))

    @property
    def learning(self) -> Literal["nothing", "more", "again"]:
        """The holidays seen become more, and with them their groups."""
        return "more"

    def learn(self, view: View) -> HolidayState:
        """Find the holidays that the fitted periods hold."""
        source = day_source(self.table, self.country, self.subdivision, self.calendars, half_days=self.half_days)
        source = source.known_at(view.day)
        named = list(dict.fromkeys(name for days in source.tables for name in days.names))
        for name in self.ignore:
            # A country may hold the ignored day for the first time in the future.
            if len(source.tables) == len(source.sources) and name not in named:
                raise InputError(f"there is no holiday {name!r}", nearest(name, named), key="ignore")
        days = self._days(source, view.rows)
        held = {away: self._members_held(view.rows, days, away) for away in self._offsets}
        groups = {name: days.groups.get(name, _USUAL) for name in days.names}
        pieces = self._pieces(held, groups)
        pieces += [Piece("", 0, other=kind) for kind in self._others if self._other_share(view.rows, days, kind).any()]
        if not pieces:
            raise InputError(f"no holiday falls in the fitted {view.rows.spell()}", "Leave out the term.")
        if self.by_weekday:
            fell = sorted(set(weekdays_of(days.days[np.isin(days.names, held[0])]).tolist())) if held[0] else []
            pieces += [Piece("", 0, other=_on(day), shrinkage_group="by weekday") for day in fell]
        return HolidayState(source, tuple(pieces))

    def _members_held(self, rows: Axis, days: Days, away: int) -> list[str]:
        first, after = rows.days
        inside = (days.days + away >= first[0]) & (days.days + away < after[-1]) & (days.shares > 0.0)
        return sorted({days.names[i] for i in np.flatnonzero(inside).tolist()})

    def _pieces(self, held: Mapping[int, list[str]], groups: Mapping[str, str]) -> list[Piece]:
        """The columns of all groups, the days themselves first."""
        pieces: list[Piece] = []
        for away, names in held.items():
            for group in dict.fromkeys(groups[name] for name in names):
                members = [name for name in names if groups[name] == group]
                shared = self.pooling == "full" or (away != 0 and self.window == "shared")
                leans = self.pooling == "partial" and len(members) >= _FEWEST
                if shared or leans:
                    pieces.append(Piece(group, away))
                if not shared:
                    shrinkage_group = "" if not leans else f"{group}, around" if away else group
                    pieces += [Piece(group, away, member, shrinkage_group=shrinkage_group) for member in members]
        return pieces

    def block(self, view: View, axis: Axis, state: HolidayState) -> Block:
        """Shares of the days, one column a piece."""
        days = self._days(state.source, axis)
        self._check_known(axis, days, state)
        columns = np.zeros((axis.n, len(state.pieces)))
        for away in self._offsets:
            self._fill(columns, axis, days, state, away)
        for i, piece in enumerate(state.pieces):
            if piece.other in self._others:
                columns[:, i] = self._other_share(axis, days, piece.other)
        if any(piece.other and piece.shrinkage_group for piece in state.pieces):
            at = [i for i, piece in enumerate(state.pieces) if piece.other and piece.shrinkage_group]
            keys = [_on(day) for day in weekdays_of(days.days).tolist()]
            columns[:, at] = day_shares(axis, days, [state.pieces[i].other for i in at], keys)
        groups = tuple(
            f"{self.name}: {piece.shrinkage_group}" if piece.shrinkage_group else "" for piece in state.pieces
        )
        return Block(columns, self._names(state, own=True), self._readout(state), groups)

    def _fill(self, columns: Array, axis: Axis, days: Days, state: HolidayState, away: int) -> None:
        """Columns of the groups and members, `away` days from the day."""
        at = [i for i, piece in enumerate(state.pieces) if piece.away == away and not piece.other]
        if not at:
            return
        moved = days.shifted(away)
        own = [i for i in at if state.pieces[i].member]
        columns[:, own] = day_shares(axis, moved, [state.pieces[i].member for i in own])
        whole = [i for i in at if not state.pieces[i].member]
        keys = [days.groups.get(name, _USUAL) for name in days.names]
        columns[:, whole] = day_shares(axis, moved, [state.pieces[i].group for i in whole], keys)

    def future_columns(self, view: View, axis: Axis, state: HolidayState) -> tuple[FutureColumns, ...]:
        """Holidays that the fitted periods never held: of their deviations from the group only the spread is known."""
        days = self._days(state.source, axis)
        found = []
        for away, name, group in self._unseen(axis, days, state):
            shrinkage_group = [piece.shrinkage_group for piece in state.held(group, away)]
            if shrinkage_group and shrinkage_group[0]:
                found.append(
                    FutureColumns(day_shares(axis, days.shifted(away), [name]), f"{self.name}: {shrinkage_group[0]}")
                )
        return tuple(found)

    def remarks_ahead(self, view: View, axis: Axis, state: HolidayState) -> tuple[Finding, ...]:
        """Holidays ahead that the fitted periods never held."""
        days = self._days(state.source, axis)
        names = list(dict.fromkeys(name for away, name, _ in self._unseen(axis, days, state) if away == 0))
        if not names:
            return ()
        listed = ", ".join(f"'{name}'" for name in names[:3]) + (", …" if len(names) > 3 else "")
        message = f"{listed} never fell in the fitted periods: the forecast takes the effect of the group."
        return (Finding("unseen holiday", "note", message, str(self.name), "Its interval says how little is known."),)

    def remarks(self, view: View, state: HolidayState) -> tuple[Finding, ...]:
        """Years of the fit before the table begins: days without a holiday there may only be unknown ones."""
        year = int(view.rows.middles[0].astype("datetime64[us]").astype("datetime64[Y]").astype(int)) + 1970
        first = max((days.first_year for days in state.source.tables if len(days.days)), default=year)
        if year >= first:
            return ()
        message = f"The table of holidays begins in {first}, the fitted periods in {year}."
        advice = "Add the earlier years' days, or the effects are too small."
        return (Finding("holiday table", "warning", message, str(self.name), advice),)

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "no holiday"

    def reference_on(self, view: View, axis: Axis, state: HolidayState) -> Reference:
        """No holiday."""
        return Reference(np.zeros((1, len(state.pieces))))

    @property
    def _offsets(self) -> tuple[int, ...]:
        """How many days after a holiday lies what has an effect: the day itself first."""
        return (0, *(-d for d in range(1, self.days_before + 1)), *range(1, self.days_after + 1))

    @property
    def _others(self) -> tuple[str, ...]:
        wanted = ((_BRIDGE, self.bridge_days), (_BEFORE_LONG, self.before_long_weekend))
        return tuple(kind for kind, requested in wanted if requested)

    def _days(self, source: DaySource, axis: Axis) -> Days:
        """All holidays in the years of `axis` but the ignored ones, with their groups."""
        days = source.days(axis, self.days_after, self.days_before)
        days = days.part(np.array([name not in self.ignore for name in days.names], dtype=bool))
        return grouped(days, self.groups) if self.groups else days

    def _other_share(self, axis: Axis, days: Days, kind: str) -> Array:
        calendar = calendar_of(axis, days)
        flags = calendar.bridges() if kind == _BRIDGE else calendar.before_long_weekends()
        first, after = axis.days
        return calendar.counted(axis, flags) / (after - first)

    def written(self, view: View, state: HolidayState, beta: Array) -> list[Written]:
        """Shares of a period's days; of a member of a group its own deviation, under a name of its own."""
        return [
            Written(name, value, self._meaning(piece))
            for name, value, piece in zip(self._names(state, own=True), beta.tolist(), state.pieces, strict=True)
        ]

    def _meaning(self, piece: Piece) -> str:
        """What a column counts."""
        if piece.other == _BRIDGE:
            what = "single working days between a day off and another"
        elif piece.other == _BEFORE_LONG:
            what = "last working days before three or more days off"
        elif piece.other:
            what = f"a holiday that falls on a {piece.other.removeprefix('any on a ')}"
        else:
            what = f"'{piece.member}'" if piece.member else f"any holiday of the group '{piece.group}'"
        if piece.away:
            what = f"{count(abs(piece.away), 'day')} {'before' if piece.away < 0 else 'after'} {what}"
        return f"share of the period's days that are {what}, each by its weight"

    def unseen(self, axis: Axis, state: HolidayState) -> list[tuple[int, str, str]]:
        """Distance, name and group of the holidays in `axis` that the fitted periods never held."""
        return self._unseen(axis, self._days(state.source, axis), state)

    def _unseen(self, axis: Axis, days: Days, state: HolidayState) -> list[tuple[int, str, str]]:
        """Distance, name and group of what falls in `axis` and has no column of its own, though its like have."""
        found = []
        for away in self._offsets:
            for name in self._members_held(axis, days, away):
                group = days.groups.get(name, _USUAL)
                members = [piece.member for piece in state.held(group, away)]
                if name not in members and (members or not state.pooled(group, away)):
                    found.append((away, name, group))
        return found

    def _check_known(self, axis: Axis, days: Days, state: HolidayState) -> None:
        for away, name, group in self._unseen(axis, days, state):
            if state.pooled(group, away):
                continue
            row = int(np.flatnonzero(day_shares(axis, days.shifted(away), [name])[:, 0])[0])
            raise InputError(
                f"{name!r} never fell in the fitted periods, so its effect is unknown",
                f'If it has none, state ignore = ["{name}"].',
                period=axis.part(row, row + 1).labels()[0],
            )

    def _names(self, state: HolidayState, *, own: bool = False) -> tuple[str, ...]:
        """Names of whole effects; or of columns, where a member beside its group has only its `own` deviation."""
        whole = {(p.group, p.away) for p in state.pieces if not (p.member or p.other)}
        beside = [own and bool(p.member) and (p.group, p.away) in whole for p in state.pieces]
        return tuple(
            f"{self.name}: {self._title(piece)}{', own' if more else ''}"
            for piece, more in zip(state.pieces, beside, strict=True)
        )

    def _title(self, piece: Piece) -> str:
        if piece.other:
            return piece.other
        days = count(abs(piece.away), "day")
        around = "" if not piece.away else f" ({days} {'before' if piece.away < 0 else 'after'})"
        return f"{piece.member or f'any {piece.group}'}{around}"

    def _readout(self, state: HolidayState) -> Readout:
        """Each holiday's whole effect: that of its group and its own deviation."""
        k = len(state.pieces)
        matrix = np.eye(k)
        whole = {(p.group, p.away): i for i, p in enumerate(state.pieces) if not (p.member or p.other)}
        for i, piece in enumerate(state.pieces):
            if piece.member and (piece.group, piece.away) in whole:
                matrix[i, whole[piece.group, piece.away]] = 1.0
        return Readout(self._names(state), matrix)


def _on(day: int) -> str:
    return f"any on a {WEEKDAYS[day].title()}"
