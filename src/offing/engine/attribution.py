"""Splitting every value into the contributions of the terms, exactly."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from offing.engine.triangle import Array


@dataclass(frozen=True)
class Attribution:
    """Contributions on the target's scale.

    Attributes
    ----------
    baseline
        Level (n,) from which the contributions are measured.
    contributions
        One row a term (J, n).
    correction
        The row that settles a mean correction differing from the first period's (n,); zero on the level scale.
    weights
        What one unit of the working scale is worth in each period (n,); one on the level scale.

    ``baseline + contributions.sum(axis=0) + correction`` is the mean of every period.
    """

    baseline: Array
    contributions: Array
    correction: Array
    weights: Array


def attribute(level: Array, deviations: Array, variances: Array | None = None) -> Attribution:
    """Split the mean of n periods into a baseline and one contribution a term.

    Parameters
    ----------
    level
        Working-scale baseline μ (n,).
    deviations
        Each term's deviation D from its reference on the working scale (J, n).
    variances
        None for a target on the level scale. For a log scale the noise variance s² of every period (n,):
        the mean of a log-normal variable is exp(η + s²/2), and the baseline is exp(μ + s₁²/2) with the first
        period's s₁².

    On the log scale a period's total change M − B is shared in proportion to the deviations by the
    logarithmic mean w = (M − B)/ln(M/B) (Ang 2005), computed as B·expm1(x)/x, x = ln(M/B), which keeps its
    digits as M comes near B.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import attribute
    >>> parts = attribute(np.array([0.0]), np.log([[2.0], [3.0]]), np.zeros(1))
    >>> float(parts.baseline[0] + parts.contributions.sum().round(12))
    6.0
    """
    if variances is None:
        zeros = np.zeros(deviations.shape[1])
        return Attribution(level, deviations, zeros, zeros + 1.0)
    excess = (variances - variances[:1]) / 2.0
    change = deviations.sum(axis=0) + excess
    baseline = np.exp(level + variances[:1] / 2.0)
    safe = np.where(change == 0.0, 1.0, change)
    weights = baseline * np.where(change == 0.0, 1.0, np.expm1(safe) / safe)
    return Attribution(baseline, weights * deviations, weights * excess, weights)
