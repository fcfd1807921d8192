"""The forms in which dates are written."""

from __future__ import annotations

import re
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.calendar import MONTHS

_TIME = r"([T ]\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?( ?[AaPp][Mm])?)?"
_OFFSET = r"(?P<offset>Z|[+-]\d{2}:?\d{2})?"
MONTH_NAME = rf"(?:{'|'.join(m[:3] for m in MONTHS)})[a-z]*\.?"

ISO = re.compile(rf"\d{{4}}-\d{{2}}-\d{{2}}{_TIME}{_OFFSET}")
YEAR_FIRST = re.compile(rf"\d{{4}}(?P<mark>[/.-])\d{{1,2}}(?P=mark)\d{{1,2}}{_TIME}")
DAY_OR_MONTH_FIRST = re.compile(rf"\d{{1,2}}(?P<mark>[./-])\d{{1,2}}(?P=mark)(\d{{4}}|\d{{2}}),?{_TIME}")
COARSE: dict[Precision, re.Pattern[str]] = {
    "month": re.compile(r"\d{4}-\d{2}"),
    "quarter": re.compile(r"\d{4}[- ]?Q[1-4]"),
    "week": re.compile(r"\d{4}-?W\d{2}"),
    "year": re.compile(r"\d{4}"),
}


#: Other ways to write a month, quarter or week, and the same as above says it.
VARIANTS: tuple[tuple[re.Pattern[str], str], ...] = (
    (re.compile(r"(?P<y>\d{4})-?M(?P<m>\d{1,2})", re.IGNORECASE), "month"),
    (re.compile(r"(?P<m>0?[1-9]|1[0-2])[/.](?P<y>(19|20)\d{2})"), "month"),
    (re.compile(r"(?P<y>(19|20)\d{2})/(?P<m>0?[1-9]|1[0-2])"), "month"),
    (re.compile(r"Q(?P<q>[1-4])[- /']*(?P<y>\d{4}|\d{2})", re.IGNORECASE), "quarter"),
    (re.compile(r"(?P<q>[1-4])Q[- /']*(?P<y>\d{4}|\d{2})", re.IGNORECASE), "quarter"),
    (re.compile(r"(?P<y>\d{4})[- /]*Q(?P<q>[1-4])", re.IGNORECASE), "quarter"),
    (re.compile(r"(?P<y>\d{4})[- /]*(?:W|KW|CW|week )(?P<w>\d{1,2})", re.IGNORECASE), "week"),
    (re.compile(r"(?:W|KW|CW|week )(?P<w>\d{1,2})[- /]*(?P<y>\d{4})", re.IGNORECASE), "week"),
)


#: A year and its month or week without a mark between them; seconds or milliseconds since 1970, from 2001 on.
YEAR_STEP = re.compile(r"(19|20)\d{2}(0[1-9]|[1-4]\d|5[0-3])")
UNIX = re.compile(r"1\d{9}(\d{3})?")
WEEKDAY = re.compile(r"(?:mon|tue|wed|thu|fri|sat|sun)[a-z]*[.,]? +", re.IGNORECASE)


#: Dates with a month's name: what they look like, and how they read once the name is cut to three letters.
NAMED: tuple[tuple[re.Pattern[str], str, Precision], ...] = (
    (re.compile(rf"{MONTH_NAME}[ -]\d{{4}}", re.IGNORECASE), "%b %Y", "month"),
    (re.compile(rf"{MONTH_NAME}[-'] ?'?\d{{2}}|{MONTH_NAME} '\d{{2}}", re.IGNORECASE), "%b %y", "month"),
    (re.compile(rf"\d{{4}}[ -]{MONTH_NAME}", re.IGNORECASE), "%Y %b", "month"),
    (re.compile(rf"\d{{1,2}}\.?[ -]{MONTH_NAME}[ -]\d{{4}}", re.IGNORECASE), "%d %b %Y", "instant"),
    (re.compile(rf"\d{{1,2}}\.?[ -]{MONTH_NAME}[ -]\d{{2}}", re.IGNORECASE), "%d %b %y", "instant"),
    (re.compile(rf"{MONTH_NAME} \d{{1,2}}, ?\d{{4}}", re.IGNORECASE), "%b %d %Y", "instant"),
)
COMPACT = re.compile(r"(19|20)\d{2}(0[1-9]|1[0-2])(0[1-9]|[12]\d|3[01])")


def fitting(texts: pd.Series, pattern: re.Pattern[str]) -> NDArray[np.bool_]:
    """Which texts (n,) a pattern fits as a whole."""
    return np.array([pattern.fullmatch(text) is not None for text in texts.tolist()], dtype=bool)


def all_fit(texts: pd.Series, pattern: re.Pattern[str]) -> bool:
    """Whether a pattern fits all texts; the first that it does not fit ends the search."""
    return all(pattern.fullmatch(text) for text in texts.tolist())


Precision = Literal["year", "quarter", "month", "week", "instant"]
