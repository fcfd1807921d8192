"""Columns of dates of any type: moments, text, or numbers that stand for dates."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
import pandas as pd

from offing.base import Finding, InputError
from offing.tables.date_forms import (
    COARSE,
    COMPACT,
    DAY_OR_MONTH_FIRST,
    ISO,
    NAMED,
    UNIX,
    VARIANTS,
    WEEKDAY,
    YEAR_FIRST,
    YEAR_STEP,
    all_fit,
    fitting,
)
from offing.tables.date_parsing import Stamps, missing_date, moments_of, no_date, parse_dates
from offing.tables.date_words import is_fiscal
from offing.tables.locales import language_of
from offing.tables.number_parsing import to_numbers

#: Ways to write moments as bare numbers, for `time_format`: microseconds of a unit, and of its zero.
NUMBERED = {"spreadsheet": (86_400_000_000, -25_569), "unix": (1_000_000, 0), "unix ms": (1_000, 0)}
#: Cells of a column that are looked at to see whether it holds dates.
_SAMPLE = 200
#: Five digits that a spreadsheet's day number has, from 1954 to 2119.
DAY_NUMBER = re.compile(r"[2-7]\d{4}(\.\d+)?")
#: Headers under which bare numbers are taken for dates.
_DATED = ("year", "years", "date", "day", "time", "period", "month", "week", "timestamp", "datetime", "yyyymm", "ts")


def looks_like_dates(texts: pd.Series, header: str) -> bool:
    """Whether most cells of a column are dates; bare years count only under a header that says year."""
    if pd.api.types.is_datetime64_any_dtype(texts):
        return True
    if pd.api.types.is_numeric_dtype(texts):
        # A spreadsheet's day numbers are seen as dates here, and explained when they are to be read.
        numbers = texts.dropna()
        days = len(numbers) > 0 and bool(numbers.between(20_000, 80_000).all())
        digits = re.compile(f"{COMPACT.pattern}|{YEAR_STEP.pattern}|{UNIX.pattern}|" + r"\d{4}")
        return header.strip().lower() in _DATED and (days or all_fit(_digits(numbers), digits))
    patterns = [ISO, YEAR_FIRST, DAY_OR_MONTH_FIRST, *(COARSE[p] for p in ("month", "quarter", "week"))]
    patterns += [pattern for pattern, _, _ in NAMED]
    patterns += [pattern for pattern, _ in VARIANTS]
    if header.strip().lower() in _DATED:
        patterns += [COMPACT, DAY_NUMBER, YEAR_STEP, UNIX]
    cells = texts[texts.notna() & (texts != "")].astype(str)
    if cells.empty:
        return False
    # Whether a column holds dates shows in some of its cells, spread over all; reading it looks at every one.
    cells = cells.iloc[:: max(len(cells) // _SAMPLE, 1)]
    if WEEKDAY.match(cells.iloc[0]):
        cells = cells.str.replace(WEEKDAY, "", n=1, regex=True)
    if header.strip().lower() in ("year", "years"):
        patterns += [COARSE["year"], re.compile(r"\d{4}\.0")]
    if is_fiscal(cells):
        return True
    shares = [fitting(cells, pattern) for pattern in patterns]
    if np.any(shares, axis=0).mean() > 0.5:
        return True
    return _named_elsewhere(cells.tolist())


def _named_elsewhere(cells: list[str]) -> bool:
    """Whether cells are dates with a month's name of another language than English."""
    some = cells[:20]
    # Two digits of a year and three letters of a month: else it is not worth asking fourteen languages.
    return all(re.search(r"\d{2}", cell) and re.search(r"[^\W\d_]{3}", cell) for cell in some) and bool(
        language_of(some)
    )


def stamps_of(
    cells: pd.Series, layouts: Sequence[str], file: str, zone: str | None, locale: str | None = None
) -> tuple[Stamps, tuple[Finding, ...]]:
    """Read a column of dates of any type: moments, text, or numbers that stand for dates.

    Raises
    ------
    InputError
        As `parse_dates`; and if numbers cannot be recognised as dates, with what could be stated.
    """
    column = str(cells.name)
    if pd.api.types.is_datetime64_any_dtype(cells):
        return moments_of(cells, file, zone), ()
    if layouts and layouts[0] in NUMBERED:
        size, zero = NUMBERED[layouts[0]]
        numbers, wrong = to_numbers(cells)
        bad = wrong | np.isnan(numbers) | (np.abs(numbers) > 1e14)
        if bad.any():
            raise no_date(cells, pd.Series(bad, cells.index), file, column)
        # A tenth of a second is what a spreadsheet's fraction of a day can show.
        wall = np.round((numbers + zero) * size / 1e5).astype(np.int64) * 100_000
        return Stamps(wall, "instant", "UTC" if layouts[0].startswith("unix") else None), ()
    if pd.api.types.is_numeric_dtype(cells):
        if cells.isna().any():
            raise missing_date(cells, cells.isna(), file)
        return _numbered(cells, layouts, file)
    codes, different = pd.factorize(cells, use_na_sentinel=False)
    if len(different) < 0.5 * len(cells):
        # Rows of several series repeat their dates: each different one is read once.
        first = np.zeros(len(different), dtype=np.intp)
        first[codes[::-1]] = np.arange(len(codes))[::-1]
        once, noted = stamps_of(cells.iloc[first], layouts, file, zone, locale)
        return once.take(codes), noted
    texts = cells.where(cells.notna(), "").astype(str).str.strip()
    read = parse_dates(texts, layouts, file, column, zone=zone, locale=locale)
    if read.locale is None:
        return read, ()
    message = f"{file}: the months in '{column}', such as {texts.iloc[0]!r}, are read in the language '{read.locale}'."
    return read, (Finding("locale", "note", message, advice=f'State locale = "{read.locale}".'),)


def _numbered(cells: pd.Series, layouts: Sequence[str], file: str) -> tuple[Stamps, tuple[Finding, ...]]:
    column, texts = str(cells.name), _digits(cells)
    if layouts:
        return parse_dates(texts, layouts, file, column), ()
    if all_fit(texts, UNIX) and not all_fit(texts, COMPACT):
        raise no_date(texts, pd.Series(True, texts.index), file, column)
    if all_fit(texts, YEAR_STEP):
        return parse_dates(texts, (), file, column), ()
    if all_fit(texts, COMPACT) or all_fit(texts, COARSE["year"]):
        noted = Finding(
            "dates as numbers",
            "note",
            f"{file}: the numbers in '{column}', such as {texts.iloc[0]}, are read as dates.",
            advice=f'State time_format = "{"%Y" if len(texts.iloc[0]) == 4 else "%Y%m%d"}".',
        )
        return parse_dates(texts, (), file, column), (noted,)
    likely = cells.between(20_000, 80_000).all()
    raise InputError(
        f"the dates are numbers, such as {cells.iloc[0]:g}"
        + (f", which as a spreadsheet's day would be {_excel_day(float(cells.iloc[0]))}" if likely else ""),
        'If a spreadsheet counted the days, state time_format = "spreadsheet"; if they are seconds since 1970, "unix".',
        file=file,
        row=int(cells.index[0]),
        column=column,
    )


def _excel_day(number: float) -> str:
    return str(np.datetime64(int(number) - 25_569, "D"))


def _digits(cells: pd.Series) -> pd.Series:
    whole = cells.where(cells == cells.round(), 0.5)
    return (
        whole.map(lambda each: str(int(each)) if each == int(each) else str(each)) if len(whole) else whole.astype(str)
    )
