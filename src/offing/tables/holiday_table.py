"""The user's own table of holidays."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.calendar import Days
from offing.calendar.frequency import DAY
from offing.tables.dates import parse_dates
from offing.tables.sources import text_cells

_COLUMNS = ("name", "date", "until")


def read_days(source: str | Path | pd.DataFrame) -> Days:
    """Read a table of holidays: columns ``name``, ``date`` and, for holidays of several days, ``until``.

    `until` is the last day; where it is empty the holiday lasts one day. In a DataFrame, dates may be text or
    timestamps.

    Raises
    ------
    InputError
        If a column or a name is missing, a date cannot be read, or a holiday ends before it starts.

    Examples
    --------
    >>> import pandas as pd
    >>> from offing.tables import read_days
    >>> table = pd.DataFrame({"name": ["Harbour Days"], "date": ["2024-07-05"], "until": ["2024-07-07"]})
    >>> len(read_days(table).days)
    3
    """
    cells, file = text_cells(source, "table of holidays")
    for column in cells.columns:
        if column not in _COLUMNS:
            free = [name for name in _COLUMNS if name not in cells.columns]
            raise InputError(f"found column {str(column)!r}", nearest(str(column), free), file=file)
    for column in ("name", "date"):
        if column not in cells.columns:
            raise InputError(f"there is no column {column!r}", "A table of holidays has name, date, until.", file=file)
    if cells.empty:
        raise InputError("there are no holidays in it", file=file)
    first = parse_dates(cells["date"], None, file, "date").wall // DAY
    last = first.copy()
    if "until" in cells.columns:
        given = (cells["until"] != "").to_numpy()
        if given.any():
            last[given] = parse_dates(cells["until"][given], None, file, "until").wall // DAY
    return _days(cells["name"], first, last, file)


def _days(holidays: pd.Series, first: np.ndarray, last: np.ndarray, file: str) -> Days:
    names: list[str] = []
    days: list[int] = []
    for row, holiday, low, high in zip(holidays.index, holidays, first, last, strict=True):
        if not holiday:
            raise InputError("the holiday has no name", file=file, row=int(row), column="name")
        if high < low:
            raise InputError("the holiday ends before it starts", file=file, row=int(row), column="until")
        span = range(int(low), int(high) + 1)
        names += [str(holiday)] * len(span)
        days += span
    years = np.array(days).astype("datetime64[D]").astype("datetime64[Y]").astype(np.int64) + 1970
    return Days(tuple(names), np.array(days, dtype=np.int64), int(years.min()), int(years.max()))
