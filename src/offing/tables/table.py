"""A regular table: one row a period, numbers with units."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Mapping
from copy import copy
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, Treatment, count, nearest
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.tables.delay import NO_DELAY, Delay

if TYPE_CHECKING:
    from offing.tables.vintages import Vintages

Texts = NDArray[np.object_]
LaterRows = Literal["plan", "actual"]


@dataclass(frozen=True)
class Table:
    """A source's values on a regular time axis, with what the user says about them. Made by `offing.read`.

    Attributes
    ----------
    name
        What messages call it: the file's name.
    axis
        Its periods.
    columns
        Values (n,) of each numeric column, NaN where a cell is empty.
    unusable
        The error that each other column raises when it is asked for.
    units, labels
        Unit and name for people, by column, where stated.
    note
        A remark on where the numbers come from.
    later_rows
        What rows after the target's last period hold: the drivers' ``plan`` or already ``actual`` values.
    treatments, findings
        What was changed on reading, and what was noticed.
    texts
        Words (n,) of each column that holds no numbers, an empty text where a cell is empty.
    delay
        How long after the end of its period a value becomes known.
    vintages
        What was released when, where the source shows release dates; the columns hold the newest values.
    uses
        Every column of the source, and what it is used as where it holds no values of the table: see `accounts`.
    settings
        The parameters of `read` that would have stated what reading assumed.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> table = of.read(pd.DataFrame({"sold": [3, 4]}, pd.period_range("2024-01", periods=2, freq="M")))
    >>> table.axis.spell(), table.values("sold").tolist()
    ('2 months from 2024-01 to 2024-02', [3.0, 4.0])
    """

    name: str
    axis: Axis
    columns: Mapping[str, Array]
    unusable: Mapping[str, InputError] = field(default_factory=dict)
    units: Mapping[str, str] = field(default_factory=dict)
    labels: Mapping[str, str] = field(default_factory=dict)
    note: str = ""
    later_rows: LaterRows | None = None
    treatments: tuple[Treatment, ...] = ()
    findings: tuple[Finding, ...] = ()
    delay: Delay = NO_DELAY
    texts: Mapping[str, Texts] = field(default_factory=dict)
    vintages: Vintages | None = None
    uses: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for values in self.columns.values():
            values.flags.writeable = False
        known = [*self.columns, *self.unusable]
        for key, entries in (("unit", self.units), ("label", self.labels)):
            for column in entries:
                if column not in known:
                    raise InputError(
                        f"found {column!r}, which is no column of {self.name}",
                        nearest(column, known),
                        key=key,
                    )

    def values(self, column: str) -> Array:
        """Values (n,) of a column.

        Raises
        ------
        InputError
            If there is no such column, or it holds something else than finite numbers and empty cells.
        """
        if column in self.unusable:
            error = copy(self.unusable[column])  # each raising may add its own places
            if column in self.texts and not self.mostly_numbers(column):
                error.advice = 'It holds words: a term of type = "category" (Category) has an effect for each of them.'
            raise error
        if column not in self.columns:
            raise InputError(f"there is no column {column!r}", nearest(column, self.columns), file=self.name)
        return self.columns[column]

    def words(self, column: str) -> Texts:
        """Words (n,) of a column; numbers as they would be written, an empty text where there is none.

        Raises
        ------
        InputError
            If there is no such column.
        """
        if column in self.texts:
            return self.texts[column]
        values = self.values(column)
        return np.array(["" if np.isnan(value) else f"{value:.12g}" for value in values.tolist()], dtype=object)

    def known_at(self) -> NDArray[np.int64]:
        """Instants (n,) at which the rows' actual values became known: as released, or period's end and delay."""
        if self.vintages is not None:
            return self.vintages.first(self.axis.n, self.axis.ends)
        return self.delay.after(self.axis)

    def values_at(self, column: str, origin: int) -> Array:
        """Values (n,) of a column as they stood at an instant: later revisions are not known yet."""
        values = self.values(column)
        if self.vintages is None or column not in self.vintages.values:
            return values
        return self.vintages.column(column, self.axis.n, origin)

    @property
    def frame(self) -> pd.DataFrame:
        """The numeric columns as a DataFrame indexed by the periods' starts."""
        return pd.DataFrame(dict(self.columns), index=self.axis.index)

    @property
    def accounts(self) -> pd.DataFrame:
        """One row per column of the source: ``column, use``; used as numbers, text, date or id, or why it is not."""
        names = list(dict.fromkeys([*self.uses, *self.columns, *self.unusable]))
        return pd.DataFrame({"column": names, "use": [self._use(name) for name in names]})

    def _use(self, column: str) -> str:
        if self.uses.get(column):
            return self.uses[column]
        if column in self.columns:
            empty = int(np.isnan(self.columns[column]).sum())
            unit = f" in {self.units[column]}" if self.units.get(column) else ""
            return f"numbers{unit}" + (f", {empty} missing" if empty else "")
        error = self.unusable.get(column)
        if error is None:
            return "not used"
        if column in self.texts and not self.mostly_numbers(column):
            different = len({word for word in self.texts[column].tolist() if word})
            return f"text, {count(different, 'different word')}"
        return f"not used: {error.found}" + (f" in row {error.row}" if error.row is not None else "")

    def mostly_numbers(self, column: str) -> bool:
        """Whether most words of a column that could not be read as numbers begin like one."""
        words = [word for word in self.texts.get(column, np.array([], dtype=object)).tolist() if word]
        hits = sum(re.match(r"[-+(]?[^\w\s]?\s*\d", word) is not None for word in words)
        return bool(words) and hits >= 0.5 * len(words)

    def first_periods(self, n: int, entry: Treatment) -> Table:
        """The first `n` periods, with an entry in the log."""
        return replace(
            self,
            axis=self.axis.part(0, n),
            columns={name: values[:n].copy() for name, values in self.columns.items()},
            texts={name: words[:n] for name, words in self.texts.items()},
            treatments=(*self.treatments, entry),
            vintages=None if self.vintages is None else self.vintages.before(n),
        )

    def __str__(self) -> str:
        lines = [f"{self.name}: {self.axis.spell()}" + (f" ({self.note})" if self.note else "")]
        for column, values in self.columns.items():
            unit = f" [{self.units[column]}]" if column in self.units else ""
            empty = int(np.isnan(values).sum())
            use = f" ({self.uses[column]})" if self.uses.get(column) else ""
            lines.append(f"  {column}{unit}" + (f", {empty} empty" if empty else "") + use)
        rest = self.accounts.set_index("column")["use"].drop(list(self.columns))
        lines += [f"  {column} ({use})" for column, use in rest.items() if use not in ("date", "id")]
        return "\n".join(lines)

    def _repr_html_(self) -> str:
        return f"<p>{html.escape(str(self).splitlines()[0])}</p>{self.frame.to_html(max_rows=12)}"


