"""Tables whose series, dates or years stand side by side, as one row for each value."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import pandas as pd

from offing.base import Finding, InputError, nearest
from offing.tables.layout import is_total
from offing.tables.reshape import (
    PERIOD,
    SERIES,
    YEAR_NAME,
    all_different,
    all_places,
    all_years,
    cell_text,
    check_ids,
    date_heads,
    is_missing_column,
    looks_wide,
    place_in_year,
    within_known,
)


def tidy_of(
    cells: pd.DataFrame, wide: str | Mapping[str, str], ids: Sequence[str], time: str | None, file: str
) -> tuple[pd.DataFrame, Finding, tuple[str, ...]]:
    """One row a date of a wide table: its cells, what was understood, and the columns that identify its series.

    Parameters
    ----------
    wide
        The name of the values; or for each of several measures the names of its columns, with ``*`` where the series
        is named.
    time
        The column of dates, where columns are series.

    Raises
    ------
    InputError
        If the columns are neither dates nor series, or a row's is not the other.
    """
    check_ids(cells, ids, file)
    if time is not None:
        return _series_side_by_side(cells, wide, ids, time, file)
    if not isinstance(wide, str):
        raise InputError(
            "columns of several measures need a column of dates", "Name it in time.", file=file, key="wide"
        )
    if date_heads(cells) and not looks_wide(cells.drop(columns=list(ids))):
        return _dates_side_by_side(cells, wide, ids, file)
    tidy, noted = _years_side_by_side(cells, wide, ids, file)
    return tidy, noted, tuple(ids)


def _series_side_by_side(
    cells: pd.DataFrame, wide: str | Mapping[str, str], ids: Sequence[str], time: str, file: str
) -> tuple[pd.DataFrame, Finding, tuple[str, ...]]:
    others = [str(name) for name in cells.columns if name != time and name not in ids]
    if isinstance(wide, str):
        totals = [name for name in others if is_total(name)]
        members = {wide: {name: name for name in others if name not in totals}}
    else:
        members = {value: _matching(pattern, others, file) for value, pattern in wide.items()}
    series = list(dict.fromkeys(each for of_value in members.values() for each in of_value))
    if not series:
        raise InputError("there are no columns of values", file=file, key="wide")
    parts = []
    for name in series:
        part = cells[[time, *ids]].assign(**{SERIES: name})
        for value, columns in members.items():
            part[value] = cells[columns[name]] if name in columns else ""
        parts.append(part)
    noted = Finding(
        "wide table", "note", f"{file}: its {len(series)} columns are read as series of '{next(iter(members))}'."
    )
    return pd.concat(parts), noted, (*ids, SERIES)


def _matching(pattern: str, names: Sequence[str], file: str) -> dict[str, str]:
    """Column by what the star of a pattern stands for."""
    if pattern.count("*") != 1:
        raise InputError(f"found {pattern!r}", 'Write one * for the series, such as "sold *".', file=file, key="wide")
    start, end = pattern.split("*")
    found = {
        name[len(start) : len(name) - len(end)].strip(" _-."): name
        for name in names
        if name.startswith(start) and name.endswith(end) and len(name) > len(start) + len(end)
    }
    if not found:
        raise InputError(f"no column is named like {pattern!r}", nearest(pattern, names), file=file, key="wide")
    return found


def _dates_side_by_side(
    cells: pd.DataFrame, value: str, ids: Sequence[str], file: str
) -> tuple[pd.DataFrame, Finding, tuple[str, ...]]:
    dates = date_heads(cells)
    heads = [str(name) for name in cells.columns if name not in dates and name not in ids]
    items = [name for name in heads if not is_missing_column(cells[name]) and all_different(cells[name])]
    if not ids and items:
        first = items[0]
        raise InputError(
            f"the columns are {len(dates)} dates, and '{first}' names a series in each row",
            f'For a series each, state wide = "{value}" and id = "{first}"; for one table with a column each, '
            "transpose = true.",
            file=file,
        )
    parts = [cells[list(ids)].assign(**{PERIOD: name}).assign(**{value: cells[name]}) for name in dates]
    tidy = pd.concat(parts)
    known = tidy[value].notna() & (cell_text(tidy[value]) != "")
    noted = Finding("wide table", "note", f"{file}: its {len(dates)} columns of dates are read as values of '{value}'.")
    return pd.DataFrame(tidy[known]), noted, tuple(ids)


def _years_side_by_side(cells: pd.DataFrame, value: str, ids: Sequence[str], file: str) -> tuple[pd.DataFrame, Finding]:
    rest = [name for name in cells.columns if name not in ids]
    years = [name for name in rest if YEAR_NAME.fullmatch(str(name))]
    places = [name for name in rest if place_in_year(str(name))]
    across = years if years else places
    heads = [name for name in rest if name not in across]
    if not across or not heads:
        raise InputError(
            "neither years nor months, quarters or weeks stand side by side",
            "A wide table has a column for each year and a row for each month, or the other way round.",
            file=file,
            key="wide",
        )
    side = side_of(cells, ids) or heads[0]
    text = cell_text(cells[side])
    for row, cell in text.items():
        fits = place_in_year(cell) if years else YEAR_NAME.fullmatch(cell)
        if not fits:
            wanted = "a month, quarter or week" if years else "a year"
            raise InputError(
                f"found {cell!r}, which is not {wanted}",
                "Remove the row if it is a total.",
                file=file,
                row=int(str(row)),
                column=str(side),
            )
    parts = []
    for name in across:
        year = pd.Series(str(name), text.index) if years else text
        place = text.map(place_in_year) if years else pd.Series(str(place_in_year(str(name))), text.index)
        part = cells[list(ids)].assign(**{PERIOD: year + "-" + place, value: cells[name]})
        parts.append(part)
    tidy = pd.concat(parts)
    across_are = "years" if years else "months, quarters or weeks"
    noted = Finding("wide table", "note", f"{file}: the columns are read as {across_are} of one series, '{value}'.")
    # Cells of the year that is not over are empty; they are unknown periods, not values.
    known = tidy[value].notna() & (cell_text(tidy[value]) != "")
    return within_known(tidy, known), noted


def side_of(cells: pd.DataFrame, ids: Sequence[str]) -> str | None:
    """The column that names the rows of a wide table: months under years, years beside months, or the ids."""
    if date_heads(cells) and not looks_wide(cells):
        return ids[0] if ids else None
    rest = [str(name) for name in cells.columns if name not in ids]
    years = [name for name in rest if YEAR_NAME.fullmatch(name)]
    return next(
        (name for name in rest if name not in years and (all_places if years else all_years)(cells[name])), None
    )
