"""Cells as people write them: currencies, percent, units, accounting's parentheses, yes and no."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache

import numpy as np
import pandas as pd

from offing.base import Finding, InputError
from offing.base.toml import toml_key
from offing.tables.number_parsing import is_missing

YES_NO = "yes/no"
#: Words for yes and for no in the languages of most spreadsheets, in lower case.
_YES = frozenset(
    (
        "yes",
        "y",
        "true",
        "t",
        "on",
        "ja",
        "oui",
        "si",
        "sí",
        "sì",
        "sim",
        "tak",
        "kyllä",
        "ano",
        "wahr",
        "vrai",
        "vero",
        "verdadero",
        "verdadeiro",
        "prawda",
        "evet",
    )
)
_NO = frozenset(
    (
        "no",
        "n",
        "false",
        "f",
        "off",
        "nein",
        "nej",
        "nee",
        "nei",
        "non",
        "não",
        "nao",
        "nie",
        "ei",
        "ne",
        "falsch",
        "faux",
        "falso",
        "fałsz",
        "hay\N{LATIN SMALL LETTER DOTLESS I}r",
    )
)
_MINUS = "\N{MINUS SIGN}\N{EN DASH}-"  # the hyphen last, where it is no range
_SIGNS = "$€£¥₹₽₺₩₪₫₴₦฿₱₡₵₸"
_BODY = r"[\d.,'\N{RIGHT SINGLE QUOTATION MARK}\s]*\d[\d.,]*"
_CELL = re.compile(
    rf"(?P<open>\(?)\s*(?P<lead>[+{_MINUS}]?)\s*(?P<before>[^\d\s.,()+{_MINUS}]{{0,5}})\s*(?P<sign>[+{_MINUS}]?)"
    rf"(?P<body>{_BODY})\s*(?P<after>[^\d\s_:.,()'+{_MINUS}][^()]{{0,15}}?)?\s*(?P<trail>[{_MINUS}]?)(?P<close>\)?)"
)
_PLAIN = re.compile(rf"[+-]?{_BODY}([eE][+-]?\d+)?")
#: Marks that refer to a note below the table.
_FOOTNOTES = "*†‡^ "
#: Ways to write one unit.
_SAME = {"pct": "%", "percent": "%", "per cent": "%", "€": "EUR", "£": "GBP", "deg c": "°C", "º c": "°C", "ºc": "°C"}


@dataclass(frozen=True)
class Cell:
    """One written number: its digits with sign, and the unit that it bears."""

    body: str
    unit: str


@cache
def cell_of(text: str) -> Cell | None:
    """What a cell writes; None where it is no number with at most a currency or a unit around it.

    Examples
    --------
    >>> from offing.tables.notation import cell_of
    >>> cell_of("$12,748.50"), cell_of("(3.5 %)")
    (Cell(body='12,748.50', unit='$'), Cell(body='-3.5', unit='%'))
    """
    found = _CELL.fullmatch(text)
    if found is None or bool(found["open"]) != bool(found["close"]):
        return None
    signs = [sign for sign in (found["lead"], found["sign"], found["trail"]) if sign]
    before, after = found["before"], (found["after"] or "").strip()
    if len(signs) > 1 or (signs and found["open"] and signs[0] != "+") or (before and not _is_currency(before)):
        return None
    if before and after and not _is_currency(after):
        return None
    negative = bool(found["open"]) or (bool(signs) and signs[0] in _MINUS)
    unit = before or after.strip(_FOOTNOTES)
    return Cell(("-" if negative else "") + found["body"].strip(), _SAME.get(unit.lower(), unit))


@cache
def _is_currency(text: str) -> bool:
    """Whether a text is a currency's sign or its code."""
    if all(letter in _SIGNS or letter.isalpha() for letter in text) and any(letter in _SIGNS for letter in text):
        return True
    if re.fullmatch("[A-Z]{3}", text) is None:
        return False
    from babel.numbers import is_currency  # noqa: PLC0415  loads the world's currencies

    return is_currency(text)


@dataclass(frozen=True)
class Understood:
    """Cells as plain texts of numbers; the notation of each column that has one, and what there is to say about it.

    `units` holds the unit that the cells themselves bear, `faults` the error of a column whose units differ.
    """

    cells: pd.DataFrame
    notation: Mapping[str, str]
    units: Mapping[str, str]
    findings: tuple[Finding, ...]
    faults: Mapping[str, InputError]


def understood(cells: pd.DataFrame, stated: Mapping[str, str], missing: frozenset[str], file: str) -> Understood:
    """Find, or check, how the cells of each column of text are written, and take off what is no digit.

    Parameters
    ----------
    stated
        The notation by column, where it is stated; it is then not remarked on.
    missing
        Further words that mean "nothing is known", in lower case.
    """
    notation: dict[str, str] = {}
    units: dict[str, str] = {}
    findings: list[Finding] = []
    faults: dict[str, InputError] = {}
    changed: dict[str, pd.Series] = {}
    for name in cells.columns:
        column = cells[name]
        if pd.api.types.is_datetime64_any_dtype(column):
            continue
        if pd.api.types.is_numeric_dtype(column):
            if markers := [float(word) for word in missing if _PLAIN.fullmatch(word)]:
                changed[str(name)] = column.where(~column.isin(markers))
            continue
        try:
            read = _column(column, stated.get(str(name)), missing, file)
        except InputError as error:
            faults[str(name)] = error
            continue
        if read is None:
            continue
        changed[str(name)], method, unit = read
        if unit:
            units[str(name)] = unit
        if method:
            notation[str(name)] = method
            if str(name) not in stated:
                findings.append(_note(column, changed[str(name)], method, file, missing))
    return Understood(cells.assign(**changed) if changed else cells, notation, units, tuple(findings), faults)


