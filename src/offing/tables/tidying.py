"""From a source's cells to one row per date and series, and the column of dates."""

from __future__ import annotations

import re
from dataclasses import replace

import pandas as pd

from offing.base import InputError, nearest
from offing.tables.layout import Report, is_total, names_are_values, units_row, without_other_rows
from offing.tables.read_options import Reading
from offing.tables.reshape import (
    PERIOD,
    SERIES,
    all_places,
    all_years,
    date_heads,
    filled_down,
    joined_time,
    looks_numbered,
    looks_wide,
    transposed,
)
from offing.tables.side_by_side import side_of, tidy_of
from offing.tables.sources import Source
from offing.tables.timestamps import looks_like_dates

#: Cells that hold a first and a last day.
_RANGE = re.compile(r"\d[\d./-]{5,9}\d\s*(-|–|to|bis|until)\s*\d[\d./-]{5,9}\d")


def tidied(
    cells: pd.DataFrame, source: Source, reading: Reading, report: Report
) -> tuple[pd.DataFrame, str, tuple[str, ...], dict[str, str]]:
    """The cells in tidy shape, their column of dates, the columns that identifies series, and units found."""
    file = report.file
    cells = filled_down(cells, reading.filled, file)
    if reading.header_row is None and names_are_values([str(name) for name in cells.columns]):
        raise InputError(
            "the first row holds values instead of the columns' names",
            "Add a row of names, or state header_row = 0 to number the columns.",
            file=file,
        )
    if reading.transpose:
        cells, units, others = transposed(cells, file)
        report.uses |= {PERIOD: "date", **dict.fromkeys(others, "not used: the table is turned round")}
        report.uses |= {str(name): "" for name in cells.columns if name != PERIOD}
        return cells, PERIOD, reading.ids, units
    report.uses |= {str(name): "" for name in cells.columns}
    dated = reading.time if isinstance(reading.time, str) else None
    if reading.wide is not None or (reading.time is None and looks_wide(cells)):
        wide = reading.wide or "value"
        if reading.wide is not None and dated is None and not looks_wide(cells) and not date_heads(cells):
            dated = time_column(cells, None, file)
        side = dated or side_of(cells, reading.ids)
        if side is not None:
            cells = without_other_rows(cells, side, report, source.marks(cells.drop(columns=side)), reading.totals)
        before = [str(name) for name in cells.columns]
        tidy, noted, ids = tidy_of(cells, wide, reading.ids, dated, file)
        if reading.wide is None:
            report.assume(replace(noted, advice='State wide = "value", or another name for it.'), wide="value")
        used = {SERIES} & {*ids}
        for name in before:
            use = "id" if name in ids else "date" if name == side else "values, one column of several"
            report.uses[name] = "not used: a total" if is_total(name) else use
        report.uses |= {str(name): "" for name in tidy.columns if name not in (*before, *used, PERIOD)}
        return tidy, dated or PERIOD, ids, {}
    if reading.time is not None and not isinstance(reading.time, str):
        report.uses |= dict.fromkeys(reading.time, "date")
        return joined_time(cells, list(reading.time), file), PERIOD, reading.ids, {}
    time = time_column(cells, reading.time, file)
    report.uses[time] = "date"
    cells, units = units_row(cells, time, report)
    marks = source.marks(cells.drop(columns=time)) if cells.shape[1] > 1 else None
    return without_other_rows(cells, time, report, marks, reading.totals), time, reading.ids, units


def time_column(cells: pd.DataFrame, stated: str | None, file: str) -> str:
    """The column of dates: the stated one, or the only one that holds dates.

    Raises
    ------
    InputError
        If there is none or several.
    """
    known = [str(column) for column in cells.columns]
    if stated is not None:
        if stated not in known:
            raise InputError(f"there is no column {stated!r}", nearest(stated, known), file=file, key="time")
        return stated
    found = [name for name in known if looks_like_dates(cells[name], name)]
    parts = _parts_of_date(cells, found)
    if parts:
        raise InputError(
            f"{' and '.join(repr(each) for each in parts)} hold the date in {len(parts)} columns",
            f"State time = [{', '.join(f'{chr(34)}{each}{chr(34)}' for each in parts)}].",
            file=file,
        )
    if len(found) == 1:
        return found[0]
    if found:
        raise InputError(
            f"{' and '.join(repr(each) for each in found)} both hold dates",
            f"Say which one counts: {' or '.join(f'time = {chr(34)}{each}{chr(34)}' for each in found)}.",
            file=file,
        )
    heads = date_heads(cells)
    if heads:
        raise _dates_across(cells, heads, file)
    ranges = next((name for name in known if _RANGE.fullmatch(str(cells[name].iloc[0]))), None)
    if ranges is not None:
        raise InputError(
            f"'{ranges}' holds ranges such as {str(cells[ranges].iloc[0])!r}",
            'Keep the first day of each, and state stamp = "start".',
            file=file,
        )
    counted = next((name for name in known if looks_numbered(cells[name])), None)
    if counted is not None:
        raise InputError(
            f"the periods are only numbered, in '{counted}' from {cells[counted].iloc[0]} to {cells[counted].iloc[-1]}",
            f'Say the date of the first one: time = "{counted}" and first_period = "2024-01-01", say.',
            file=file,
        )
    raise InputError(
        "no column holds dates",
        f"The columns are: {', '.join(known)}. Dates are best written as 2024-01-31; if the names stand further down, "
        "state header_row.",
        file=file,
    )


def _parts_of_date(cells: pd.DataFrame, found: list[str]) -> list[str]:
    """The columns that hold a date together: a year and a month (quarter, week), and a day; or a date and an hour."""
    known = [str(name) for name in cells.columns]
    if len(found) == 1 and not all_years(cells[found[0]]):
        hour = next(
            (
                name
                for name in known
                if name != found[0] and re.fullmatch(r"hour|hr|he|stunde|heure|hora", name.lower())
            ),
            None,
        )
        repeated = bool(cells[found[0]].duplicated().any())
        return [] if hour is None or not repeated else [found[0], hour]
    if len(found) > 1:
        return []
    year = next((name for name in known if all_years(cells[name])), None)
    words = ("month", "quarter", "week", "qtr", "monat", "mois", "mes", "kw", "period")
    step = next(
        (
            name
            for name in known
            if name != year and any(word in name.lower() for word in words) and all_places(cells[name])
        ),
        None,
    )
    if year is None or step is None:
        return []
    day = next((name for name in known if re.fullmatch(r"day|dom|tag|jour|dia|d", name.lower())), None)
    return [year, step] if day is None or "month" not in step.lower() else [year, step, day]


def _dates_across(cells: pd.DataFrame, heads: list[str], file: str) -> InputError:
    """The error for a sheet with dates side by side, with both ways to read it."""
    items = next(str(name) for name in cells.columns if str(name) not in heads)
    return InputError(
        f"the columns are {len(heads)} dates, from {heads[0]} to {heads[-1]}, and the rows are named by '{items}'",
        f'For one table with a column for each row, state transpose = true; for a series each, wide = "value" and '
        f'id = "{items}".',
        file=file,
    )
