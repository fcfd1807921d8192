"""How the noise's neighbours are alike, learnt by restricted maximum likelihood together with the strengths.

The likelihood of an autoregression is a quadratic form in its coefficients (Box & Jenkins 1970, appendix A7.4): sums of
products of the rows at a few lags are taken once, and no trial goes back to the rows. Missing periods are coefficients
of a pulse each, taken out by a banded matrix (Ljung 1982).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import LinAlgError, cholesky, cholesky_banded, lapack, solve_triangular
from scipy.optimize import minimize

from offing.engine.dynamics import Chain, Phi, Times, from_partial, multiplied
from offing.engine.strengths import Groups, Learnt, deviance_at, learn
from offing.engine.triangle import Array, solve, take, triangle

#: Partial autocorrelations beyond this are those of a target that has no level to come back to.
MOST = 0.98
#: An order that is chosen is at most this.
_MOST_CHOSEN = 6


@dataclass(frozen=True)
class Dynamics:
    """How the noise may carry on: over `order` periods, None for an order to choose, and over a `season` if any."""

    order: int | None = 1
    season: int | None = None

    @property
    def count(self) -> int:
        """How many parameters it has."""
        return (self.order or 0) + (self.season is not None)

    def phi(self, angles: Array) -> Phi:
        """Coefficients from one angle a parameter: tanh of it is a partial autocorrelation over the most allowed."""
        parts = MOST * np.tanh(angles)
        order = self.order or 0
        own = from_partial(parts[:order])
        return multiplied(own, float(parts[order]), self.season) if self.season else tuple(own.tolist())


@dataclass(frozen=True)
class Carried:
    """Learnt dynamics: parameters (φ₁ …, then Φ) with standard errors, the chain, γ of the groups and the deviance."""

    dynamics: Dynamics
    parameters: Array
    errors: Array
    chain: Chain
    ratios: Array
    deviance: float


@dataclass(frozen=True)
class Moments:
    """Sums of products of whitened rows at any coefficients with the given lags.

    `products` (pairs, k, k) belong to `pairs` of places in `lags`, of columns made orthonormal: `root` (k, k) undoes
    that. `pulses` are the missing periods' own sums, if any.
    """

    lags: tuple[int, ...]
    pairs: tuple[tuple[int, int], ...]
    products: Array
    root: Array
    pulses: Pulses | None

    @classmethod
    def of(cls, rows: Array, times: Times, lags: tuple[int, ...]) -> Moments:
        """Products of `rows` (n, k) of [X | y], all of them linearly independent, at the `lags`, 0 among them."""
        root = triangle(rows)
        basis = solve_triangular(root, rows.T, trans="T", check_finite=False).T
        count = int(times[-1] - times[0]) + 1
        full = np.zeros((count, rows.shape[1]))
        full[times - times[0]] = basis
        pairs = tuple((a, b) for a in range(len(lags)) for b in range(a, len(lags)))
        products = np.empty((len(pairs), *root.shape))
        for at, (a, b) in enumerate(pairs):
            i, j = lags[a], lags[b]
            half = full[i : count - j].T @ full[j : count - i]
            products[at] = half if a == b else half + half.T
        pulses = Pulses.of(full, times, lags) if count > len(rows) else None
        return cls(lags, pairs, products, root, pulses)

    def whitened(self, phi: Phi) -> tuple[Array, float]:
        """Triangle (k, k) of the orthonormal columns whitened by `phi`, and the log-determinant of the noise.

        Raises
        ------
        LinAlgError
            Where rounding leaves no positive sums, at the edge of what is stationary.
        """
        own = np.array([1.0 if lag == 0 else -phi[lag - 1] if lag <= len(phi) else 0.0 for lag in self.lags])
        factors = np.array([own[a] * own[b] for a, b in self.pairs])
        whole = np.tensordot(factors, self.products, axes=1)
        log_determinant = _log_determinant(phi)
        if self.pulses is not None:
            beside, more = self.pulses.taken_out(own)
            whole, log_determinant = whole - beside.T @ beside, log_determinant + more
        return cholesky(whole, check_finite=False), log_determinant


@dataclass(frozen=True)
class Pulses:
    """Missing periods as a column each: products with the rows (lags², m, k), and among themselves by place."""

    beside: Array
    rows: NDArray[np.intp]
    columns: NDArray[np.intp]
    factors: NDArray[np.intp]
    count: int
    wide: int

    @classmethod
    def of(cls, full: Array, times: Times, lags: tuple[int, ...]) -> Pulses:
        """Of the periods between the first and the last row that have none."""
        n = len(full)
        missing = np.setdiff1d(np.arange(n), times - times[0])
        place = np.full(n, -1)
        place[missing] = np.arange(len(missing))
        beside, rows, columns, factors = [], [], [], []
        for at, (i, j) in enumerate(product(lags, lags)):
            there = missing - i + j
            valid = (missing - i >= 0) & (missing - i <= n - 1 - i - j)
            gathered = np.zeros((len(missing), full.shape[1]))
            gathered[valid] = full[there[valid]]
            beside.append(gathered)
            met = np.flatnonzero(valid)
            met = met[place[there[met]] >= 0]
            rows.append(met)
            columns.append(place[there[met]])
            factors.append(np.full(len(met), at))
        row, column = np.concatenate(rows), np.concatenate(columns)
        lower = row >= column
        row, column = row[lower], column[lower]
        return cls(np.array(beside), row, column, np.concatenate(factors)[lower], len(missing),
                   int((row - column).max(initial=0)))  # fmt: skip

    def taken_out(self, own: Array) -> tuple[Array, float]:
        """Rows (m, k) whose products the missing periods take from those of the others, and a log-determinant."""
        both = np.outer(own, own).ravel()
        bands = np.zeros((self.wide + 1, self.count))
        np.add.at(bands, (self.rows - self.columns, self.columns), both[self.factors])
        lower = cholesky_banded(bands, lower=True, check_finite=False)
        rows, _ = lapack.dtbtrs(lower, np.tensordot(both, self.beside, axes=1), uplo="L")
        return rows, float(2.0 * np.log(lower[0]).sum())


def _log_determinant(phi: Phi) -> float:
    """Of the covariance over s² of more periods in a row than φ has lags, from the partial autocorrelations."""
    left, total = np.asarray(phi), 0.0
    for k in range(len(phi) - 1, -1, -1):
        part = left[k]
        if part:
            total -= (k + 1) * float(np.log1p(-part * part)) if abs(part) < 1.0 else np.inf
        left = (left[:k] + part * left[:k][::-1]) / max(1.0 - part * part, 1e-300)
    return total


@dataclass(frozen=True)
class Likelihood:
    """The restricted likelihood of dynamics and strengths, from the moments of the rows.

    `moments` are those of independent columns and the target; `spans` (r + 1, k + 1) gives all columns and the target
    in them, free columns first; `groups` (k,) and `groups`' `bounded` and `stated` are as for `learn`.
    """

    moments: Moments
    spans: Array
    groups: Groups
    rows: int
    bounded: NDArray[np.bool_]
    stated: int

    @classmethod
    def of(
        cls, columns: Array, target: Array, times: Times, *, groups: Groups, bounded: NDArray[np.bool_], stated: int,
        lags: tuple[int, ...],
    ) -> Likelihood | None:  # fmt: skip
        """From the rows; None where the columns leave no noise."""
        together = np.column_stack([columns, target])
        k = columns.shape[1]
        order = np.concatenate([np.flatnonzero(groups < 0), np.flatnonzero(groups >= 0)]).astype(np.intp)
        whole = take(triangle(together), [*order.tolist(), k])
        kept = solve(whole).kept
        if abs(whole[k, k]) <= 1e-12 * np.linalg.norm(whole[:, k]):
            return None
        first = np.concatenate([np.flatnonzero(kept), np.flatnonzero(~kept)]).astype(np.intp)
        order = order[first]
        spans = take(whole, [*first.tolist(), k])[[*range(int(kept.sum())), k]]
        moments = Moments.of(together[:, [*order[: int(kept.sum())].tolist(), k]], times, lags)
        return cls(moments, spans, groups[order], len(target), bounded, stated)

    def learnt(self, phi: Phi, near: Array | None = None) -> Learnt:
        """The best strengths at some coefficients of the noise, and the deviance there."""
        upper, log_determinant = self.moments.whitened(phi)
        if len(self.bounded):
            found = learn(self._whole(upper), self.groups, self.rows, self.bounded, near, self.stated)
            return Learnt(found.ratios, found.deviance + log_determinant)
        return Learnt(np.zeros(0), self._plain(upper) + log_determinant)

    def deviance(self, phi: Phi, ratios: Array) -> float:
        """The deviance at some coefficients and strengths."""
        upper, log_determinant = self.moments.whitened(phi)
        if not len(self.bounded):
            return self._plain(upper) + log_determinant
        whole = self._whole(upper)
        return deviance_at(whole, self.groups, self.rows, self.bounded, ratios, self.stated) + log_determinant

    def _whole(self, upper: Array) -> Array:
        return triangle(upper @ self.spans)

    def _plain(self, upper: Array) -> float:
        """The deviance where all coefficients are free, less that of the columns before whitening."""
        sizes = np.log(np.diagonal(upper))
        free = len(sizes) - 1
        rss = 2.0 * (sizes[-1] + np.log(abs(self.spans[-1, -1])))
        return float((self.rows - free) * rss + 2.0 * sizes[:-1].sum())


def carry_on(
    columns: Array, target: Array, times: Times, *, groups: Groups, bounded: NDArray[np.bool_], dynamics: Dynamics,
    stated: int = -1,
) -> Carried:  # fmt: skip
    """Learn the noise's dynamics, and γ of the groups with it.

    An order that is not given is the one with the least value of Schwarz's (1978) criterion, from 0 to 6.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import running
    >>> from offing.engine.autoregression import Dynamics, carry_on
    >>> y = running(np.random.default_rng(1).normal(size=2000), (0.5, 0.3))
    >>> none = np.zeros(0, dtype=bool)
    >>> found = carry_on(np.ones((2000, 1)), y, np.arange(2000), groups=np.array([-1]), bounded=none,
    ...                  dynamics=Dynamics(2))
    >>> found.parameters.round(1).tolist()
    [0.5, 0.3]
    """
    season = dynamics.season
    orders = [dynamics.order] if dynamics.order is not None else list(range(_MOST_CHOSEN + 1))
    longest = max(orders)
    own = list(range(longest + 1))
    lags = tuple(sorted({*own, *(season + lag for lag in own if season)}))
    likelihood = Likelihood.of(columns, target, times, groups=groups, bounded=bounded, stated=stated, lags=lags)
    if likelihood is None:
        nothing = Dynamics(dynamics.order or 0, season)
        return Carried(nothing, np.zeros(nothing.count), np.full(nothing.count, np.nan), Chain((), times),
                       np.ones(len(bounded)), -np.inf)  # fmt: skip
    tried = [_best(likelihood, Dynamics(order, season), times) for order in orders]
    return min(tried, key=lambda each: each.deviance + each.dynamics.count * np.log(len(target)))


def _best(likelihood: Likelihood, dynamics: Dynamics, times: Times) -> Carried:
    """The dynamics of one order that fit best."""
    near: list[Array | None] = [None]

    def profile(angles: Array) -> float:
        try:
            found = likelihood.learnt(dynamics.phi(angles), near[0])
        except LinAlgError:
            return 1e300
        near[0] = np.maximum(found.ratios, 1e-4 * found.ratios.max(initial=0.0))
        return found.deviance

    def slope(angles: Array) -> Array:
        # At the best strengths the deviance does not move with them, so that they can be held.
        ratios = likelihood.learnt(dynamics.phi(angles), near[0]).ratios
        return _slope(lambda each: likelihood.deviance(dynamics.phi(each), ratios), angles)

    angles = np.zeros(dynamics.count)
    if dynamics.count:
        # The likelihood can have two valleys: alike neighbours, or bends that make them alike.
        first = (-0.4, 0.0, 0.3, 0.6, 0.85) if dynamics.order else (0.0,)
        starts = [_start(dynamics, one, other) for one in first for other in ((0.0, 0.4) if dynamics.season else (0.0,))]
        start = min(starts, key=profile)
        angles = minimize(profile, start, jac=slope, method="BFGS", options={"gtol": 1e-6}).x
    phi = dynamics.phi(angles)
    learnt = likelihood.learnt(phi, near[0])
    return Carried(dynamics, _parameters(dynamics, angles), _errors(dynamics, angles, slope), Chain(phi, times),
                   learnt.ratios, learnt.deviance)  # fmt: skip


def _start(dynamics: Dynamics, first: float, seasonal: float) -> Array:
    angles = np.zeros(dynamics.count)
    if dynamics.order:
        angles[0] = np.arctanh(first / MOST)
    if dynamics.season:
        angles[-1] = np.arctanh(seasonal / MOST)
    return angles


def _parameters(dynamics: Dynamics, angles: Array) -> Array:
    """Φ and φ₁ … from the angles."""
    parts = MOST * np.tanh(angles)
    order = dynamics.order or 0
    return np.concatenate([from_partial(parts[:order]), parts[order:]])


def _errors(dynamics: Dynamics, angles: Array, slope: Callable[[Array], Array]) -> Array:
    """Standard errors of the parameters from the curvature of the deviance; NaN at the edge of what is stationary."""
    if not len(angles):
        return np.zeros(0)
    curvature = np.array([_slope(lambda each, at=at: float(slope(each)[at]), angles, 1e-3) for at in range(len(angles))])  # type: ignore[misc]
    lean = np.array([_slope(lambda each, at=at: float(_parameters(dynamics, each)[at]), angles) for at in range(len(angles))])  # type: ignore[misc]
    try:
        covariance = 2.0 * lean @ np.linalg.inv((curvature + curvature.T) / 2.0) @ lean.T
    except np.linalg.LinAlgError:
        return np.full(len(angles), np.nan)
    with np.errstate(invalid="ignore"):
        return np.asarray(np.sqrt(np.diagonal(covariance)))


def _slope(function: Callable[[Array], float], at: Array, step: float = 1e-4) -> Array:
    """Central differences of a function."""
    moves = step * np.eye(len(at))
    return np.array([(function(at + move) - function(at - move)) / (2.0 * step) for move in moves])
