"""Coefficients within bounds, or with functions of them that do not fall."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular
from scipy.optimize import lsq_linear, nnls

from offing.base.arrays import Array
from offing.engine.qr import solve, triangle


def within_bounds(root: Array, unconstrained: Array, lower: Array, upper: Array) -> tuple[Array, NDArray[np.bool_]]:
    """Coefficients (r,) within bounds nearest to the `unconstrained` ones in the triangle's metric, and which are held.

    Often those that pass their bounds are all that the bounds hold. Else the active set is that of Stark & Parker
    (1995). The others are solved exactly.
    """
    held = (unconstrained < lower) | (unconstrained > upper)
    inner = _beside_held(root, unconstrained, np.clip(unconstrained, lower, upper), held)
    penalty = root.T @ (root @ (inner - unconstrained))
    right = np.where(inner <= lower, penalty >= 0.0, penalty <= 0.0)
    if ((inner >= lower) & (inner <= upper)).all() and right[held].all():
        return inner, held
    lengths = np.linalg.norm(root, axis=0)
    scaled = root / lengths
    aim, bounds = scaled @ (unconstrained * lengths), (lower * lengths, upper * lengths)
    found = lsq_linear(scaled, aim, bounds=bounds, method="bvls", tol=1e-14)
    held = found.active_mask != 0
    return _beside_held(root, unconstrained, np.where(found.active_mask < 0, lower, upper), held), held


def _beside_held(root: Array, unconstrained: Array, limit: Array, held: NDArray[np.bool_]) -> Array:
    """Coefficients (r,) of which some are `held` at a `limit` (r,), the others nearest to the `unconstrained` ones."""
    inner, free = limit.copy(), np.flatnonzero(~held)
    if len(free):
        aim = root @ unconstrained - root[:, held] @ inner[held]
        inner[free] = solve(triangle(np.column_stack([root[:, free], aim]))).beta[:, 0]
    return inner


def not_falling(root: Array, unconstrained: Array, rising: Array, lower: Array, upper: Array) -> Array:
    """Coefficients (r,) nearest to the `unconstrained` ones in the triangle's metric, with A β ≥ 0 and within bounds.

    The least distance problem of Lawson & Hanson (1974, chapter 23): y = R (β − loose) of least length with G y ≥ h.
    """
    eye = np.eye(len(unconstrained))
    low, high = np.isfinite(lower), np.isfinite(upper)
    rows = np.vstack([rising, eye[low], -eye[high]])
    limits = np.concatenate([np.zeros(len(rising)), lower[low], -upper[high]])
    sizes = np.maximum(np.linalg.norm(rows, axis=1), 1e-300)
    inner = solve_triangular(root, (rows / sizes[:, None]).T, trans="T", check_finite=False).T
    short = (limits - rows @ unconstrained) / sizes
    scale = max(float(np.abs(short).max()), 1e-300)
    joined = np.vstack([inner.T, short / scale])
    aim = np.zeros(len(joined))
    aim[-1] = 1.0
    weights, _ = nnls(joined, aim, maxiter=50 * len(limits))
    residual_part = joined @ weights - aim
    found = unconstrained + solve_triangular(root, -scale * residual_part[:-1] / residual_part[-1], check_finite=False)
    # What rounding leaves beyond a bound lies at it.
    near = 1e-9 * np.maximum(np.abs(unconstrained), 1e-300)
    return np.where(np.abs(found - lower) < near, lower, np.where(np.abs(found - upper) < near, upper, found))
