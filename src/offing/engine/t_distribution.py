"""Student's t distribution: quantiles and tail probabilities (Student 1908)."""

from __future__ import annotations

import numpy as np
from scipy.special import stdtr, stdtrit

from offing.base.arrays import Array


def quantile(probability: Array | float, dof: float) -> Array:
    """Value (same shape) that a t variable with `dof` degrees of freedom stays below with `probability`.

    Examples
    --------
    >>> from offing.engine import quantile
    >>> round(float(quantile(0.975, 10)), 6)
    2.228139
    """
    return np.asarray(stdtrit(float(dof), np.asarray(probability, dtype=float)))


def upper_p(t: float, dof: float) -> float:
    """Probability of a t variable above `t`."""
    return float(stdtr(float(dof), -t))


def two_sided_p(t: Array, dof: float) -> Array:
    """Probability of a t variable at least as far from zero as `t` on either side."""
    return np.asarray(2.0 * stdtr(float(dof), -np.abs(t)))
