"""Differences undone: sums along a lag, and joint paths where no formula shows the quantiles."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from offing.base.arrays import Array
from offing.engine.ar_filter import running
from offing.engine.least_squares import Estimate

#: Paths are drawn from this seed, so that the same data give the same quantiles.
SEED = 20_240_401
#: The 0.025 quantile then has a standard error of 0.0025 in probability.
_PATHS = 4000


def accumulate(values: Array, lag: int) -> Array:
    """Sums D (n, …) with D_t = values_t + D_{t−lag}, zero before the first row.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import accumulate
    >>> accumulate(np.array([1.0, 2.0, 3.0, 4.0]), 2).tolist()
    [1.0, 2.0, 4.0, 6.0]
    """
    n = len(values)
    padded = np.zeros((-(-n // lag) * lag, *values.shape[1:]))
    padded[:n] = values
    sums = np.cumsum(padded.reshape(-1, lag, *values.shape[1:]), axis=0)
    return np.asarray(sums.reshape(padded.shape)[:n])


def accumulated(values: Array, lags: Sequence[int]) -> Array:
    """Sums along each of several lags in turn: the inverse of differencing by all of them."""
    for lag in lags:
        values = accumulate(values, lag)
    return values


def difference_weights(lags: Sequence[int]) -> Array:
    """Coefficients c of Π (1 − L^lag), so that the difference of v is Σ c_k v_{t−k}; c_0 = 1."""
    weights = np.ones(1)
    for lag in lags:
        one = np.zeros(lag + 1)
        one[0], one[lag] = 1.0, -1.0
        weights = np.convolve(weights, one)
    return weights


def growth_paths(
    start: Array, transformed: Array, design: Array, estimate: Estimate, phi: Sequence[float] = ()
) -> Array:
    """Joint paths (paths, h) of u_t = u_{t−m} (1 + z_t / 100), with z = `transformed` + `design` (β − β̂) + noise.

    `start` (m,) holds the m values before. β and the noise variance are drawn from their distribution given the data;
    with coefficients `phi` the noise of a period lives on in later ones.
    """
    generator = np.random.default_rng(SEED)
    horizon, m = len(design), len(start)
    beta, variance = estimate.draws(_PATHS, generator)
    noise = running(generator.standard_normal((horizon, _PATHS)) * np.sqrt(variance), phi)
    growth = 1.0 + (transformed[:, None] + design @ (beta - estimate.beta[:, None]) + noise) / 100.0
    path = np.empty((m + horizon, _PATHS))
    path[:m] = start[:, None]
    for t in range(horizon):
        path[m + t] = path[t] * growth[t]
    return path[m:].T
