"""Dates written as text: which way they are written, and the instants they name."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError
from offing.calendar import DAY, MONTHS, Frequency

Precision = Literal["year", "quarter", "month", "week", "instant"]


@dataclass(frozen=True)
class Stamps:
    """What a column of dates says: wall-clock microseconds (n,), how precise they are, and their zone.

    `instants` (n,) are given where they are known beyond what the wall clock and the zone tell.
    """

    wall: NDArray[np.int64]
    precision: Precision
    zone: str | None = None
    instants: NDArray[np.int64] | None = None

    def on(self, frequency: Frequency) -> NDArray[np.int64]:
        """Instants (n,) on a frequency's axis."""
        return frequency.instants(self.wall) if self.instants is None else self.instants

    def take(self, rows: NDArray[np.intp]) -> Stamps:
        """The stamps of some rows."""
        instants = None if self.instants is None else self.instants[rows]
        return Stamps(self.wall[rows], self.precision, self.zone, instants)


_TIME = r"([T ]\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?)?"
_OFFSET = r"(?P<offset>Z|[+-]\d{2}:?\d{2})?"
ISO = re.compile(rf"\d{{4}}-\d{{2}}-\d{{2}}{_TIME}{_OFFSET}")
YEAR_FIRST = re.compile(rf"\d{{4}}(?P<mark>[/.-])\d{{1,2}}(?P=mark)\d{{1,2}}{_TIME}")
DAY_OR_MONTH_FIRST = re.compile(rf"\d{{1,2}}(?P<mark>[./-])\d{{1,2}}(?P=mark)(\d{{4}}|\d{{2}}){_TIME}")
COARSE: dict[Precision, re.Pattern[str]] = {
    "month": re.compile(r"\d{4}-\d{2}"),
    "quarter": re.compile(r"\d{4}[- ]?Q[1-4]"),
    "week": re.compile(r"\d{4}-?W\d{2}"),
    "year": re.compile(r"\d{4}"),
}
_MONTH_NAME = rf"(?:{'|'.join(m[:3] for m in MONTHS)})[a-z]*\.?"
#: Dates with a month's name: what they look like, and how they read once the name is cut to three letters.
NAMED: tuple[tuple[re.Pattern[str], str, Precision], ...] = (
    (re.compile(rf"{_MONTH_NAME}[ -]\d{{4}}", re.IGNORECASE), "%b %Y", "month"),
    (re.compile(rf"\d{{4}}[ -]{_MONTH_NAME}", re.IGNORECASE), "%Y %b", "month"),
    (re.compile(rf"\d{{1,2}}\.?[ -]{_MONTH_NAME}[ -]\d{{4}}", re.IGNORECASE), "%d %b %Y", "instant"),
    (re.compile(rf"{_MONTH_NAME} \d{{1,2}}, ?\d{{4}}", re.IGNORECASE), "%b %d %Y", "instant"),
)
COMPACT = re.compile(r"(19|20)\d{2}(0[1-9]|1[0-2])(0[1-9]|[12]\d|3[01])")


def fitting(texts: pd.Series, pattern: re.Pattern[str]) -> NDArray[np.bool_]:
    """Which texts (n,) a pattern fits as a whole."""
    return np.array([pattern.fullmatch(text) is not None for text in texts.tolist()], dtype=bool)


def all_fit(texts: pd.Series, pattern: re.Pattern[str]) -> bool:
    """Whether a pattern fits all texts; the first that it does not fit ends the search."""
    return all(pattern.fullmatch(text) for text in texts.tolist())


def moments_of(cells: pd.Series, file: str, zone: str | None) -> Stamps:
    """Stamps of a column of datetimes, shown on the clock of `zone` where they have one of their own."""
    if cells.isna().any():
        raise missing_date(cells, cells.isna(), file)
    clock = pd.DatetimeIndex(cells)
    if clock.tz is None:
        return Stamps(_index_wall(clock), "instant", zone)
    # In autumn a clock shows one hour twice; only the instants tell the two apart.
    instants = _index_wall(clock.tz_convert("UTC").tz_localize(None))
    name = zone or str(clock.tz)
    wall = _index_wall(clock.tz_convert(name).tz_localize(None))
    return Stamps(wall, "instant", name, instants)


