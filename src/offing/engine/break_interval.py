"""Where a line bends: how far the place of a kink can move before the data contradict it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import qr
from scipy.special import chdtri

from offing.base.arrays import Array


def place_interval(
    others: Array, ramps: Array, target: Array, dof: float, probability: float = 0.95
) -> tuple[NDArray[np.intp], Array]:
    """Which places (m,) of a kink the data do not contradict, from whitened rows (n, …), and their deviance (m,).

    `ramps` (n, m) are the columns that the kink would have at each place, `others` (n, k) all other columns. The
    deviance is that of the profile likelihood; for a line that bends without a jump it is about chi-square with one
    degree of freedom at the true place (Feder 1975).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import place_interval
    >>> t = np.arange(60.0)
    >>> places = np.arange(10, 50)
    >>> y = t + 2.0 * np.maximum(t - 30, 0) + np.random.default_rng(1).normal(size=60)
    >>> ramps = np.maximum(t[:, None] - places, 0.0)
    >>> kept, _ = place_interval(np.column_stack([np.ones(60), t]), ramps, y, 56.0)
    >>> bool((places[kept] == 30).any()), len(kept) < 6
    (True, True)
    """
    basis = qr(others, mode="economic")[0]
    free = ramps - basis @ (basis.T @ ramps)
    residual = target - basis @ (basis.T @ target)
    lengths = np.square(free).sum(axis=0)
    seen = lengths > 1e-12 * np.square(ramps).sum(axis=0)
    gain = np.where(seen, np.square(free.T @ residual) / np.where(seen, lengths, 1.0), 0.0)
    rss = np.maximum(residual @ residual - gain, 1e-300)
    deviance = dof * np.log(rss / rss.min())
    return np.flatnonzero(deviance <= chdtri(1.0, 1.0 - probability)), deviance
