"""Other shapes of a table brought to the tidy one: one row a date, one column a quantity."""

from __future__ import annotations

import re
from collections.abc import Sequence

import pandas as pd

from offing.base import Finding, InputError, nearest
from offing.calendar import MONTHS

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


def place_in_year(text: str) -> str | None:
    """A month, quarter or week named by `text`, as dates write it after the year; None where it names none."""
    plain = text.strip().lower().rstrip(".")
    return _PLACES.get(plain) or _QUARTERS.get(plain) or _WEEKS.get(plain)


def looks_wide(cells: pd.DataFrame) -> bool:
    """Whether years stand side by side over months, quarters or weeks, or these over years."""
    years = [name for name in cells.columns if _YEAR.fullmatch(str(name))]
    if len(years) >= 2:
        return any(_all_places(cells[name]) for name in cells.columns if name not in years)
    places = [name for name in cells.columns if place_in_year(str(name))]
    return len(places) >= 4 and any(_all_years(cells[name]) for name in cells.columns if name not in places)


def from_wide(cells: pd.DataFrame, value: str, ids: Sequence[str], file: str) -> tuple[pd.DataFrame, Finding]:
    """One row a date with columns `PERIOD`, the ids and `value`, of a table of years side by side.

    Raises
    ------
    InputError
        If the headers are neither years nor months, quarters or weeks, or a row's is not the other.
    """
    check_ids(cells, ids, file)
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
    side = next((name for name in heads if (_all_places if years else _all_years)(cells[name])), heads[0])
    text = _text(cells[side])
    for row, cell in text.items():
        fits = place_in_year(cell) if years else _YEAR.fullmatch(cell)
        if not fits:
            wanted = "a month, quarter or week" if years else "a year"
            raise InputError(f"found {cell!r}, which is not {wanted}", "Remove the row if it is a total.",
                             file=file, row=int(str(row)), column=str(side))  # fmt: skip
    parts = []
    for name in across:
        year = pd.Series(str(name), text.index) if years else text
        place = text.map(place_in_year) if years else pd.Series(str(place_in_year(str(name))), text.index)
        part = cells[list(ids)].assign(**{PERIOD: year + "-" + place, value: cells[name]})
        parts.append(part)
    tidy = pd.concat(parts)
    across_are = "years" if years else "months, quarters or weeks"
    told = Finding("wide table", "note", f"{file}: the columns are read as {across_are} of one series, '{value}'.")
    # Cells of the year that is not over are empty; they are periods nobody knows, not values.
    known = tidy[value].notna() & (_text(tidy[value]) != "")
    return _within_known(tidy, known), told


def joined_time(cells: pd.DataFrame, columns: Sequence[str], file: str) -> pd.DataFrame:
    """The table with its year's column and its month's (quarter's, week's) as one, `PERIOD`."""
    for name in columns:
        if name not in cells.columns:
            raise InputError(
                f"there is no column {name!r}", nearest(name, map(str, cells.columns)), file=file, key="time"
            )
    if len(columns) != 2:
        raise InputError(
            f"found {len(columns)} columns", "Give the year's column and the month's.", file=file, key="time"
        )
    year, place = (_text(cells[name]) for name in columns)
    for row, cell in year.items():
        if not _YEAR.fullmatch(cell):
            raise InputError(f"found {cell!r}, which is not a year", file=file, row=int(str(row)), column=columns[0])
    for row, cell in place.items():
        if place_in_year(cell) is None:
            raise InputError(f"found {cell!r}, which is not a month, quarter or week",
                             file=file, row=int(str(row)), column=columns[1])  # fmt: skip
    return cells.drop(columns=list(columns)).assign(**{PERIOD: year + "-" + place.map(place_in_year)})


def check_ids(cells: pd.DataFrame, ids: Sequence[str], file: str) -> None:
    """Refuse ids that are no columns."""
    for name in ids:
        if name not in cells.columns:
            known = map(str, cells.columns)
            raise InputError(f"there is no column {name!r}", nearest(name, known), file=file, key="id")


def id_texts(cells: pd.DataFrame, ids: Sequence[str], file: str) -> pd.Series:
    """One text a row that tells its series: its ids, kept as they are written, joined by a slash.

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


def _all_places(cells: pd.Series) -> bool:
    return bool(_text(cells).map(lambda cell: place_in_year(cell) is not None).all())


def _all_years(cells: pd.Series) -> bool:
    return bool(_text(cells).map(lambda cell: _YEAR.fullmatch(cell) is not None).all())


def _text(cells: pd.Series) -> pd.Series:
    """Cells as text; whole numbers without a decimal point."""
    if pd.api.types.is_float_dtype(cells):
        whole = cells.map(lambda each: "" if each != each else str(int(each)) if each == int(each) else str(each))  # noqa: PLR0124
        return whole.astype(object)
    return cells.where(cells.notna(), "").astype(str).str.strip().astype(object)
