"""How much of what the model explains each term explains, whatever the order in which terms are counted."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache, cached_property
from math import factorial

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.base.results import FULL, Entry, Result, alone, register
from offing.base.text import text_table
from offing.engine import solve, take
from offing.model.fitted import Fitted

#: With more terms orders are sampled instead of counted.
_EXACT, _ORDERS, _SEED = 12, 400, 20_240_402


@dataclass(frozen=True)
class VarianceShares(Result, figure="bars.draw_shares"):
    """Share of the variance that each term explains. Made by `offing.variance_shares`.

    Attributes
    ----------
    terms
        Names of the terms (J,).
    share
        Of the whole variation (J,); they add up to R².
    error
        Standard error (J,) from sampling orders; 0 where all were counted.
    r_squared
        What they add up to.
    alone
        What each explains that no other does (J,): how much R² falls without it.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([1.0, -1.0], 35), days, name="load")
    >>> print(of.variance_shares(of.Model("load", terms=[of.Trend(), of.Season("week")]).fit(load)))
      term             share
      trend            0.2 %
      season in week  83.4 %
      together        83.6 %
    """

    terms: tuple[str, ...]
    share: Array
    error: Array
    r_squared: float
    alone: Array

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a term: ``term, share, error, alone``."""
        return pd.DataFrame({"term": list(self.terms), "share": self.share, "error": self.error, "alone": self.alone})

    def __str__(self) -> str:
        names = [*self.terms, "together"]
        shares = [f"{100.0 * each:.1f} %" for each in (*self.share, self.r_squared)]
        if not self.error.any():
            return text_table(["term", "share"], [names, shares])
        errors = [*(f"± {100.0 * each:.1f}" for each in self.error), ""]
        return text_table(["term", "share", "sampling"], [names, shares, errors])

    @property
    def sentence(self) -> str:
        """What the terms explain together, and which of them most."""
        if not self.terms:
            return "The model has no terms to explain the variation."
        top = int(np.argmax(self.share))
        return (
            f"The terms explain {100.0 * self.r_squared:.1f} % of the variation, '{self.terms[top]}' most of it: "
            f"{100.0 * self.share[top]:.1f} %."
        )


def variance_shares(fit: Fitted) -> VarianceShares:
    """Share of the variance that each term explains: its gain in R², averaged over all orders of the terms.

    Terms that move together share what both could explain (Lindeman, Merenda & Gold 1980; Shapley 1953). Up to 12 terms
    all sets are counted; beyond, 400 seeded orders are drawn and the error of that is reported. Persistent noise is
    taken out first, so that shares are of what is left then; coefficients that are shrunk towards zero count as free.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=8, freq="D")
    >>> data = pd.DataFrame({"a": np.tile([0.0, 1.0], 4), "b": np.repeat([0.0, 1.0], 4)}, days)
    >>> data["sold"] = 2.0 * data["a"] + data["b"]
    >>> of.variance_shares(of.Model("sold", terms=[of.Driver("a"), of.Driver("b")]).fit(data)).share.round(6).tolist()
    [0.8, 0.2]
    """
    whole, last = fit.estimate.whole, fit.layout.k
    columns = [tuple(np.asarray(slot.own).tolist()) for slot in fit.layout.slots]
    first = [0] if fit.layout.constant else []

    def left(kept: list[int]) -> float:
        return float(solve(take(whole, [*first, *kept, last])).rss[0])

    nothing = left([])

    @cache
    def explained(members: frozenset[int]) -> float:
        rest = left(sorted(column for i in members for column in columns[i]))
        return 1.0 - rest / nothing if nothing > 0.0 else 0.0

    count = len(columns)
    everything = frozenset(range(count))
    names = tuple(slot.term for slot in fit.layout.slots)
    r_squared = explained(everything) if count else 0.0
    alone = np.array([r_squared - explained(everything - {i}) for i in range(count)])
    if count <= _EXACT:
        return VarianceShares(names, _averaged(explained, count), np.zeros(count), r_squared, alone)
    generator = np.random.default_rng(_SEED)
    gains = np.zeros((_ORDERS, count))
    for row in gains:
        so_far: frozenset[int] = frozenset()
        for i in generator.permutation(count).tolist():
            more = so_far | {i}
            row[i] = explained(more) - explained(so_far)
            so_far = more
    error = gains.std(axis=0, ddof=1) / np.sqrt(_ORDERS)
    return VarianceShares(names, gains.mean(axis=0), error, r_squared, alone)


def _averaged(explained: object, count: int) -> Array:
    """Gains of each term over all sets of the others, weighted by how many orders have that set before it."""
    found = np.zeros(count)
    for bits in range(2**count):
        members = frozenset(i for i in range(count) if bits >> i & 1)
        weight = factorial(len(members)) * factorial(count - len(members) - 1) if len(members) < count else 0
        for i in range(count):
            if i not in members:
                found[i] += weight * (explained(members | {i}) - explained(members))  # type: ignore[operator]
    return found / factorial(count) if count else found


register(
    Entry(
        "shares",
        title="What each term explains",
        of=lambda study, name: alone(variance_shares(study.fits[name])),
        text=dict.fromkeys(FULL, str),
        figure_for=["fit"],
        rank=92,
    )
)
