"""Cells to numbers: which marks a file writes them with, and which cells are none."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError

#: Cells that mean "nothing is known", in lower case.
EMPTY = ("", "na", "n/a", "n.a.", "nan", "null", "#n/a", "none", "-", "–", "—", "..", "...")

#: Sums of squares of larger numbers would not be finite.
LARGEST = 1e100

_SPACES = "\N{NO-BREAK SPACE}\N{NARROW NO-BREAK SPACE}\N{THIN SPACE} '\N{RIGHT SINGLE QUOTATION MARK}"
_OTHER = {",": ".", ".": ","}
_ALIKE = str.maketrans(dict.fromkeys(_SPACES, "\N{NO-BREAK SPACE}"))
_MARKED = re.compile(rf"[+-]?[\d.,{_SPACES}]*\d[\d.,]*")


@dataclass(frozen=True)
class Marks:
    """The decimal mark and the mark between thousands.

    `doubtful` holds a cell by column that both could explain, `seen` a cell that reported the marks.
    """

    decimal: str = "."
    thousands: str = ""
    doubtful: dict[str, str] = field(default_factory=dict)
    seen: str = ""

    def plain(self, text: str) -> str:
        """A number's text as Python reads it; text with marks in wrong places comes back as it is."""
        if not text.isascii() or " " in text or "'" in text:
            text = text.translate(_ALIKE)
        for mark in {self.thousands, "\N{NO-BREAK SPACE}"} - {""}:
            if mark in text:
                whole, point, rest = text.partition(self.decimal)
                # In groups of three, or, as in India, of two before the last three.
                m = re.escape(mark)
                groups = rf"[+-]?(\d{{1,3}}({m}\d{{3}})+|\d{{1,2}}({m}\d{{2}})*{m}\d{{3}})"
                if re.fullmatch(groups, whole) is None or mark in rest:
                    return "?" + text
                text = whole.replace(mark, "") + point + rest
        if self.decimal == ".":
            return text
        return "?" + text if "." in text else text.replace(self.decimal, ".")

    def doubt(self, column: str, file: str) -> InputError:
        """The error for a column whose numbers can be read in two ways."""
        cell = self.doubtful[column]
        mark = "," if "," in cell else "."
        other = _OTHER[mark]
        return InputError(
            f"{cell!r} can be {cell.replace(mark, '')} or {cell.replace(mark, '.')}",
            f'Say which mark separates decimals: decimal = "{other}" or decimal = "{mark}".',
            file=file,
            column=column,
        )


def find_marks(
    columns: Mapping[str, Iterable[str]], separator: str, decimal: str | None = None, thousands: str | None = None
) -> Marks:
    """Find the marks from how the numbers in all of a file's columns of text are written.

    A mark that stands twice in a number, or before another, separates thousands; one that is followed by another number
    of digits than three, or follows a leading zero, separates decimals. Where all numbers with a mark could be either,
    a dot in a file separated by commas, tabs or bars is taken for the decimal mark, as is usual; anything else is
    kept as a doubt.
    """
    if decimal is not None:
        return Marks(decimal, thousands if thousands is not None else _OTHER[decimal])
    decimals: dict[str, str] = {}
    known: str | None = None
    open_cells: dict[str, dict[str, str]] = {",": {}, ".": {}}
    for column, cells in columns.items():
        for cell in cells:
            if known is not None and cell.count(known) == 1 and _OTHER[known] not in cell:
                continue  # once a number has shown the decimal mark, others written the same way add nothing
            if ("," in cell or "." in cell) and _MARKED.fullmatch(cell):
                noted = _decimal_mark_of(cell)
                if noted:
                    known = noted
                    decimals.setdefault(noted, cell)
                else:
                    open_cells["," if "," in cell else "."].setdefault(column, cell)
    if len(decimals) == 1:
        ((mark, cell),) = decimals.items()
        return Marks(mark, thousands if thousands is not None else _OTHER[mark], seen=cell)
    if len(decimals) == 2:
        return Marks(".", "")  # cells of the other kind are then reported as no numbers
    if thousands is not None:
        return Marks(_OTHER.get(thousands, "."), thousands)
    doubtful = dict(open_cells[","])
    if separator == ";" or doubtful:
        doubtful |= open_cells["."]
    return Marks(".", "", doubtful)


