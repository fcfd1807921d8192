"""How the noise's neighbours are alike, learnt by restricted maximum likelihood together with the strengths.

Sums of products of the rows at a few lags are taken once, and no trial goes back to the rows.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from scipy.linalg import LinAlgError, blas, solve_triangular
from scipy.optimize import minimize

from offing.base.arrays import Array
from offing.engine.ar_filter import Chain, Phi, Times, from_partial, multiplied
from offing.engine.lag_products import Moments, slope_of
from offing.engine.qr import solve, take, triangle
from offing.engine.variance_components import Groups, Keeping, Learnt, learn

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

    def at(self, angles: Array) -> Filter:
        """The filter from one angle a parameter: tanh of it is a partial autocorrelation over the most allowed.

        With the inverse roots r_i of the own part, log |V| is that of its partial autocorrelations, −s ln(1 − Φ²) of
        the season's, and −2 Σ ln(1 − Φ r_i^s) of both (from Π 1/(1 − r_i r_j), Box & Jenkins 1970).
        """
        parts = MOST * np.tanh(angles)
        order = self.order or 0
        own = from_partial(parts[:order])
        total = -float(np.arange(1, order + 1) @ np.log1p(-np.square(parts[:order])))
        if not self.season:
            return Filter(tuple(own.tolist()), total)
        seasonal = float(parts[order])
        total -= self.season * float(np.log1p(-seasonal * seasonal))
        if order:
            companion = np.eye(order, k=-1)
            companion[0] = own
            both = np.eye(order) - seasonal * np.linalg.matrix_power(companion, self.season)
            total -= 2.0 * float(np.log(np.linalg.det(both)))
        return Filter(multiplied(own, seasonal, self.season), total)


@dataclass(frozen=True)
class Filter:
    """Coefficients of the noise, and the logarithm of the determinant of its covariance over s² for many periods."""

    phi: Phi
    log_determinant: float


@dataclass(frozen=True)
class NoiseFit:
    """Learnt dynamics: parameters (φ₁ …, then Φ), the chain, γ of the groups, the deviance, and where these were found.

    `errors` are the parameters' standard errors.
    """

    dynamics: Dynamics
    parameters: Array
    chain: Chain
    ratios: Array
    deviance: float
    angles: Array
    known_errors: Array | None = None
    search: _Search | None = field(default=None, metadata={"stored": False})

    def without_search(self) -> NoiseFit:
        """The same with its standard errors worked out, and without the sums of products of all rows."""
        return replace(self, search=None, known_errors=self.errors)

    @cached_property
    def errors(self) -> Array:
        """Standard errors of the parameters, from the curvature of the deviance."""
        if self.known_errors is not None:
            return self.known_errors
        if self.search is None:
            return np.full(len(self.parameters), np.nan)
        return _errors(self.dynamics, self.angles, self.search.slope)


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
    bounded: Keeping
    stated: int

    @classmethod
    def of(
        cls,
        columns: Array,
        target: Array,
        times: Times,
        *,
        groups: Groups,
        bounded: Keeping,
        stated: int,
        lags: tuple[int, ...],
    ) -> Likelihood | None:
        """From the rows; None where the columns leave no noise."""
        together = np.column_stack([columns, target])
        k = columns.shape[1]
        order = np.concatenate([np.flatnonzero(groups < 0), np.flatnonzero(groups >= 0)]).astype(np.intp)
        whole = take(triangle(together), [*order.tolist(), k])
        kept = solve(whole).kept
        if abs(whole[k, k]) <= 1e-12 * np.linalg.norm(whole[:, k]):
            return None
        first = np.concatenate([np.flatnonzero(kept), np.flatnonzero(~kept)]).astype(np.intp)
        # A free column that is dependent is none; a drawn one still has its coefficient.
        first = first[kept[first] | (groups[order[first]] >= 0)]
        order = order[first]
        r = int(kept.sum())
        spans = take(whole, [*first.tolist(), k])[[*range(r), len(first)]]
        root = np.column_stack([spans[:, :r], spans[:, -1]])
        moments = Moments.of(together[:, [*order[:r].tolist(), k]], root, times, lags)
        return cls(moments, spans, groups[order], len(target), bounded, stated)

    def learnt(self, at: Filter, near: Array | None = None) -> Learnt:
        """The best strengths at some coefficients of the noise, and the deviance there."""
        upper, more = self.moments.whitened(at.phi)
        log_determinant = at.log_determinant + more
        if len(self.bounded):
            found = learn(self._whole(upper), self.groups, self.rows, self.bounded, near=near, stated=self.stated)
            return Learnt(found.ratios, found.deviance + log_determinant)
        return Learnt(np.zeros(0), self._plain(upper) + log_determinant)

    def slopes(self, phi: Phi, ratios: Array) -> Array:
        """Derivative of the deviance by the weights of the lags, but for the noise's own log-determinant.

        At given strengths it is log |X'V⁻¹X + Λ| + dof log rss (or rss over a stated variance), both of which are read
        off the triangle T of the whitened rows and those of the strengths: with B = S T⁻¹ of the columns S.
        """
        upper, _ = self.moments.whitened(phi)
        rows, factor = upper @ self.spans, float(self.rows - int((self.groups < 0).sum()))
        if len(self.bounded):
            penalty_rows = np.where(self.groups >= 0, 1.0 / np.sqrt(np.append(ratios, np.inf)[self.groups]), 0.0)
            rows = np.vstack([rows, np.diag(np.append(penalty_rows, 0.0))])
        root = triangle(rows)
        if self.stated >= 0:
            factor = float(ratios[self.stated]) * root[-1, -1] ** 2
        jacobian = solve_triangular(root, self.spans.T, trans="T", check_finite=False).T
        pulled = blas.dgemm(1.0, jacobian, jacobian, trans_b=True) + (factor - 1.0) * np.outer(
            jacobian[:, -1], jacobian[:, -1]
        )
        return self.moments.slopes(phi, pulled)

    def _whole(self, upper: Array) -> Array:
        return triangle(upper @ self.spans)

    def _plain(self, upper: Array) -> float:
        """The deviance where all coefficients are free, less that of the columns before whitening."""
        sizes = np.log(np.diagonal(upper))
        free = len(sizes) - 1
        rss = 2.0 * (sizes[-1] + np.log(abs(self.spans[-1, -1])))
        return float((self.rows - free) * rss + 2.0 * sizes[:-1].sum())


def carry_on(
    columns: Array,
    target: Array,
    times: Times,
    *,
    groups: Groups,
    bounded: Keeping,
    dynamics: Dynamics,
    stated: int = -1,
    near: NoiseFit | None = None,
) -> NoiseFit:
    """Learn the noise's dynamics, and γ of the groups with it, from `near` if that is given.

    An order that is not given is the one with the least value of Schwarz's (1978) criterion, from 0 to 6.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import running
    >>> from offing.engine.ar_estimation import Dynamics, carry_on
    >>> y = running(np.random.default_rng(1).normal(size=2000), (0.5, 0.3))
    >>> none = np.zeros(0, dtype=int)
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
        return NoiseFit(
            nothing,
            np.zeros(nothing.count),
            Chain((), times),
            np.ones(len(bounded)),
            -np.inf,
            np.zeros(nothing.count),
        )
    tried: list[_Search] = []
    if near is not None and dynamics.order is not None:
        search = _Search(likelihood, dynamics, near.angles, ratios=near.ratios if len(bounded) else None)
        return search.descended(near.angles).ended(times)
    for order in orders:
        tried.append(_Search(likelihood, Dynamics(order, season)).run(tried[-1].angles if tried else None))
    best = min(tried, key=lambda each: each.value + each.dynamics.count * np.log(len(target)))
    return best.ended(times)


