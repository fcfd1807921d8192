"""How far forecasts are from outcomes: losses of single forecasts. Means over any group of them are the scores."""

from __future__ import annotations

import numpy as np

from offing.base.arrays import Array


def pinball(outcome: Array, quantiles: Array, probabilities: Array) -> Array:
    """Quantile losses (n, q) of outcomes (n,) (Koenker & Bassett 1978).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import pinball
    >>> pinball(np.array([3.0]), np.array([[1.0, 5.0]]), np.array([0.1, 0.9])).round(6).tolist()
    [[0.2, 0.2]]
    """
    short = outcome[:, None] - quantiles
    return np.asarray(np.maximum(probabilities * short, (probabilities - 1.0) * short))


def ranked_probability(outcome: Array, quantiles: Array, probabilities: Array) -> Array:
    """Continuous ranked probability scores (n,): twice the integral of the quantile losses (Gneiting & Raftery 2007).

    By the trapezoid rule over the `probabilities` (q,), in rising order; at 0 and 1 the loss is zero, or for an outcome
    beyond all quantiles that of the outermost one. With hundredths it is right to about 0.2 % for a normal variable.

    Examples
    --------
    >>> import numpy as np
    >>> from scipy.special import ndtri
    >>> from offing.engine import ranked_probability
    >>> p = np.arange(1, 100) / 100.0
    >>> ranked_probability(np.array([0.0]), ndtri(p)[None], p).round(3).tolist()   # exactly 0.2337
    [0.234]
    """
    losses = pinball(outcome, quantiles, probabilities)
    below = np.maximum(quantiles[:, 0] - outcome, 0.0)
    above = np.maximum(outcome - quantiles[:, -1], 0.0)
    wide = np.column_stack([below, losses, above])
    return np.asarray(2.0 * np.trapezoid(wide, np.concatenate([[0.0], probabilities, [1.0]]), axis=1))


def interval_score(outcome: Array, low: Array, high: Array, level: float) -> Array:
    """The interval's width (n,), and what is missed of the outcome times 2 / (1 − level) (Winkler 1972).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import interval_score
    >>> interval_score(np.array([3.0, 12.0]), np.array([2.0, 2.0]), np.array([10.0, 10.0]), 0.8).round(6).tolist()
    [8.0, 28.0]
    """
    missed = np.maximum(low - outcome, 0.0) + np.maximum(outcome - high, 0.0)
    return np.asarray(high - low + 2.0 / (1.0 - level) * missed)


def naive_change(values: Array, lag: int) -> tuple[float, float]:
    """Mean absolute and mean squared change over `lag` periods within `values` (n,): the scale of scaled errors.

    The denominators of MASE (Hyndman & Koehler 2006) and, squared, of RMSSE (Makridakis et al. 2022). NaN where no pair
    of values is known.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import naive_change
    >>> naive_change(np.array([1.0, 3.0, 2.0, np.nan]), 1)
    (1.5, 2.5)
    """
    changes = values[lag:] - values[: max(len(values) - lag, 0)]
    changes = changes[np.isfinite(changes)]
    if not len(changes):
        return float("nan"), float("nan")
    return float(np.abs(changes).mean()), float(np.square(changes).mean())


def position_in(outcome: Array, quantiles: Array, probabilities: Array) -> Array:
    """The probability (n,) below each outcome by linear interpolation of its quantiles (n, q) (Dawid 1984).

    Beyond the outermost quantiles half of what lies there is taken. A distribution without width has no positions: NaN.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import position_in
    >>> position_in(np.array([2.0, 9.0]), np.array([[1.0, 3.0]] * 2), np.array([0.1, 0.9])).round(6).tolist()
    [0.5, 0.95]
    """
    at = (quantiles <= outcome[:, None]).sum(axis=1)
    low, high = np.clip(at - 1, 0, None), np.clip(at, None, quantiles.shape[1] - 1)
    rows = np.arange(len(outcome))
    width = quantiles[rows, high] - quantiles[rows, low]
    share = np.where(width > 0.0, (outcome - quantiles[rows, low]) / np.where(width > 0.0, width, 1.0), 0.5)
    found = probabilities[low] + share * (probabilities[high] - probabilities[low])
    found = np.where(at == 0, probabilities[0] / 2.0, found)
    found = np.where(at == quantiles.shape[1], (1.0 + probabilities[-1]) / 2.0, found)
    return np.asarray(np.where(quantiles[:, 0] == quantiles[:, -1], np.nan, found))
