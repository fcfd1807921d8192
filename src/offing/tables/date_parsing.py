"""Dates written as text: which way they are written, and the instants they name."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError
from offing.calendar import DAY, Frequency
from offing.tables.date_forms import (
    COARSE,
    COMPACT,
    DAY_OR_MONTH_FIRST,
    ISO,
    MONTH_NAME,
    NAMED,
    UNIX,
    YEAR_FIRST,
    Precision,
    all_fit,
    fitting,
)
from offing.tables.date_words import is_fiscal, rewritten, translated, with_language


@dataclass(frozen=True)
class Stamps:
    """What a column of dates says: wall-clock microseconds (n,), how precise they are, and their zone.

    `instants` (n,) are given where they are known beyond what the wall clock and the zone show; `locale` is the
    language in which months were found to be named, if it is not English.
    """

    wall: NDArray[np.int64]
    precision: Precision
    zone: str | None = None
    instants: NDArray[np.int64] | None = None
    locale: str | None = None

    def on(self, frequency: Frequency) -> NDArray[np.int64]:
        """Instants (n,) on a frequency's axis."""
        return frequency.instants(self.wall) if self.instants is None else self.instants

    def take(self, rows: NDArray[np.intp]) -> Stamps:
        """The stamps of some rows."""
        instants = None if self.instants is None else self.instants[rows]
        return Stamps(self.wall[rows], self.precision, self.zone, instants, self.locale)


#: A zone for each hour at which clocks are put back, and each date on which they are.
ZONES = (
    "Europe/Lisbon",
    "Europe/Berlin",
    "Europe/Athens",
    "America/New_York",
    "America/Chicago",
    "America/Los_Angeles",
    "Australia/Sydney",
    "Pacific/Auckland",
)


def moments_of(cells: pd.Series, file: str, zone: str | None) -> Stamps:
    """Stamps of a column of datetimes, shown on the clock of `zone` where they have one of their own."""
    if cells.isna().any():
        raise missing_date(cells, cells.isna(), file)
    clock = pd.DatetimeIndex(cells)
    if clock.tz is None:
        return Stamps(_index_wall(clock), "instant", zone)
    # In autumn a clock shows one hour twice; only the instants separate the two.
    instants = _index_wall(clock.tz_convert("UTC").tz_localize(None))
    name = zone or str(clock.tz)
    wall = _index_wall(clock.tz_convert(name).tz_localize(None))
    return Stamps(wall, "instant", name, instants)


def _index_wall(clock: pd.DatetimeIndex) -> NDArray[np.int64]:
    return np.asarray(clock.as_unit("us").to_numpy()).astype(np.int64)


def missing_date(cells: pd.Series, where: pd.Series, file: str) -> InputError:
    """The error for the first of the cells that are empty."""
    return InputError(
        "the date is missing",
        "Fill it in or remove the row.",
        file=file,
        row=int(cells.index[where][0]),
        column=str(cells.name),
    )


def parse_dates(
    texts: pd.Series,
    layouts: Sequence[str],
    file: str,
    column: str,
    *,
    zone: str | None = None,
    locale: str | None = None,
) -> Stamps:
    """Read a column of dates; the index of `texts` holds the rows' numbers in the file.

    Parameters
    ----------
    layouts
        The ways in which the dates are written, in the codes of ``strptime`` such as ``%d/%m/%Y``; none to find it.
    zone
        The clock that dates without an offset follow.
    locale
        The language of months' names; without it English, or the only common one that fits.

    Raises
    ------
    InputError
        If a cell is no date, or if day-first and month-first both fit and read differently.
    """
    if (texts == "").any():
        raise missing_date(texts.rename(column), texts == "", file)
    if layouts:
        return Stamps(_by_layouts(translated(texts, locale), layouts, file, column), "instant", zone)
    texts = rewritten(texts, column)
    if is_fiscal(texts):
        return Stamps(_coarse(texts, "year", file, column), "year", zone)
    for precision, pattern in COARSE.items():
        if all_fit(texts, pattern):
            return Stamps(_coarse(texts, precision, file, column), precision, zone)
    named, language = with_language(texts, locale, file, column)
    for pattern, method, precision in NAMED:
        if all_fit(named, pattern):
            return Stamps(_with_name(named, method, file, column), precision, zone, locale=language)
    if all_fit(texts, COMPACT):
        return Stamps(_strptime(texts, "%Y%m%d", file, column), "instant", zone)
    shapes = (ISO, YEAR_FIRST, DAY_OR_MONTH_FIRST, *COARSE.values(), *(pattern for pattern, _, _ in NAMED), COMPACT)
    shape = max(shapes, key=lambda p: fitting(texts, p).sum())
    fits = pd.Series(fitting(texts, shape), texts.index)
    if not fits.all():
        raise _several_ways(texts, file, column) or no_date(texts, ~fits, file, column)
    if shape is ISO:
        return _iso(texts, file, column, zone)
    separator = next(mark for mark in "./-" if mark in texts.iloc[0].partition(":")[0])
    clock = ""
    if ":" in texts.iloc[0]:
        texts = texts.str.replace(",", "").str.replace(r"(\d)([ap]m)$", r"\1 \2", regex=True, flags=re.IGNORECASE)
        clock = _clock(texts.iloc[0])
    if shape is YEAR_FIRST:
        return Stamps(_strptime(texts, separator.join(("%Y", "%m", "%d")) + clock, file, column), "instant", zone)
    return Stamps(_day_or_month_first(texts, separator, clock, file, column), "instant", zone)


