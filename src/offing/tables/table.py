"""A regular table: one row a period, numbers with units."""

from __future__ import annotations

import html
from collections.abc import Mapping
from copy import copy
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, Treatment, nearest
from offing.calendar import Axis

Array = NDArray[np.float64]
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
            raise copy(self.unusable[column])  # each raising may add its own places
        if column not in self.columns:
            raise InputError(f"there is no column {column!r}", nearest(column, self.columns), file=self.name)
        return self.columns[column]

    def known_at(self) -> NDArray[np.int64]:
        """Instants (n,) at which the rows' actual values became known: the end of their periods."""
        return self.axis.ends

    @property
    def frame(self) -> pd.DataFrame:
        """The numeric columns as a DataFrame indexed by the periods' starts."""
        return pd.DataFrame(dict(self.columns), index=self.axis.index)

    def __str__(self) -> str:
        lines = [f"{self.name}: {self.axis.spell()}" + (f" ({self.note})" if self.note else "")]
        for column, values in self.columns.items():
            unit = f" [{self.units[column]}]" if column in self.units else ""
            empty = int(np.isnan(values).sum())
            lines.append(f"  {column}{unit}" + (f", {empty} empty" if empty else ""))
        lines += [f"  {column} (not numeric)" for column in self.unusable]
        return "\n".join(lines)

    def _repr_html_(self) -> str:
        return f"<p>{html.escape(str(self).splitlines()[0])}</p>{self.frame.to_html(max_rows=12)}"
