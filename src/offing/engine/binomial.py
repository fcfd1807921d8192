"""Shares of a count: exact limits and the exact test of a stated share."""

from __future__ import annotations

import numpy as np
from scipy.special import betaincinv, gammaln, xlog1py, xlogy

#: Two probabilities that differ by less are the same to rounding.
_SAME = 1e-7


def binomial_limits(held: float, n: int, level: float = 0.95) -> tuple[float, float]:
    """Exact confidence limits of a share (Clopper & Pearson 1934); `held` of `n` need not be whole.

    Examples
    --------
    >>> from offing.engine import binomial_limits
    >>> [round(each, 4) for each in binomial_limits(8, 10)]
    [0.4439, 0.9748]
    """
    tail = (1.0 - level) / 2.0
    low = float(betaincinv(held, n - held + 1.0, tail)) if held > 0.0 else 0.0
    high = float(betaincinv(held + 1.0, n - held, 1.0 - tail)) if held < n else 1.0
    return low, high


def binomial_p(held: int, n: int, share: float) -> float:
    """Two-sided p of the exact test that the true share is the stated one: all counts no likelier than `held`.

    Examples
    --------
    >>> from offing.engine import binomial_p
    >>> round(binomial_p(5, 10, 0.8), 6)
    0.032793
    """
    counts = np.arange(n + 1.0)
    choices = gammaln(n + 1.0) - gammaln(counts + 1.0) - gammaln(n - counts + 1.0)
    chances = np.exp(choices + xlogy(counts, share) + xlog1py(n - counts, -share))
    return float(min(chances[chances <= chances[held] * (1.0 + _SAME)].sum(), 1.0))
