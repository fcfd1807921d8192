"""From tidy cells to tables: every column read once, rows sorted once, then cut into the series that they identify."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, Treatment, count
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.tables.aggregate import aggregated
from offing.tables.delay import Delay
from offing.tables.downloads import check_releases, latest
from offing.tables.frequency_detection import axis_of, gaps_in, spelt_runs
from offing.tables.layout import Report
from offing.tables.number_parsing import LARGEST, Marks, to_numbers, words_of, wrong_cell
from offing.tables.read_options import Reading
from offing.tables.table import Table
from offing.tables.vintages import Vintages

Ints = NDArray[np.int64]
Places = NDArray[np.intp]
#: Columns of numbers of one table: more are series beside each other.
MOST_COLUMNS = 500


@dataclass(frozen=True)
class ReadColumn:
    """One column's numbers (n,), which of its cells are wrong (n,), and its words (n,) where it is not all numbers."""

    cells: pd.Series
    numbers: Array
    wrong: NDArray[np.bool_]
    refused: InputError | None = None

    @classmethod
    def of(cls, cells: pd.Series, marks: Marks | None, fault: InputError | None, file: str) -> ReadColumn:
        """Read a column's cells."""
        if marks is not None and cells.name in marks.doubtful:
            fault = marks.doubt(str(cells.name), file)
        if fault is not None:
            return cls(cells, np.full(len(cells), np.nan), np.ones(len(cells), dtype=bool), fault)
        numbers, wrong = to_numbers(cells, marks)
        return cls(cells, numbers, wrong)

    @cached_property
    def words(self) -> NDArray[np.object_]:
        """The cells as words."""
        return words_of(self.cells)

    def error(self, rows: Places, file: str) -> InputError:
        """What is wrong with the column among some rows."""
        if self.refused is not None:
            return self.refused
        at = int(rows[np.flatnonzero(self.wrong[rows])[0]])
        return wrong_cell(self.cells, self.numbers, at, file)


