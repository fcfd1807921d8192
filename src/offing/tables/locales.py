"""Month names and decimal marks of languages, from the Unicode consortium's data."""

from __future__ import annotations

import re
from functools import cache
from typing import TYPE_CHECKING

from offing.base import InputError

if TYPE_CHECKING:
    from babel import Locale

#: Languages in which a column's months are looked for where no locale is stated.
COMMON = ("en", "de", "fr", "es", "it", "pt", "nl", "pl", "sv", "da", "nb", "fi", "cs", "tr")


@cache
def _locale(name: str) -> Locale:
    from babel import Locale, UnknownLocaleError  # noqa: PLC0415  needed for other languages alone

    try:
        return Locale.parse(name.replace("-", "_"))
    except (UnknownLocaleError, ValueError, TypeError) as error:
        raise InputError(f"found {name!r}", 'Give a language such as "de", "fr" or "pt-BR".', key="locale") from error


def decimal_of(locale: str) -> str:
    """The decimal mark of a locale.

    Examples
    --------
    >>> from offing.tables.locales import decimal_of
    >>> decimal_of("de"), decimal_of("en")
    (',', '.')
    """
    symbols = _locale(locale).number_symbols
    return str(symbols.get("latn", symbols)["decimal"])


@cache
def month_names(locale: str) -> dict[str, int]:
    """Number of the month, from 1, by each of its names in lower case and without a full stop.

    Examples
    --------
    >>> from offing.tables.locales import month_names
    >>> month_names("fr")["août"], month_names("de")["märz"]
    (8, 3)
    """
    found: dict[str, int] = {}
    for context in ("format", "stand-alone"):
        for width in ("wide", "abbreviated"):
            for number, name in _locale(locale).months[context][width].items():
                plain = str(name).lower().rstrip(".")
                found.setdefault(plain, number)
                if len(plain) > 3 and width == "wide":
                    found.setdefault(plain[:3], number)
    return found


_WORD = re.compile(r"[^\W\d_]+\.?")


def in_english(texts: list[str], locale: str) -> list[str] | None:
    """The texts with their one month's name as an English abbreviation; None where one has none in this language."""
    names = month_names(locale)
    english = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
    found = []
    for text in texts:
        words = [
            word for word in _WORD.findall(text) if word.lower().rstrip(".") not in ("de", "del", "di", "of", "le")
        ]
        months = [names.get(word.lower().rstrip(".")) for word in words]
        if len(words) != 1 or months[0] is None:
            return None
        plain = re.sub(r"\b(de|del|di|of|le)\b", " ", text, flags=re.IGNORECASE).replace(
            words[0], english[months[0] - 1]
        )
        found.append(" ".join(plain.split()))
    return found


def language_of(texts: list[str]) -> list[str]:
    """The common languages in which every text holds a month's name, each reading listed once."""
    readings: dict[tuple[str, ...], str] = {}
    for locale in COMMON:
        read = in_english(texts, locale)
        if read is not None:
            readings.setdefault(tuple(read), locale)
    return list(readings.values())
