"""Shape parameters by least squares, the other columns taken out once and for all.

Variable projection (Golub & Pereyra 1973) with the step of Kaufman (1975), from the best of several starts.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from itertools import product

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack

from offing.base.arrays import Array
from offing.engine.ar_filter import Chain
from offing.engine.qr import RANK_TOLERANCE, orthonormal, solve, triangle
from offing.engine.shapes import Bent, Grid, Shapes

#: A descent ends within a dozen steps; more than this say that it does not end.
_ROUNDS = 60
#: Valleys of several grids that are crossed, and crossings that are followed to their ends. Two of each grid have found
#: the least sum of squares wherever a finer grid did (tests/test_mixed.py, tests/test_shapes.py).
_DESCENTS, _CROSSED = 6, 2
#: A search ends where its next step promises less than this share of the sum of squares.
_REST = 1e-13
#: Valleys up to this share of the way from the lowest to the middle point of a grid are rivals of the lowest.
_RIVAL = 1.0
#: A descent goes on while these multiples of what its next step promises, at first and later, would bring it below
#: the best end so far.
_HOPE = (50.0, 20.0, 5.0)


@dataclass(frozen=True)
class Trial:
    """What θ makes of the model beside the fixed columns.

    Coefficients (v,), the `basis` (N, r) of the columns that were kept, the `residual` (N,), and as `value` the sum of
    squares with what draws coefficients to zero.
    """

    theta: Array
    bent: Bent
    beta: Array
    basis: Array
    residual: Array
    value: float

    @property
    def slopes(self) -> Array:
        """Derivative (n, s) of the model by θ."""
        return self.bent.slopes(self.beta)


@dataclass(frozen=True)
class Beside:
    """The columns that no shape parameter changes, taken out of whatever stands beside them once and for all.

    `basis` (N, f) spans them, with the rows that draw some of them to zero; `spread` (v,) draws the others.
    """

    target: Array
    basis: Array
    spread: Array
    chain: Chain

    @classmethod
    def of(cls, columns: Array, target: Array, varying: NDArray[np.intp], spread: Array, chain: Chain) -> Beside:
        """The fixed ones of the columns (n, k), given the strengths and the dynamics; dependent ones are left out."""
        free = np.ones(columns.shape[1], dtype=bool)
        free[varying] = False
        both = chain.whiten(columns[:, free])
        if np.isfinite(spread[free]).any():
            both = np.vstack([both, _pulls(spread[free])[:, :-1]])
        spanning, root = orthonormal(both)
        # A dependent column would leave a direction of its own in the basis, which nothing spans.
        kept = np.abs(np.diagonal(root)) > RANK_TOLERANCE * np.linalg.norm(root, axis=0)
        if not kept.all():
            kept = solve(triangle(np.column_stack([both, np.zeros(len(both))]))).kept
            spanning = orthonormal(both[:, kept])[0]
        return cls(target, spanning, spread[varying], chain)

    def residuals_of(self, columns: Array) -> Array:
        """What the fixed columns leave (N, q) of others (n, q)."""
        rows = self.chain.whiten(columns)
        if len(rows) < len(self.basis):
            rows = np.vstack([rows, np.zeros((len(self.basis) - len(rows), rows.shape[1]))])
        return np.asarray(rows - self.basis @ (self.basis.T @ rows))

    def sums(self, columns: Array, offsets: Array) -> Array:
        """The sums of squares (S,) with `columns` (S, n, v), all in one product; infinite where one is dependent."""
        count, n, v = columns.shape
        if v == 1 and not offsets.any() and np.isinf(self.spread).all():
            return self._single(columns[:, :, 0].T)
        both = np.empty((n, count, v + 1))
        both[:, :, :v], both[:, :, v] = columns.swapaxes(0, 1), (self.target - offsets).T
        rows = self.residuals_of(both.reshape(n, -1)).reshape(len(self.basis), count, v + 1).swapaxes(0, 1)
        pulls = _pulls(self.spread)
        shrunk = np.broadcast_to(pulls, (count, *pulls.shape))
        roots = np.linalg.qr(np.concatenate([rows, shrunk], axis=1), mode="r")
        sizes = np.abs(np.diagonal(roots, axis1=1, axis2=2))
        sure = (sizes[:, :-1] > RANK_TOLERANCE * np.linalg.norm(columns, axis=1)).all(axis=1)
        return np.where(sure, np.square(sizes[:, -1]), np.inf)

    def _single(self, columns: Array) -> Array:
        """The sums of squares (S,) with one column (n, S) each."""
        rows, aim = self.residuals_of(columns), self.residuals_of(self.target[:, None])[:, 0]
        lengths, both = np.einsum("ns,ns->s", rows, rows), aim @ rows
        sure = lengths > np.square(RANK_TOLERANCE) * np.einsum("ns,ns->s", columns, columns)
        return np.where(sure, aim @ aim - both * both / np.maximum(lengths, 1e-300), np.inf)

    def tried(self, shapes: Shapes, theta: Array, prior_variance: Array | None = None) -> Trial:
        """The least squares of the columns that θ changes; θ itself is shrunk by `prior_variance` (s,)."""
        bent = shapes.bend(theta)
        rows = self.residuals_of(np.column_stack([bent.columns, self.target - bent.offset]))
        rows = np.vstack([rows, _pulls(self.spread)]) if np.isfinite(self.spread).any() else rows
        columns, aim = rows[:, :-1], rows[:, -1]
        basis, root = _orthonormal(columns)
        kept = np.ones(columns.shape[1], dtype=bool)
        if (np.abs(np.diagonal(root)) <= RANK_TOLERANCE * np.linalg.norm(bent.columns, axis=0)).any():
            kept = solve(triangle(rows)).kept
            basis, root = _orthonormal(columns[:, kept])
        beta, inside = np.zeros(len(kept)), basis.T @ aim
        beta[kept] = inside / root[0] if root.shape == (1, 1) else np.linalg.solve(root, inside)
        residual = aim - basis @ inside
        value = float(residual @ residual)
        if prior_variance is not None:
            value += float((np.square(theta) / prior_variance).sum())
        return Trial(theta, bent, beta, basis, residual, value)

    def jacobian(self, trial: Trial) -> Array:
        """What all other columns leave (N, s) of the slopes: the residuals' derivative (Kaufman 1975)."""
        residuals_of = self.residuals_of(trial.slopes)
        if len(trial.residual) > len(residuals_of):
            residuals_of = np.vstack(
                [residuals_of, np.zeros((len(trial.residual) - len(residuals_of), residuals_of.shape[1]))]
            )
        return np.asarray(residuals_of - trial.basis @ (trial.basis.T @ residuals_of))


