"""The user's own table of holidays."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import ALWAYS, DAY, Days
from offing.tables.date_parsing import days_of, parse_dates
from offing.tables.number_parsing import to_numbers, wrong_cell
from offing.tables.sources import text_cells

_COLUMNS = ("name", "date", "until", "share", "group", "known_from")


def read_days(source: str | Path | pd.DataFrame) -> Days:
    """Read a table of holidays: ``name`` and ``date``, and where ``until``, ``share``, ``group`` or ``known_from``.

    `until` is the last day; where it is empty the holiday lasts one day. `share` is how much of each day it takes, 1
    where it is empty. Holidays of one `group` have related effects. Before `known_from` it was not known. In a
    DataFrame, dates may be text or timestamps.

    Raises
    ------
    InputError
        If a column or a name is missing, a cell cannot be read, or a holiday ends before it starts.

    Examples
    --------
    >>> import pandas as pd
    >>> from offing.tables import read_days
    >>> table = pd.DataFrame({"name": ["Harbour Days"], "date": ["2024-07-05"], "until": ["2024-07-07"]})
    >>> len(read_days(table).days)
    3
    """
    if isinstance(source, pd.DataFrame):
        return _read(source)
    try:
        state = Path(source).stat()
    except OSError:
        return _read(source)  # which says what is wrong
    # Every fit at every origin asks for the table: it is read again only when the file has changed.
    return _kept(Path(source).resolve(), state.st_mtime_ns, state.st_size)


@lru_cache(maxsize=64)
def _kept(path: Path, changed: int, size: int) -> Days:
    return _read(path)


def _read(source: str | Path | pd.DataFrame) -> Days:
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
    nameless = np.flatnonzero((cells["name"] == "").to_numpy())
    if len(nameless):
        raise InputError("the holiday has no name", file=file, row=int(cells.index[nameless[0]]), column="name")
    first = parse_dates(cells["date"], (), file, "date").wall // DAY
    last = days_of(cells, "until", first, file)
    if (last < first).any():
        row = int(cells.index[int(np.flatnonzero(last < first)[0])])
        raise InputError("the holiday ends before it starts", file=file, row=row, column="until")
    known = days_of(cells, "known_from", np.full(len(cells), ALWAYS, dtype=np.int64), file)
    return _days(cells, first, last, known, _shares(cells, file))


def _days(
    cells: pd.DataFrame, first: NDArray[np.int64], last: NDArray[np.int64], known: NDArray[np.int64], share: Array
) -> Days:
    length = last - first + 1
    rows = np.repeat(np.arange(len(cells)), length)
    days = np.repeat(first, length) + np.arange(length.sum()) - np.repeat(np.cumsum(length) - length, length)
    names = [str(name) for name in cells["name"]]
    groups = {}
    if "group" in cells.columns:
        groups = {name: str(group) for name, group in zip(names, cells["group"], strict=True) if group}
    years = days.astype("datetime64[D]").astype("datetime64[Y]").astype(np.int64) + 1970
    pairs: dict[tuple[str, int], int] = {}
    for place, (row, day) in enumerate(zip(rows.tolist(), days.tolist(), strict=True)):
        pairs.setdefault((names[row], day), place)
    once = np.array(list(pairs.values()), dtype=np.int64)
    at = rows[once]
    return Days(
        tuple(names[row] for row in at.tolist()),
        days[once],
        share[at],
        known[at],
        groups,
        int(years.min()),
        int(years.max()),
    )


def _shares(cells: pd.DataFrame, file: str) -> Array:
    share = np.ones(len(cells))
    if "share" not in cells.columns:
        return share
    found, wrong = to_numbers(cells["share"])
    given = (cells["share"] != "").to_numpy()
    if (given & wrong).any():
        raise wrong_cell(cells["share"], found, int(np.flatnonzero(given & wrong)[0]), file)
    beyond = np.flatnonzero(given & ~((found > 0.0) & (found <= 1.0)))
    if len(beyond):
        row, cell = int(cells.index[beyond[0]]), str(cells["share"].iloc[beyond[0]])
        raise InputError(
            f"found {cell!r}", "A share of the day is above 0 and up to 1.", file=file, row=row, column="share"
        )
    share[given] = found[given]
    return share
