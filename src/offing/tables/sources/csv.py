"""CSV files as people have them: any separator, encoding and number format, packed or not."""

from __future__ import annotations

import codecs
import csv
import gzip
import io
import re
import zlib
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import Finding, InputError
from offing.tables.layout import HEAD_ROWS, Report, find_header
from offing.tables.number_parsing import EMPTY, Marks, find_marks
from offing.tables.sources.source import CHUNK, NotPlainError, Opened, tidy_names, titles_note, unnamed

_SEPARATORS = (",", ";", "\t", "|")
_NAMES = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
_HEAD = 1 << 16
#: How files of other kinds begin that are sometimes called .csv.
_OTHER_KINDS = {
    b"pk\x03\x04": "a workbook (.xlsx) or an archive",
    b"\xd0\xcf\x11\xe0": "an old workbook (.xls)",
    b"%pdf": "a PDF",
    b"<!doctype": "a web page",
    b"<html": "a web page",
    b"<?xml": "XML",
    b"{": "JSON",
    b"sqlite format": "a database",
}
_EMPTY = [*EMPTY, *(each.upper() for each in EMPTY), "NaN", "Null", "None"]


@dataclass(frozen=True)
class CsvFile:
    """A CSV file; what is not stated is found from its first 64 kB."""

    path: Path
    file: str
    separator: str | None = None
    decimal: str | None = None
    thousands: str | None = None
    encoding: str | None = None
    header_row: int | None = None

    @cached_property
    def packed(self) -> bool:
        """Whether the file is packed with gzip."""
        return Opened(self.path).bytes(2) == b"\x1f\x8b"

    @cached_property
    def head(self) -> bytes:
        """The first bytes, unpacked."""
        raw = Opened(self.path).bytes(_HEAD)
        for start, kind in _OTHER_KINDS.items():
            if raw.lstrip()[:20].lower().startswith(start):
                raise InputError(
                    f"the file is {kind}, not CSV", "Give it its own ending, or save the table as CSV.", file=self.file
                )
        if not self.packed:
            return raw
        try:
            return zlib.decompressobj(16 + zlib.MAX_WBITS).decompress(raw)
        except zlib.error as error:
            raise InputError("the file is not valid gzip", "Pack it again.", file=self.file) from error

    @cached_property
    def code(self) -> str:
        """The encoding: as stated, by its byte order mark, UTF-8 where that fits, else Latin-1 (as Windows has it)."""
        if self.encoding is not None:
            return self.encoding
        if self.head.startswith((b"\xff\xfe", b"\xfe\xff")):
            return "utf-16"
        if self.head[1:200:2].count(0) > len(self.head[1:200:2]) / 2:
            return "utf-16-le"
        return "utf-8-sig" if self._is_utf8() else "cp1252"

    @cached_property
    def mark(self) -> str:
        """The separator: as stated, or the one that cuts most of the first lines into equal rows."""
        if self.separator is not None:
            return self.separator
        lines = [line for line in self._lines if line.strip()]
        return max(_SEPARATORS, key=lambda mark: _equal_cells(lines, mark))

    @cached_property
    def _lines(self) -> list[str]:
        """The first lines from the stated header on, or all first ones."""
        first = (self.header_row or 1) - 1
        lines = self._decode(self.head).splitlines()[first : first + HEAD_ROWS]
        return lines[:-1] if len(self.head) >= _HEAD and len(lines) > 1 else lines

    @cached_property
    def header(self) -> int:
        """Row of the names, from 1: as stated, or the first row that is as wide as most; 0 where there is none."""
        if self.header_row is not None:
            return self.header_row
        rows = _rows(self._lines, self.mark)
        # A cell in quotes may hold a line's end; what is found by lines then says nothing.
        return 1 + find_header(rows) if rows is not None and len(rows) == len(self._lines) else 1

    def whole(self) -> pd.DataFrame:
        """All cells as text, indexed by their row in the file."""
        with self._told():
            cells = pd.read_csv(self.path, header=None, dtype=object, skiprows=self._skipped, **self._options())
        return self._named(cells)

    def sample(self) -> pd.DataFrame:
        """The first rows as text."""
        return self._sample

    @cached_property
    def _sample(self) -> pd.DataFrame:
        with self._told():
            cells = pd.read_csv(
                self.path, header=None, dtype=object, skiprows=self._skipped, nrows=2000, **self._options()
            )
        return self._named(cells)

    def chunks(self, text: Sequence[str], numbers: Sequence[str], plain: bool) -> Iterator[tuple[pd.DataFrame, float]]:
        """Parts of some columns: numbers converted by the parser, or all as text, to report a wrong cell."""
        names = list(dict.fromkeys((*text, *numbers)))
        if not plain:
            yield from self._parts(names, {"dtype": object})
            return
        marks = self.marks(self.sample()[list(numbers)])
        if marks.doubtful or marks.thousands not in ("", ",", "."):
            raise NotPlainError
        # Categories are found while parsing, far faster than texts are compared afterwards.
        kinds: dict[str, Any] = {name: self._kind(name) for name in text} | dict.fromkeys(numbers, np.float64)
        quick: dict[str, Any] = {
            "dtype": kinds,
            "decimal": marks.decimal,
            "skip_blank_lines": True,
            "low_memory": False,
        }
        quick |= {
            "na_values": dict.fromkeys(numbers, _EMPTY),
            "skipinitialspace": f"{self.mark} ".encode() in self.head,
        }
        try:
            for part, share in self._parts(names, quick | ({"thousands": marks.thousands} if marks.thousands else {})):
                if any(_of_numbers(part[name]) for name in text):
                    raise NotPlainError
                yield part, share
        except (InputError, pd.errors.ParserError, UnicodeDecodeError):
            raise
        except ValueError as error:
            raise NotPlainError from error

    def _kind(self, name: str) -> Any:
        """The type as which a column of text is parsed: categories of numbers would make one of 00007 and 7."""
        return str if pd.to_numeric(self.sample()[name], errors="coerce").notna().any() else "category"

    def _parts(self, names: list[str], options: dict[str, Any]) -> Iterator[tuple[pd.DataFrame, float]]:
        """Chunks of some columns with the share of the file that has been read, their rows numbered as in the file."""
        size = max(self.path.stat().st_size, 1)
        settings = self._options() | options | {"compression": None, "skiprows": self._skipped, "header": 0}
        with self._told(), self.path.open("rb") as raw:
            handle: Any = gzip.GzipFile(fileobj=raw) if self.packed else raw
            with pd.read_csv(handle, usecols=self._written(names), chunksize=CHUNK, **settings) as reader:
                for part in reader:
                    named = part.set_axis([str(name).strip() for name in part.columns], axis=1)
                    named.index = named.index + self.header + 1
                    yield named, min(raw.tell() / size, 1.0)

    def _written(self, names: list[str]) -> list[int]:
        """Places of some columns, by their names without the spaces around them."""
        with self._told():
            first = pd.read_csv(
                self.path, header=None, dtype=object, nrows=1, **self._options() | {"skiprows": self._skipped}
            )
        written = tidy_names(first.iloc[0].tolist(), self.file)
        return sorted(written.index(name) for name in names)

    def marks(self, cells: pd.DataFrame) -> Marks:
        """How numbers are written."""
        text = {str(name): [each for each in cells[name] if isinstance(each, str)] for name in cells.columns}
        return find_marks(text, self.mark, self.decimal, self.thousands)

    def report(self, report: Report) -> None:
        """An encoding that had to be guessed, and titles above the header."""
        if self.encoding is None and self.code == "cp1252":
            message = f"{self.file}: the text is not UTF-8 and is read as Latin-1."
            advice = 'State encoding = "latin-1", or save it as UTF-8.'
            report.assume(Finding("encoding", "note", message, advice=advice), encoding="latin-1")
        if self.header_row is None and self.header > 1:
            report.assume(titles_note(self.file, self.header), header_row=self.header)

    @property
    def _skipped(self) -> int:
        return max(self.header - 1, 0)

    def _options(self) -> dict[str, Any]:
        return {
            "sep": self.mark,
            "encoding": self.code,
            "keep_default_na": False,
            "skip_blank_lines": False,
            "skipinitialspace": True,
            "compression": "gzip" if self.packed else None,
        }

    def _named(self, cells: pd.DataFrame) -> pd.DataFrame:
        """The first row as names; empty rows and columns without name and content omitted."""
        cells = cells.fillna("").apply(lambda column: column.str.strip())
        cells.index = pd.RangeIndex(max(self.header, 1), max(self.header, 1) + len(cells))
        header: list[Any] = cells.iloc[0].tolist() if self.header else [""] * cells.shape[1]
        cells = cells.set_axis(tidy_names(header, self.file), axis=1).iloc[min(self.header, 1) :]
        # A separator at the end of every line makes a column without name and content.
        keep = [not unnamed(name) or bool((cells.iloc[:, i] != "").any()) for i, name in enumerate(header)]
        cells = pd.DataFrame(cells.loc[:, keep])
        cells = pd.DataFrame(cells[(cells != "").any(axis=1)])
        if cells.empty:
            raise InputError("there is a header but no rows", file=self.file)
        return cells

    def _is_utf8(self) -> bool:
        """Whether all of the file is UTF-8, looked at in pieces."""
        if not _decodes(self.head, "utf-8"):
            return False
        opener: Any = gzip.open if self.packed else open
        decoder = codecs.getincrementaldecoder("utf-8")()
        try:
            with opener(self.path, "rb") as file:
                while piece := file.read(1 << 22):
                    if not piece.isascii() or decoder.getstate()[0]:  # most pieces are, which is known at once
                        decoder.decode(piece)
                decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return False
        except (OSError, EOFError, zlib.error) as error:
            raise InputError("the file is not valid gzip", "Pack it again.", file=self.file) from error
        return True

    def _decode(self, head: bytes) -> str:
        try:
            return head.decode(self.code, errors="ignore")
        except LookupError as error:
            raise InputError(f"found {self.encoding!r}", 'Give one such as "latin-1".', key="encoding") from error

    def _told(self) -> _Told:
        return _Told(self)


