"""Several downloads of one table as one with vintages, and when its values are released."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.calendar import Axis, Frequency
from offing.calendar.axis import instant_of
from offing.tables.date_parsing import Stamps
from offing.tables.delay import Delay
from offing.tables.table import Table
from offing.tables.timestamps import stamps_of
from offing.tables.vintages import Instants, Vintages


def release_dates(
    cells: pd.DataFrame, column: str | None, file: str, zone: str | None
) -> tuple[pd.DataFrame, Stamps | None]:
    """The cells without the column of release dates, and these.

    Raises
    ------
    InputError
        If there is no such column, or it holds something else.
    """
    if column is None:
        return cells, None
    if column not in cells.columns:
        raise InputError(f"there is no column {column!r}", nearest(column, cells.columns), file=file, key="released")
    return cells.drop(columns=column), stamps_of(cells[column], (), file, zone)[0]


def latest(ordinals: Instants, released: Instants) -> NDArray[np.intp]:
    """Places of the newest release of each period, by period."""
    order = np.lexsort((released, ordinals))
    last = np.append(np.diff(ordinals[order]) != 0, True)
    return np.asarray(order[last])


def downloaded(tables: Sequence[tuple[str, Table]]) -> Table:
    """The newest of several downloads of one table, with the values of the others as its vintages.

    The first download's values count as known when their periods ended, and its release delay had passed; what a later
    one adds or revises, from the day of that download on.

    Parameters
    ----------
    tables
        Day and table of each download, the newest last.
    """
    newest = tables[-1][1]
    axis, frequency = newest.axis, newest.axis.frequency
    names = list(newest.columns)
    known = np.full((len(names), axis.n), np.nan)
    released, rows, values = [], [], []
    for i, (day, table) in enumerate(tables):
        now = known.copy()
        low, high = max(axis.first, table.axis.first), min(axis.first + axis.n, table.axis.first + table.axis.n)
        here, there = (
            slice(low - axis.first, max(high, low) - axis.first),
            slice(low - table.axis.first, max(high, low) - table.axis.first),
        )
        for j, name in enumerate(names):
            if name in table.columns:
                now[j, here] = table.columns[name][there]
        new = np.flatnonzero(~((now == known) | (np.isnan(now) & np.isnan(known))).all(axis=0))
        came = newest.delay.after(axis)[new]
        released.append(came if i == 0 else np.maximum(came, instant_of(day, frequency)[0]))
        rows.append(new)
        values.append(now[:, new])
        known = now
    order = np.argsort(np.concatenate(released), kind="stable")
    held = np.concatenate(values, axis=1)[:, order]
    vintages = Vintages(
        np.concatenate(released)[order],
        np.concatenate(rows)[order].astype(np.intp),
        dict(zip(names, held, strict=True)),
    )
    return replace(newest, vintages=vintages)


def check_releases(
    frequency: Frequency,
    ordinals: Instants,
    released: Instants,
    *,
    delay: Delay,
    rows: pd.Index,
    file: str,
    plan: bool = False,
) -> None:
    """Refuse releases before their period has ended or a stated delay has passed, and two at once for one period.

    A `plan` is made before.

    Raises
    ------
    InputError
        Naming row and period.
    """
    order = np.lexsort((released, ordinals))
    same = np.flatnonzero((np.diff(ordinals[order]) == 0) & (np.diff(released[order]) == 0))
    if len(same):
        first, second = (rows[order[int(same[0]) + k]] for k in (0, 1))
        raise InputError(
            f"rows {first} and {second} are releases of it on the same date",
            "Keep one of them.",
            file=file,
            period=_label(frequency, int(ordinals[order[int(same[0])]])),
        )
    axis = Axis(frequency, int(ordinals.min()), int(np.ptp(ordinals)) + 1)
    ends, due = axis.ends[ordinals - axis.first], delay.after(axis)[ordinals - axis.first]
    for limit, words in () if plan else ((ends, "before it had ended"), (due, "before its release_delay had passed")):
        early = np.flatnonzero(released < limit)
        if len(early):
            at = int(early[0])
            day = frequency.index(released[at : at + 1])[0]
            raise InputError(
                f"its value is said to be released on {day:%Y-%m-%d}, {words}",
                "Correct the date, or leave the value to a plan." if limit is ends else "Correct one of the two.",
                file=file,
                row=int(rows[at]) if str(rows[at]).isdigit() else None,
                period=_label(frequency, int(ordinals[at])),
            )


def _label(frequency: Frequency, ordinal: int) -> str:
    return Axis(frequency, ordinal, 1).labels()[0]


def released_at(table: Table, axis: Axis) -> Instants:
    """When values of the periods of `axis` were released, or will by the table's delay."""
    found = table.delay.after(axis)
    if table.vintages is None:
        return found
    place = axis.ordinals - table.axis.first
    there = (place >= 0) & (place < table.axis.n)
    found = found.copy()
    found[there] = table.known_at()[place[there]]
    return found
