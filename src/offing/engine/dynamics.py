"""Noise whose neighbours are alike: first-order autoregression on rows with gaps between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack

from offing.engine.triangle import Array

Times = NDArray[np.int64]


def running(noise: Array, phi: float) -> Array:
    """Sums u (n, …) with u_t = φ u_{t−1} + noise_t, zero before the first row."""
    if phi == 0.0 or not noise.size:
        return noise
    # Forward substitution in a matrix of two diagonals: 1, and −φ below it.
    bands = np.ones((2, len(noise)))
    bands[1] = -phi
    sums, _ = lapack.dtbtrs(bands, noise.reshape(len(noise), -1), uplo="L", diag="U")
    return np.asarray(sums).reshape(noise.shape)


@dataclass(frozen=True)
class Chain:
    """Noise u_t = φ u_{t−1} + e_t, seen at the `times` (n,) in rising order; a gap raises φ to its length.

    With e of variance s², u has variance s² / (1 − φ²), and what is seen at a distance d from the row before has the
    conditional variance s² (1 − φ^2d) / (1 − φ²): the exact Gaussian likelihood needs no filled-in values (Jones 1980).
    φ = 0 is independent noise.
    """

    phi: float
    times: Times

    @property
    def steps(self) -> Times:
        """Distance (n − 1,) of each row from the one before."""
        return np.diff(self.times)

    @property
    def carry(self) -> Array:
        """How much (n − 1,) of the noise of the row before is expected again."""
        return np.asarray(np.power(self.phi, self.steps))

    @property
    def weights(self) -> Array:
        """Square roots (n,) of s² over the conditional variance of each row."""
        left = 1.0 - self.phi**2
        later = np.sqrt(left / (1.0 - np.square(self.carry)))
        return np.concatenate([[np.sqrt(left)], later])

    @property
    def log_determinant(self) -> float:
        """Logarithm of the determinant of the covariance of u over s²."""
        return float(-2.0 * np.log(self.weights).sum())

    def whiten(self, rows: Array) -> Array:
        """Rows (n, …) freed of what their predecessors foretell, so that noise in them is independent.

        Examples
        --------
        >>> import numpy as np
        >>> from offing.engine.dynamics import Chain
        >>> Chain(0.5, np.array([0, 1, 2])).whiten(np.array([4.0, 2.0, 1.0])).round(6).tolist()
        [3.464102, 0.0, 0.0]
        """
        if self.phi == 0.0:
            return rows
        shape = (-1, *([1] * (rows.ndim - 1)))
        free = np.array(rows, order="K")
        free[1:] -= self.carry.reshape(shape) * rows[:-1]
        free *= self.weights.reshape(shape)
        return free

    def carried(self, noise: Array, at: Times) -> Array:
        """What is expected (m,) at the times `at` of the `noise` (n,) of the last row before each; 0 without one."""
        last = np.searchsorted(self.times, at, side="left") - 1
        gap = np.maximum(at - self.times[np.maximum(last, 0)], 1)
        return np.where(last >= 0, np.power(self.phi, gap) * noise[np.maximum(last, 0)], 0.0)

    def related(self, values: Array) -> Array:
        """V (n, n) @ `values` (n,), with V the covariance over s² of n periods in a row of which nothing is known.

        V is never made: the noise is a filter of independent shocks, which runs forwards and backwards.
        """
        first = 1.0 / (1.0 - self.phi**2)
        back = running(values[::-1], self.phi)[::-1]
        return running(np.concatenate([back[:1] * first, back[1:]]), self.phi)

    def conditional_variances(self, at: Times) -> Array:
        """Variance (m,) over s² of the noise at the times `at`, given the rows before each."""
        left = 1.0 - self.phi**2
        last = np.searchsorted(self.times, at, side="left") - 1
        gap = np.maximum(at - self.times[np.maximum(last, 0)], 1)
        return np.where(last >= 0, 1.0 - np.power(self.phi, 2 * gap), 1.0) / left