def _clock(text: str) -> str:
    """The layout of a text's time of day with what stands before it."""
    half = text[-2:].lower() in ("am", "pm")
    hours = "%I:%M" if half else "%H:%M"
    return ("T" if "T" in text else " ") + hours + (":%S" if text.count(":") > 1 else "") + (" %p" if half else "")


def _by_layouts(texts: pd.Series, layouts: Sequence[str], file: str, column: str) -> NDArray[np.int64]:
    """Dates of which each follows one of several layouts.

    Raises
    ------
    InputError
        If a cell follows none, or two that read it differently.
    """
    if len(layouts) == 1:
        return _strptime(texts, layouts[0], file, column)
    found = pd.Series(pd.NaT, texts.index, dtype="datetime64[us]")
    for layout in layouts:
        moments = _moments(texts, layout)
        both = moments.notna() & found.notna() & (moments != found)
        if both.any():
            at = texts[both].iloc[0]
            raise InputError(
                f"found {str(at)!r}, which two of the layouts read differently",
                "Give layouts of which only one fits.",
                file=file,
                row=int(texts.index[both.to_numpy()][0]),
                column=column,
            )
        found = found.fillna(moments)
    if found.isna().any():
        raise no_date(texts, found.isna(), file, column, "follows none of " + ", ".join(map(repr, layouts)))
    return _wall(found)


def _several_ways(texts: pd.Series, file: str, column: str) -> InputError | None:
    """The error for dates written in two ways or more, with the layouts that read them all; None if none do."""
    left, layouts, shown = texts, [], []
    for layout in (
        "%Y-%m-%d",
        "%Y/%m/%d",
        "%d.%m.%Y",
        "%d/%m/%Y",
        "%m/%d/%Y",
        "%d-%m-%Y",
        "%d %b %Y",
        "%d-%b-%Y",
        "%b %d, %Y",
        "%d.%m.%y",
        "%d/%m/%y",
        "%m/%d/%y",
        "%Y%m%d",
    ):
        read = _moments(left, layout).notna()
        if layout.startswith("%d/%m") and not read.all():
            other = _moments(left, layout.replace("%d/%m", "%m/%d")).notna()
            if other.sum() > read.sum():
                continue
        if read.any():
            layouts.append(layout)
            shown.append(str(left[read].iloc[0]))
            left = left[~read]
        if left.empty:
            break
    if not left.empty or len(layouts) < 2:
        return None
    stated = ", ".join(f'"{layout}"' for layout in layouts)
    return InputError(
        f"the dates are written in {len(layouts)} ways: {' and '.join(map(repr, shown))}",
        f"State time_format = [{stated}].",
        file=file,
        row=int(texts.index[(texts == shown[1]).to_numpy()][0]),
        column=column,
    )


def days_of(cells: pd.DataFrame, column: str, default: NDArray[np.int64], file: str) -> NDArray[np.int64]:
    """Day numbers (n,) of a column of dates, the default where it is empty or not there."""
    days = default.copy()
    if column in cells.columns:
        given = (cells[column] != "").to_numpy()
        if given.any():
            days[given] = parse_dates(cells[column][given], (), file, column).wall // DAY
    return days


