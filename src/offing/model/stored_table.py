"""Tables as files of saved models hold them: the columns that fits draw on, each table once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from offing.base import Finding, InputError, Treatment
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.tables import Table
from offing.tables.delay import Delay
from offing.tables.table import LaterRows, Texts
from offing.tables.vintages import Vintages

#: Periods of a table, and their distance from 1970: a thousand years of hours.
_MOST_PERIODS = 10_000_000


@dataclass(frozen=True)
class StoredTable:
    """The columns of a table that fits draw on; the other fields are those of `Table`."""

    name: str
    axis: Axis
    columns: Mapping[str, Array]
    texts: Mapping[str, Texts]
    units: Mapping[str, str]
    labels: Mapping[str, str]
    note: str
    later_rows: LaterRows | None
    treatments: tuple[Treatment, ...]
    findings: tuple[Finding, ...]
    delay: Delay
    vintages: Vintages | None

    @classmethod
    def of(cls, table: Table, used: Sequence[str]) -> StoredTable:
        """Some columns of a table."""

        def own(values: Mapping[str, Any]) -> dict[str, Any]:
            return {name: each for name, each in values.items() if name in used}

        vintages = None if table.vintages is None else replace(table.vintages, values=own(table.vintages.values))
        log = tuple(each for each in table.treatments if not each.column or each.column in used)
        return cls(
            table.name,
            table.axis,
            own(table.columns),
            own(table.texts),
            own(table.units),
            own(table.labels),
            table.note,
            table.later_rows,
            log,
            table.findings,
            table.delay,
            vintages,
        )

    @property
    def table(self) -> Table:
        """The table, without the columns that nothing draws on.

        Raises
        ------
        InputError
            If a column has not a value for each period.
        """
        check_axis(self.axis)
        for name, values in (*self.columns.items(), *self.texts.items()):
            if values.shape != (self.axis.n,):
                raise InputError(f"column {name!r} has not one value for each of {self.axis.n} periods", key=self.name)
        # What could not be read as numbers is not there to be asked for as numbers.
        words = {
            name: InputError("found words", file=self.name, column=name)
            for name in self.texts
            if name not in self.columns
        }
        return Table(
            self.name,
            self.axis,
            dict(self.columns),
            unusable=words,
            units=self.units,
            labels=self.labels,
            note=self.note,
            later_rows=self.later_rows,
            treatments=self.treatments,
            findings=self.findings,
            delay=self.delay,
            texts=self.texts,
            vintages=self.vintages,
        )


@dataclass
class TableStore:
    """The tables of a file, each once, with all columns that any fit draws on."""

    tables: list[Table] = field(default_factory=list)
    used: list[list[str]] = field(default_factory=list)

    def place(self, table: Table, columns: Sequence[str]) -> int:
        """The place of a table, of which some columns are drawn on."""
        at = next((i for i, each in enumerate(self.tables) if each is table), None)
        if at is None:
            at = len(self.tables)
            self.tables.append(table)
            self.used.append([])
        self.used[at] += [each for each in columns if each not in self.used[at]]
        return at

    @property
    def stored(self) -> tuple[StoredTable, ...]:
        """The tables as the file has them."""
        return tuple(StoredTable.of(table, used) for table, used in zip(self.tables, self.used, strict=True))


def check_axis(axis: Axis) -> None:
    """Refuse more periods than memory holds, before any is laid out."""
    if not 0 < axis.n <= _MOST_PERIODS or abs(axis.first) > _MOST_PERIODS:
        raise InputError(f"found {axis.n} periods from number {axis.first} on", "Save the model again.", key="axis")
