"""Splitting values, and what lies between two of them, into rows that add up, exactly."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array

#: Numbers that are paired at a time: 16 MB each.
_AT_ONCE = 2_000_000


def logarithmic_mean(high: Array, low: Array) -> Array:
    """(e^a − e^b) / (a − b) of logarithms a and b, which is e^a where both are equal.

    In the form e^b (exp(x) − 1)/x, x = a − b, which keeps its digits as a comes near b.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import logarithmic_mean
    >>> logarithmic_mean(np.array([0.0, 1e-9]), np.zeros(2)).tolist()
    [1.0, 1.0000000005]
    """
    x = high - low
    safe = np.where(x == 0.0, 1.0, x)
    return np.asarray(np.exp(low) * np.where(x == 0.0, 1.0, np.expm1(safe) / safe))


def attribute(rows: Array, *, log: bool) -> tuple[Array, Array]:
    """Amounts (J, n) of rows that add up, the baseline first, and what one unit of the others is worth (n,).

    Of rows (J, n) that are amounts it is these. Where their sum is a logarithm, the baseline is the exponential of its
    row, and the rest is shared out in proportion to the rows by the logarithmic mean (Ang 2005), so that the amounts
    add up to the exponential of the sum.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import attribute
    >>> amounts, _ = attribute(np.log([[1.0], [2.0], [3.0]]), log=True)
    >>> float(amounts.sum().round(12))
    6.0
    """
    if not log:
        return rows, np.ones(rows.shape[1])
    weights = logarithmic_mean(rows.sum(axis=0), rows[0])
    return np.vstack([np.exp(rows[:1]), rows[1:] * weights]), weights


def paired(
    end: Array, start: Array, owners: NDArray[np.intp], groups: int, *, log: bool, pooled: bool
) -> tuple[Array, Array]:
    """What one unit of a row is worth at the end (h,), and in each group of periods at the start (groups, m).

    From every period of the end, whose rows add up to `end` (h,), something is walked back to periods of the start
    that add up to `start` (m,): to the one at its own place, or to all `pooled`, each counting alike. With weights
    a and b the amount of a row in group g is Σ a c over its periods, less Σ b c' over the start, and the amounts of all
    rows add up to the difference of the values (Ang 2005, for every pair). `owners` (h,) shows each period's group.
    """
    m = len(start)
    back = np.zeros((groups, m))
    if not pooled:
        worth = logarithmic_mean(end, start) if log else np.ones(m)
        back[owners, np.arange(m)] = worth
        return worth, back
    if not log:
        back += (np.bincount(owners, minlength=groups) / m)[:, None]
        return np.ones(len(end)), back
    member = np.zeros((groups, len(end)))
    member[owners, np.arange(len(end))] = 1.0 / m
    worth, step = np.zeros(len(end)), max(_AT_ONCE // len(end), 1)
    for i in range(0, m, step):
        means = logarithmic_mean(end[:, None], start[None, i : i + step])
        worth += means.sum(axis=1) / m
        back[:, i : i + step] = member @ means
    return worth, back
