"""The one door between data and models: what was known at an origin, on any run of periods."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import DAY, Axis, Frequency, inside, on_clock_of
from offing.tables.overlay import (
    ACTUAL,
    ASSUMED,
    MISSING,
    PLAN,
    Assumed,
    Bumped,
    Change,
    Expected,
    Held,
    Known,
    Path,
    Scaled,
    Unplanned,
)
from offing.tables.patch import Patch
from offing.tables.table import Panel, Table, Texts

Kind = TypeVar("Kind", bound=Change)


@dataclass(frozen=True)
class Sources:
    """Tables by name, and the drivers' plans by the name of the table they continue."""

    tables: Mapping[str, Table]
    plans: Mapping[str, Table] = field(default_factory=dict)

    def find(self, reference: str) -> tuple[str, str]:
        """Name of the table and of the column that ``column`` or ``table.column`` refers to.

        Raises
        ------
        InputError
            If there is none, or a bare column name is in several tables.
        """
        found = [(name, reference) for name, table in self.tables.items() if _has(table, reference)]
        for name, table in self.tables.items():
            column = reference.removeprefix(f"{name}.")
            if column != reference and _has(table, column):
                found.append((name, column))
        if len(found) == 1:
            return found[0]
        if found:
            raise InputError(
                f"{reference!r} can mean a column of {' and of '.join(name for name, _ in found)}",
                f"Write {found[0][0]}.{found[0][1]}.",
            )
        columns = [column for table in self.tables.values() for column in table.columns]
        if any(reference.startswith(f"{name}.") for name in self.tables) or len(self.tables) > 1:
            columns = [f"{name}.{column}" for name, table in self.tables.items() for column in table.columns]
        files = " and ".join(table.name for table in self.tables.values())
        raise InputError(f"there is no column {reference!r} in {files}", nearest(reference, columns))

    def label(self, reference: str) -> str:
        """What people call a column; an empty text where nothing is stated."""
        source, column = self.find(reference)
        return self.tables[source].labels.get(column, "")

    def unit(self, reference: str) -> str:
        """Unit of a column, or an empty text."""
        source, column = self.find(reference)
        return self.tables[source].units.get(column, "")

    def cut(
        self, origin: int, rows: Axis, goal: Goal | None = None, known_ahead: frozenset[tuple[str, str]] | None = None
    ) -> View:
        """What is known at the instant `origin`; a fit sees the periods `rows`. See `View` for `known_ahead`."""
        return View(self, origin, rows, goal or Goal(), known_ahead=known_ahead)


def split_series(tables: Mapping[str, Table | Panel], target: str) -> dict[str, dict[str, Table]]:
    """Tables by name for each of the target's series, by id; ``""`` where the target has one series only.

    A source with ids gives each series its own table, one without serves all.

    Raises
    ------
    InputError
        If no series of the target is in all sources with ids, or the target has none.
    """
    first = {name: next(iter(table.values())) if isinstance(table, Panel) else table for name, table in tables.items()}
    owner = tables[Sources(first).find(target)[0]]
    names = list(owner) if isinstance(owner, Panel) else [""]
    for table in tables.values():
        if isinstance(table, Panel) and not isinstance(owner, Panel):
            raise InputError(
                "the source holds several series, but the target is one series",
                "Give the target's source an id as well, or read one series of this one.",
                file=table.name,
                key="id",
            )
    lacking = not_in_all(tables, target)
    kept = [series for series in names if series not in lacking]
    if not kept:
        raise next(iter(lacking.values()))
    return {
        series: {name: table[series] if isinstance(table, Panel) else table for name, table in tables.items()}
        for series in kept
    }


def not_in_all(tables: Mapping[str, Table | Panel], target: str) -> dict[str, InputError]:
    """Why a series of the target has no tables: a source with ids lacks it, or could not read it."""
    panels = [table for table in tables.values() if isinstance(table, Panel)]
    first = {name: next(iter(table.values())) if isinstance(table, Panel) else table for name, table in tables.items()}
    owner = tables[Sources(first).find(target)[0]]
    found: dict[str, InputError] = dict(owner.left_out) if isinstance(owner, Panel) else {}
    for series in owner if isinstance(owner, Panel) else ():
        for panel in panels:
            if series not in panel:
                found[series] = panel.left_out.get(series) or InputError(
                    f"there is no series {series!r}", nearest(series, panel), file=panel.name
                )
    return found