#: Series of a panel that are named when it is printed.
_SHOWN = 12


@dataclass(frozen=True)
class Panel(Mapping[str, Table]):
    """Several series of one source: a Table each, by id. Made by `offing.read` with `id`.

    Attributes
    ----------
    name
        What messages call it: the file's name.
    id
        The columns that identifies the series.
    tables
        A Table by id; of several columns' ids, joined as ``north / adult``.
    findings
        What was noticed on reading all of them.
    left_out
        Why a series could not be read, by id; the others are not stopped by it.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> months = ["2024-01", "2024-02"] * 2
    >>> rows = pd.DataFrame({"month": months, "port": ["01", "01", "02", "02"], "sold": [3, 4, 1, 2]})
    >>> ports = of.read(rows, id="port")
    >>> list(ports), ports["02"].values("sold").tolist()
    (['01', '02'], [1.0, 2.0])
    """

    name: str
    id: tuple[str, ...]
    tables: Mapping[str, Table]
    findings: tuple[Finding, ...] = ()
    left_out: Mapping[str, InputError] = field(default_factory=dict)

    def __getitem__(self, key: str) -> Table:
        if key in self.left_out:
            raise copy(self.left_out[key])
        if key not in self.tables:
            raise InputError(f"there is no series {key!r}", nearest(str(key), self.tables), file=self.name)
        return self.tables[key]

    def __iter__(self) -> Iterator[str]:
        return iter(self.tables)

    def __len__(self) -> int:
        return len(self.tables)

    @property
    def treatments(self) -> tuple[Treatment, ...]:
        """Every change that reading made to the data of any series, and every series that is left out."""
        changes = tuple(dict.fromkeys(entry for table in self.tables.values() for entry in table.treatments))
        return changes + tuple(
            Treatment(self.name, "", "all", f"the series {name!r}", "left out", error.found)
            for name, error in self.left_out.items()
        )

    @property
    def accounts(self) -> pd.DataFrame:
        """One row per column of the source: ``column, use``, as far as all series agree."""
        return next(iter(self.tables.values())).accounts

    @property
    def settings(self) -> Mapping[str, Any]:
        """The parameters of `read` that would have stated what reading assumed."""
        return next(iter(self.tables.values())).settings

    @property
    def frame(self) -> pd.DataFrame:
        """The numeric columns of all series below each other, indexed by id and period."""
        return pd.concat({name: table.frame for name, table in self.tables.items()}, names=["id"])

    def __str__(self) -> str:
        lines = [f"{self.name}: {len(self)} series by {', '.join(self.id)}"]
        for name, table in list(self.tables.items())[:_SHOWN]:
            lines.append(f"  {name}: {table.axis.spell()}")
        if len(self) > _SHOWN:
            lines.append(f"  and {len(self) - _SHOWN:,} more")
        lines += [f"  {name}: left out, {error.found}" for name, error in list(self.left_out.items())[:_SHOWN]]
        first = next(iter(self.tables.values()))
        columns = [f"{name} [{first.units[name]}]" if first.units.get(name) else name for name in first.columns]
        return "\n".join([*lines, f"  columns: {', '.join(columns)}"])

    def _repr_html_(self) -> str:
        return f"<p>{html.escape(str(self).splitlines()[0])}</p>{self.frame.to_html(max_rows=12)}"
