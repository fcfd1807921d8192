"""Which columns may be drivers, and how far each is known."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.tables import Panel, Table


def references_of(
    tables: Mapping[str, Table | Panel], target_source: str, target_column: str, frequency: Frequency
) -> dict[str, str]:
    """References of all columns that may be drivers, at the target's frequency, by their name for people."""
    found = {}
    for source, table in tables.items():
        first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
        if first.axis.frequency != frequency:
            continue
        for column in first.columns:
            if (source, column) != (target_source, target_column):
                found[f"{source}.{column}"] = first.labels.get(column, column)
    return found


def faster_of(tables: Mapping[str, Table | Panel], frequency: Frequency) -> list[str]:
    """References of all columns of tables of higher frequency than the target."""
    found = []
    for source, table in tables.items():
        if isinstance(table, Table) and table.axis.frequency.periods_a_year > frequency.periods_a_year:
            found += [f"{source}.{column}" for column in table.columns]
    return found


def known_after(values: Array, axis: Axis, first: int) -> int:
    """How many periods from the ordinal `first` on are known without a gap."""
    at = first - axis.first
    if at < 0 or at >= axis.n:
        return 0
    later = np.isfinite(values[at:])
    return int(len(later) if later.all() else np.argmin(later))
