"""One regression: coefficients, how strongly they are drawn to zero, shape parameters and the noise's dynamics.

Nested as: strengths and dynamics by restricted maximum likelihood given the shapes; shapes by least squares given
strengths and dynamics (Golub & Pereyra 1973, with the step of Kaufman 1975); until nothing moves.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import qr
from scipy.optimize import minimize_scalar

from offing.engine.dynamics import Chain, Times
from offing.engine.estimate import Estimate, Reduced, least_squares
from offing.engine.strengths import Groups, Learnt, learn
from offing.engine.triangle import RANK_TOLERANCE, Array, solve, triangle

#: Autocorrelations beyond this are those of a target that has no level to come back to.
_MOST = 0.98
_ROUNDS = 60
#: From so many starts the search is followed to its end.
_DESCENTS = 2


@dataclass(frozen=True)
class Bent:
    """What shape parameters θ (s,) make of the model: the `columns` (n, v) that they change, and an `offset` (n,).

    `slopes(β)` gives the derivative (n, s) of the model by θ, from the coefficients (v,) of these columns.
    """

    columns: Array
    offset: Array
    slopes: Callable[[Array], Array]


@dataclass(frozen=True)
class Shapes:
    """Shape parameters: where they start, between which bounds they lie (s,), and what they make of the model.

    `varying` (v,) are the places of the columns that they change. `starts` (several, s) are compared, and the best ones
    followed. `linear` (s,) marks those that enter as factors, such as the effects of a
    season that grows with the trend: they can be drawn to zero as coefficients can.
    """

    starts: Array
    lower: Array
    upper: Array
    bend: Callable[[Array], Bent]
    linear: NDArray[np.bool_]
    varying: NDArray[np.intp]


@dataclass(frozen=True)
class Problem:
    """What is to be estimated from n rows.

    `groups` (k + s,) gives the strength group of each coefficient, −1 where it is free; `bounded` (G,) says which
    groups' spread is kept from zero. With `related` noise is a chain over the `times` (n,) of the rows.
    """

    target: Array
    columns: Array
    times: Times
    groups: Groups
    bounded: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, dtype=bool))
    related: bool = False
    shapes: Shapes | None = None


@dataclass(frozen=True)
class Solved:
    """The estimate, γ of each group (G,), and whether the rounds came to rest."""

    estimate: Estimate
    ratios: Array
    converged: bool


def regress(problem: Problem) -> Solved:
    """Solve a problem.

    Raises
    ------
    TooFewRowsError
        If the rows do not suffice for the columns.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine.regression import Problem, regress
    >>> x = np.column_stack([np.ones(5), np.arange(5.0)])
    >>> regress(Problem(2.0 + x[:, 1], x, np.arange(5), np.array([-1, -1]))).estimate.beta.round(9).tolist()
    [2.0, 1.0]
    """
    if problem.shapes is None:
        flat = np.zeros(problem.columns.shape[1], dtype=bool)
        chain, ratios, reduced = _learn(problem, problem.columns, problem.target, problem.groups)
        estimate = least_squares(
            problem.columns, problem.target, ratios=_spread(ratios, problem.groups), chain=chain, shapes=flat,
            reduced=reduced,
        )  # fmt: skip
        return Solved(estimate, ratios, True)
    plain = _Beside.of(problem, problem.shapes, np.full(problem.columns.shape[1], np.inf), Chain(0.0, problem.times))
    tried = [_separate(problem, problem.shapes, start, plain) for start in _promising(problem.shapes, plain)]
    return min(tried, key=lambda each: _objective(each.estimate))


def _promising(shapes: Shapes, beside: _Beside) -> Array:
    """The starts from which the descent is worth its cost: all of a few, else those with the smallest sums."""
    starts = np.clip(np.atleast_2d(shapes.starts), shapes.lower, shapes.upper)
    if len(starts) <= _DESCENTS:
        return starts
    sums = [beside.solved(shapes.bend(start)).rss for start in starts]
    return np.asarray(starts[np.argsort(sums, kind="stable")[:_DESCENTS]])


@dataclass(frozen=True)
class Trial:
    """What is left at some θ beside the fixed columns: `rows` (N, v + 1), coefficients (v,) and the sum of squares."""

    rows: Array
    beta: Array
    rss: float


@dataclass(frozen=True)
class _Beside:
    """The columns that no shape parameter changes, taken out of whatever stands beside them once and for all.

    `basis` (N, f) spans them, with the rows that draw some of them to zero; `spread` (v,) draws the others.
    """

    target: Array
    basis: Array
    spread: Array
    chain: Chain

    @classmethod
    def of(cls, problem: Problem, shapes: Shapes, spread: Array, chain: Chain) -> _Beside:
        """The fixed columns of a problem, given the strengths and the dynamics; dependent ones are left out."""
        fixed = np.setdiff1d(np.arange(problem.columns.shape[1]), shapes.varying)
        drawn = np.flatnonzero(np.isfinite(spread[fixed]))
        ridge = np.zeros((len(drawn), len(fixed)))
        ridge[np.arange(len(drawn)), drawn] = 1.0 / np.sqrt(spread[fixed][drawn])
        both = np.vstack([chain.whiten(problem.columns[:, fixed]), ridge])
        if not len(fixed):
            return cls(problem.target, np.zeros((len(both), 0)), spread[shapes.varying], chain)
        spanning, root = qr(both, mode="economic")
        # A dependent column would leave a direction of its own in the basis, which nothing spans.
        kept = np.abs(np.diagonal(root)) > RANK_TOLERANCE * np.linalg.norm(root, axis=0)
        if not kept.all():
            kept = solve(triangle(np.column_stack([both, np.zeros(len(both))]))).kept
            spanning = qr(both[:, kept], mode="economic")[0]
        basis: Array = np.asarray(spanning).astype(np.float64, copy=False)
        return cls(problem.target, basis, spread[shapes.varying], chain)

    def left(self, columns: Array) -> Array:
        """What the fixed columns leave (N, q) of others (n, q)."""
        rows = np.zeros((len(self.basis), columns.shape[1]))
        rows[: len(columns)] = self.chain.whiten(columns)
        return np.asarray(rows - self.basis @ (self.basis.T @ rows))

    def solved(self, bent: Bent) -> Trial:
        """The least squares of the columns that θ changes."""
        rows = self.left(np.column_stack([bent.columns, self.target - bent.offset]))
        found = solve(triangle(np.vstack([rows, _pulls(self.spread)])))
        return Trial(rows, found.beta[:, 0], float(found.rss[0]))


def _pulls(spread: Array) -> Array:
    """Rows (d, m + 1) that draw those of m coefficients to zero whose `spread` (m,) is finite."""
    drawn = np.flatnonzero(np.isfinite(spread))
    rows = np.zeros((len(drawn), len(spread) + 1))
    rows[np.arange(len(drawn)), drawn] = 1.0 / np.sqrt(spread[drawn])
    return rows


def _objective(estimate: Estimate) -> float:
    drawn = np.isfinite(estimate.ratios)
    return estimate.rss + float((np.square(estimate.beta[drawn]) / estimate.ratios[drawn]).sum())


def _spread(ratios: Array, groups: Groups) -> Array:
    """γ (k,) of each column."""
    return np.where(groups >= 0, np.append(ratios, np.inf)[groups], np.inf)


def _learn(problem: Problem, columns: Array, target: Array, groups: Groups) -> tuple[Chain, Array, Reduced | None]:
    """The noise's chain and γ of the groups, together, and the whitened rows with their triangle if any were made."""
    independent = Chain(0.0, problem.times)
    if not problem.related:
        if not len(problem.bounded):
            return independent, np.zeros(0), None
        learnt, reduced = _strengths(problem, columns, target, groups, chain=independent)
        return independent, learnt.ratios, reduced

    near: list[Array | None] = [None]

    def deviance(angle: float) -> float:
        chain = Chain(_MOST * np.tanh(angle), problem.times)
        found, _ = _strengths(problem, columns, target, groups, chain=chain, near=near[0])
        near[0] = np.maximum(found.ratios, 1e-4 * found.ratios.max(initial=0.0))
        return found.deviance + chain.log_determinant

    # The likelihood can have two valleys: alike neighbours, or bends that make them alike.
    grid = np.arctanh(np.array([-0.4, 0.0, 0.3, 0.6, 0.85]) / _MOST)
    values = [deviance(each) for each in grid]
    i = int(np.argmin(values))
    low, high = grid[max(i - 1, 0)], grid[min(i + 1, len(grid) - 1)]
    if i in (0, len(grid) - 1):
        low, high = (np.arctanh(-0.97), grid[1]) if i == 0 else (grid[-2], 3.5)
    found = minimize_scalar(deviance, bounds=(low, high), method="bounded", options={"xatol": 1e-5})
    chain = Chain(float(_MOST * np.tanh(found.x)), problem.times)
    learnt, reduced = _strengths(problem, columns, target, groups, chain=chain)
    return chain, learnt.ratios, reduced


