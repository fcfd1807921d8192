"""Estimates compared with the truth, to read."""

from __future__ import annotations

import pandas as pd

from offing.base.text import number, wrapped
from offing.model.fitted import Fitted


def compare(fit: Fitted, truth: pd.DataFrame) -> pd.DataFrame:
    """Estimates beside the truth: ``column, true, coefficient, low, high, inside``."""
    both = truth.merge(fit.coefficients, on=["term", "column"], how="left", validate="one_to_one")
    inside = (both["low"] <= both["true"]) & (both["true"] <= both["high"])
    return both[["column", "true", "coefficient", "low", "high"]].assign(inside=inside)


def shown(compared: pd.DataFrame, scale: str = "log scale") -> tuple[list[str], list[list[str]]]:
    """Heads and columns of the comparison as text; `scale` says what the effects add up on."""
    numbers = [[number(value) for value in compared[name]] for name in ("true", "coefficient", "low", "high")]
    inside = ["yes" if each else "NO" for each in compared["inside"]]
    heads = [f"effect ({scale})", "true", "estimated", "from", "to", "inside"]
    return heads, [compared["column"].tolist(), *numbers, inside]


def inset(text: str) -> str:
    """Lines set in, and broken where they are long."""
    # Pages are wrapped already: set in by two, their lines fit a terminal of 120.
    return wrapped("\n".join(f"  {line}" for line in text.splitlines()), 120)