@dataclass(frozen=True)
class _Told:
    """Words for what pandas says of a file."""

    source: CsvFile

    def __enter__(self) -> None:
        _ = self.source.mark  # a file that cannot be opened is reported first

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        file = self.source.file
        if isinstance(error, pd.errors.EmptyDataError):
            raise InputError("the file is empty", file=file) from error
        if isinstance(error, UnicodeDecodeError):
            raise InputError(
                f"the text is not {self.source.code.upper()}", "State another encoding, or save it as UTF-8.", file=file
            ) from error
        if isinstance(error, (gzip.BadGzipFile, EOFError, zlib.error)):
            raise InputError("the file is not valid gzip", "Pack it again.", file=file) from error
        if isinstance(error, pd.errors.ParserError):
            noted = re.search(r"Expected (\d+) fields in line (\d+), saw (\d+)", str(error))
            opened = re.search(r"EOF inside string starting at row (\d+)", str(error))
            if opened is not None:
                raise InputError(
                    "a double quote opens and is never closed",
                    "Close it, or remove it.",
                    file=file,
                    row=int(opened[1]) + 1,
                ) from error
            if noted is None:
                raise InputError(f"the text is not valid CSV: {str(error).strip()}", file=file) from error
            raise InputError(
                f"found {noted[3]} cells, the header has {noted[1]}",
                f"Put cells that hold {_NAMES.get(self.source.mark, 'separators')} in double quotes.",
                file=file,
                row=int(noted[2]),
            ) from error