def _index_wall(clock: pd.DatetimeIndex) -> NDArray[np.int64]:
    return np.asarray(clock.as_unit("us").to_numpy()).astype(np.int64)


def missing_date(cells: pd.Series, where: pd.Series, file: str) -> InputError:
    """The error for the first of the cells that are empty."""
    return InputError(
        "the date is missing", "Fill it in or remove the row.",
        file=file, row=int(cells.index[where][0]), column=str(cells.name),
    )  # fmt: skip


def parse_dates(texts: pd.Series, layout: str | None, file: str, column: str, zone: str | None = None) -> Stamps:
    """Read a column of dates; the index of `texts` holds the rows' numbers in the file.

    Parameters
    ----------
    layout
        How the dates are written, in the codes of ``strptime`` such as ``%d/%m/%Y``; None to find it.
    zone
        The clock that dates without an offset follow.

    Raises
    ------
    InputError
        If a cell is no date, or if day-first and month-first both fit and read differently.
    """
    if (texts == "").any():
        raise missing_date(texts.rename(column), texts == "", file)
    if layout is not None:
        return Stamps(_strptime(texts, layout, file, column), "instant", zone)
    for precision, pattern in COARSE.items():
        if all_fit(texts, pattern):
            return Stamps(_coarse(texts, precision, file, column), precision, zone)
    for pattern, way, precision in NAMED:
        if all_fit(texts, pattern):
            return Stamps(_with_name(texts, way, file, column), precision, zone)
    if all_fit(texts, COMPACT):
        return Stamps(_strptime(texts, "%Y%m%d", file, column), "instant", zone)
    shapes = (ISO, YEAR_FIRST, DAY_OR_MONTH_FIRST, *COARSE.values(), *(pattern for pattern, _, _ in NAMED), COMPACT)
    shape = max(shapes, key=lambda p: fitting(texts, p).sum())
    fits = pd.Series(fitting(texts, shape), texts.index)
    if not fits.all():
        raise no_date(texts, ~fits, file, column)
    if shape is ISO:
        return _iso(texts, file, column, zone)
    separator = next(mark for mark in "./-" if mark in texts.iloc[0].partition(":")[0])
    clock = ""
    if ":" in texts.iloc[0]:
        clock = ("T" if "T" in texts.iloc[0] else " ") + ("%H:%M:%S" if texts.iloc[0].count(":") > 1 else "%H:%M")
    if shape is YEAR_FIRST:
        return Stamps(_strptime(texts, separator.join(("%Y", "%m", "%d")) + clock, file, column), "instant", zone)
    return Stamps(_day_or_month_first(texts, separator, clock, file, column), "instant", zone)


def days_of(cells: pd.DataFrame, column: str, default: NDArray[np.int64], file: str) -> NDArray[np.int64]:
    """Day numbers (n,) of a column of dates, the default where it is empty or not there."""
    days = default.copy()
    if column in cells.columns:
        given = (cells[column] != "").to_numpy()
        if given.any():
            days[given] = parse_dates(cells[column][given], None, file, column).wall // DAY
    return days


def _with_name(texts: pd.Series, way: str, file: str, column: str) -> NDArray[np.int64]:
    """Dates with a month's name, whatever its length and the marks around it."""
    name = re.compile(_MONTH_NAME, re.IGNORECASE)
    short = texts.map(lambda text: name.sub(lambda found: found[0][:3].title(), text))
    plain = short.str.replace(r"[-.,]", " ", regex=True).str.split().str.join(" ")
    moments = pd.to_datetime(plain, format=way, errors="coerce")
    if moments.isna().any():
        raise no_date(texts, moments.isna(), file, column)
    return _wall(moments)


def _iso(texts: pd.Series, file: str, column: str, zone: str | None) -> Stamps:
    offsets = pd.Series([_offset(text) for text in texts.tolist()], texts.index, dtype=object)
    if (offsets == "").all():
        moments = pd.to_datetime(texts, format="ISO8601", errors="coerce")
        if moments.isna().any():
            raise no_date(texts, moments.isna(), file, column)
        return Stamps(_wall(moments), "instant", zone)
    kinds = offsets.unique()
    if len(kinds) > 1 and (zone is None or (offsets == "").any()):
        raise InputError(
            f"the offsets from UTC differ ({', '.join(repr(str(each)) for each in kinds[:3])})",
            'Name the zone whose clock changes, zone = "Europe/Lisbon" say, or write all dates with one offset.',
            file=file, column=column,
        )  # fmt: skip
    moments = pd.to_datetime(texts, format="ISO8601", errors="coerce", utc=True)
    if moments.isna().any():
        raise no_date(texts, moments.isna(), file, column)
    first = str(kinds[0])
    own = "UTC" if first in ("Z", "+00:00", "+0000") else f"UTC{first[:3]}:{first[-2:]}"
    return moments_of(moments, file, zone or own)


