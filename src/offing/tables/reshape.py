"""Other shapes of a table brought to the tidy one: one row a date, one column a quantity."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise

import pandas as pd

from offing.base import Finding, InputError, nearest
from offing.calendar import MONTHS
from offing.calendar.frequency import HOUR
from offing.tables.layout import is_total
from offing.tables.number_parsing import is_missing
from offing.tables.sources.source import tidy_names
from offing.tables.timestamps import looks_like_dates, stamps_of

_YEAR = re.compile(r"(19|20)\d{2}")
_PLACES: dict[str, str] = {
    **{name: f"{i:02d}" for i, month in enumerate(MONTHS, 1) for name in (month.lower(), month[:3].lower())},
    **{f"{i}": f"{i:02d}" for i in range(1, 13)},
    **{f"{i:02d}": f"{i:02d}" for i in range(1, 10)},
}
_QUARTERS = {f"{letter}{i}": f"Q{i}" for i in range(1, 5) for letter in "q"}
_WEEKS = {f"{stem}{i:0{width}d}": f"W{i:02d}" for i in range(1, 54) for stem in ("w", "week ") for width in (1, 2)}

#: Name of the column of dates that shapes make.
PERIOD = "period"
#: Name of the column of ids that shapes make of columns' names.
SERIES = "series"


def place_in_year(text: str, header: str = "") -> str | None:
    """A month, quarter or week named by `text`, as dates write it after the year; None where it names none.

    A bare number is a week or a quarter where the `header` of its column says so, else a month.
    """
    plain = text.strip().lower().rstrip(".").removesuffix(".0")
    if plain.isdigit() and len(plain) < 3:
        if re.search(r"week|wk|kw|woche|semaine|semana", header.lower()):
            return f"W{int(plain):02d}" if 1 <= int(plain) <= 53 else None
        if re.search(r"quarter|qtr|quartal|trimest", header.lower()):
            return f"Q{int(plain)}" if 1 <= int(plain) <= 4 else None
    return _PLACES.get(plain) or _QUARTERS.get(plain) or _WEEKS.get(plain)


def looks_wide(cells: pd.DataFrame) -> bool:
    """Whether years stand side by side over months, quarters or weeks, or these over years."""
    years = [name for name in cells.columns if _YEAR.fullmatch(str(name))]
    if len(years) >= 2:
        return any(all_places(cells[name]) for name in cells.columns if name not in years)
    places = [name for name in cells.columns if place_in_year(str(name))]
    return len(places) >= 4 and any(all_years(cells[name]) for name in cells.columns if name not in places)


def date_heads(cells: pd.DataFrame) -> list[str]:
    """Columns whose names are dates, months or years: three at least, and more than the others."""
    names = [str(name) for name in cells.columns]
    dates = [name for name in names if _is_period(name)]
    return dates if len(dates) >= 3 and len(dates) > len(names) - len(dates) else []


def _is_period(name: str) -> bool:
    # Two digits of a year, after a digit or a month's letters: p17 is a product.
    if not re.search(r"\d{2}", name) or not re.match(r"\d|[^\W\d_]{3}|Q\d", name):
        return False
    return not place_in_year(name) and looks_like_dates(pd.Series([name]), "year")


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
    items = [name for name in heads if not is_missing_column(cells[name]) and _different(cells[name])]
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
    known = tidy[value].notna() & (_text(tidy[value]) != "")
    noted = Finding("wide table", "note", f"{file}: its {len(dates)} columns of dates are read as values of '{value}'.")
    return pd.DataFrame(tidy[known]), noted, tuple(ids)


def is_missing_column(cells: pd.Series) -> bool:
    """Whether a column holds nothing."""
    return all(is_missing(cell) for cell in cells.tolist())


def _different(cells: pd.Series) -> bool:
    texts = _text(cells)
    return (
        bool(texts.nunique() > 0.9 * len(texts)) and not texts.map(lambda cell: cell.replace(".", "").isdigit()).all()
    )


def transposed(cells: pd.DataFrame, file: str) -> tuple[pd.DataFrame, dict[str, str], list[str]]:
    """A sheet of items in rows and dates in columns turned round; the items' units; columns that are not used.

    Raises
    ------
    InputError
        If no column names the items.
    """
    dates = date_heads(cells)
    heads = [str(name) for name in cells.columns if name not in dates]
    items = next((name for name in heads if _different(cells[name])), None)
    if not dates or items is None:
        raise InputError(
            "no column names the rows, or the others are not called by dates",
            "Remove transpose.",
            file=file,
            key="transpose",
        )
    names = tidy_names(_text(cells[items]).tolist(), file)
    turned = pd.DataFrame({name: list(cells.iloc[i][dates]) for i, name in enumerate(names)}, dtype=object)
    turned = turned.where(turned.notna(), "")
    turned.insert(0, PERIOD, dates)
    turned.index = pd.RangeIndex(1, len(dates) + 1)
    unit = next((name for name in heads if name.lower() in ("unit", "units", "einheit", "unité", "unidad")), None)
    units = {} if unit is None else {name: word for name, word in zip(names, _text(cells[unit]), strict=True) if word}
    return turned, units, [name for name in heads if name not in (items, unit)]


def _years_side_by_side(cells: pd.DataFrame, value: str, ids: Sequence[str], file: str) -> tuple[pd.DataFrame, Finding]:
    rest = [name for name in cells.columns if name not in ids]
    years = [name for name in rest if _YEAR.fullmatch(str(name))]
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
    text = _text(cells[side])
    for row, cell in text.items():
        fits = place_in_year(cell) if years else _YEAR.fullmatch(cell)
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
    known = tidy[value].notna() & (_text(tidy[value]) != "")
    return _within_known(tidy, known), noted


def side_of(cells: pd.DataFrame, ids: Sequence[str]) -> str | None:
    """The column that names the rows of a wide table: months under years, years beside months, or the ids."""
    if date_heads(cells) and not looks_wide(cells):
        return ids[0] if ids else None
    rest = [str(name) for name in cells.columns if name not in ids]
    years = [name for name in rest if _YEAR.fullmatch(name)]
    return next(
        (name for name in rest if name not in years and (all_places if years else all_years)(cells[name])), None
    )


def numbered(cells: pd.Series, first: object, unit: str | None, file: str) -> tuple[pd.Series, str]:
    """Dates of periods that are only numbered, 1, 2, 3 …, of which the first is known; and their unit.

    Numbers may start again at 1, as those of weeks do in each year.

    Raises
    ------
    InputError
        If a number is not the next one, or the unit is not known.
    """
    word = str(cells.name).strip().lower().rstrip("s. ")
    unit = unit or next((each for each in ("week", "month", "quarter", "year", "day", "hour") if each in word), None)
    if unit is None:
        raise InputError(
            "it is not stated what is numbered", 'State frequency = "week", say.', file=file, column=str(cells.name)
        )
    numbers, before = [], None
    for row, text in _text(cells).items():
        if not text.isdigit() or (before is not None and int(text) not in (before + 1, 1)):
            raise InputError(
                f"found {text!r}, which does not follow {before}",
                "Correct it; rows must be in order.",
                file=file,
                row=int(str(row)),
                column=str(cells.name),
            )
        before = int(text)
        numbers.append(before)
    start = pd.Timestamp(first)  # type: ignore[arg-type]
    return pd.Series(_following(start, unit, len(numbers)), cells.index, name=cells.name), unit


def _following(start: pd.Timestamp, unit: str, n: int) -> pd.DatetimeIndex:
    """The starts of `n` periods of a unit from a first one on."""
    if unit == "business day":
        return pd.bdate_range(start, periods=n)
    if unit in ("month", "quarter", "year"):
        months = {"month": 1, "quarter": 3, "year": 12}[unit]
        return pd.DatetimeIndex([start + pd.DateOffset(months=months * i) for i in range(n)])
    step = pd.Timedelta(hours={"hour": 1, "day": 24, "week": 168}[unit])
    return pd.DatetimeIndex([start + i * step for i in range(n)])


def looks_numbered(cells: pd.Series) -> bool:
    """Whether a column counts periods from 1 on, starting again or not."""
    texts = _text(cells).tolist()
    if len(texts) < 4 or not all(text.isdigit() for text in texts) or texts[0] not in ("0", "1"):
        return False
    values = [int(text) for text in texts]
    return all(later in (earlier + 1, 1) for earlier, later in pairwise(values))


def joined_time(cells: pd.DataFrame, columns: Sequence[str], file: str) -> pd.DataFrame:
    """The table with its year's column and its month's (quarter's, week's) as one, `PERIOD`."""
    for name in columns:
        if name not in cells.columns:
            raise InputError(
                f"there is no column {name!r}", nearest(name, map(str, cells.columns)), file=file, key="time"
            )
    if len(columns) == 2 and looks_like_dates(cells[columns[0]], "date") and not all_years(cells[columns[0]]):
        return _with_hours(cells, columns, file)
    if len(columns) not in (2, 3):
        raise InputError(
            f"found {len(columns)} columns",
            "Give the year's column and the month's, and the day's if there is one.",
            file=file,
            key="time",
        )
    year, place = (_text(cells[name]) for name in columns[:2])
    for row, cell in year.items():
        if not _YEAR.fullmatch(cell):
            raise InputError(f"found {cell!r}, which is not a year", file=file, row=int(str(row)), column=columns[0])
    for row, cell in place.items():
        if place_in_year(cell, columns[1]) is None:
            raise InputError(
                f"found {cell!r}, which is not a month, quarter or week",
                file=file,
                row=int(str(row)),
                column=columns[1],
            )
    dates = year + "-" + place.map(lambda cell: place_in_year(cell, columns[1]))
    if len(columns) == 3:
        dates = dates + "-" + _text(cells[columns[2]]).str.zfill(2)
    return cells.drop(columns=list(columns)).assign(**{PERIOD: dates})


def _with_hours(cells: pd.DataFrame, columns: Sequence[str], file: str) -> pd.DataFrame:
    """The table with its column of dates and its column of hours as one; hours from 1 to 24 are those that end then."""
    day, hour = columns
    texts = _text(cells[hour]).str.replace(r":00(:00)?$", "", regex=True)
    for row, cell in texts.items():
        if not cell.isdigit() or int(cell) > 24:
            raise InputError(
                f"found {cell!r}, which is not an hour of the day",
                "Write 0 to 23, or 1 to 24.",
                file=file,
                row=int(str(row)),
                column=hour,
            )
    numbers = texts.astype(int)
    starts = numbers - 1 if (numbers == 24).any() and not (numbers == 0).any() else numbers
    stamps, _ = stamps_of(cells[day], (), file, None)
    moments = pd.Series((stamps.wall + starts.to_numpy() * HOUR).astype("datetime64[us]"), cells.index)
    return cells.drop(columns=list(columns)).assign(**{PERIOD: moments})


def filled_down(cells: pd.DataFrame, columns: Sequence[str], file: str) -> pd.DataFrame:
    """The cells with the value above in the empty ones of some columns, as merged cells of a sheet mean it."""
    check_ids(cells, columns, file, "fill_down")
    filled = {name: cells[name].where(cells[name].notna() & (cells[name] != "")).ffill() for name in columns}
    return cells.assign(**filled) if filled else cells


def check_ids(cells: pd.DataFrame, ids: Sequence[str], file: str, key: str = "id") -> None:
    """Refuse ids that are no columns."""
    for name in ids:
        if name not in cells.columns:
            known = map(str, cells.columns)
            raise InputError(f"there is no column {name!r}", nearest(name, known), file=file, key=key)


def id_texts(cells: pd.DataFrame, ids: Sequence[str], file: str) -> pd.Series:
    """One text a row that shows its series: its ids, kept as they are written, joined by a slash.

    Raises
    ------
    InputError
        If there is no such column, or an id is empty.
    """
    check_ids(cells, ids, file)
    texts = [_text(cells[name]) for name in ids]
    for name, text in zip(ids, texts, strict=True):
        if (text == "").any():
            row = int(text.index[text == ""][0])
            raise InputError("the id is missing", "Fill it in or remove the row.", file=file, row=row, column=name)
    joined = texts[0]
    for text in texts[1:]:
        joined = joined + " / " + text
    return joined


def _within_known(tidy: pd.DataFrame, known: pd.Series) -> pd.DataFrame:
    """The rows between the first and the last period of which anything is known."""
    order = tidy[PERIOD].str.replace("Q", "").str.replace("W", "")
    inside = order[known]
    return tidy if inside.empty else pd.DataFrame(tidy[(order >= inside.min()) & (order <= inside.max())])


def all_places(cells: pd.Series) -> bool:
    """Whether all cells are months, quarters or weeks."""
    return _all(cells, lambda text: place_in_year(text, str(cells.name)) is not None)


def all_years(cells: pd.Series) -> bool:
    """Whether all cells are years."""
    return _all(cells, lambda text: _YEAR.fullmatch(text) is not None)


def _all(cells: pd.Series, fits: Callable[[str], bool]) -> bool:
    """Whether all different cells but totals fit, of which there is one; the first that does not ends the search."""
    seen = False
    for text in _text(pd.Series(cells.unique())):
        if not is_total(text):
            seen = True
            if not fits(text):
                return False
    return seen


def _text(cells: pd.Series) -> pd.Series:
    """Cells as text; whole numbers without a decimal point."""
    if pd.api.types.is_float_dtype(cells):
        whole = cells.map(lambda each: "" if each != each else str(int(each)) if each == int(each) else str(each))  # noqa: PLR0124
        return whole.astype(object)
    return cells.where(cells.notna(), "").astype(str).str.strip().astype(object)