def _of_numbers(cells: pd.Series) -> bool:
    """Whether the parser took a column's categories for numbers."""
    return isinstance(cells.dtype, pd.CategoricalDtype) and pd.api.types.is_numeric_dtype(cells.cat.categories)


def text_cells(source: str | Path | pd.DataFrame, called: str) -> tuple[pd.DataFrame, str]:
    """All cells of a CSV file or a frame as text, empty where nothing is known, indexed by row; and what to call it."""
    if not isinstance(source, pd.DataFrame):
        return CsvFile(Path(source), Path(source).name).whole(), Path(source).name
    cells = source.astype(object).where(source.notna(), "").astype(str)
    return cells.set_axis(pd.RangeIndex(1, len(cells) + 1), axis=0), called


def _decodes(head: bytes, code: str) -> bool:
    try:
        head.decode(code)
    except UnicodeDecodeError as error:
        return error.end >= len(head) - 3 and len(head) >= _HEAD  # a letter cut in two at the end of the piece
    return True


def _rows(lines: list[str], mark: str) -> list[list[str]] | None:
    """The cells of some lines; None where they are no CSV."""
    try:
        return list(csv.reader(io.StringIO("\n".join(lines)), delimiter=mark))
    except csv.Error:
        return None


def _equal_cells(lines: list[str], mark: str) -> tuple[int, int]:
    """How many of the lines have the same number of cells, above one; and how many cells those are."""
    widths = Counter(len(row) for row in _rows(lines, mark) or [] if len(row) > 1)
    return max(((times, width) for width, times in widths.items()), default=(0, 0))
