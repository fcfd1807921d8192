"""Noise whose neighbours are alike: autoregression of any order, on rows with gaps between them; and weighted noise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack, matmul_toeplitz, toeplitz

from offing.base.arrays import Array

Times = NDArray[np.int64]
#: Coefficients φ₁ … φ_P of an autoregression, or of the lags of a recursion.
Phi = tuple[float, ...]


def running(shocks: Array, phi: Sequence[float]) -> Array:
    """Sums u (n, …) with u_t = Σ φ_k u_{t−k} + shocks_t, zero before the first row.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import running
    >>> running(np.array([1.0, 0.0, 0.0]), [0.5, 0.25]).tolist()
    [1.0, 0.5, 0.5]
    """
    if not shocks.size or not np.any(phi):
        return shocks
    # Forward substitution in a banded matrix: 1 on the diagonal, −φ below it.
    bands = np.ones((len(phi) + 1, len(shocks)))
    bands[1:] = -np.asarray(phi)[:, None]
    sums, _ = lapack.dtbtrs(bands[: len(shocks)], shocks.reshape(len(shocks), -1), uplo="L", diag="U")
    return np.asarray(sums).reshape(shocks.shape)


def impulse_response(phi: Sequence[float], count: int) -> Array:
    """What is left (count,) of one shock in its own period and in later ones."""
    shock = np.zeros(count)
    shock[:1] = 1.0
    return running(shock, phi)


def partial(phi: Sequence[float]) -> Array:
    """Partial autocorrelations (P,) of an autoregression (the recursion of Durbin 1960, run backwards)."""
    remaining, found = np.asarray(phi, dtype=np.float64), np.zeros(len(phi))
    for k in range(len(phi) - 1, -1, -1):
        found[k] = remaining[k]
        remaining = (remaining[:k] + found[k] * remaining[:k][::-1]) / max(1.0 - found[k] ** 2, 1e-300)
    return found


def from_partial(parts: Sequence[float] | Array) -> Array:
    """Coefficients (P,) with the partial autocorrelations `parts`; stationary where all are within −1 and 1.

    Barndorff-Nielsen & Schou (1973).
    """
    phi: list[float] = []
    for part in np.asarray(parts, dtype=np.float64).tolist():
        phi = [*(a - part * b for a, b in zip(phi, phi[::-1], strict=True)), part]
    return np.array(phi)


def combined(first: Sequence[float], second: Sequence[float]) -> Phi:
    """Coefficients of (1 − Σ a_k L^k)(1 − Σ b_k L^k)."""
    polynomial = np.convolve(np.concatenate([[1.0], -np.asarray(first)]), np.concatenate([[1.0], -np.asarray(second)]))
    return tuple((-polynomial[1:]).tolist())


def multiplied(phi: Sequence[float] | Array, seasonal: float, lag: int) -> Phi:
    """Coefficients of (1 − Σ φ_k L^k)(1 − Φ L^lag): what is alike from period to period, and from season to season."""
    first = np.concatenate([[1.0], -np.asarray(phi, dtype=np.float64)])
    second = np.zeros(lag + 1)
    second[0], second[lag] = 1.0, -seasonal
    return tuple((-np.convolve(first, second)[1:]).tolist())


@dataclass(frozen=True)
class Chain:
    """Noise u_t = Σ φ_k u_{t−k} + e_t, seen at the `times` (n,) in rising order, with e of variance s².

    Each row is predicted from all rows before it, over gaps as well, so that the Gaussian likelihood is exact and no
    value is filled in (Jones 1980). An empty φ is independent noise; its rows can be `worth` (n,) more or less: the
    variance of one is then s² over its worth.
    """

    phi: Phi
    times: Times
    worth: Array | None = None

    @cached_property
    def independent(self) -> bool:
        """Whether no row shows anything of another."""
        return not np.any(self.phi)

    @cached_property
    def start(self) -> Array:
        """Covariance (P, P) over s² of P periods in a row of which nothing is known."""
        return toeplitz(autocovariances(self.phi, len(self.phi)))

    @property
    def log_determinant(self) -> float:
        """Logarithm of the determinant of the covariance of the rows over s²."""
        if self.worth is not None:
            return float(-np.log(self.worth).sum())
        return float(np.log(self._seen_variances).sum())

    @cached_property
    def _seen_variances(self) -> Array:
        """Variance (n,) over s² of each row, given the rows before it."""
        return self.conditional_variances(self.times)

    def whiten(self, rows: Array) -> Array:
        """Rows (n, …) freed of what their predecessors predict, so that noise in them is independent and alike.

        Examples
        --------
        >>> import numpy as np
        >>> from offing.engine.ar_filter import Chain
        >>> Chain((0.5,), np.array([0, 1, 2])).whiten(np.array([4.0, 2.0, 1.0])).round(6).tolist()
        [3.464102, 0.0, 0.0]
        """
        shape = (-1, *([1] * (rows.ndim - 1)))
        if self.worth is not None:
            return rows * np.sqrt(self.worth).reshape(shape)
        if self.independent:
            return rows
        ahead, _ = self._predicted(rows.reshape(len(rows), -1), int(self.times[-1]))
        free = rows - ahead[self.times - self.times[0]].reshape(rows.shape)
        free /= np.sqrt(self._seen_variances).reshape(shape)
        return np.asarray(free)

    def ar_prediction(self, noise: Array, at: Times) -> Array:
        """What is expected (m, …) at the times `at` of the `noise` (n, …), from the rows before each; 0 without one."""
        found = np.zeros((len(at), *noise.shape[1:]))
        after = at > self.times[0]
        if self.independent or not after.any():
            return found
        ahead, _ = self._predicted(noise.reshape(len(noise), -1), int(at.max()))
        found[after] = ahead[at[after] - self.times[0]].reshape(-1, *noise.shape[1:])
        return found

    def conditional_variances(self, at: Times) -> Array:
        """Variance (m,) over s² of the noise at the times `at`, given the rows before each."""
        if self.independent:
            return np.ones(len(at))
        found = np.full(len(at), float(self.start[0, 0]))
        after = at > self.times[0]
        if after.any():
            _, variances = self._predicted(np.zeros((len(self.times), 0)), int(at.max()))
            found[after] = variances[at[after] - self.times[0]]
        return found

    def related(self, values: Array) -> Array:
        """V (n, n) @ `values` (n,), with V the covariance over s² of n periods in a row of which nothing is known."""
        if self.independent:
            return values
        return np.asarray(matmul_toeplitz(autocovariances(self.phi, len(values)), values))

    def _predicted(self, rows: Array, last: int) -> tuple[Array, Array]:
        """What the rows (n, q) before each period up to `last` predict of it (N, q), and its variance (N,) over s²."""
        count, order = max(last, int(self.times[-1])) - int(self.times[0]) + 1, len(self.phi)
        seen = np.zeros(count, dtype=bool)
        seen[self.times - self.times[0]] = True
        values = rows
        if count > len(rows):
            values = np.zeros((count, rows.shape[1]))
            values[seen] = rows
        ahead, variances = np.zeros((count, rows.shape[1])), np.ones(count)
        for k, phi in enumerate(self.phi, start=1):
            if phi:
                ahead[k:] += phi * values[:-k]
        # Only where a predecessor is unknown is there more to do than this sum.
        unknown = np.concatenate([np.ones(order, dtype=np.int64), (~seen).astype(np.int64)])
        sums = np.concatenate([[0], np.cumsum(unknown)])
        unsettled = (sums[order:-1] - sums[:count]) > 0
        edges = np.flatnonzero(np.diff(np.concatenate([[0], unsettled.astype(np.int8), [0]])))
        for first, end in edges.reshape(-1, 2).tolist():
            self._step_through(values, seen, ahead, variances, first=first, end=end)
        return ahead, variances

    def _step_through(
        self, values: Array, seen: NDArray[np.bool_], ahead: Array, variances: Array, *, first: int, end: int
    ) -> None:
        """Predict periods from `first` to `end` one by one, keeping what is known of the P before (Kalman 1960)."""
        order, phi = len(self.phi), np.asarray(self.phi)
        mean, spread = np.zeros((order, values.shape[1])), self.start.copy()
        if first:
            mean, spread[:] = values[first - order : first][::-1].copy(), 0.0
            mean[0], spread[0, 0] = ahead[first - 1], variances[first - 1]
        for t in range(first, end):
            now, shared = phi @ mean, spread @ phi
            variance = 1.0 + float(phi @ shared)
            ahead[t], variances[t] = now, variance
            own = variance
            if seen[t]:
                gain = shared / variance
                mean += gain[:, None] * (values[t] - now)
                spread -= gain[:, None] * shared
                now, shared, own = values[t], np.zeros(order), 0.0
            mean[1:], mean[0] = mean[:-1].copy(), now
            spread[1:, 1:] = spread[:-1, :-1].copy()
            spread[0, 1:] = spread[1:, 0] = shared[:-1]
            spread[0, 0] = own


def autocovariances(phi: Sequence[float], count: int) -> Array:
    """Covariances (count,) over s² of periods at the distances 0, 1, … (Yule 1927; Walker 1931)."""
    order = len(phi)
    # γ_j − Σ φ_k γ_|j−k| is the variance of a shock for j = 0, and zero beyond.
    system = np.eye(order + 1)
    for j in range(order + 1):
        for k, each in enumerate(phi, start=1):
            system[j, abs(j - k)] -= each
    first = np.linalg.solve(system, np.eye(order + 1)[:, 0])
    shocks = np.zeros(max(count, order + 1))
    for j in range(order + 1):
        shocks[j] = first[j] - sum(phi[k - 1] * first[j - k] for k in range(1, j + 1))
    return running(shocks, phi)[:count]
