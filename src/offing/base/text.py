"""Numbers and units in sentences."""

from __future__ import annotations

import html
import math
import textwrap
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd

    from offing.base.findings import Finding


def serious_first(findings: Iterable[Finding]) -> tuple[list[str], list[str]]:
    """Findings in words: those that forbid the use of a result, which come before everything else, and the others."""
    every = list(findings)
    return [str(each) for each in every if each.severity == "serious"], [
        str(each) for each in every if each.severity != "serious"
    ]


def number(value: float, digits: int = 3) -> str:
    """A number with `digits` significant digits, thousands apart, whole where it is large."""
    if value != value:  # noqa: PLR0124  NaN
        return "undefined"
    if value < 0:
        return "\N{MINUS SIGN}" + number(-value, digits)
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
    """A number with its sign."""
    return ("+" if value >= 0 else "") + number(value, digits)


def percent(share: float, digits: int = 2) -> str:
    """A share as a signed percentage."""
    return f"{signed(100.0 * share, digits)} %"


def percents(shares: Iterable[float]) -> list[str]:
    """Shares as signed percentages, an empty text where there is none."""
    return [percent(float(share)) if math.isfinite(share) else "" for share in shares]


def in_units(name: str, unit: str) -> str:
    """A name with its unit in brackets, where there is one."""
    return f"{name} ({unit})" if unit else name


#: Units of power, whose sum over periods is energy or, of other periods than hours, power times time.
_POWER = ("W", "kW", "MW", "GW", "TW")


def unit_of_sum(unit: str, period: str) -> str:
    """The unit of a sum over periods: kW summed over hours are kWh, over days kW·days; boats stay boats."""
    if unit not in _POWER:
        return unit
    return f"{unit}h" if period == "hour" else f"{unit}·{period}s"


def rounded(values: Iterable[float]) -> list[str]:
    """Values of one kind with as many decimals as their size needs: none from 100 on."""
    values = [float(value) for value in values]
    largest = max((abs(value) for value in values if value == value), default=0.0)  # noqa: PLR0124  NaN
    decimals = 0 if largest >= 100 else 2 if largest >= 1 else 4
    # Rounded first, and nothing added: a small negative number is 0 and not −0.
    return [f"{round(value, decimals) + 0.0:,.{decimals}f}" if math.isfinite(value) else "" for value in values]


def text_table(heads: Sequence[str], columns: Sequence[Sequence[str]], inset: int = 2) -> str:
    """Columns of text under their heads, aligned: the first to the left, the others to the right."""
    widths = [max(map(len, (head, *cells))) for head, cells in zip(heads, columns, strict=True)]
    lines = []
    for row in (heads, *zip(*columns, strict=True)):
        cells = [row[0].ljust(widths[0]), *(cell.rjust(width) for cell, width in zip(row[1:], widths[1:], strict=True))]
        lines.append(" " * inset + "  ".join(cells).rstrip())
    return "\n".join(lines)


def wrapped(text: str, width: int = 118) -> str:
    """Long lines broken between words, their continuation set in a little further than they start.

    A number and its per cent sign stay together.
    """
    lines = []
    for line in text.replace(" %", "\N{NO-BREAK SPACE}%").splitlines():
        start = line[: len(line) - len(line.lstrip())]
        lines += textwrap.wrap(line, width, subsequent_indent=start + "  ", drop_whitespace=True) or [""]
    return "\n".join(lines).replace("\N{NO-BREAK SPACE}%", " %")


def as_html(sentences: str, frame: pd.DataFrame) -> str:
    """Sentences and a table for a notebook; whatever comes from the data is escaped."""
    paragraphs = "".join(f"<p>{html.escape(line)}</p>" for line in sentences.splitlines() if line)
    return paragraphs + frame.to_html(max_rows=30, float_format=lambda value: number(float(value), 4))