@dataclass
class _Search:
    """The search for the dynamics of one order that fit best: where it is, and the strengths there."""

    likelihood: Likelihood
    dynamics: Dynamics
    angles: Array = field(default_factory=lambda: np.zeros(0))
    value: float = np.inf
    ratios: Array | None = None
    at: Array | None = None

    def run(self, shorter: Array | None) -> _Search:
        """From several starts, or from the angles of the next `shorter` order."""
        starts = _starts(self.dynamics)
        if shorter is not None and self.dynamics.order and self.dynamics.order > 1:
            starts = [np.insert(shorter, self.dynamics.order - 1, 0.0)]
        # The likelihood can have two valleys: alike neighbours, or bends that make them alike.
        return self.descended(min(starts, key=self.profile))

    def descended(self, start: Array) -> _Search:
        """To where the deviance is least, from a start."""
        if not self.dynamics.count:
            self.value = self.profile(self.angles)
            return self
        found = minimize(self.both, start, jac=True, method="BFGS", options={"gtol": 1e-5})
        self.angles, self.value = found.x, float(found.fun)
        return self

    def profile(self, angles: Array) -> float:
        """The deviance at the best strengths."""
        try:
            found = self.likelihood.learnt(self.dynamics.at(angles), self.ratios)
        except LinAlgError:
            return 1e300
        self.at = found.ratios
        self.ratios = np.maximum(found.ratios, 1e-4 * found.ratios.max(initial=0.0))
        return found.deviance

    def both(self, angles: Array) -> tuple[float, Array]:
        """The deviance at the best strengths, and its derivative by the angles."""
        value = self.profile(angles)
        if value >= 1e300 or self.at is None:
            return value, np.zeros(len(angles))
        return value, self.slope(angles, self.at)

    def slope(self, angles: Array, ratios: Array | None = None) -> Array:
        """The derivative by the angles; at the best strengths the deviance does not move with them."""
        at = self.dynamics.at
        weights = self.likelihood.moments.weights
        steps = 1e-5 * np.eye(len(angles))
        jacobian = np.array([weights(at(angles + s).phi) - weights(at(angles - s).phi) for s in steps]).T / 2e-5
        own = slope_of(lambda each: at(each).log_determinant, angles)
        if ratios is None:
            ratios = self.likelihood.learnt(at(angles), self.ratios).ratios
        return np.asarray(self.likelihood.slopes(at(angles).phi, ratios) @ jacobian + own)

    def ended(self, times: Times) -> NoiseFit:
        """What was found, with its standard errors."""
        at = self.dynamics.at(self.angles)
        learnt = self.likelihood.learnt(at, self.ratios)
        return NoiseFit(
            self.dynamics,
            _parameters(self.dynamics, self.angles),
            Chain(at.phi, times),
            learnt.ratios,
            learnt.deviance,
            self.angles,
            search=self,
        )


def _starts(dynamics: Dynamics) -> list[Array]:
    first = (-0.4, 0.0, 0.3, 0.6, 0.85) if dynamics.order else (0.0,)
    other = (0.0, 0.4) if dynamics.season else (0.0,)
    return [_start(dynamics, one, two) for one in first for two in other]


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
    moves = 1e-3 * np.eye(len(angles))
    curvature = np.array([(slope(angles + move) - slope(angles - move)) / 2e-3 for move in moves])
    steps = 1e-4 * np.eye(len(angles))
    jacobian = np.array([_parameters(dynamics, angles + s) - _parameters(dynamics, angles - s) for s in steps]).T / 2e-4
    try:
        covariance = 2.0 * jacobian @ np.linalg.inv((curvature + curvature.T) / 2.0) @ jacobian.T
    except np.linalg.LinAlgError:
        return np.full(len(angles), np.nan)
    with np.errstate(invalid="ignore"):
        return np.asarray(np.sqrt(np.diagonal(covariance)))
