"""Numbers and units in sentences."""

from __future__ import annotations

import html
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd


def number(value: float, digits: int = 3) -> str:
    """A number with `digits` significant digits, thousands apart, whole where it is large."""
    if value != value:  # noqa: PLR0124  NaN
        return "undefined"
    size = abs(value)
    if size >= 10 ** (digits - 1) or value == round(value):
        return f"{value:,.0f}"
    if size < 1e-4:
        return f"{value:.{digits - 1}e}"
    decimals = digits - 1
    while size < 1.0:
        size *= 10.0
        decimals += 1
    while size >= 10.0:
        size /= 10.0
        decimals -= 1
    return f"{value:,.{decimals}f}"


def signed(value: float, digits: int = 3) -> str:
    """A number with its sign, a true minus included."""
    return ("+" if value >= 0 else "\N{MINUS SIGN}") + number(abs(value), digits)


def percent(share: float, digits: int = 2) -> str:
    """A share as a signed percentage."""
    return f"{signed(100.0 * share, digits)} %"


def indented(frame: pd.DataFrame, **options: object) -> str:
    """A DataFrame as aligned text, two columns in."""
    text = frame.to_string(**options)  # type: ignore[call-overload]
    return "\n".join("  " + line for line in str(text).splitlines())


def as_html(sentences: str, frame: pd.DataFrame) -> str:
    """Sentences and a table for a notebook; whatever comes from the data is escaped."""
    paragraphs = "".join(f"<p>{html.escape(line)}</p>" for line in sentences.splitlines() if line)
    return paragraphs + frame.to_html(max_rows=30, float_format=lambda value: number(float(value), 4))
