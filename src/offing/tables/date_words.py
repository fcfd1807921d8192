"""Names of months and quarters, of several languages, as dates are parsed."""

from __future__ import annotations

import re

import pandas as pd

from offing.base import InputError
from offing.tables.date_forms import COARSE, ISO, NAMED, VARIANTS, WEEKDAY, YEAR_STEP, all_fit
from offing.tables.locales import in_english, language_of

#: Years that begin in one civil year and end in the next, as 2023/24.
_FISCAL = re.compile(r"(\d{4})[/-](\d{2}|\d{4})")


def rewritten(texts: pd.Series, header: str) -> pd.Series:
    """Months, quarters and weeks in the one way that `COARSE` knows; without weekdays' names before dates."""
    if all(WEEKDAY.match(text) for text in texts.tolist()):
        texts = texts.str.replace(WEEKDAY, "", n=1, regex=True)
    if any(all_fit(texts, pattern) for pattern in (*COARSE.values(), ISO)):
        return texts
    if all(text.endswith(".0") and len(text) == 6 for text in texts.tolist()):
        return texts.str[:4]  # years that were numbers elsewhere
    if all_fit(texts, YEAR_STEP):
        week = re.search(r"week|wk|kw|woche", header, re.IGNORECASE) is not None
        if week or (texts.str[4:].astype(int) <= 12).all():
            return texts.str[:4] + ("-W" if week else "-") + texts.str[4:]
    for pattern, kind in VARIANTS:
        if all_fit(texts, pattern):
            return texts.map(lambda text, pattern=pattern, kind=kind: _canonical(pattern.fullmatch(text), kind))
    return texts


def _canonical(found: re.Match[str] | None, kind: str) -> str:
    assert found is not None  # noqa: S101  all texts fit
    year = found["y"] if len(found["y"]) == 4 else f"20{found['y']}"
    if kind == "month":
        return f"{year}-{int(found['m']):02d}"
    return f"{year}-Q{found['q']}" if kind == "quarter" else f"{year}-W{int(found['w']):02d}"


def is_fiscal(texts: pd.Series) -> bool:
    """Whether all texts are years such as 2023/24; of two only, 2010-11 may be a month."""
    found = [_FISCAL.fullmatch(text) for text in texts.tolist()]
    years = [(int(each[1]) + 1) % 100 == int(each[2]) % 100 for each in found if each is not None]
    return len(years) == len(texts) >= 3 and all(years)


def translated(texts: pd.Series, locale: str | None) -> pd.Series:
    """The texts with a stated language's months in English, where they have any."""
    if locale is None:
        return texts
    read = in_english(texts.tolist(), locale)
    return texts if read is None else pd.Series(read, texts.index, name=texts.name)


def with_language(texts: pd.Series, locale: str | None, file: str, column: str) -> tuple[pd.Series, str | None]:
    """The texts with months in English, and the language that was found for them.

    Raises
    ------
    InputError
        If several languages fit and read differently.
    """
    if locale is not None:
        return translated(texts, locale), None
    if any(all_fit(texts, pattern) for pattern, _, _ in NAMED) or not re.search(r"[^\W\d_]{3}", texts.iloc[0]):
        return texts, None
    fitting = language_of(texts.tolist())
    if not fitting:
        return texts, None
    if len(fitting) > 1:
        ways = " or ".join(f'locale = "{each}"' for each in fitting)
        raise InputError(
            "the months' names belong to several languages", f"Say which: {ways}.", file=file, column=column
        )
    return translated(texts, fitting[0]), fitting[0]
