"""Files, frames and databases as tables of cells, before anything is read from them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pandas as pd

from offing.base import InputError
from offing.calendar import WEEKDAYS
from offing.tables.date_parsing import Stamps, moments_of
from offing.tables.frequency_detection import Timing
from offing.tables.read_options import Reading
from offing.tables.reshape import (
    date_heads,
    looks_wide,
)
from offing.tables.sources import CsvFile, Database, FrameSource, Source, frame_of, parquet, plain_frame, workbook
from offing.tables.sources.web import WebTable
from offing.tables.timestamps import looks_like_dates


def open_source(source: Any, reading: Reading, timing: Timing) -> tuple[Source, Stamps | None, Timing]:
    """The source; and the stamps of an index, where dates are one."""
    ways = [key for key in ("database", "url", "service") if getattr(reading, key) is not None]
    if len(ways) + (source is not None) > 1:
        raise InputError("a source is one file, database, url or service", "Give one of them.", key=ways[0])
    if reading.database is not None:
        if (reading.table is None) == (reading.query is None):
            raise InputError("a database needs a table or a query, and no file", key="database")
        file = reading.name or reading.table or "query"
        return (
            Database(reading.database, file, reading.table, reading.query, reading.parameters, reading.folders),
            None,
            timing,
        )
    if ways:
        return WebTable.of(reading), None, timing
    if isinstance(source, (str, Path)):
        return open_file(Path(source), reading), None, timing
    file = reading.name or "data"
    if isinstance(source, pd.Series):
        source = source.to_frame("value" if source.name is None else source.name)
    if isinstance(source, pd.DataFrame):
        frame = plain_frame(source, file)
        if reading.time is not None or not isinstance(source.index, (pd.DatetimeIndex, pd.PeriodIndex)):
            if reading.time is None and not any(looks_like_dates(frame[name], str(name)) for name in frame):
                _check_has_dates(source, frame, reading, file)
            return _in_memory(frame, file, reading), None, timing
        stamps, timing = _index(source.index, timing, reading.zone, file)
        return _in_memory(frame, file, reading), stamps, timing
    other = frame_of(source, file)
    if other is None:
        raise InputError(f"found {type(source).__name__}", "Give the path of a file, a DataFrame or a Series.")
    return _in_memory(other, file, reading), None, timing


def _in_memory(frame: pd.DataFrame, file: str, reading: Reading) -> FrameSource:
    return FrameSource(frame, file, None, reading.decimal, reading.thousands)


def _check_has_dates(source: pd.DataFrame, frame: pd.DataFrame, reading: Reading, file: str) -> None:
    shaped = reading.wide is not None or reading.transpose or reading.first_period is not None
    if not shaped and not looks_wide(frame) and not date_heads(frame):
        index = source.index
        what = f"is a {type(index).__name__}"
        if pd.api.types.is_string_dtype(index) or pd.api.types.is_object_dtype(index):
            what = f"holds text such as {str(index[0])!r}"
        raise InputError(
            f"the index {what}, and no column holds dates",
            "Set a DatetimeIndex or a PeriodIndex, such as frame.set_index(pd.to_datetime(frame['date'])), or reset "
            "the index so that its dates are a column.",
            file=file,
        )


def open_file(path: Path, reading: Reading) -> Source:
    """The source that a file is, by its suffix; text with separators where `FILES` does not know it."""
    file = reading.name or path.name
    suffix = path.suffix.lower()
    if suffix in FILES:
        return FILES[suffix](path, file, reading)
    if suffix in (".xls", ".ods", ".db", ".sqlite", ".duckdb", ".json"):
        raise InputError(
            f"files of the kind {suffix} are not read",
            "Save a workbook as .xlsx; name a database in database; save other tables as CSV.",
            file=file,
        )
    return CsvFile(
        path, file, reading.separator, reading.decimal, reading.thousands, reading.encoding, reading.header_row
    )


def _workbook(path: Path, file: str, reading: Reading) -> Source:
    return workbook(path, file, reading.sheet, reading.header_row, (reading.decimal, reading.thousands))


def _parquet(path: Path, file: str, _: Reading) -> Source:
    return parquet(path, file)


#: What opens a file, by its suffix, from its path, its name for messages and the options of reading.
FILES: dict[str, Callable[[Path, str, Reading], Source]] = {
    ".xlsx": _workbook,
    ".xlsm": _workbook,
    ".parquet": _parquet,
    ".pq": _parquet,
}


def _index(index: Any, timing: Timing, zone: str | None, file: str) -> tuple[Stamps, Timing]:
    """An index's stamps, and the timing with what a PeriodIndex says."""
    if isinstance(index, pd.PeriodIndex):
        code, _, anchor = index.freqstr.partition("-")
        if code == "W":
            ends = {day[:3].upper(): day for day in WEEKDAYS}[anchor or "SUN"]
            timing = replace(timing, frequency="week", week_ends=ends, stamp="start")
        elif code in _PERIOD_UNITS and anchor in ("", "DEC"):
            timing = replace(timing, frequency=_PERIOD_UNITS[code], stamp="start")
        else:
            raise InputError(f"periods of {index.freqstr!r} are not supported", file=file)
        index = index.to_timestamp(how="start")
    cells = pd.Series(index, pd.RangeIndex(1, len(index) + 1), name="index" if index.name is None else str(index.name))
    return moments_of(cells, file, zone), timing


_PERIOD_UNITS = {"h": "hour", "D": "day", "B": "business day", "M": "month", "Q": "quarter", "Y": "year", "A": "year"}
