"""Correlation of two series over leads and lags."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array


def cross_correlation(target: Array, driver: Array, most: int) -> tuple[NDArray[np.int64], Array, float]:
    """Correlation (2·most + 1,) of `target` (n,) with `driver` (n,) at lags from −most to most, and a 99 % band.

    A positive lag means that the driver comes first. Pairs with an unknown value are left out. The band is for two
    unrelated series, each with its own autocorrelation r: variance (1 + 2 Σ r_x r_y)/n (Bartlett 1935).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import cross_correlation
    >>> driver = np.random.default_rng(3).normal(size=200)
    >>> lags, found, band = cross_correlation(np.roll(driver, 2), driver, 3)
    >>> int(lags[np.argmax(found)])
    2
    """
    known = np.isfinite(target) & np.isfinite(driver)
    y = np.where(known, target - target[known].mean(), 0.0)
    x = np.where(known, driver - driver[known].mean(), 0.0)
    size = np.sqrt((y @ y) * (x @ x))
    lags = np.arange(-most, most + 1, dtype=np.int64)
    n = len(y)
    if size == 0.0:
        return lags, np.zeros(len(lags)), 1.0
    sums = [y[max(lag, 0) : n + min(lag, 0)] @ x[max(-lag, 0) : n - max(lag, 0)] for lag in lags.tolist()]
    both = 2.0 * sum(_own(y, k) * _own(x, k) for k in range(1, min(most, n - 1) + 1))
    band = 2.576 * np.sqrt(max(1.0 + both, 0.2) / known.sum())
    return lags, np.array(sums) / size, float(band)


def _own(values: Array, lag: int) -> float:
    return float(values[lag:] @ values[:-lag] / (values @ values))
