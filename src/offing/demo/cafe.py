"""The harbour café's months: the small table of the page that leads from a spreadsheet to a forecast."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

#: The truth: takings in a month without guests, what a degree and a cruise ship add, and what each year adds.
BASE, PER_DEGREE, PER_SHIP, PER_YEAR = 9_000.0, 310.0, 420.0, 600.0
#: What New Year's closing and the summer terrace change, in January and in July.
JANUARY, JULY, SPREAD = -1_800.0, 2_600.0, 450.0


@dataclass(frozen=True)
class Cafe:
    """The café's history, and what is planned for the months after it."""

    sales: pd.DataFrame
    plan: pd.DataFrame


def cafe(months: int = 84, ahead: int = 6, seed: int = 11) -> Cafe:
    """Make up months of takings in EUR, with the mean temperature and the cruise ships of each.

    Examples
    --------
    >>> from offing.demo.cafe import cafe
    >>> list(cafe().sales.columns), len(cafe().plan)
    (['takings', 'temperature', 'ships'], 6)
    """
    generator = np.random.default_rng(seed)
    index = pd.period_range("2019-01", periods=months + ahead, freq="M")
    month = index.month.to_numpy()
    warm = np.round(9.5 - 6.5 * np.cos((month - 1.5) * np.pi / 6.0) + generator.normal(0.0, 1.3, len(index)), 1)
    ships = generator.poisson(np.where((month >= 5) & (month <= 9), 6.0, 1.0))
    takings = BASE + PER_YEAR * np.arange(len(index)) / 12.0 + PER_DEGREE * warm + PER_SHIP * ships
    takings += JANUARY * (month == 1) + JULY * (month == 7) + generator.normal(0.0, SPREAD, len(index))
    frame = pd.DataFrame({"takings": takings.round(0), "temperature": warm, "ships": ships}, index.rename("month"))
    return Cafe(frame.iloc[:months], frame.iloc[months:].drop(columns="takings"))
