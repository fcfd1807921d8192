"""Frames, Parquet files and workbooks: cells that come with types."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, nearest, optional
from offing.tables.layout import HEAD_ROWS, Report, find_header
from offing.tables.number_parsing import Marks, all_numbers, find_marks
from offing.tables.sources.source import CHUNK, Opened, tidy_names, titles_note, unnamed
from offing.tables.timestamps import looks_like_dates

#: Bytes of an unpacked workbook that are read at most: some two million cells.
_LARGEST_BOOK = 100_000_000


@dataclass(frozen=True)
class FrameSource:
    """A frame in memory, indexed by its rows' numbers."""

    frame: pd.DataFrame
    file: str
    header: int | None = None
    decimal: str | None = None
    thousands: str | None = None

    def whole(self) -> pd.DataFrame:
        """All cells."""
        return self.frame

    def sample(self) -> pd.DataFrame:
        """The first rows."""
        return self.frame.iloc[:2000]

    def chunks(self, text: Sequence[str], numbers: Sequence[str], plain: bool) -> Iterator[tuple[pd.DataFrame, float]]:
        """Slices of some columns."""
        wanted = self.frame[list(dict.fromkeys((*text, *numbers)))]
        for start in range(0, len(wanted), CHUNK):
            yield wanted.iloc[start : start + CHUNK], min((start + CHUNK) / len(wanted), 1.0)

    def marks(self, cells: pd.DataFrame) -> Marks | None:
        """How numbers that came as text are written."""
        if all_numbers(cells):
            return None
        text = {
            str(name): [each for each in cells[name] if isinstance(each, str)]
            for name in cells.columns
            if not pd.api.types.is_numeric_dtype(cells[name])
        }
        return find_marks(text, ",", self.decimal, self.thousands) if any(text.values()) else None

    def report(self, report: Report) -> None:
        """Titles above the header of a sheet."""
        if self.header is not None:
            report.assume(titles_note(self.file, self.header), header_row=self.header)


def frame_of(table: Any, file: str) -> pd.DataFrame | None:
    """A pandas frame of anything that speaks Arrow's stream protocol, such as Polars, PyArrow or a DuckDB relation."""
    if not hasattr(table, "__arrow_c_stream__"):
        return None
    optional("pyarrow", "parquet", f"a {type(table).__name__}")
    frame: pd.DataFrame = pd.DataFrame.from_arrow(table)  # type: ignore[attr-defined]
    return plain_frame(frame, file)


def plain_frame(frame: pd.DataFrame, file: str) -> pd.DataFrame:
    """A frame with names of text, plain column types and rows numbered from 1; the one given is left as it is."""
    if frame.empty:
        raise InputError("the frame has no rows or no columns", file=file)
    names = tidy_names(list(frame.columns), file)
    rows = pd.RangeIndex(1, len(frame) + 1)
    if all_numbers(frame):
        plain = frame.set_axis(rows, axis=0)
        plain.columns = pd.Index(names)
        return plain
    columns = {name: _plain(frame.iloc[:, i]) for i, name in enumerate(names)}
    return pd.DataFrame(columns).set_axis(pd.RangeIndex(1, len(frame) + 1), axis=0)


def parquet(path: Path, file: str) -> FrameSource:
    """A Parquet file."""
    Opened(path).bytes(4)
    arrow = optional("pyarrow", "parquet", "a Parquet file")
    optional("pyarrow.parquet", "parquet", "a Parquet file")
    try:
        frame = pd.read_parquet(path)
    except (arrow.ArrowException, OSError, ValueError) as error:
        raise InputError("the file is not valid Parquet", "Write it again.", file=file) from error
    return FrameSource(plain_frame(frame, file), file)


def workbook(
    path: Path,
    file: str,
    sheet: str | None,
    header_row: int | None,
    marks: tuple[str | None, str | None] = (None, None),
) -> FrameSource:
    """One sheet of an Excel workbook: the values that its cells show, never their formulas.

    Raises
    ------
    InputError
        If there are several sheets and none is stated, or no such sheet, header or rows.
    """
    Opened(path).bytes(4)
    excel = optional("openpyxl", "excel", "an Excel workbook")
    _check_size(path, file)
    try:
        book = excel.load_workbook(path, read_only=True, data_only=True)
    except Exception as error:
        raise InputError("the file is not a valid workbook (.xlsx)", "Save it again.", file=file) from error
    try:
        if sheet is not None and sheet not in book.sheetnames:
            raise InputError(f"there is no sheet {sheet!r}", nearest(sheet, book.sheetnames), file=file, key="sheet")
        chosen = sheet or _only_sheet(book, file)
        rows = [[_as_shown(cell) for cell in row] for row in book[chosen].iter_rows()]
    finally:
        book.close()
    if sheet is not None and len(book.sheetnames) > 1:
        file = f"{file}, sheet '{sheet}'"
    found = 1 + find_header(rows[:HEAD_ROWS]) if header_row is None else header_row
    if len(rows) < found or (found and not any(cell is not None for cell in rows[found - 1])):
        raise InputError(
            f"row {found} of the sheet is empty", "Say which row holds the names: header_row = 3.", file=file
        )
    titles = found if header_row is None and found > 1 else None
    return FrameSource(_sheet(rows, found, file), file, titles, *marks)


