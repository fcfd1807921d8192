"""Shape parameters by least squares, the other columns taken out once and for all.

Variable projection (Golub & Pereyra 1973) with the step of Kaufman (1975), from the best of several starts.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import qr

from offing.engine.dynamics import Chain
from offing.engine.triangle import RANK_TOLERANCE, Array, solve, triangle

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
class Trial:
    """What is left at some θ beside the fixed columns: `rows` (N, v + 1), coefficients (v,) and the sum of squares."""

    rows: Array
    beta: Array
    rss: float


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
        fixed = np.setdiff1d(np.arange(columns.shape[1]), varying)
        drawn = np.flatnonzero(np.isfinite(spread[fixed]))
        ridge = np.zeros((len(drawn), len(fixed)))
        ridge[np.arange(len(drawn)), drawn] = 1.0 / np.sqrt(spread[fixed][drawn])
        both = np.vstack([chain.whiten(columns[:, fixed]), ridge])
        if not len(fixed):
            return cls(target, np.zeros((len(both), 0)), spread[varying], chain)
        spanning, root = qr(both, mode="economic")
        # A dependent column would leave a direction of its own in the basis, which nothing spans.
        kept = np.abs(np.diagonal(root)) > RANK_TOLERANCE * np.linalg.norm(root, axis=0)
        if not kept.all():
            kept = solve(triangle(np.column_stack([both, np.zeros(len(both))]))).kept
            spanning = qr(both[:, kept], mode="economic")[0]
        basis: Array = np.asarray(spanning).astype(np.float64, copy=False)
        return cls(target, basis, spread[varying], chain)

    def left(self, columns: Array) -> Array:
        """What the fixed columns leave (N, q) of others (n, q)."""
        rows = np.zeros((len(self.basis), columns.shape[1]))
        rows[: len(columns)] = self.chain.whiten(columns)
        return np.asarray(rows - self.basis @ (self.basis.T @ rows))

    def sums(self, bents: Sequence[Bent]) -> Array:
        """The sums of squares of many, all in one product; infinite where a column depends on others."""
        both = np.column_stack([np.column_stack([bent.columns, self.target - bent.offset]) for bent in bents])
        rows = self.left(both).reshape(len(self.basis), len(bents), -1).swapaxes(0, 1)
        drawn = np.broadcast_to(_pulls(self.spread), (len(bents), *_pulls(self.spread).shape))
        roots = np.linalg.qr(np.concatenate([rows, drawn], axis=1), mode="r")
        sizes = np.abs(np.diagonal(roots, axis1=1, axis2=2))
        sure = (sizes[:, :-1] > RANK_TOLERANCE * np.linalg.norm(roots, axis=1)[:, :-1]).all(axis=1)
        return np.where(sure, np.square(sizes[:, -1]), np.inf)

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


def _promising(shapes: Shapes, beside: Beside) -> Array:
    """The starts from which the descent is worth its cost: all of a few, else those with the smallest sums."""
    starts = np.clip(np.atleast_2d(shapes.starts), shapes.lower, shapes.upper)
    if len(starts) <= _DESCENTS:
        return starts
    sums = beside.sums([shapes.bend(start) for start in starts])
    return np.asarray(starts[np.argsort(sums, kind="stable")[:_DESCENTS]])


def lowest(shapes: Shapes, plain: Beside) -> list[Array]:
    """Where the descents from the promising starts end, before anything is learnt; one that meets another stops."""
    ends: list[Array] = []
    free = np.full(shapes.starts.shape[-1], np.inf)
    for start in _promising(shapes, plain):
        end = descend(shapes, start, plain, free, met=ends)[0]
        if not any(_near(shapes, end, other) for other in ends):
            ends.append(end)
    return ends


def _near(shapes: Shapes, theta: Array, other: Array, share: float = 1e-3) -> bool:
    """Whether two sets of shapes are next to each other, by the size of each or the room that it has."""
    room = np.maximum(np.abs(other), 1e-3 * (shapes.upper - shapes.lower).clip(max=1e3))
    return bool((np.abs(theta - other) <= share * room).all())


def descend(
    shapes: Shapes, theta: Array, beside: Beside, pull: Array, met: Sequence[Array] = ()
) -> tuple[Array, Bent, Array, bool]:
    """θ of least squares given strengths and dynamics: its model, its slopes, and whether it came to rest.

    `pull` (s,) is the spread with which shapes that enter as factors are drawn to zero. The way stops where it meets
    an end that was `met` before.
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
            if rest or any(_near(shapes, theta, other) for other in met):
                return theta, bent, slopes, True
        else:
            if damping > 1e8:
                return theta, bent, slopes, True  # no smaller step lowers it either: rounding is all that is left
            damping = max(10.0 * damping, 1e-3)
    return theta, bent, slopes, False


def _step(found: Trial, lean: Array, spread: Array, pull: Array, *, theta: Array, damping: float) -> Array:
    """The Gauss–Newton step of θ by what is left of its slopes (N, s), damped (Levenberg 1944; Marquardt 1963)."""
    v, s = len(spread), len(theta)
    rows = np.column_stack([found.rows[:, :v], lean, found.rows[:, v]])
    drawn = _pulls(np.concatenate([spread, pull]))
    drawn[:, -1] = -drawn[:, v : v + s] @ theta
    held = np.zeros((s, v + s + 1))
    held[:, v : v + s] = np.diag(damping * np.linalg.norm(lean, axis=0))
    both = [rows, drawn, *([held] if damping else [])]
    return np.asarray(solve(triangle(np.vstack(both))).beta[v:, 0])
