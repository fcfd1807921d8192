"""Weights of several forecasts of the same outcomes, and one distribution from several."""

from __future__ import annotations

import numpy as np
from scipy.optimize import nnls

from offing.base.arrays import Array

#: The share of forecasts that a trimmed mean leaves out at either end.
TRIMMED = 0.2


def inverse_squares(errors: Array) -> Array:
    """Weights (m,) in inverse proportion to mean squared errors (n, m) (Bates & Granger 1969).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import inverse_squares
    >>> inverse_squares(np.array([[1.0, 2.0], [1.0, 2.0]])).round(6).tolist()
    [0.8, 0.2]
    """
    squares = np.square(errors).mean(axis=0)
    weights = 1.0 / np.maximum(squares, 1e-12 * max(float(squares.max()), 1e-300))
    return np.asarray(weights / weights.sum())


def least_squares_weights(errors: Array) -> Array:
    """Weights (m,), none negative and adding up to one, of the least squared error of the whole (n, m).

    That of Granger & Ramanathan (1984) without a constant and within bounds. Of all u ≥ 0 with sum t the least |E u|²
    is t² times that of sum one. Least squares of E u and of 1 − t at once therefore has the same direction, and knows
    no constraint but the sign (Lawson & Hanson 1974).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import least_squares_weights
    >>> least_squares_weights(np.array([[1.0, -1.0], [-1.0, 1.0], [0.5, -0.5]])).round(6).tolist()
    [0.5, 0.5]
    """
    n, m = errors.shape
    size = float(np.sqrt(np.square(errors).mean()))
    if size == 0.0:
        return np.full(m, 1.0 / m)
    rows = np.vstack([errors / (size * np.sqrt(n)), np.ones(m)])
    aim = np.zeros(n + 1)
    aim[-1] = 1.0
    found, _ = nnls(rows, aim)
    return np.asarray(found / found.sum())


def middle_weights(forecasts: Array, trimmed: float | None = None) -> Array:
    """Weights (n, m) that make of forecasts (n, m) their median, or their mean without a `trimmed` share at either end.

    Of a trimmed mean of three or more at least one is left out at either end.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import middle_weights
    >>> middle_weights(np.array([[1.0, 9.0, 4.0], [5.0, 2.0, 3.0]])).tolist()
    [[0.0, 0.0, 1.0], [0.0, 0.0, 1.0]]
    """
    m = forecasts.shape[1]
    out = (m - 1) // 2 if trimmed is None else min(max(int(trimmed * m), 1), (m - 1) // 2)
    ranks = np.argsort(np.argsort(forecasts, axis=1, kind="stable"), axis=1, kind="stable")
    kept = (ranks >= out) & (ranks < m - out)
    return np.asarray(kept / kept.sum(axis=1, keepdims=True))


def averaged_quantiles(quantiles: Array, weights: Array) -> Array:
    """Quantiles (n, q) as the weighted means (n, m) of those (m, n, q) at each probability (Vincent 1912).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import averaged_quantiles
    >>> averaged_quantiles(np.array([[[1.0, 3.0]], [[3.0, 9.0]]]), np.array([[0.5, 0.5]])).tolist()
    [[2.0, 6.0]]
    """
    return np.asarray(np.einsum("mnq,nm->nq", quantiles, weights))


def mixed_quantiles(quantiles: Array, weights: Array, probabilities: Array) -> Array:
    """Quantiles (n, q) of the mixture (Stone 1961) of distributions given by theirs (m, n, q), with weights (n, m).

    Between quantiles the distribution functions are straight; beyond the outermost ones as steep as beside them. The
    mixture is wider than the mean of quantiles where members disagree.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import mixed_quantiles
    >>> p = np.array([0.25, 0.5, 0.75])
    >>> mixed_quantiles(np.array([[[1.0, 2.0, 3.0]], [[5.0, 6.0, 7.0]]]), np.array([[0.5, 0.5]]), p).tolist()
    [[2.0, 4.0, 6.0]]
    """
    p = np.concatenate([[0.0], probabilities, [1.0]])
    low = quantiles[..., :1] - _slope(quantiles[..., :2], probabilities[:2]) * probabilities[0]
    high = quantiles[..., -1:] + _slope(quantiles[..., -2:], probabilities[-2:]) * (1.0 - probabilities[-1])
    wide = np.concatenate([low, quantiles, high], axis=-1)
    found = np.empty(quantiles.shape[1:])
    for i in range(quantiles.shape[1]):
        points = np.unique(wide[:, i])
        below = sum(
            (
                weight * np.interp(points, row, p, left=0.0, right=1.0)
                for weight, row in zip(weights[i], wide[:, i], strict=True)
            ),
            np.zeros(len(points)),
        )
        found[i] = _inverted(points, below, probabilities)
    return found


def _slope(pair: Array, probabilities: Array) -> Array:
    return np.asarray(np.diff(pair, axis=-1) / np.diff(probabilities))


def _inverted(points: Array, below: Array, probabilities: Array) -> Array:
    """Where a rising function reaches the probabilities; in the middle of where it stays at one."""
    first = np.interp(probabilities, *_rising(below, points, last=False))
    last = np.interp(probabilities, *_rising(below, points, last=True))
    return (first + last) / 2.0


def _rising(below: Array, points: Array, *, last: bool) -> tuple[Array, Array]:
    """The function's values and places without repetitions of a value, of which the first or the last place counts."""
    keep = np.append(np.diff(below) > 0.0, True) if last else np.insert(np.diff(below) > 0.0, 0, True)
    return below[keep], points[keep]