def _check_size(path: Path, file: str) -> None:
    """Refuse a workbook that would fill the memory; a small file can unpack to a very large one."""
    try:
        with zipfile.ZipFile(path) as packed:
            size = sum(entry.file_size for entry in packed.infolist())
    except (zipfile.BadZipFile, OSError) as error:
        raise InputError("the file is not a valid workbook (.xlsx)", "Save it again.", file=file) from error
    if size > _LARGEST_BOOK:
        raise InputError(
            f"the workbook unpacks to {size / 1e6:,.0f} MB, more than the {_LARGEST_BOOK / 1e6:.0f} MB that are read",
            "Save its table as CSV or Parquet.",
            file=file,
        )


def _only_sheet(book: Any, file: str) -> str:
    """The sheet that is read where none is stated: the only one with any cells.

    Raises
    ------
    InputError
        If there are several, the one that looks most like a table first.
    """
    heads = {
        name: [list(row) for row in book[name].iter_rows(max_row=HEAD_ROWS, values_only=True)]
        for name in book.sheetnames
    }
    filled = {name: rows for name, rows in heads.items() if sum(cell is not None for row in rows for cell in row) > 1}
    if len(filled) < 2:
        return str(next(iter(filled or heads)))
    scores = {name: _table_score(rows) for name, rows in filled.items()}
    best = sorted(filled, key=lambda name: -scores[name])
    shown = ", ".join(f"{name!r} ({'a table of dates and numbers' if scores[name] else 'no table'})" for name in best)
    others = [name for name in best[1:3] if scores[name] or not scores[best[0]]]
    raise InputError(
        f"there are several sheets: {shown}",
        f"Say which: {' or '.join(f'sheet = {chr(34)}{name}{chr(34)}' for name in [best[0], *others])}.",
        file=file,
    )


def _table_score(rows: list[list[Any]]) -> int:
    """Cells with numbers below a header beside a column of dates; 0 without dates."""
    try:
        cells = _sheet(rows, 1 + find_header(rows), "")
    except InputError:
        return 0
    if not any(looks_like_dates(cells[name], str(name)) for name in cells.columns):
        return 0
    return (
        sum(int(cells[name].notna().sum()) for name in cells.columns if pd.api.types.is_numeric_dtype(cells[name])) + 1
    )


def _as_shown(cell: Any) -> Any:
    """A cell's value; a whole number shown with leading zeros, as ids are, as the text that is shown."""
    value = cell.value
    shown = getattr(cell, "number_format", "")
    if isinstance(value, int) and not isinstance(value, bool) and len(shown) > 1 and set(shown) == {"0"}:
        return str(value).zfill(len(shown))
    return value


def _sheet(rows: list[list[Any]], header_row: int, file: str) -> pd.DataFrame:
    header, body = (rows[header_row - 1] if header_row else [None] * len(rows[0])), rows[header_row:]
    width = max((i + 1 for i, cell in enumerate(header) if cell is not None), default=len(header))
    kept = [(header_row + 1 + i, row[:width]) for i, row in enumerate(body) if any(c is not None for c in row[:width])]
    if not kept:
        raise InputError("there is a header but no rows", file=file)
    names = tidy_names(header[:width], file)
    columns = {}
    for i, name in enumerate(names):
        cells = [row[i] if i < len(row) else None for _, row in kept]
        if not unnamed(header[i]) or any(cell is not None for cell in cells):
            columns[name] = _plain(pd.Series(cells, dtype=object))
    return pd.DataFrame(columns).set_axis(pd.Index([row for row, _ in kept]), axis=0)


def _plain(column: pd.Series) -> pd.Series:
    """A column as numbers, datetimes or text, whichever all of its cells are; text where they are mixed."""
    column = column.reset_index(drop=True)
    if isinstance(column.dtype, pd.CategoricalDtype):
        column = column.astype(object)
    if not (pd.api.types.is_object_dtype(column) or pd.api.types.is_string_dtype(column)):
        return column
    kind = pd.api.types.infer_dtype(column, skipna=True)
    if kind == "empty":
        return pd.Series(np.full(len(column), np.nan))
    if kind in ("integer", "floating", "decimal", "boolean", "mixed-integer-float"):
        return column.astype(np.float64)
    if kind in ("datetime", "date", "datetime64"):
        known = column.dropna()
        zoned = {getattr(each, "tzinfo", None) is not None for each in (known.iloc[0], known.iloc[-1])}
        return pd.Series(pd.to_datetime(column, utc=zoned == {True}))
    if kind == "string":
        return column.where(column.notna(), "").str.strip().astype(object)
    return pd.Series([_text(each) for each in column], dtype=object)


def _text(cell: Any) -> str:
    if cell is None or cell != cell:  # noqa: PLR0124  NaN
        return ""
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    if isinstance(cell, datetime):
        return cell.date().isoformat() if (cell.hour, cell.minute, cell.second) == (0, 0, 0) else str(cell)
    return str(cell).strip()
