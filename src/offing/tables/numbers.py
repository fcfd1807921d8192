"""Cells to numbers."""

from __future__ import annotations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError

#: Cells that mean "nothing is known", in lower case.
_EMPTY = ("", "na", "n/a", "nan", "null")

#: Sums of squares of larger numbers would not be finite.
LARGEST = 1e100


def number_columns(cells: pd.DataFrame, file: str) -> tuple[dict[str, NDArray[np.float64]], dict[str, InputError]]:
    """Columns of finite numbers (n,), and for every other column the error that tells its first wrong cell.

    The index of `cells` holds the rows' numbers in the source. Text columns that nobody uses must not stop
    the rest from being read, so their errors are kept for whoever asks for them.
    """
    columns, unusable = {}, {}
    for name in cells.columns:
        cell = cells[name]
        numbers, wrong = _numbers(cell)
        if wrong.any():
            i = int(np.flatnonzero(wrong)[0])
            why = "not a number" if np.isnan(numbers[i]) else "not finite" if np.isinf(numbers[i]) else "too large"
            unusable[str(name)] = InputError(
                f"found {str(cell.iloc[i])!r}, which is {why}",
                "Correct the cell, or leave it empty if nothing is known.",
                file=file,
                row=int(cell.index[i]),
                column=str(name),
            )
        else:
            columns[str(name)] = numbers
    return columns, unusable


def _numbers(cell: pd.Series) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Numbers (n,), and which cells are neither a finite number nor empty."""
    if pd.api.types.is_numeric_dtype(cell) or pd.api.types.is_bool_dtype(cell):
        if pd.api.types.is_complex_dtype(cell):
            return np.zeros(len(cell)), np.ones(len(cell), dtype=bool)
        numbers = cell.to_numpy(dtype=np.float64, na_value=np.nan, copy=True)
        return numbers, np.abs(numbers) > LARGEST
    text = cell.astype(str).str.strip().str.lower()
    empty = (cell.isna() | text.isin(_EMPTY)).to_numpy()
    if text[~empty].isin(("true", "false")).all() and not empty.all():
        return np.where(empty, np.nan, (text == "true").to_numpy()), np.zeros(len(cell), dtype=bool)
    numbers = np.array(pd.to_numeric(text.where(~empty), errors="coerce"), dtype=np.float64)
    # Python's own reading is exact to the last digit; that of older pandas is not.
    read = ~np.isnan(numbers)
    numbers[read] = [float(each) for each in text[read]]
    return numbers, (np.isnan(numbers) & ~empty) | (np.abs(numbers) > LARGEST)
