"""Other shapes of a table brought to the tidy one: one row a date, one column a quantity."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from itertools import pairwise

import pandas as pd

from offing.base import InputError, nearest
from offing.calendar import MONTHS
from offing.calendar.frequency import HOUR
from offing.tables.layout import is_total
from offing.tables.number_parsing import is_missing
from offing.tables.sources.source import tidy_names
from offing.tables.timestamps import looks_like_dates, stamps_of

YEAR_NAME = re.compile(r"(19|20)\d{2}")
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
    years = [name for name in cells.columns if YEAR_NAME.fullmatch(str(name))]
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


def is_missing_column(cells: pd.Series) -> bool:
    """Whether a column holds nothing."""
    return all(is_missing(cell) for cell in cells.tolist())


def transposed(cells: pd.DataFrame, file: str) -> tuple[pd.DataFrame, dict[str, str], list[str]]:
    """A sheet of items in rows and dates in columns turned round; the items' units; columns that are not used.

    Raises
    ------
    InputError
        If no column names the items.
    """
    dates = date_heads(cells)
    heads = [str(name) for name in cells.columns if name not in dates]
    items = next((name for name in heads if all_different(cells[name])), None)
    if not dates or items is None:
        raise InputError(
            "no column names the rows, or the others are not called by dates",
            "Remove transpose.",
            file=file,
            key="transpose",
        )
    names = tidy_names(cell_text(cells[items]).tolist(), file)
    turned = pd.DataFrame({name: list(cells.iloc[i][dates]) for i, name in enumerate(names)}, dtype=object)
    turned = turned.where(turned.notna(), "")
    turned.insert(0, PERIOD, dates)
    turned.index = pd.RangeIndex(1, len(dates) + 1)
    unit = next((name for name in heads if name.lower() in ("unit", "units", "einheit", "unité", "unidad")), None)
    units = (
        {} if unit is None else {name: word for name, word in zip(names, cell_text(cells[unit]), strict=True) if word}
    )
    return turned, units, [name for name in heads if name not in (items, unit)]


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
    for row, text in cell_text(cells).items():
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
    texts = cell_text(cells).tolist()
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
    year, place = (cell_text(cells[name]) for name in columns[:2])
    for row, cell in year.items():
        if not YEAR_NAME.fullmatch(cell):
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
        dates = dates + "-" + cell_text(cells[columns[2]]).str.zfill(2)
    return cells.drop(columns=list(columns)).assign(**{PERIOD: dates})


def _with_hours(cells: pd.DataFrame, columns: Sequence[str], file: str) -> pd.DataFrame:
    """The table with its column of dates and its column of hours as one; hours from 1 to 24 are those that end then."""
    day, hour = columns
    texts = cell_text(cells[hour]).str.replace(r":00(:00)?$", "", regex=True)
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
    texts = [cell_text(cells[name]) for name in ids]
    for name, text in zip(ids, texts, strict=True):
        if (text == "").any():
            row = int(text.index[text == ""][0])
            raise InputError("the id is missing", "Fill it in or remove the row.", file=file, row=row, column=name)
    joined = texts[0]
    for text in texts[1:]:
        joined = joined + " / " + text
    return joined


def within_known(tidy: pd.DataFrame, known: pd.Series) -> pd.DataFrame:
    """The rows between the first and the last period of which anything is known."""
    order = tidy[PERIOD].str.replace("Q", "").str.replace("W", "")
    inside = order[known]
    return tidy if inside.empty else pd.DataFrame(tidy[(order >= inside.min()) & (order <= inside.max())])


def all_places(cells: pd.Series) -> bool:
    """Whether all cells are months, quarters or weeks."""
    return _all(cells, lambda text: place_in_year(text, str(cells.name)) is not None)


def all_years(cells: pd.Series) -> bool:
    """Whether all cells are years."""
    return _all(cells, lambda text: YEAR_NAME.fullmatch(text) is not None)


def _all(cells: pd.Series, fits: Callable[[str], bool]) -> bool:
    """Whether all different cells but totals fit, of which there is one; the first that does not ends the search."""
    seen = False
    for text in cell_text(pd.Series(cells.unique())):
        if not is_total(text):
            seen = True
            if not fits(text):
                return False
    return seen


def cell_text(cells: pd.Series) -> pd.Series:
    """Cells as text; whole numbers without a decimal point."""
    if pd.api.types.is_float_dtype(cells):
        whole = cells.map(lambda each: "" if each != each else str(int(each)) if each == int(each) else str(each))  # noqa: PLR0124
        return whole.astype(object)
    return cells.where(cells.notna(), "").astype(str).str.strip().astype(object)


def all_different(cells: pd.Series) -> bool:
    """Whether nearly all texts differ, and are no numbers."""
    texts = cell_text(cells)
    return (
        bool(texts.nunique() > 0.9 * len(texts)) and not texts.map(lambda cell: cell.replace(".", "").isdigit()).all()
    )
