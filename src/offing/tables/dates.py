"""Dates written as text: which way they are written, and the instants they name."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError
from offing.calendar import Frequency

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


_TIME = r"([T ]\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?)?"
_OFFSET = r"(?P<offset>Z|[+-]\d{2}:?\d{2})?"
_ISO = re.compile(rf"\d{{4}}-\d{{2}}-\d{{2}}{_TIME}{_OFFSET}")
_YEAR_FIRST = re.compile(rf"\d{{4}}(?P<mark>[/.-])\d{{1,2}}(?P=mark)\d{{1,2}}{_TIME}")
_DAY_OR_MONTH_FIRST = re.compile(rf"\d{{1,2}}[./-]\d{{1,2}}[./-]\d{{4}}{_TIME}")
_COARSE: dict[Precision, re.Pattern[str]] = {
    "month": re.compile(r"\d{4}-\d{2}"),
    "quarter": re.compile(r"\d{4}[- ]?Q[1-4]"),
    "week": re.compile(r"\d{4}-?W\d{2}"),
    "year": re.compile(r"\d{4}"),
}


def looks_like_dates(texts: pd.Series, header: str) -> bool:
    """Whether most cells of a column are dates; bare years count only under a header that says year."""
    cells = texts[texts != ""]
    if cells.empty:
        return False
    patterns = [_ISO, _YEAR_FIRST, _DAY_OR_MONTH_FIRST, *(_COARSE[p] for p in ("month", "quarter", "week"))]
    if header.strip().lower() in ("year", "years"):
        patterns.append(_COARSE["year"])
    return any(cells.str.fullmatch(pattern.pattern).mean() > 0.5 for pattern in patterns)


def parse_dates(texts: pd.Series, layout: str | None, file: str, column: str) -> Stamps:
    """Read a column of dates; the index of `texts` holds the rows' numbers in the file.

    Parameters
    ----------
    layout
        How the dates are written, in the codes of ``strptime`` such as ``%d/%m/%Y``; None to find it.

    Raises
    ------
    InputError
        If a cell is no date, or if day-first and month-first both fit and read differently.
    """
    if (texts == "").any():
        raise InputError(
            "the date is missing", "Fill it in or remove the row.",
            file=file, row=int(texts.index[texts == ""][0]), column=column,
        )  # fmt: skip
    if layout is not None:
        return Stamps(_strptime(texts, layout, file, column), "instant")
    for precision, pattern in _COARSE.items():
        if texts.str.fullmatch(pattern.pattern).all():
            return Stamps(_coarse(texts, precision, file, column), precision)
    shape = max((_ISO, _YEAR_FIRST, _DAY_OR_MONTH_FIRST), key=lambda p: texts.str.fullmatch(p.pattern).sum())
    fits = texts.str.fullmatch(shape.pattern)
    if not fits.all():
        raise _no_date(texts, ~fits, file, column)
    if shape is _ISO:
        return _iso(texts, file, column)
    separator = next(mark for mark in "./-" if mark in texts.iloc[0].partition(":")[0])
    clock = ""
    if ":" in texts.iloc[0]:
        clock = ("T" if "T" in texts.iloc[0] else " ") + ("%H:%M:%S" if texts.iloc[0].count(":") > 1 else "%H:%M")
    if shape is _YEAR_FIRST:
        return Stamps(_strptime(texts, separator.join(("%Y", "%m", "%d")) + clock, file, column), "instant")
    return _day_or_month_first(texts, separator, clock, file, column)


def _iso(texts: pd.Series, file: str, column: str) -> Stamps:
    offsets = texts.str.extract(_ISO.pattern)["offset"].fillna("").unique()
    if len(offsets) > 1:
        raise InputError(
            f"the offsets from UTC differ ({', '.join(repr(str(each)) for each in offsets[:3])})",
            "Write all dates with one offset.", file=file, column=column,
        )  # fmt: skip
    zone = None
    if offsets[0]:
        zone = "UTC" if offsets[0] in ("Z", "+00:00", "+0000") else f"UTC{offsets[0][:3]}:{offsets[0][-2:]}"
        texts = texts.str.removesuffix(offsets[0])
    moments = pd.to_datetime(texts, format="ISO8601", errors="coerce")
    if moments.isna().any():
        raise _no_date(texts, moments.isna(), file, column)
    return Stamps(_wall(moments), "instant", zone)


def _day_or_month_first(texts: pd.Series, separator: str, clock: str, file: str, column: str) -> Stamps:
    layouts = [separator.join(order) + clock for order in (("%d", "%m", "%Y"), ("%m", "%d", "%Y"))]
    readings = [pd.to_datetime(texts, format=layout, errors="coerce") for layout in layouts]
    fitting = [(way, reading) for way, reading in zip(layouts, readings, strict=True) if reading.notna().all()]
    if not fitting:
        better = max(readings, key=lambda reading: reading.notna().sum())
        raise _no_date(texts, better.isna(), file, column)
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
    return Stamps(_wall(fitting[0][1]), "instant")


def _strptime(texts: pd.Series, layout: str, file: str, column: str) -> NDArray[np.int64]:
    try:
        moments = pd.to_datetime(texts, format=layout, errors="coerce")
    except ValueError as error:
        raise InputError(f"{layout!r} is no way to write dates: {error}", key="time_format") from error
    if moments.isna().any():
        raise _no_date(texts, moments.isna(), file, column, f"does not follow {layout!r}")
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
        raise _no_date(texts, moments.isna(), file, column)
    return _wall(moments)


def _wall(moments: pd.Series) -> NDArray[np.int64]:
    wall: NDArray[np.int64] = moments.to_numpy().astype("datetime64[us]").astype(np.int64)
    return wall


def _no_date(texts: pd.Series, wrong: pd.Series, file: str, column: str, why: str = "is not a date") -> InputError:
    return InputError(
        f"found {texts[wrong].iloc[0]!r}, which {why}",
        'Write dates as 2024-01-31, or state how they are written, such as time_format = "%d/%m/%Y".',
        file=file,
        row=int(texts.index[wrong][0]),
        column=column,
    )