def _strengths(
    problem: Problem, columns: Array, target: Array, groups: Groups, *, chain: Chain, near: Array | None = None
) -> tuple[Learnt, Reduced]:
    """γ of the groups given the noise's chain, and the whitened rows with their triangle."""
    reduced = Reduced.of(columns, target, chain)
    return learn(reduced.whole, groups, len(target), problem.bounded, near), reduced


def _separate(problem: Problem, shapes: Shapes, start: Array, plain: _Beside) -> Solved:
    """Projected Gauss–Newton from one start, strengths and dynamics learnt anew until nothing moves.

    `plain` is what stands beside the shapes with independent noise and no strengths.
    """
    k, theta = problem.columns.shape[1], np.clip(start, shapes.lower, shapes.upper)
    groups = problem.groups
    chain, ratios = Chain(0.0, problem.times), np.full(len(problem.bounded), np.inf)
    learning = problem.related or len(ratios) > 0
    bent, slopes, converged = shapes.bend(theta), np.zeros((len(problem.target), len(theta))), False
    if learning:
        slopes = bent.slopes(plain.solved(bent).beta)
    for turn in range(_ROUNDS):
        before = np.concatenate([theta, [chain.phi], ratios])
        if learning:
            inside = np.concatenate([np.ones(k, dtype=bool), shapes.linear])
            wide = np.column_stack([_all_columns(problem, shapes, bent), slopes[:, shapes.linear]])
            aim = problem.target - bent.offset + slopes[:, shapes.linear] @ theta[shapes.linear]
            chain, ratios, _ = _learn(problem, wide, aim, groups[inside])
        spread = _spread(ratios, groups)
        beside = _Beside.of(problem, shapes, spread[:k], chain) if learning else plain
        theta, bent, slopes, converged = _descend(shapes, theta, beside, spread[k:])
        after = np.concatenate([theta, [chain.phi], ratios])
        still = turn > 0 and bool((np.abs(after - before) <= 1e-4 * np.maximum(np.abs(before), 1e-3)).all())
        if not learning or (converged and still):
            break
    else:
        converged = False
    wide = np.column_stack([_all_columns(problem, shapes, bent), slopes])
    aim = problem.target - bent.offset + slopes @ theta
    estimate = least_squares(wide, aim, ratios=spread, chain=chain, shapes=np.arange(len(groups)) >= k)
    beta = estimate.beta.copy()
    beta[k:] = theta  # at a bound the linear step would leave it
    return Solved(replace(estimate, beta=beta), ratios, converged)