def _decimal_mark_of(cell: str) -> str | None:
    """The decimal mark that a number's text gives away, or None."""
    body = cell.lstrip("+-")
    kinds = [mark for mark in ",." if mark in body]
    if len(kinds) == 2:
        return max(kinds, key=body.rindex)
    (mark,) = kinds
    other = _OTHER[mark]
    if body.count(mark) > 1:
        return other
    whole, _, part = body.partition(mark)
    if len(part) != 3 or len(whole) > 3 or whole.startswith("0") or not whole:
        return mark
    return None


def is_missing(cell: object, further: frozenset[str] = frozenset()) -> bool:
    """Whether a cell means that nothing is known; `further` words do so too, in lower case."""
    if cell is None or cell != cell:  # noqa: PLR0124  NaN
        return True
    text = str(cell).strip().lower()
    return text in EMPTY or text in further


def all_numbers(frame: pd.DataFrame) -> bool:
    """Whether all columns are of NumPy's plain numbers, of which nothing has to be found out."""
    return all(isinstance(kind, np.dtype) and kind.kind in "biuf" for kind in frame.dtypes)


def words_of(cells: pd.Series) -> NDArray[np.object_]:
    """Words (n,) of a column without the blanks around them, an empty text where a cell is empty."""
    empty = cells.isna().to_numpy()
    return np.array(
        ["" if gone else str(cell).strip() for cell, gone in zip(cells.tolist(), empty, strict=True)], dtype=object
    )


def wrong_cell(cell: pd.Series, numbers: NDArray[np.float64], i: int, file: str) -> InputError:
    """The error for the `i`-th cell of a column, of which `numbers` (n,) could be read."""
    why = "not a number" if np.isnan(numbers[i]) else "not finite" if np.isinf(numbers[i]) else "too large"
    word = str(cell.iloc[i]).strip()
    empty = "leave it empty if nothing is known"
    plain = word.startswith("#") or not any(letter.isdigit() for letter in word)  # such as #DIV/0!
    if np.isnan(numbers[i]) and plain and '"' not in word and len(word) < 20:
        empty = f'if it means that nothing is known, state missing = ["{word}"]'
    return InputError(
        f"found {str(cell.iloc[i])!r}, which is {why}",
        f"Correct the cell, or {empty}.",
        file=file,
        row=int(cell.index[i]),
        column=str(cell.name),
    )


def to_numbers(cell: pd.Series, marks: Marks | None = None) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Numbers (n,), and which cells are neither a finite number nor empty."""
    if pd.api.types.is_numeric_dtype(cell) or pd.api.types.is_bool_dtype(cell):
        if pd.api.types.is_complex_dtype(cell):
            return np.zeros(len(cell)), np.ones(len(cell), dtype=bool)
        numbers = cell.to_numpy(dtype=np.float64, na_value=np.nan, copy=True)
        return numbers, np.abs(numbers) > LARGEST
    if pd.api.types.is_datetime64_any_dtype(cell):
        return np.full(len(cell), np.nan), cell.notna().to_numpy()
    text = cell.astype(str).str.strip().str.lower()
    empty = (cell.isna() | text.isin(EMPTY)).to_numpy()
    if text[~empty].isin(("true", "false")).all() and not empty.all():
        return np.where(empty, np.nan, (text == "true").to_numpy()), np.zeros(len(cell), dtype=bool)
    if marks is not None:
        text = text.map(marks.plain)
    numbers = np.array(pd.to_numeric(text.where(~empty), errors="coerce"), dtype=np.float64)
    # Python's own reading is exact to the last digit; that of older pandas is not.
    read = ~np.isnan(numbers)
    numbers[read] = [float(each) for each in text[read]]
    return numbers, (np.isnan(numbers) & ~empty) | (np.abs(numbers) > LARGEST)
