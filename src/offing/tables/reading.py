"""`read`: from a CSV file or a frame to a Table."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, Treatment, nearest
from offing.calendar import WEEKDAYS
from offing.tables.dates import Stamps, looks_like_dates, parse_dates
from offing.tables.numbers import number_columns
from offing.tables.regular import Timing, axis_of, place
from offing.tables.table import LaterRows, Table

_PERIOD_UNITS = {"h": "hour", "D": "day", "M": "month", "Q": "quarter", "Y": "year", "A": "year"}


def read(
    source: str | Path | pd.DataFrame | pd.Series,
    *,
    time: str | None = None,
    time_format: str | None = None,
    frequency: str | None = None,
    week_ends: str | None = None,
    stamp: str | None = None,
    unit: Mapping[str, str] | None = None,
    label: Mapping[str, str] | None = None,
    note: str = "",
    later_rows: LaterRows | None = None,
    name: str | None = None,
) -> Table:
    """Read a table with one row a period.

    Parameters
    ----------
    source
        Path of a CSV file (UTF-8, commas), or a DataFrame or Series with a DatetimeIndex or PeriodIndex.
    time
        The date column of a file. By default the only column that holds dates.
    time_format
        How the dates are written, such as ``%d/%m/%Y``. By default ISO 8601 or another way that only one
        reading fits.
    frequency
        ``hour``, ``day``, ``week``, ``month``, ``quarter`` or ``year``. By default found from the dates.
    week_ends
        Closing day of the weeks. By default found from the dates and `stamp`.
    stamp
        Whether a date names its period's ``start`` or ``end``. Needed where both are usual.
    unit, label
        Unit and name for people, by column; they reach axes, tables and sentences.
    note
        A remark on the source.
    later_rows
        What rows after the target's last value hold: the drivers' ``plan``, or values that are already
        ``actual``. Without it such rows are not used.
    name
        What messages call the source. By default the file's name.

    Returns
    -------
    Table
        Its `treatments` log every change to the data, its `findings` what was assumed.

    Raises
    ------
    InputError
        For a missing or empty file, no date column or several, dates that cannot be read or read in two
        ways, duplicated or missing periods. A column with text or infinite values raises when it is used.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 4.0, 6.0], pd.period_range("2024-01", periods=3, freq="M"), name="sold")
    >>> print(of.read(sold, unit={"sold": "boats"}))
    data: 3 months from 2024-01 to 2024-03
      sold [boats]
    """
    timing = Timing(frequency, week_ends, stamp)
    if later_rows not in (None, "plan", "actual"):
        raise InputError(f"found {later_rows!r}", 'Give "plan" or "actual".', key="later_rows")
    if isinstance(source, (str, Path)):
        file = name or Path(source).name
        cells = read_cells(Path(source), file)
        time = _time_column(cells, time, file)
        stamps = parse_dates(cells[time], time_format, file, time)
        cells = cells.drop(columns=time)
    elif isinstance(source, (pd.DataFrame, pd.Series)):
        file = name or "data"
        cells, stamps, timing = _frame(source, timing, file)
        time = "index" if source.index.name is None else str(source.index.name)
    else:
        raise InputError(f"found {type(source).__name__}", "Give the path of a CSV file, a DataFrame or a Series.")
    found, ordinals, findings = place(stamps, timing, file)
    axis, order = axis_of(found, ordinals, cells.index, file)
    treatments: tuple[Treatment, ...] = ()
    if (moved := np.flatnonzero(order != np.arange(len(order)))).size:
        label_of = axis.labels()[int(moved[0])]
        treatments = (
            Treatment(file, time, label_of, "rows in another order", "rows by date", "dates were not sorted"),
        )
        cells = cells.iloc[order]
    columns, unusable = number_columns(cells, file)
    return Table(
        file, axis, columns, unusable, dict(unit or {}), dict(label or {}), note, later_rows, treatments, findings
    )  # fmt: skip


def read_cells(path: Path, file: str) -> pd.DataFrame:
    """All cells of a CSV file as text, indexed by their row in the file, the header being row 1."""
    try:
        cells = pd.read_csv(
            path, header=None, dtype=object, keep_default_na=False, skip_blank_lines=False,
            encoding="utf-8-sig", skipinitialspace=True,
        )  # fmt: skip
    except FileNotFoundError as error:
        raise InputError(f"there is no file {str(path)!r}", "Check the path.") from error
    except OSError as error:
        raise InputError(f"cannot be opened ({error.strerror})", "Check the path.", file=str(path)) from error
    except pd.errors.EmptyDataError as error:
        raise InputError("the file is empty", file=file) from error
    except UnicodeDecodeError as error:
        raise InputError("the text is not UTF-8", "Save the file as UTF-8.", file=file) from error
    except pd.errors.ParserError as error:
        told = re.search(r"Expected (\d+) fields in line (\d+), saw (\d+)", str(error))
        if told is None:
            raise InputError(f"the text is not valid CSV: {str(error).strip()}", file=file) from error
        raise InputError(
            f"found {told[3]} cells, the header has {told[1]}",
            "Put cells that hold commas in double quotes.",
            file=file,
            row=int(told[2]),
        ) from error
    cells = cells.fillna("").apply(lambda column: column.str.strip())
    cells.index = pd.RangeIndex(1, len(cells) + 1)
    cells = cells.set_axis([str(each) for each in cells.iloc[0]], axis=1).iloc[1:]
    # A comma at the end of every line makes a column without name and content.
    keep = [bool(name) or bool((cells.iloc[:, i] != "").any()) for i, name in enumerate(cells)]
    cells = pd.DataFrame(cells.loc[:, keep])
    for column in cells.columns[cells.columns.duplicated()]:
        raise InputError("two columns have this name", "Rename one.", file=file, column=str(column))
    cells = pd.DataFrame(cells[(cells != "").any(axis=1)])
    if cells.empty:
        raise InputError("there is a header but no rows", file=file)
    return cells


def _time_column(cells: pd.DataFrame, stated: str | None, file: str) -> str:
    if stated is not None:
        if stated not in cells.columns:
            raise InputError(f"there is no column {stated!r}", nearest(stated, cells.columns), file=file, key="time")
        return stated
    found = [str(column) for column in cells.columns if looks_like_dates(cells[column], str(column))]
    if len(found) == 1:
        return found[0]
    if found:
        raise InputError(
            f"{' and '.join(repr(each) for each in found)} both hold dates",
            f'Say which one counts: time = "{found[0]}".',
            file=file,
        )
    hint = f"The columns are: {', '.join(map(str, cells.columns))}."
    if len(cells.columns) == 1 and any(mark in str(cells.columns[0]) for mark in ";\t|"):
        hint = "There is one column only; are the cells separated by something else than commas?"
    raise InputError("no column holds dates", f"{hint} Dates are best written as 2024-01-31.", file=file)


def _frame(source: pd.DataFrame | pd.Series, timing: Timing, file: str) -> tuple[pd.DataFrame, Stamps, Timing]:
    """Columns indexed by row number, the index as stamps, and the timing with what a PeriodIndex says."""
    if isinstance(source, pd.Series):
        return _frame(source.to_frame("value" if source.name is None else source.name), timing, file)
    frame = source
    index: Any = frame.index
    if frame.empty:
        raise InputError("the frame has no rows or no columns", file=file)
    if isinstance(index, pd.PeriodIndex):
        code, _, anchor = index.freqstr.partition("-")
        if code == "W":
            ends = {day[:3].upper(): day for day in WEEKDAYS}[anchor or "SUN"]
            timing = Timing("week", ends, "start")
        elif code in _PERIOD_UNITS and anchor in ("", "DEC"):
            timing = Timing(_PERIOD_UNITS[code], None, "start")
        else:
            raise InputError(f"periods of {index.freqstr!r} are not supported", file=file)
        index = index.to_timestamp(how="start")
    if not isinstance(index, pd.DatetimeIndex):
        raise InputError(
            f"the index is a {type(index).__name__}",
            "Set a DatetimeIndex or a PeriodIndex, such as frame.set_index(pd.to_datetime(frame['date'])).",
            file=file,
        )
    if index.hasnans:
        raise InputError("the date is missing", file=file, row=int(np.flatnonzero(index.isna())[0]) + 1)
    names = [str(column) for column in frame.columns]
    for name in names:
        if names.count(name) == 1:
            continue
        raise InputError("two columns have this name", "Rename one.", file=file, column=name)
    numbered = pd.DataFrame(frame.set_axis(pd.RangeIndex(1, len(frame) + 1), axis=0).set_axis(names, axis=1))
    wall = _microseconds(index.tz_localize(None))
    if index.tz is None:
        return numbered, Stamps(wall, "instant"), timing
    # In autumn a clock shows one hour twice; only the instants tell the two apart.
    instants = _microseconds(index.tz_convert("UTC").tz_localize(None))
    return numbered, Stamps(wall, "instant", str(index.tz), instants), timing


def _microseconds(clock: pd.DatetimeIndex) -> NDArray[np.int64]:
    return np.asarray(clock.as_unit("us").to_numpy()).astype(np.int64)