def _orthonormal(columns: Array) -> tuple[Array, Array]:
    """Orthonormal columns (N, r) that span others, and the triangle (r, r) that makes the latter of them."""
    if columns.shape[1] != 1:
        return orthonormal(columns)
    length = float(np.sqrt(columns[:, 0] @ columns[:, 0]))
    return columns / max(length, 1e-300), np.array([[length]])


def _pulls(spread: Array) -> Array:
    """Rows (d, m + 1) that draw those of m coefficients to zero whose `spread` (m,) is finite."""
    shrunk = np.flatnonzero(np.isfinite(spread))
    rows = np.zeros((len(shrunk), len(spread) + 1))
    rows[np.arange(len(shrunk)), shrunk] = 1.0 / np.sqrt(spread[shrunk])
    return rows


@dataclass(frozen=True)
class End:
    """Where a descent came to rest, or was `converged` not; `beyond` (s, s) is the curvature gathered on the way."""

    trial: Trial
    converged: bool
    beyond: Array


def lowest(shapes: Shapes, plain: Beside) -> list[End]:
    """Where the descents from all valleys of the grids end, before anything is learnt: different ends, best first.

    Several grids are gone through in turn, the other shapes where they were best, and their valleys then crossed.
    """
    theta = shapes.first
    open_ = [grid for grid in shapes.grids if len(grid.points) > 1]

    def looked(grid: Grid, points: Array) -> Array:
        trials = np.repeat(theta[None], len(points), axis=0)
        trials[:, grid.places] = points
        return plain.sums(*shapes.many(trials))

    if len(open_) == 1 and open_[0].sides:
        (grid,) = open_
        sums = looked(grid, grid.points)
        found = grid.valleys(sums)
        if len(found):
            # One that lies no lower than most of the grid is no rival of the lowest.
            known = sums[np.isfinite(sums)]
            found = found[sums[found] <= known.min() + _RIVAL * (np.median(known) - known.min())]
            points, hopes = grid.bottoms(found, partial(looked, grid))
            starts = np.repeat(theta[None], len(points), axis=0)
            starts[:, grid.places] = points
            return _ends(shapes, plain, starts, hopes)
    valleys = {id(grid): grid.points[:1] for grid in shapes.grids}
    for _ in range(min(len(open_), 2)):
        for grid in open_:
            found = grid.valleys(looked(grid, grid.points))[:_CROSSED]
            if len(found):  # else all of it depends on other columns
                valleys[id(grid)] = grid.points[found]
                theta[grid.places] = grid.points[found[0]]
    crossed = list(product(*(valleys[id(grid)] for grid in shapes.grids)))
    starts = np.repeat(theta[None], len(crossed), axis=0)
    for row, parts in enumerate(crossed):
        for grid, point in zip(shapes.grids, parts, strict=True):
            starts[row, grid.places] = point
    if len(starts) > 1:
        starts = starts[np.argsort(plain.sums(*shapes.many(starts)), kind="stable")[:_DESCENTS]]
    return _ends(shapes, plain, starts, np.full(len(starts), -np.inf))