@dataclass(frozen=True)
class Placing:
    """The rows of a source, and how those of each series are placed on an axis.

    Attributes
    ----------
    columns
        Its columns as they were read, by name.
    rows
        Number (n,) of each row in the source.
    ordinals, released
        Period (n,) of each row; instant (n,) at which it was released, where the source says.
    frequency, time
        The periods, and the column that names them.
    reading, report
        What was said about the source, and found out.
    """

    columns: Mapping[str, ReadColumn]
    rows: pd.Index
    ordinals: Ints
    released: Ints | None
    frequency: Frequency
    time: str
    reading: Reading
    report: Report

    @cached_property
    def numbers(self) -> NDArray[np.int64]:
        """The rows' numbers (n,) as an array, of which parts are taken many times."""
        return np.asarray(self.rows)

    def tables(
        self, names: NDArray[np.object_] | None, refused: Mapping[str, InputError]
    ) -> tuple[dict[str, Table], dict[str, InputError]]:
        """A table of each series, and why others have none; `names` (n,) identifies the rows of several.

        `refused` are those whose dates do not fit.
        """
        if names is None:
            return {"": self.table(np.arange(len(self.ordinals)))}, {}
        found: dict[str, Table] = {}
        refused = dict(refused)
        for name, rows in _groups(names):
            if name in refused:
                continue
            try:
                found[name] = self.table(rows)
            except InputError as error:
                error.found += f" in the series {name!r}"
                refused[name] = error
        return found, refused

    def table(self, rows: Places) -> Table:
        """One series' table, of the source's rows at some places."""
        placed = self._placed(rows) if self.released is None else self._by_release(rows, self.released)
        if self.reading.aggregate_to:
            coarse = self.reading.coarse(placed.axis.frequency.zone)
            placed = aggregated(placed, coarse, self.reading.combine, self.reading.partial)
        return placed

    def _placed(self, rows: Places) -> Table:
        """One series' rows, sorted, with missing periods where these may be."""
        file, ordinals = self.report.file, self.ordinals[rows]
        leave = self.reading.gaps == "leave"
        axis, order = axis_of(self.frequency, ordinals, self.numbers[rows], file, leave_gaps=leave)
        log = self._sorted(axis, order, ordinals[order])
        rows, ordinals = rows[order], ordinals[order]
        columns: dict[str, Array] = {}
        unusable: dict[str, InputError] = {}
        texts: dict[str, NDArray[np.object_]] = {}
        full, places = len(rows) == axis.n, ordinals - axis.first
        for name, column in self.columns.items():
            if column.wrong[rows].any():
                unusable[name] = column.error(rows, file)
                words = np.full(axis.n, "", dtype=object)
                words[places] = column.words[rows]
                texts[name] = words
            else:
                values = np.full(axis.n, np.nan)
                values[places] = column.numbers[rows]
                columns[name] = values
        findings = () if full else (self._gaps_note(axis, ordinals),)
        return Table(
            file,
            axis,
            columns,
            unusable,
            treatments=(*self.report.treatments, *log),
            findings=(*self.report.findings, *findings),
            texts=texts,
            uses=self.report.uses,
            settings=self.report.settings,
            **self.reading.said(),
        )

    def _by_release(self, rows: Places, released: Ints) -> Table:
        """One series' rows, of which a period may have several, each with the instant at which it was released."""
        ordinals, came = self.ordinals[rows], released[rows]
        delay = Delay.stated(self.reading.release_delay)
        check_releases(
            self.frequency,
            ordinals,
            came,
            delay=delay,
            rows=self.rows[rows],
            file=self.report.file,
            plan=self.reading.later_rows == "plan",
        )
        table = self._placed(rows[latest(ordinals, came)])
        order = np.argsort(came, kind="stable")
        values = {name: self.columns[name].numbers[rows][order] for name in table.columns}
        places = (ordinals[order] - table.axis.first).astype(np.intp)
        return replace(table, vintages=Vintages(came[order], places, values))

    def _sorted(self, axis: Axis, order: Places, ordinals: Ints) -> tuple[Treatment, ...]:
        moved = np.flatnonzero(order != np.arange(len(order)))
        if not len(moved):
            return ()
        first = Axis(axis.frequency, int(ordinals[moved[0]]), 1).labels()[0]
        before, after = "rows in another order", "rows by date"
        return (Treatment(self.report.file, self.time, first, before, after, "dates were not sorted"),)

    def _gaps_note(self, axis: Axis, ordinals: Ints) -> Finding:
        missing, unit = axis.n - len(ordinals), axis.frequency.unit
        runs = spelt_runs(axis.frequency, gaps_in(ordinals), 5)
        return Finding(
            "missing periods",
            "note",
            f"{self.report.file}: {count(missing, f'{unit} has', f'{unit}s have')} no row and "
            f"{'stays' if missing == 1 else 'stay'} missing: {runs}.",
            evidence={"periods": float(missing)},
        )


def _groups(names: NDArray[np.object_]) -> Iterator[tuple[str, Places]]:
    """The different names in order, each with the places of its rows in the order of the source."""
    codes, different = pd.factorize(names)
    order = np.argsort(codes, kind="stable")
    ends = np.cumsum(np.bincount(codes, minlength=len(different)))
    for code in sorted(range(len(different)), key=lambda code: str(different[code])):
        yield str(different[code]), order[(ends[code - 1] if code else 0) : ends[code]]


def too_wide(columns: int, rows: int, file: str) -> InputError:
    """The error for a table that is wide by mistake, before anything is computed of it."""
    return InputError(
        f"there are {columns:,} columns for {rows:,} rows, more than the {MOST_COLUMNS} of a table",
        'If each column is a series, state wide = "value"; otherwise leave out what is not needed.',
        file=file,
    )


def plain_columns(cells: pd.DataFrame) -> dict[str, ReadColumn] | None:
    """The columns of a frame of plain finite numbers, read at once; None of another frame."""
    values = np.asarray(cells.to_numpy(dtype=np.float64)).T.copy()
    if (np.abs(values) > LARGEST).any():
        return None
    fine = np.zeros(len(cells), dtype=bool)
    return {
        str(name): ReadColumn(cells[name], column, fine) for name, column in zip(cells.columns, values, strict=True)
    }