def _all_columns(problem: Problem, shapes: Shapes, bent: Bent) -> Array:
    """All columns (n, k) at some shapes."""
    columns = problem.columns.copy()
    columns[:, shapes.varying] = bent.columns
    return columns


def _descend(shapes: Shapes, theta: Array, beside: _Beside, pull: Array) -> tuple[Array, Bent, Array, bool]:
    """θ of least squares given strengths and dynamics: its model, its slopes, and whether it came to rest.

    `pull` (s,) is the spread with which shapes that enter as factors are drawn to zero.
    """

    def at(trial: Array) -> tuple[Bent, Trial, float]:
        bent = shapes.bend(trial)
        found = beside.solved(bent)
        return bent, found, found.rss + float((np.square(trial) / pull).sum())

    bent, found, value = at(theta)
    damping = 0.0
    slopes = bent.slopes(found.beta)
    lean = beside.left(slopes)
    for _ in range(_ROUNDS):
        step = _step(found, lean, beside.spread, pull, theta=theta, damping=damping)
        trial = np.clip(theta + step, shapes.lower, shapes.upper)
        moved = np.abs(trial - theta)
        if (moved <= 1e-9 * np.maximum(np.abs(theta), 1e-3 * (shapes.upper - shapes.lower).clip(max=1e3))).all():
            return theta, bent, slopes, True
        other, tried, lower = at(trial)
        if lower <= value * (1.0 + 1e-13):
            rest = value - lower <= 1e-14 * value
            theta, bent, found, value = trial, other, tried, lower
            slopes = bent.slopes(found.beta)
            lean = beside.left(slopes)
            damping = damping / 10.0 if damping > 1e-6 else 0.0
            if rest:
                return theta, bent, slopes, True
        else:
            if damping > 1e8:
                return theta, bent, slopes, True  # no smaller step lowers it either: rounding is all that is left
            damping = max(10.0 * damping, 1e-3)
    return theta, bent, slopes, False


def _step(found: Trial, lean: Array, spread: Array, pull: Array, *, theta: Array, damping: float) -> Array:
    """The Gauss–Newton step of θ by what is left of its slopes (N, s), damped (Levenberg 1944; Marquardt 1963)."""
    v, s = len(spread), len(theta)
    rows = np.column_stack([found.rows[:, :v], lean, found.rows[:, v] + lean @ theta])
    held = np.zeros((s, v + s + 1))
    held[:, v : v + s] = np.diag(damping * np.linalg.norm(lean, axis=0))
    held[:, -1] = held[:, v : v + s] @ theta
    both = [rows, _pulls(np.concatenate([spread, pull])), *([held] if damping else [])]
    return np.asarray(solve(triangle(np.vstack(both))).beta[v:, 0] - theta)