def _ends(shapes: Shapes, plain: Beside, starts: Array, hopes: Array) -> list[End]:
    """The ends of the descents from `starts` (S, s), best first; `hopes` (S,) show how low each may come."""
    ends: list[End] = []
    for start, hope in zip(starts, hopes.tolist(), strict=True):
        if hope > min((end.trial.value for end in ends), default=np.inf):
            continue
        end = descend(shapes, np.clip(start, shapes.lower, shapes.upper), plain, met=ends)
        if end is not None:
            ends.append(end)
    return sorted(ends, key=lambda each: each.trial.value)


def _near(shapes: Shapes, theta: Array, other: Array, share: float = 1e-3) -> bool:
    """Whether two sets of shapes are next to each other, by the size of each or the room that it has."""
    room = np.maximum(np.abs(other), 1e-3 * (shapes.upper - shapes.lower).clip(max=1e3))
    return bool((np.abs(theta - other) <= share * room).all())


def descend(
    shapes: Shapes,
    theta: Array,
    beside: Beside,
    prior_variance: Array | None = None,
    *,
    met: Sequence[End] = (),
    beyond: Array | None = None,
    rest: float = _REST,
) -> End | None:
    """Where the sum of squares is least near θ, strengths and dynamics given.

    `prior_variance` (s,) is the spread with which shapes that enter as factors are shrunk towards zero, `beyond` (s, s)
    what is known of the curvature from a problem that is nearly the same, `rest` the share of the sum that is worth no
    step. None where the way meets an end that was `met` before, or promises nothing below it. The curvature that Gauss
    and Newton leave out is gathered from the gradients on the way (Dennis, Gay & Welsch 1981); steps are damped
    (Levenberg 1944; Marquardt 1963).
    """
    shrunk = np.zeros(len(theta)) if prior_variance is None else 1.0 / prior_variance
    least = min((end.trial.value for end in met), default=-np.inf)
    room = np.maximum(np.abs(theta), 1e-3 * (shapes.upper - shapes.lower).clip(max=1e3))
    here = beside.tried(shapes, theta, prior_variance)
    jacobian = beside.jacobian(here)
    down = jacobian.T @ here.residual - shrunk * theta
    beyond, damping = np.zeros((len(theta), len(theta))) if beyond is None else beyond, 0.0
    for turn in range(_ROUNDS):
        inner = jacobian.T @ jacobian + np.diag(shrunk)
        inner += np.diag((damping + 1e-14) * np.diagonal(inner) + 1e-300)
        low, high = shapes.lower - theta, shapes.upper - theta
        try:
            step, promised = _step(inner + beyond, down, low, high)
        except np.linalg.LinAlgError:  # the curvature that was gathered is left aside
            beyond = np.zeros_like(beyond)
            step, promised = _step(inner, down, low, high)
        if here.value - _HOPE[min(turn, 2)] * promised > least > -np.inf:
            return None
        if promised <= 0.0 < float(np.abs(step).max()) and damping < 1e8:
            damping = max(10.0 * damping, 1e-2)
            continue
        trial = np.clip(theta + step, shapes.lower, shapes.upper)
        if promised <= rest * here.value or (np.abs(step) <= 1e-9 * room).all():
            return End(here, True, beyond)
        there = beside.tried(shapes, trial, prior_variance)
        if there.value > here.value * (1.0 + 1e-13):
            if damping > 1e8:
                return End(here, True, beyond)  # no smaller step lowers it either: rounding is all that is left
            damping = max(10.0 * damping, 1e-2)
            continue
        still = here.value - there.value <= 1e-14 * here.value
        other = beside.jacobian(there)
        beyond = _gathered(
            beyond,
            trial - theta,
            other.T @ there.residual - jacobian.T @ there.residual,
            other.T @ there.residual - jacobian.T @ here.residual,
        )
        theta, here, jacobian = trial, there, other
        down = jacobian.T @ here.residual - shrunk * theta
        damping = damping / 10.0 if damping > 1e-4 else 0.0
        if any(_near(shapes, theta, end.trial.theta) for end in met):
            return None
        if still:
            return End(here, True, beyond)
    return End(here, False, beyond)