def _offset(text: str) -> str:
    """The offset from UTC that a date of ISO 8601 ends with, or nothing."""
    told = ISO.fullmatch(text)
    return (told["offset"] or "") if told else ""


def _day_or_month_first(texts: pd.Series, separator: str, clock: str, file: str, column: str) -> NDArray[np.int64]:
    year = "%Y" if re.match(r"\d{1,2}.\d{1,2}.\d{4}", texts.iloc[0]) else "%y"
    layouts = [separator.join(order) + clock for order in (("%d", "%m", year), ("%m", "%d", year))]
    readings = [pd.to_datetime(texts, format=layout, errors="coerce") for layout in layouts]
    fitting = [(way, reading) for way, reading in zip(layouts, readings, strict=True) if reading.notna().all()]
    if not fitting:
        better = max(readings, key=lambda reading: reading.notna().sum())
        raise no_date(texts, better.isna(), file, column)
    if len(fitting) == 2 and (readings[0] != readings[1]).any():
        rows = np.flatnonzero(readings[0] != readings[1])[:2]
        shown = "; ".join(
            f"row {texts.index[i]} {texts.iloc[i]!r} is "
            + " or ".join(f"{reading.iloc[i]:%Y-%m-%d}" for reading in readings)
            for i in rows
        )
        raise InputError(
            f"day first and month first both fit: {shown}",
            f'Say which: time_format = "{layouts[0]}" or "{layouts[1]}".', file=file, column=column,
        )  # fmt: skip
    return _wall(fitting[0][1])


def _strptime(texts: pd.Series, layout: str, file: str, column: str) -> NDArray[np.int64]:
    try:
        moments = pd.to_datetime(texts, format=layout, errors="coerce")
    except ValueError as error:
        raise InputError(f"{layout!r} is no way to write dates: {error}", key="time_format") from error
    if moments.isna().any():
        raise no_date(texts, moments.isna(), file, column, f"does not follow {layout!r}")
    return _wall(moments)


def _coarse(texts: pd.Series, precision: Precision, file: str, column: str) -> NDArray[np.int64]:
    years = texts.str.slice(0, 4).astype(int)
    if precision == "year":
        moments = pd.to_datetime(years.astype(str) + "-01-01", format="%Y-%m-%d", errors="coerce")
    elif precision == "quarter":
        first = (texts.str.slice(-1).astype(int) * 3 - 2).astype(str).str.zfill(2)
        moments = pd.to_datetime(years.astype(str) + "-" + first, format="%Y-%m", errors="coerce")
    elif precision == "week":
        moments = pd.to_datetime(texts.str.replace("-", "") + "1", format="%GW%V%u", errors="coerce")
    else:
        moments = pd.to_datetime(texts, format="%Y-%m", errors="coerce")
    if moments.isna().any():
        raise no_date(texts, moments.isna(), file, column)
    return _wall(moments)


def _wall(moments: pd.Series) -> NDArray[np.int64]:
    wall: NDArray[np.int64] = moments.to_numpy().astype("datetime64[us]").astype(np.int64)
    return wall


def no_date(texts: pd.Series, wrong: pd.Series, file: str, column: str, why: str = "is not a date") -> InputError:
    """The error for the first of the cells that are wrong."""
    first = str(texts[wrong].iloc[0])
    if re.fullmatch(r"\d{5}(\.\d+)?", first):
        day = np.datetime64(int(float(first)) - 25_569, "D")
        why += f"; as a spreadsheet's day number it would be {day}"
    return InputError(
        f"found {str(texts[wrong].iloc[0])!r}, which {why}",
        'Write dates as 2024-01-31, or state how they are written, such as time_format = "%d/%m/%Y".'
        + (' State time_format = "excel" for day numbers.' if "spreadsheet" in why else ""),
        file=file,
        row=int(texts.index[wrong][0]),
        column=column,
    )
