"""The step and the pulse that would explain most of what a fit leaves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.linalg import solve_triangular
from scipy.special import ndtri

from offing.base.arrays import Array


@dataclass(frozen=True)
class Jump:
    """A row, the `size` of a step (or pulse) there on the working scale, and its `t` against no such thing."""

    row: int
    size: float
    t: float


def largest_step(residual: Array, design: Array, root: Array, variance: float, margin: int) -> tuple[Jump, Array]:
    """The step that would explain most of `residual` (n,), had it been in the `design` (n, k) with triangle `root`.

    The second value is what would then be left (n,).

    A step at row t is projected on what the design leaves of it (Frisch & Waugh 1933): with Q an orthogonal basis of
    the design, its product with Q and with the residual are reverse cumulative sums, so that all n steps cost no more
    than Q. Steps within `margin` rows of either end are not looked at.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine.intervention_tests import largest_step
    >>> values = np.repeat([0.0, 3.0], 20) + np.tile([0.1, -0.1], 20)
    >>> jump, _ = largest_step(values - values.mean(), np.ones((40, 1)), np.array([[40**0.5]]), 0.01, 5)
    >>> jump.row, round(jump.size, 6)
    (20, 3.0)
    """
    basis = solve_triangular(root, design.T, trans="T", check_finite=False)
    after = np.cumsum(basis[:, ::-1], axis=1)[:, ::-1]
    remaining = np.arange(len(residual), 0, -1) - np.square(after).sum(axis=0)
    gain = np.cumsum(residual[::-1])[::-1]
    inner = np.zeros(len(residual), dtype=bool)
    inner[margin : len(residual) - margin] = True
    # A step that the design all but contains explains nothing of its own.
    usable = inner & (remaining > 0.02 * np.arange(len(residual), 0, -1))
    t = np.where(usable, gain / np.sqrt(np.maximum(remaining, 1e-300) * variance), 0.0)
    row = int(np.argmax(np.abs(t)))
    size = float(gain[row] / remaining[row]) if usable[row] else 0.0
    step = (np.arange(len(residual)) >= row) - basis.T @ after[:, row]
    return Jump(row, size, float(t[row])), residual - size * step


def largest_pulse(residual: Array, design: Array, root: Array, variance: float) -> Jump:
    """The single row whose residual (n,), over what its leverage leaves, is largest."""
    basis = solve_triangular(root, design.T, trans="T", check_finite=False)
    remaining = 1.0 - np.square(basis).sum(axis=0)
    t = np.where(remaining > 0.02, residual / np.sqrt(np.maximum(remaining, 1e-300) * variance), 0.0)
    row = int(np.argmax(np.abs(t)))
    return Jump(row, float(residual[row] / remaining[row]), float(t[row]))


def chance_limit(tries: int, p: float = 0.001) -> float:
    """The size that the largest of `tries` standard normal variables exceeds with a probability of at most p."""
    return float(-ndtri(p / (2.0 * max(tries, 1))))
