"""Frames, Parquet files and workbooks: cells that come with types."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, nearest, optional
from offing.tables.numbers import Marks, all_numbers, find_marks
from offing.tables.sources.source import CHUNK, Opened, tidy_names, unnamed


@dataclass(frozen=True)
class FrameSource:
    """A frame in memory, indexed by its rows' numbers."""

    frame: pd.DataFrame
    file: str

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
        return find_marks(text, ",") if any(text.values()) else None

    def findings(self) -> tuple[Finding, ...]:
        """Nothing is assumed."""
        return ()


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


def workbook(path: Path, file: str, sheet: str | None, header_row: int) -> FrameSource:
    """One sheet of an Excel workbook: the values that its cells show, never their formulas.

    Raises
    ------
    InputError
        If there are several sheets and none is stated, or no such sheet, header or rows.
    """
    Opened(path).bytes(4)
    excel = optional("openpyxl", "excel", "an Excel workbook")
    try:
        book = excel.load_workbook(path, read_only=True, data_only=True)
    except Exception as error:
        raise InputError("the file is not a valid workbook (.xlsx)", "Save it again.", file=file) from error
    try:
        if sheet is None and len(book.sheetnames) > 1:
            named = ", ".join(repr(name) for name in book.sheetnames)
            raise InputError(
                f"there are several sheets: {named}", f'Say which: sheet = "{book.sheetnames[0]}".', file=file
            )
        if sheet is not None and sheet not in book.sheetnames:
            raise InputError(f"there is no sheet {sheet!r}", nearest(sheet, book.sheetnames), file=file, key="sheet")
        rows = [list(row) for row in book[sheet or book.sheetnames[0]].iter_rows(values_only=True)]
    finally:
        book.close()
    if len(rows) < header_row or not any(cell is not None for cell in rows[header_row - 1]):
        raise InputError(
            f"row {header_row} of the sheet is empty", "Say which row holds the names: header_row = 3.", file=file
        )
    return FrameSource(_sheet(rows, header_row, file), file)


def _sheet(rows: list[list[Any]], header_row: int, file: str) -> pd.DataFrame:
    header, body = rows[header_row - 1], rows[header_row:]
    width = max(i + 1 for i, cell in enumerate(header) if cell is not None)
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
