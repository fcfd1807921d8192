"""From a regular table to a coarser one, with a word on every period that is not whole."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, Treatment, count
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.tables.aggregation_rules import KEYS, Combine, suggested
from offing.tables.table import Table

PARTIAL = ("leave out", "keep")


def aggregate(table: Table, to: str, combine: Mapping[str, str], *, partial: str = "leave out") -> Table:
    """Bring a table that was read to a coarser frequency, as `offing.read` does with ``aggregate_to``.

    Parameters
    ----------
    table
        A Table.
    to
        ``day``, ``week``, ``month``, ``quarter`` or ``year``; weeks end on Sunday, years start in January.
    combine
        How the values of a period become one, by column: ``sum``, ``mean``, ``last``, ``first``, ``max``, ``min``,
        ``count`` or ``mean weighted by COLUMN``. Other columns cannot be used afterwards.
    partial
        What becomes of periods that are not whole: ``leave out`` the first and last and make inner ones missing, or
        ``keep`` what is there. Either is logged in the table's `treatments`.

    Raises
    ------
    InputError
        If the frequency is not coarser, a column is not there, or no whole period is left.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = of.read(pd.DataFrame({"sold": 1.0, "fare": 5.0}, pd.date_range("2024-01-30", "2024-03-02")))
    >>> months = of.aggregate(days, "month", {"sold": "sum", "fare": "mean"})
    >>> months.frame.to_numpy().tolist(), months.treatments[0].before
    ([[29.0, 5.0]], '2 of 31 days')
    """
    return aggregated(table, Frequency(to, zone=table.axis.frequency.zone), combine, partial)  # type: ignore[arg-type]


def aggregated(table: Table, frequency: Frequency, how: Mapping[str, str], partial: str = "leave out") -> Table:
    """Combine a table's periods into those of a coarser `frequency`; a period belongs where its middle lies.

    Parameters
    ----------
    how
        By column ``sum``, ``mean``, ``last``, ``first``, ``max``, ``min``, ``count`` or ``mean weighted by COLUMN``.
        Columns without one stay unusable: whether a number is a flow or a price, only the user knows.
    partial
        What becomes of a coarse period of which fine periods or values are missing. ``leave out``: the first and last
        are dropped, inner ones are missing. ``keep``: they are made of what is there. Either is logged.

    Raises
    ------
    InputError
        If the frequency is not coarser, a column is not there, or no whole period is left.
    """
    if partial not in PARTIAL:
        raise InputError(f"found {partial!r}", 'Give "leave out" or "keep".', key="partial")
    if frequency.periods_a_year >= table.axis.frequency.periods_a_year:
        raise InputError(
            f"a {frequency.unit} is not coarser than the {table.axis.frequency.unit}s of the table",
            file=table.name,
            key="aggregate_to",
        )
    combine = Combine(how)
    values = {column: table.values(column) for column in dict.fromkeys((*combine.how, *combine.weights.values()))}
    middles = (table.axis.starts + table.axis.ends) // 2
    owners = frequency.ordinals(middles)
    axis = Axis(frequency, int(owners[0]), int(owners[-1] - owners[0]) + 1)
    rows = pd.DataFrame({KEYS[0]: 0, KEYS[1]: owners, "at": table.axis.starts, **values})
    combined = combine.joined([combine.part(rows)]).loc[0]
    whole = _sizes(table.axis, axis)
    columns, treatments = {}, []
    edges = np.ones(axis.n, dtype=bool)
    for column, method in combine.how.items():
        known = np.bincount(owners - axis.first, np.isfinite(values[column]), axis.n)
        fresh = combined[column].to_numpy(dtype=np.float64, copy=True)
        short = np.flatnonzero(known < whole)
        if method == "count":
            short = short[np.isin(short, (0, axis.n - 1))]
        there = np.bincount(owners - axis.first, minlength=axis.n)
        for i in short.tolist():
            outer = i in (0, axis.n - 1) and there[i] < whole[i]
            kept = partial == "keep" and known[i] > 0
            if not kept:
                fresh[i] = np.nan
                edges[i] &= not outer
            after = "made of what is there" if kept else "left out" if outer else "missing"
            what = f"{int(known[i])} of {count(int(whole[i]), table.axis.frequency.unit)}"
            label = axis.part(i, i + 1).labels()[0]
            why = f"the {axis.frequency.unit} is partial"
            treatments.append(Treatment(table.name, column, label, what, after, why))
        columns[column] = fresh
    logged = replace(table, treatments=(*table.treatments, *treatments))
    return _trimmed(logged, axis, columns, edges, combine)


def _sizes(fine: Axis, axis: Axis) -> NDArray[np.int64]:
    """How many fine periods each coarse one has (n,)."""
    low, high = (int(each) for each in fine.frequency.ordinals(axis.edges[[0, -1]]))
    span = Axis(fine.frequency, low - 1, high - low + 3)
    owners = axis.frequency.ordinals((span.starts + span.ends) // 2) - axis.first
    return np.bincount(owners[(owners >= 0) & (owners < axis.n)], minlength=axis.n)


def _trimmed(table: Table, axis: Axis, columns: dict[str, Array], whole: NDArray[np.bool_], combine: Combine) -> Table:
    """The table without partial first and last periods."""
    low, high = int(not whole[0]), axis.n - int(not whole[-1])
    if high - low < 1:
        raise InputError(
            f"no {axis.frequency.unit} is whole in {table.axis.spell()}",
            'State partial = "keep" to have them as they are.',
            file=table.name,
        )
    unusable = dict(table.unusable)
    for column in table.columns:
        if column not in combine.how:
            unusable[column] = no_way(column, table.units.get(column, ""), table.name)
    findings = list(table.findings)
    if table.axis.frequency.unit == "week" and axis.frequency.weeks is None:
        message = f"{table.name}: a week counts in the {axis.frequency.unit} that holds its middle."
        findings.append(Finding("weeks in months", "note", message))
    return replace(
        table,
        axis=axis.part(low, high),
        columns={name: np.array(values[low:high]) for name, values in columns.items()},
        unusable=unusable,
        findings=tuple(findings),
    )


def no_way(column: str, unit: str, file: str) -> InputError:
    """The error for a column without a rule of combination; it asks with the way that its unit suggests."""
    method = suggested(column, unit)
    kind = {
        "sum": "a flow, which is summed",
        "mean": "a price or a rate, which is averaged",
        "last": "a stock, of which the last counts",
    }[method]
    return InputError(
        f"it is not stated how its values of a period become one; it looks like {kind}",
        f'Add to combine: "{column}" = "{method}".',
        file=file,
        column=column,
    )
