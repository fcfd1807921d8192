"""The user's own table of an event's occurrences."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.calendar import ALWAYS, DAY
from offing.tables.date_parsing import days_of, parse_dates
from offing.tables.number_parsing import to_numbers, wrong_cell
from offing.tables.sources import text_cells

_COLUMNS = ("date", "until", "strength", "known_from")


@dataclass(frozen=True)
class Occurrences:
    """First and last day of each occurrence, its strength, and the day from which it was known, all (m,)."""

    first: NDArray[np.int64]
    last: NDArray[np.int64]
    strength: NDArray[np.float64]
    known_from: NDArray[np.int64]

    def part(self, which: NDArray[np.bool_]) -> Occurrences:
        """Some of them."""
        return Occurrences(self.first[which], self.last[which], self.strength[which], self.known_from[which])


def read_occurrences(source: str | Path | pd.DataFrame) -> Occurrences:
    """Read a table of occurrences: ``date``, and where wanted ``until``, ``strength`` and ``known_from``.

    Raises
    ------
    InputError
        If a column is unknown or a cell cannot be read, or an occurrence ends before it starts.

    Examples
    --------
    >>> import pandas as pd
    >>> from offing.tables.event_table import read_occurrences
    >>> read_occurrences(pd.DataFrame({"date": ["2024-03-01"], "strength": [0.5]})).strength.tolist()
    [0.5]
    """
    cells, file = text_cells(source, "table of events")
    for column in cells.columns:
        if column not in _COLUMNS:
            raise InputError(f"found column {str(column)!r}", nearest(str(column), _COLUMNS), file=file)
    if "date" not in cells.columns:
        raise InputError("there is no column 'date'", "A table of events has date, until, strength.", file=file)
    if cells.empty:
        raise InputError("there are no events in it", file=file)
    first = parse_dates(cells["date"], (), file, "date").wall // DAY
    last = days_of(cells, "until", first, file)
    if (last < first).any():
        row = int(cells.index[int(np.flatnonzero(last < first)[0])])
        raise InputError("the event ends before it starts", file=file, row=row, column="until")
    strength = np.ones(len(cells))
    if "strength" in cells.columns:
        strength, wrong = to_numbers(cells["strength"])
        wrong = wrong | np.isnan(strength)
        if wrong.any():
            raise wrong_cell(cells["strength"], strength, int(np.flatnonzero(wrong)[0]), file)
    always = np.full(len(cells), ALWAYS, dtype=np.int64)
    return Occurrences(first, last, strength, days_of(cells, "known_from", always, file))