@dataclass(frozen=True)
class Goal:
    """What is explained: the column `target`, on a log scale with an `offset` or as it is."""

    target: str = ""
    log: bool = False
    offset: float = 0.0


@dataclass(frozen=True)
class View:
    """Sources as they were known at an origin, and what is to be explained. Nothing else reaches a term.

    Of columns that are `known_ahead` all values count as known, as they stand today. Where that is stated, if only as
    an empty set, the view is one of the past: rows that are called a plan have become outcomes, which were not known
    then.
    """

    sources: Sources
    origin: int
    rows: Axis
    goal: Goal = Goal()
    patches: Mapping[tuple[str, str], Patch] = field(default_factory=dict)
    path: Path | None = None
    changes: tuple[tuple[tuple[str, str], Change], ...] = ()
    known_ahead: frozenset[tuple[str, str]] | None = None

    @property
    def day(self) -> int:
        """Day number of the origin, on the clock of the series: what is known from a day on is known from its start."""
        return int(self.rows.frequency.wall(np.array([self.origin]))[0]) // DAY

    def frequency(self, reference: str) -> Frequency:
        """The frequency of a column's source."""
        return self.sources.tables[self.sources.find(reference)[0]].axis.frequency

    def native(self, reference: str, axis: Axis) -> Axis:
        """The periods of a column's own frequency that end within `axis`; those of `axis` if it is the same."""
        frequency = self.frequency(reference)
        return axis if frequency == axis.frequency else inside(frequency, axis)[0]

    def reach(self, reference: str) -> Axis:
        """The periods of a column's own frequency of which its source, its plan or a change may say something."""
        source, column = self.sources.find(reference)
        own, plan = self.sources.tables[source].axis, self.sources.plans.get(source)
        ends = [own.first + own.n, *([plan.axis.first + plan.axis.n] if plan is not None else [])]
        ends += [each.end for key, each in self.changes if key == (source, column) and each.end is not None]
        return Axis(own.frequency, own.first, max(ends) - own.first)

    def treated(self, patches: Sequence[Patch]) -> View:
        """The same view through what treatments learnt."""
        return replace(self, patches={(patch.source, patch.column): patch for patch in patches})

    def changed(self, reference: str, change: Change) -> View:
        """The same view with a change of a column on top of all others; it replaces one of its kind."""
        key = self.sources.find(reference)
        return replace(self, changes=(*self.without(type(change), key).changes, (key, change)))

    def without(self, kind: type[Change] = Change, key: tuple[str, str] | None = None) -> View:
        """The same view without changes of a kind, of one column or of all."""
        kept = tuple(
            each for each in self.changes if not isinstance(each[1], kind) or (key is not None and each[0] != key)
        )
        return replace(self, changes=kept)

    def change(self, kind: type[Kind], key: tuple[str, str]) -> Kind | None:
        """The change of a kind of one column, if there is one."""
        return next((each for own, each in self.changes if own == key and isinstance(each, kind)), None)

    def bumped(self, reference: str, ordinal: int, step: float) -> View:
        """The same view with one value of a column moved by a step: what if it had been more for one period?"""
        return self.changed(reference, Bumped(ordinal, step))

    def expecting(self, reference: str, first: int, values: Array) -> View:
        """The same view with what a column's own model expects, from an ordinal on, where no value is known."""
        return self.changed(reference, Expected(Path(first, values)))

    def assuming(self, reference: str, first: int, values: Array, marks: NDArray[np.int8] | int = ASSUMED) -> View:
        """The same view with values of a column from an ordinal on in place of its own, where they are finite."""
        whole = np.broadcast_to(np.asarray(marks, dtype=np.int8), values.shape)
        return self.changed(reference, Assumed(Path(first, values), whole))

    def modelling(self, reference: str, terms: object) -> View:
        """The same view without what is planned of a column: a model of its own, of some terms, says."""
        return self.changed(reference, Unplanned(terms))

    def walked(self, first: int, values: Array) -> View:
        """The same view with the target's values, on the scale that is fitted, from the ordinal `first` on."""
        return replace(self, path=Path(first, values))

    def past(self, axis: Axis) -> Array:
        """The target (n,) on the scale that is fitted, NaN where it is not known."""
        return np.full(axis.n, np.nan) if self.path is None else self.path.on(axis)

    def actual(self, reference: str, axis: Axis) -> Array:
        """Actual values (n,) of a column that were known at the origin, untreated; NaN elsewhere."""
        source, column = self.sources.find(reference)
        # What is foreseen, or declared to be known early, was no outcome yet.
        past = self if self.known_ahead is None else replace(self, known_ahead=frozenset())
        known = past._untreated(source, column, axis)
        actual = known.marks == ACTUAL
        if self.known_ahead is not None:
            actual &= on_clock_of(self.rows.frequency, axis.frequency, axis.ends) <= self.origin
        return np.where(actual, known.values, np.nan)

    def holding(self, reference: str, value: float) -> View:
        """The same view with one column at a constant value throughout: what if it had been so?"""
        return self.changed(reference, Held(value))

    def scaling(self, reference: str, factor: float) -> View:
        """The same view with one column times a factor throughout: what if there had been so much more of it?"""
        return self.changed(reference, Scaled(factor))

    def known(self, reference: str, axis: Axis) -> Known:
        """Known values of a column on the periods of `axis`, as treated; nothing else is filled in.

        An actual value is known when its period has ended, or earlier where its source declares later rows
        to be actual; a plan is known from the start and never replaces a known actual value.
        """
        key = self.sources.find(reference)
        known = self._treated(*key, axis)
        for own, change in self.changes:
            if own == key:
                known = change.over(known, axis)
        return known

    def _treated(self, source: str, column: str, axis: Axis) -> Known:
        patch = self.patches.get((source, column))
        if patch is None:
            return self._untreated(source, column, axis)
        # A mean that looks back needs the periods before.
        longer = Axis(axis.frequency, axis.first - patch.window + 1, axis.n + patch.window - 1)
        known = self._untreated(source, column, longer)
        values = patch.applied(longer, known.values)
        marks = np.where(np.isnan(values), MISSING, np.where(values == known.values, known.marks, ASSUMED))
        values, marks = _smoothed(patch, axis, values), marks[patch.window - 1 :]
        return Known(values, marks.astype(np.int8))

    def _untreated(self, source: str, column: str, axis: Axis) -> Known:
        table = self.sources.tables[source]
        known = Known(np.full(axis.n, np.nan), np.full(axis.n, MISSING, dtype=np.int8))
        marks, values = self._marks(source, column), self._as_known(source, table, column)
        _fill(known, table, column, axis, marks=marks, values=values)
        plan = self._plan(source, column)
        if plan is not None:
            marks = np.full(plan.axis.n, PLAN, dtype=np.int8)
            _fill(known, plan, column, axis, marks=marks, values=self._as_known("", plan, column))
        return known

    def _plan(self, source: str, column: str) -> Table | None:
        """The plan that says something of a column; in a view of the past one that says when it did."""
        plan = self.sources.plans.get(source)
        if self.change(Unplanned, (source, column)) is not None:
            return None
        if plan is None or not _has(plan, column) or (self.known_ahead is not None and plan.vintages is None):
            return None
        return plan

    def _as_known(self, source: str, table: Table, column: str) -> Array:
        """A table's column as it stood at the origin."""
        if table.vintages is None or (self.known_ahead is not None and (source, column) in self.known_ahead):
            return table.values(column)
        clock = on_clock_of(table.axis.frequency, self.rows.frequency, np.array([self.origin]))
        return table.values_at(column, int(clock[0]))

    def numeric(self, reference: str) -> bool:
        """Whether a column holds numbers, and no words."""
        source, column = self.sources.find(reference)
        return column in self.sources.tables[source].columns

    def words(self, reference: str, axis: Axis) -> Texts:
        """Words (n,) of a column on the periods of `axis`, as far as they are known; an empty text elsewhere."""
        source, column = self.sources.find(reference)
        tables = [self.sources.tables[source], self._plan(source, column)]
        noted = [table for table in tables if table is not None and _has(table, column)]
        levels = sorted({word for table in noted for word in table.words(column).tolist() if word})
        coded = {id(table): _coded(table, column, levels) for table in noted}
        known = Known(np.full(axis.n, np.nan), np.full(axis.n, MISSING, dtype=np.int8))
        for i, table in enumerate(noted):
            plan = i > 0 or table is not tables[0]
            marks = np.full(table.axis.n, PLAN, dtype=np.int8) if plan else self._marks(source, column)
            _fill(known, coded[id(table)], column, axis, marks=marks, values=coded[id(table)].values(column))
        found = np.full(axis.n, "", dtype=object)
        there = np.isfinite(known.values)
        found[there] = np.array(levels, dtype=object)[known.values[there].astype(np.intp)]
        return found

    def why_missing(self, reference: str, missing: Axis) -> str:
        """Advice for a driver without a value in the period `missing`."""
        source, column = self.sources.find(reference)
        table, plan = self.sources.tables[source], self.sources.plans.get(source)
        if self.known_ahead is not None and (source, column) in self.known_ahead:
            return "Fill in the cell."
        if self.known_ahead is not None:
            return "State the column as planned, give a plan that says when it was made, or leave the term out."
        if table.later_rows is None and table.axis.holds(missing):
            later = table.words(column)[missing.first - table.axis.first]
            if later != "" and table.axis.ends[missing.first - table.axis.first] > self.origin:
                return (
                    f"{table.name} has a value there, after the target's last one: say what such rows are, "
                    'later_rows = "plan" or "actual".'
                )
        if plan is None:
            return f"Give a plan table with a column {column!r}."
        if not _has(plan, column):
            return f"Add a column {column!r} to {plan.name}."
        last = plan.axis.part(plan.axis.n - 1, plan.axis.n)
        if missing.first > last.first:
            return f"{plan.name} ends with {last.labels()[0]}: add rows, or forecast fewer periods."
        return f"Fill in the cell in {plan.name}."

    def _marks(self, source: str, column: str) -> NDArray[np.int8]:
        table, later = self.sources.tables[source], MISSING
        if self.known_ahead is not None:
            later = ACTUAL if (source, column) in self.known_ahead or table.later_rows == "actual" else MISSING
        elif table.later_rows is not None and self.change(Unplanned, (source, column)) is None:
            later = {"plan": PLAN, "actual": ACTUAL}[table.later_rows]
        known_at = on_clock_of(self.rows.frequency, table.axis.frequency, table.known_at())
        return np.where(known_at <= self.origin, ACTUAL, later).astype(np.int8)


