"""Every column of a source read, and what it is used as, or why it is not."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding
from offing.tables.layout import Report, total_columns
from offing.tables.notation import understood
from offing.tables.number_parsing import Marks, all_numbers
from offing.tables.placing import ReadColumn, plain_columns
from offing.tables.read_options import Reading
from offing.tables.sources import Source

#: Names of columns that number the rows, where they do.
_NUMBERING = re.compile(r"column 1|unnamed: 0|index|idx|row|no\.?|nr\.?|#|id|line", re.IGNORECASE)


def read_columns(
    cells: pd.DataFrame, source: Source, reading: Reading, report: Report
) -> tuple[dict[str, ReadColumn], dict[str, str]]:
    """Every column as read, and the units that cells bear; what was assumed of their notation is reported."""
    if all_numbers(cells) and not reading.missing and (plain := plain_columns(cells)) is not None:
        return plain, {}
    plainer = understood(cells, reading.notation, reading.missing_words, report.file)
    assume_notation(report, plainer.notation, reading, plainer.findings)
    doubted = [name for name in cells.columns if str(name) not in plainer.faults]
    marks = reading.settled(source.marks(plainer.cells[doubted]))
    _assume_marks(report, marks, reading)
    columns = {
        str(name): ReadColumn.of(plainer.cells[name], marks, plainer.faults.get(str(name)), report.file)
        for name in plainer.cells.columns
    }
    for name, column in columns.items():
        if not column.wrong.any() or column.refused is not None:
            continue
        columns[name] = replace(column, cells=cells[name])  # what is no number is reported, and kept, as it is written
    return columns, dict(plainer.units)


def assume_dates(report: Report, noted: Sequence[Finding]) -> None:
    """Note what was assumed of the dates, and what would have stated it."""
    for finding in noted:
        stated = finding.advice.partition('"')[2].partition('"')[0]
        report.assume(finding, **{"locale" if finding.check == "locale" else "time_format": stated})


def assume_notation(report: Report, notation: Mapping[str, str], reading: Reading, findings: Sequence[Finding]) -> None:
    """Note what was found of the columns' notation, and what would have stated it."""
    report.findings += findings
    found = {name: method for name, method in notation.items() if name not in reading.notation}
    if found:
        report.settings["notation"] = {**reading.notation, **found}


def _assume_marks(report: Report, marks: Marks | None, reading: Reading) -> None:
    """A note where the marks of numbers were found rather than stated, and are not the usual ones."""
    if marks is None or reading.decimal or not marks.seen or marks.plain(marks.seen) == marks.seen:
        return
    message = f"{report.file}: '{' '.join(marks.seen.split())}' is read as {marks.plain(marks.seen)}."
    report.assume(
        Finding("number marks", "note", message, advice=f'State decimal = "{marks.decimal}".'), decimal=marks.decimal
    )


def account(
    columns: dict[str, ReadColumn], names: NDArray[np.object_] | None, reading: Reading, report: Report
) -> None:
    """Say of columns that are totals, ids or empty that they are."""
    numbers = {name: column.numbers for name, column in columns.items() if not column.wrong.any()}
    if reading.totals == "check" and len(numbers) > 2:
        for name, parts in total_columns(numbers).items():
            shown = ", ".join(f"'{part}'" for part in parts[:3]) + (" …" if len(parts) > 3 else "")
            report.uses[name] = f"a total: the sum of {shown}"
    series = None if names is None else pd.factorize(names)[0]
    for name, column in columns.items():
        if report.uses.get(name):
            continue
        if column.refused is None and not column.wrong.any() and not np.isfinite(column.numbers).any():
            report.uses[name] = "not used: it is empty"
        elif _NUMBERING.fullmatch(name) and len(column.numbers) > 3 and (np.diff(column.numbers) == 1.0).all():
            report.uses[name] = "not used: it numbers the rows"
        elif series is not None and _same_in_series(column, series):
            report.uses[name] = "an id: the same in every row of a series"


def _same_in_series(column: ReadColumn, series: NDArray[np.intp]) -> bool:
    """Whether a column has nearly one value in each series, and not the same in all."""
    known = np.isfinite(column.numbers) | column.wrong
    codes, kinds = pd.factorize(column.words if column.wrong.any() else column.numbers)
    n = int(series.max()) + 1
    if len(kinds) < 2 or len(series) < 2 * n:
        return False
    pairs = len(np.unique((series.astype(np.int64) * (len(kinds) + 1) + codes)[known]))
    return pairs <= 1.05 * n