def _column(
    column: pd.Series, stated: str | None, missing: frozenset[str], file: str
) -> tuple[pd.Series, str, str] | None:
    """The column's cells as texts of plain numbers, its notation and unit; None where nothing is to be done."""
    if stated is None and not missing and all(isinstance(each, str) and _PLAIN.fullmatch(each) for each in column):
        return None
    texts = pd.Series(
        ["" if is_missing(each, missing) else _bare(str(each)) for each in column], column.index, object, column.name
    )
    kinds = [text for text in dict.fromkeys(texts.tolist()) if text]
    if not kinds:
        return (texts, "", "") if missing else None
    lower = {text: text.lower() for text in kinds}
    if stated == YES_NO or (stated is None and _yes_or_no(set(lower.values()))):
        if not _yes_or_no(set(lower.values())):
            wrong = next(text for text in kinds if lower[text] not in _YES | _NO)
            raise _fault(texts, wrong, file, "which is neither yes nor no")
        plain = {text: "1" if lower[text] in _YES else "0" for text in kinds}
        return texts.map(lambda text: plain.get(text, "")), YES_NO, ""
    if (
        stated is not None
        and not any(map(_PLAIN.fullmatch, kinds))
        and {lower[text] for text in kinds} == {stated.lower()}
    ):
        return texts.map(lambda text: "1" if text else "0"), stated, ""
    if all(map(_PLAIN.fullmatch, kinds)):
        bare = any(str(each).strip()[:1] in ("'", "=") for each in column.tolist())
        return (texts, "", "") if missing or bare else None
    parts = {text: cell_of(text) for text in kinds}
    counted = Counter(part.unit for part in parts.values() if part is not None)
    readable = sum(counted.values())
    if readable < 0.5 * len(kinds):
        if stated is not None:
            raise _fault(
                texts, next(text for text in kinds if parts[text] is None), file, f"which is not written in {stated!r}"
            )
        return None
    borne = [unit for unit, _ in counted.most_common() if unit]
    unit = (
        _SAME.get(str(stated).lower(), stated)
        if stated is not None and stated != "(1)"
        else (borne[0] if borne else "")
    )
    # A currency may be left out of some cells; 12 beside 12 % or 12 kg is another thing.
    allowed = {unit, ""} if not unit or _is_currency(unit) else {unit}
    odd = [text for text, part in parts.items() if part is not None and part.unit not in allowed]
    if odd:
        usual = max(counted, key=lambda each: counted[each])
        text = next((each for each in odd if (part := parts[each]) is not None and part.unit != usual), None)
        text = text or next(each for each, part in parts.items() if part is not None and part.unit != usual)
        most = f"where most cells are in {usual!r}" if usual else "where most cells have no unit"
        raise _fault(texts, text, file, most, "Bring the column to one unit, or split it in two.")
    plain = {text: text if part is None else part.body for text, part in parts.items()}
    if not unit and all(text == body for text, body in plain.items()):
        return (texts, "", "") if missing else None
    return texts.map(lambda text: plain.get(text, "")), unit or "(1)", unit


def _bare(text: str) -> str:
    """A cell without what spreadsheets put around numbers that are text: an apostrophe before, or ="…"."""
    plain = text.strip()
    if plain.startswith('="') and plain.endswith('"'):
        return plain[2:-1].strip()
    return plain[1:] if plain.startswith("'") else plain


def _yes_or_no(words: set[str]) -> bool:
    return words <= _YES | _NO and (len(words) > 1 or not words <= {"t", "f", "y", "n", "on", "si", "no", "ne"})


def _fault(texts: pd.Series, text: str, file: str, why: str, advice: str = "Correct the cell.") -> InputError:
    row = int(texts.index[np.flatnonzero((texts == text).to_numpy())[0]])
    return InputError(f"found {text!r}, {why}", advice, file=file, row=row, column=str(texts.name))


def _note(column: pd.Series, plain: pd.Series, method: str, file: str, missing: frozenset[str]) -> Finding:
    first = next(
        i
        for i, cell in enumerate(column.tolist())
        if not is_missing(cell, missing) and str(cell).strip() != plain.iloc[i]
    )
    cell, name = str(column.iloc[first]).strip(), str(column.name)
    return Finding(
        "notation",
        "note",
        f"{file}: '{name}' is written as {cell!r}, which is read as {plain.iloc[first]}"
        + ("" if method in (YES_NO, "(1)") else f" in {method}")
        + ".",
        advice=f'State notation = {{ {toml_key(name)} = "{method}" }}.',
    )