def _fill(known: Known, table: Table, column: str, axis: Axis, *, marks: NDArray[np.int8], values: Array) -> None:
    """Fill what is not known yet from a table's `values` (n,) of a column, whose rows bear `marks` of their own."""
    if table.axis.frequency != axis.frequency:
        raise InputError(
            f"its frequency is the {table.axis.frequency}, the target's is the {axis.frequency}",
            "Bring it to the target's frequency first.",
            file=table.name,
            column=column,
        )
    low = max(axis.first, table.axis.first)
    high = min(axis.first + axis.n, table.axis.first + table.axis.n)
    if high <= low:
        return
    here = slice(low - axis.first, high - axis.first)
    there = slice(low - table.axis.first, high - table.axis.first)
    fresh = values[there]
    fill = (marks[there] != MISSING) & np.isfinite(fresh) & (known.marks[here] == MISSING)
    known.values[here][fill] = fresh[fill]
    known.marks[here][fill] = marks[there][fill]


def _coded(table: Table, column: str, levels: list[str]) -> Table:
    """The table with a column of words as places among `levels`."""
    places = {word: float(i) for i, word in enumerate(levels)}
    codes = np.array([places.get(word, np.nan) for word in table.words(column).tolist()])
    unusable = {name: error for name, error in table.unusable.items() if name != column}
    return replace(table, columns={**table.columns, column: codes}, unusable=unusable)


def _smoothed(patch: Patch, axis: Axis, longer: Array) -> Array:
    """Values (n,) of `axis` from those with the `window` − 1 periods before: a mean looking back, or as learnt."""
    if patch.window == 1:
        return longer
    parts = np.lib.stride_tricks.sliding_window_view(longer, patch.window)
    known = np.isfinite(parts)
    mean = np.where(known, parts, 0.0).sum(axis=1) / np.maximum(known.sum(axis=1), 1)
    mean = np.where(known[:, -1], mean, np.nan)  # a mean makes up no missing value
    if patch.smoothed is not None:
        at = axis.ordinals - patch.first
        inside = (at >= 0) & (at < len(patch.smoothed))
        mean[inside] = patch.smoothed[at[inside]]
    return np.asarray(mean)


def _has(table: Table, column: str) -> bool:
    return column in table.columns or column in table.unusable
