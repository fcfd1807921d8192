"""An adjustment by hand: which periods, by how much, why, by whom."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np

from offing.base import InputError, Keywords
from offing.base.text import number, signed
from offing.explain.date_spans import Span


@dataclass(frozen=True)
class Adjustment(Keywords):
    """An analyst's adjustment of a forecast.

    Parameters
    ----------
    span
        What is adjusted: one period by its date, ``2026``, ``2026-Q3`` or ``2026-07``, or a pair of dates.
    percent, amount, total
        Exactly one: every period higher by a percentage; an amount added to the span's sum; or the sum that the span
        is to have, outcomes that are known included. Amounts and totals are shared out in proportion to the forecast.
    reason, author
        Why, and by whom.
    made
        When it was made, from which origin it is scored later.

    Raises
    ------
    InputError
        For none or several sizes, no number, or without a reason and an author.

    Examples
    --------
    >>> import offing as of
    >>> of.Adjustment("2026-08", percent=5.0, reason="the regatta moves", author="harbour office").size
    'percent'
    """

    span: Span
    percent: float | None = None
    amount: float | None = None
    total: float | None = None
    reason: str = ""
    author: str = ""
    made: str | date | None = None

    def __post_init__(self) -> None:
        given = [name for name in _SIZES if getattr(self, name) is not None]
        if len(given) != 1:
            raise InputError(
                f"found {' and '.join(given) or 'no size'}",
                "Give percent, amount or total, and one only.",
                key="adjustments",
            )
        value = getattr(self, given[0])
        if isinstance(value, bool) or not isinstance(value, (int, float, np.number)) or not np.isfinite(value):
            raise InputError(f"found {value!r}", "Give a number.", key=given[0])
        for name in ("reason", "author"):
            said = getattr(self, name)
            if not isinstance(said, str) or not said.strip():
                raise InputError(f"an adjustment has no {name}", "Say why and by whom it was made.", key=name)

    @property
    def size(self) -> str:
        """Which of the three is stated."""
        return next(name for name in _SIZES if getattr(self, name) is not None)

    @property
    def said(self) -> str:
        """The span in words."""
        return self.span if isinstance(self.span, str) else " to ".join(str(each) for each in self._ends)

    @property
    def _ends(self) -> Sequence[object]:
        return self.span if isinstance(self.span, tuple) else (self.span,)

    def words(self, unit: str) -> str:
        """What is stated, in words."""
        if self.percent is not None:
            return f"{signed(self.percent)} %"
        text = f"a total of {number(self.total or 0.0, 5)}" if self.amount is None else signed(self.amount)
        return f"{text} {unit}".rstrip()


_SIZES = ("percent", "amount", "total")