def _step(curved: Array, down: Array, low: Array, high: Array) -> tuple[Array, float]:
    """The step (s,) between bounds that lowers a quadratic form most, and by how much the sum of squares would fall.

    Parts of it that pass a bound are held there, and the others found again.

    Raises
    ------
    LinAlgError
        Where the form bends down.
    """
    step, free = np.zeros(len(down)), ~(((low >= 0.0) & (down < 0.0)) | ((high <= 0.0) & (down > 0.0)))
    while free.any():
        whole = free.all()
        part, aim = (
            (curved, down)
            if whole
            else (curved[np.ix_(free, free)], down[free] - curved[np.ix_(free, ~free)] @ step[~free])
        )
        _, found, bad = lapack.dposv(part, aim)
        if bad:
            raise np.linalg.LinAlgError("the form bends down")
        step[free] = found
        past = np.where(free, np.maximum(low - step, step - high), 0.0) / np.maximum(np.abs(step), 1e-300)
        worst = int(np.argmax(past))
        if past[worst] <= 0.0:
            break
        step[worst], free[worst] = np.clip(step[worst], low[worst], high[worst]), False
    return step, float(2.0 * step @ down - step @ curved @ step)


def _gathered(beyond: Array, moved: Array, bent: Array, change: Array) -> Array:
    """The curvature beyond Gauss and Newton's, so that it shows the last `change` of the gradient right.

    `bent` is the part of that change which comes from the slopes' own (Dennis, Gay & Welsch 1981). Both are of minus
    the gradient.
    """
    bent, change = -bent, -change
    along = float(moved @ change)
    if along <= 0.0:
        return np.zeros_like(beyond)
    had = beyond @ moved
    size = abs(float(moved @ had))
    beyond = beyond * min(1.0, abs(float(moved @ bent)) / size) if size > 0.0 else beyond
    off = bent - beyond @ moved
    return np.asarray(
        beyond
        + (np.outer(off, change) + np.outer(change, off)) / along
        - float(off @ moved) * np.outer(change, change) / along**2
    )