def _with_name(texts: pd.Series, method: str, file: str, column: str) -> NDArray[np.int64]:
    """Dates with a month's name, whatever its length and the marks around it."""
    name = re.compile(MONTH_NAME, re.IGNORECASE)
    short = texts.map(lambda text: name.sub(lambda found: found[0][:3].title(), text))
    plain = short.str.replace(r"[-.,]", " ", regex=True).str.split().str.join(" ")
    moments = pd.to_datetime(plain, format=method, errors="coerce")
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
    moments = pd.to_datetime(texts, format="ISO8601", errors="coerce", utc=True)
    if len(kinds) > 1 and (zone is None or (offsets == "").any()):
        zones = [each for each in ZONES if _shows(moments, offsets, each)]
        stated = " or ".join(f'zone = "{each}"' for each in zones)
        raise InputError(
            f"the offsets from UTC differ ({', '.join(repr(str(each)) for each in kinds[:3])})",
            f"State the zone whose clock changes: {stated}."
            if zones
            else 'Name the zone whose clock changes, zone = "Europe/Lisbon" say, or write all dates with one offset.',
            file=file,
            column=column,
        )
    if moments.isna().any():
        raise no_date(texts, moments.isna(), file, column)
    first = str(kinds[0])
    own = "UTC" if first in ("Z", "+00:00", "+0000") else f"UTC{first[:3]}:{first[-2:]}"
    return moments_of(moments, file, zone or own)


def _shows(moments: pd.Series, offsets: pd.Series, zone: str) -> bool:
    """Whether a zone's clock has the written offsets from UTC at all moments."""
    if moments.isna().any():
        return False
    shown = moments.dt.tz_convert(zone).dt.strftime("%z")
    return bool((shown == offsets.str.replace(":", "").str.replace("Z", "+0000")).all())


def _offset(text: str) -> str:
    """The offset from UTC that a date of ISO 8601 ends with, or nothing."""
    noted = ISO.fullmatch(text)
    return (noted["offset"] or "") if noted else ""


def _day_or_month_first(texts: pd.Series, separator: str, clock: str, file: str, column: str) -> NDArray[np.int64]:
    year = "%Y" if re.match(r"\d{1,2}.\d{1,2}.\d{4}", texts.iloc[0]) else "%y"
    layouts = [separator.join(order) + clock for order in (("%d", "%m", year), ("%m", "%d", year))]
    readings = [pd.to_datetime(texts, format=layout, errors="coerce") for layout in layouts]
    fitting = [(method, reading) for method, reading in zip(layouts, readings, strict=True) if reading.notna().all()]
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
            f'Say which: time_format = "{layouts[0]}" or time_format = "{layouts[1]}".',
            file=file,
            column=column,
        )
    return _wall(fitting[0][1])


def _strptime(texts: pd.Series, layout: str, file: str, column: str) -> NDArray[np.int64]:
    moments = _moments(texts, layout)
    if moments.isna().any():
        raise no_date(texts, moments.isna(), file, column, f"does not follow {layout!r}")
    return _wall(moments)


def _moments(texts: pd.Series, layout: str) -> pd.Series:
    """Moments of the texts that follow a layout, missing for others."""
    try:
        return pd.Series(pd.to_datetime(texts, format=layout, errors="coerce"))
    except ValueError as error:
        raise InputError(f"{layout!r} is no way to write dates: {error}", key="time_format") from error


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
    if UNIX.fullmatch(first):
        kind = "unix ms" if len(first) == 13 else "unix"
        size = 10 ** (len(first) - 10)
        return InputError(
            f"found {first!r}, which is not a date; as {'milliseconds' if size > 1 else 'seconds'} since 1970 it would "
            f"be {str(np.datetime64(int(first) // size, 's')).replace('T', ' ')}",
            f'State time_format = "{kind}".',
            file=file,
            row=int(texts.index[wrong][0]),
            column=column,
        )
    return InputError(
        f"found {str(texts[wrong].iloc[0])!r}, which {why}",
        'State time_format = "spreadsheet" to read day numbers.'
        if "spreadsheet" in why
        else 'Write dates as 2024-01-31, or state how they are written, such as time_format = "%d/%m/%Y".',
        file=file,
        row=int(texts.index[wrong][0]),
        column=column,
    )
