"""Where the table lies in a sheet or file: its header below titles, units below names, totals, notes."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, Treatment
from offing.tables.number_parsing import Marks, is_missing, to_numbers
from offing.tables.timestamps import looks_like_dates

#: Rows of a sheet that are looked at to find its header.
HEAD_ROWS = 60
_TOTAL = re.compile(
    r"(grand |sub-?|yearly |annual )?(totals?|sums?|subtotals?|overall|averages?|mean|gesamt(summe)?|summe"
    r"|zwischensumme|somme|total général|totale|suma|soma|totaal|summa|yhteensä|celkem|toplam|razem|ø)( .*)?"
    r"|.* (total|subtotal|sum)",
    re.IGNORECASE,
)


@dataclass
class Report:
    """What reading a source found out, did and assumed.

    `settings` are the parameters of `read` that would have said what was assumed, so that a study can say it next
    time; `uses` says of each column what it is used as, or why it is not used.
    """

    file: str
    findings: list[Finding] = field(default_factory=list)
    treatments: list[Treatment] = field(default_factory=list)
    settings: dict[str, Any] = field(default_factory=dict)
    uses: dict[str, str] = field(default_factory=dict)

    def assume(self, finding: Finding, **settings: Any) -> None:
        """Note an assumption, and what would state it."""
        self.findings.append(finding)
        for key, value in settings.items():
            known = self.settings.get(key)
            self.settings[key] = {**known, **value} if isinstance(known, dict) and isinstance(value, dict) else value

    def log(self, column: str, row: object, before: str, after: str, reason: str) -> None:
        """Log a change to the data."""
        self.treatments.append(Treatment(self.file, column, f"row {row}", before, after, reason))


def is_total(text: object) -> bool:
    """Whether a text names a total, a sum or a mean.

    Examples
    --------
    >>> from offing.tables.layout import is_total
    >>> is_total("Grand total"), is_total("2023 Total"), is_total("Totnes")
    (True, True, False)
    """
    return _TOTAL.fullmatch(str(text).strip().rstrip(":")) is not None


def find_header(rows: Sequence[Sequence[Any]]) -> int:
    """Place of the row that holds the names of the columns: the first as wide as most rows, and not of numbers.

    Examples
    --------
    >>> from offing.tables.layout import find_header
    >>> find_header([["Ferry tickets"], [], ["month", "sold"], ["2024-01", "3"], ["2024-02", "5"]])
    2
    """
    # A line that starts with # is a remark, with however many commas.
    counts = [
        0 if row and str(row[0]).lstrip().startswith("# ") else sum(not _blank(cell) for cell in row) for row in rows
    ]
    wide = Counter(each for each in counts if each > 1)
    if not wide:
        return 0
    most = max(wide.values())
    usual = max(width for width, times in wide.items() if times == most)
    for i, row in enumerate(rows):
        nameless_first = counts[i] == usual - 1 and usual > 2 and bool(row) and _blank(row[0])
        if (counts[i] >= usual or nameless_first) and counts[i] > 1:
            filled = [str(cell) for cell in row if not _blank(cell) and _YEAR.fullmatch(str(cell)) is None]
            dates = [cell for cell in filled if _DATE.match(cell)]
            # Many dates are names of columns; one beside numbers is a row without names above it.
            numbers = sum(_NUMBER.fullmatch(cell) is not None for cell in filled) + (len(dates) == 1)
            return 0 if numbers > 0.5 * counts[i] else i
    return 0


_NUMBER = re.compile(r"\s*[-+(]?[$€£]?\s*\d[\d.,' ]*%?\)?\s*")
_YEAR = re.compile(r"(19|20)\d{2}(\.0)?")
_DATE = re.compile(r"\d{1,4}[-/.]\d{1,2}([-/.]\d|$)")


def _blank(cell: Any) -> bool:
    return cell is None or cell != cell or not str(cell).strip()  # noqa: PLR0124  NaN


def names_are_values(names: Sequence[str]) -> bool:
    """Whether what should be names of columns is a row of a date and numbers."""
    dates = [name for name in names if looks_like_dates(pd.Series([name]), "date") and not _YEAR.fullmatch(name)]
    numbers = [name for name in names if _NUMBER.fullmatch(name) and name not in dates]
    return len(dates) == 1 and bool(numbers) and len(dates) + len(numbers) == len(names)


def without_other_rows(
    cells: pd.DataFrame, time: str, report: Report, marks: Marks | None, totals: str
) -> pd.DataFrame:
    """The rows of the table itself, without repeated headers, notes below, a row of units, and totals.

    Totals are left out where they equal the sum, or the mean, of the rows that they stand for; each row is logged.

    Raises
    ------
    InputError
        If a row that is called a total is none.
    """
    if pd.api.types.is_datetime64_any_dtype(cells[time]) or all(
        str(cell)[:1].isdigit() for cell in cells[time].unique()
    ):
        return cells
    texts = [str(cell).strip() if not is_missing(cell) else "" for cell in cells[time]]
    others = [str(name) for name in cells.columns if name != time]
    keep = np.ones(len(cells), dtype=bool)
    suspects = [i for i, text in enumerate(texts) if not text or not text[:1].isdigit()]
    total_rows: list[int] = []
    for i in suspects:
        row = cells.iloc[i]
        filled = [name for name in others if not is_missing(row[name])]
        number = cells.index[i]
        called = texts[i] if texts[i] else next((str(row[name]) for name in filled if is_total(row[name])), "")
        if texts[i] == time and all(str(row[name]) == name for name in filled):
            keep[i] = False
            report.log(time, number, "the header again", "not read", "no period")
        elif called and is_total(called):
            total_rows.append(i)
        elif texts[i] and not filled and not _is_date(texts[i]):
            keep[i] = False
            report.log(time, number, repr(texts[i][:60]), "not read", "a note, no period")
    if total_rows and totals != "keep":
        keep[total_rows] = False
        if totals == "check":
            _check_totals(cells, others, total_rows, keep, report=report, marks=marks)
        for i in total_rows:
            called = texts[i] or next(str(cells.iloc[i][name]) for name in others if is_total(cells.iloc[i][name]))
            report.log(time, cells.index[i], repr(called), "not read", "a total of the rows above")
    return cells if keep.all() else pd.DataFrame(cells[keep])


def _is_date(text: str) -> bool:
    return looks_like_dates(pd.Series([text]), "date")


def units_row(cells: pd.DataFrame, time: str, report: Report) -> tuple[pd.DataFrame, dict[str, str]]:
    """The table without a first row that holds the units of the columns below it, and these units."""
    if len(cells) < 3 or pd.api.types.is_datetime64_any_dtype(cells[time]):
        return cells, {}
    first, rest = cells.iloc[0], cells.iloc[1:]
    head = "" if is_missing(first[time]) else str(first[time]).strip()
    if head[:1].isdigit() or _is_date(head) or is_total(head):
        return cells, {}
    found = {}
    for name in cells.columns:
        if name == time or is_missing(first[name]):
            continue
        word = str(first[name]).strip()
        if any(letter.isdigit() for letter in word[:1]) or len(word) > 20:
            return cells, {}
        below = [cell for cell in rest[name].tolist()[:50] if not is_missing(cell)]
        if not below or not all(_NUMBER.match(str(cell)) for cell in below):
            return cells, {}
        found[str(name)] = word.strip("[]()")
    if not found:
        return cells, {}
    report.log(time, cells.index[0], ", ".join(found.values()), "units of the columns", "no period")
    return pd.DataFrame(rest), found


def _check_totals(
    cells: pd.DataFrame,
    others: list[str],
    total_rows: list[int],
    keep: np.ndarray,
    *,
    report: Report,
    marks: Marks | None,
) -> None:
    since = 0
    numbers = {name: to_numbers(cells[name], marks)[0] for name in others}
    real = {name: values for name, values in numbers.items() if np.isfinite(values).mean() > 0.5}
    for i in total_rows:
        above = np.flatnonzero(keep[:i])
        parts = [above[above >= since], above, np.flatnonzero(keep)]  # some have the total first
        since = i + 1
        stated = {name: values[i] for name, values in real.items() if np.isfinite(values[i])}
        if stated and not any(_adds_up(stated, real, part) for part in parts):
            name = next(iter(stated))
            nearest = min(
                (float(np.nansum(real[name][part])) for part in parts), key=lambda sum_: abs(sum_ - stated[name])
            )
            raise InputError(
                f"the row is called a total, but holds {stated[name]:,.10g} where the rows above add up to "
                f"{nearest:,.10g}",
                'Correct it, or state totals = "skip" to leave such rows out unchecked.',
                file=report.file,
                row=int(cells.index[i]),
                column=name,
            )


def _adds_up(stated: dict[str, float], real: dict[str, np.ndarray], part: np.ndarray) -> bool:
    """Whether one of the numbers is the sum, or the mean, of its column: a total of prices may be anything."""
    if not len(part):
        return False
    hits = 0
    for name, value in stated.items():
        values = real[name][part]
        for whole in (float(np.nansum(values)), float(np.nanmean(values)) if np.isfinite(values).any() else 0.0):
            if abs(whole - value) <= 1e-6 * max(abs(whole), 1.0) + 0.51 * len(part) * 10.0 ** -_decimals(values):
                hits += 1
                break
    return hits > 0


def _decimals(values: np.ndarray) -> int:
    """Decimals in which the values are written, at most six."""
    known = values[np.isfinite(values)]
    return next((n for n in range(7) if np.allclose(known, np.round(known, n), rtol=0.0, atol=1e-9)), 6)


def total_columns(columns: dict[str, np.ndarray]) -> dict[str, list[str]]:
    """Columns that are called a total and equal the sum of two or more others, with these.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.tables.layout import total_columns
    >>> north, south = np.array([1.0, 2.0, 4.0]), np.array([5.0, 3.0, 1.0])
    >>> total_columns({"north": north, "south": south, "total": north + south})
    {'total': ['north', 'south']}
    """
    found: dict[str, list[str]] = {}
    for name, values in columns.items():
        if not is_total(name):
            continue
        before = list(columns)[: list(columns).index(name)]
        others = [other for other in columns if other != name and other not in found]
        for parts in (others, [other for other in before if other not in found]):
            known = np.isfinite(values)
            if len(parts) > 1 and known.sum() > 2:
                sums = np.nansum([columns[other] for other in parts], axis=0)
                if np.allclose(
                    sums[known], values[known], rtol=1e-6, atol=1e-6 * float(np.abs(values[known]).max() or 1.0)
                ):
                    found[name] = parts
                    break
    return found
