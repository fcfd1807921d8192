"""Which of many columns: the best found of every size, read off a triangle that is free of the columns always kept."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.linalg import qr

from offing.base.arrays import Array
from offing.engine.qr import solve, take, triangle

Steps = Sequence[Sequence[int]]
#: A column of which the others leave less than this share of its length says nothing of its own.
_LITTLE = 1e-9
#: Each further column may double the number of subsets: of 16 there are 65,536 at worst.
MOST_SUBSETS = 16


def beside(whole: Array, always: Sequence[int], columns: Sequence[int]) -> Array:
    """What the `always` columns leave of `columns` and the target: the corner (m + 1, m + 1) of a triangle.

    Columns that they contain become zero.
    """
    last = whole.shape[1] - 1
    kept = [always[i] for i in np.flatnonzero(solve(take(whole, [*always, last])).kept).tolist()]
    corner = take(whole, [*kept, *columns, last])[len(kept) :, len(kept) :]
    lost = np.linalg.norm(corner[:, :-1], axis=0) <= _LITTLE * np.linalg.norm(whole[:, list(columns)], axis=0)
    corner[:, np.flatnonzero(lost)] = 0.0
    return corner


def forward(corner: Array, steps: Steps, most: int) -> list[tuple[int, ...]]:
    """The steps (sets of columns) that help most, one after the other, given those before: sizes from 0 to `most`.

    Orthogonal least squares (Chen, Billings & Luo 1989): every column is kept free of those that were taken.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import triangle
    >>> from offing.engine.subset_selection import forward
    >>> x = np.random.default_rng(1).normal(size=(80, 3))
    >>> forward(triangle(np.column_stack([x, 3.0 * x[:, 2] + x[:, 0]])), [[0], [1], [2]], 2)
    [(), (2,), (2, 0)]
    """
    free, target = corner[:, :-1].copy(), corner[:, -1].copy()
    lengths = np.square(free).sum(axis=0)
    single = all(len(step) == 1 for step in steps)
    order = np.array([step[0] for step in steps]) if single else np.zeros(0, dtype=np.intp)
    path: list[tuple[int, ...]] = [()]
    while len(path) <= most:
        if single:
            gains = _gains(free[:, order], target, lengths[order])
        else:
            gains = np.array([_gain(free[:, list(step)], target, lengths[list(step)]) for step in steps])
        gains[list(path[-1])] = -1.0
        best = int(np.argmax(gains))
        if gains[best] <= 0.0:
            break
        basis = _basis(free[:, list(steps[best])], lengths[list(steps[best])])
        free -= basis @ (basis.T @ free)
        target -= basis @ (basis.T @ target)
        path.append((*path[-1], best))
    return path


def _gains(free: Array, target: Array, lengths: Array) -> Array:
    remaining = np.square(free).sum(axis=0)
    open_to = remaining > _LITTLE * np.maximum(lengths, 1e-300)
    return np.where(open_to, np.square(free.T @ target) / np.where(open_to, remaining, 1.0), -1.0)


def _gain(free: Array, target: Array, lengths: Array) -> float:
    return float(np.square(_basis(free, lengths).T @ target).sum())


def _basis(free: Array, lengths: Array) -> Array:
    """An orthonormal basis (r, d) of what is left of columns."""
    spanning, root, _ = qr(free, mode="economic", pivoting=True)
    kept = np.abs(np.diagonal(root)) > np.sqrt(_LITTLE * max(float(lengths.max(initial=0.0)), 1e-300))
    return np.asarray(spanning[:, : len(kept)][:, kept])


def least_angle(corner: Array, most: int, mix: float = 1.0) -> list[tuple[int, ...]]:
    """The sets of columns along the path of the L1 penalty, by least-angle steps: the first of every size.

    With a `mix` below 1 of the elastic net (Efron, Hastie, Johnstone & Tibshirani 2004; Zou & Hastie 2005): the rest of
    the penalty is on squares, as further rows. Columns count by their own length, so that units do not matter. A
    column whose coefficient comes back to zero is dropped.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import triangle
    >>> from offing.engine.subset_selection import least_angle
    >>> x = np.random.default_rng(1).normal(size=(80, 3))
    >>> least_angle(triangle(np.column_stack([x, 3.0 * x[:, 2] + x[:, 0]])), 2)
    [(), (2,), (2, 0)]
    """
    lengths = np.linalg.norm(corner[:, :-1], axis=0)
    usable = np.flatnonzero(lengths > 0.0)
    x = corner[:, usable] / lengths[usable]
    ridge = (1.0 - mix) / max(mix, 1e-6)
    products, right = x.T @ x + ridge * np.eye(len(usable)), x.T @ corner[:, -1]
    active: list[int] = []
    beta = np.zeros(len(usable))
    found: dict[int, tuple[int, ...]] = {0: ()}
    level = float(np.abs(right).max(initial=0.0))
    dropped = -1
    for _ in range(8 * most + 8):
        correlations = right - products @ beta
        if level <= 1e-12 * float(np.abs(right).max(initial=1e-300)) or len(active) > most:
            break
        if dropped < 0:
            outside = np.setdiff1d(np.arange(len(usable)), active)
            if not len(outside):
                break
            active.append(int(outside[np.argmax(np.abs(correlations[outside]))]))
            if len(active) > most:
                break
            found.setdefault(len(active), tuple(int(usable[i]) for i in active))
        away = solve(triangle(np.column_stack([products[np.ix_(active, active)], np.sign(correlations[active])]))).beta[
            :, 0
        ]
        moved = products[:, active] @ away
        outside = np.setdiff1d(np.arange(len(usable)), active)
        turns = np.concatenate([1.0 - moved[outside], 1.0 + moved[outside]])
        gaps = np.concatenate([level - correlations[outside], level + correlations[outside]])
        reaches = np.where(turns > 1e-12, gaps / np.where(turns > 1e-12, turns, 1.0), np.inf)
        step = float(min(level, reaches[reaches > 1e-12 * level].min(initial=np.inf)))
        dropped = -1
        with np.errstate(divide="ignore", invalid="ignore"):
            zero = -beta[active] / away
        back = [i for i, each in enumerate(zero.tolist()) if 1e-12 * level < each < step]
        if back:
            dropped = min(back, key=lambda i: float(zero[i]))
            step = float(zero[dropped])
        beta[active] += step * away
        level -= step
        if dropped >= 0:
            beta[active[dropped]] = 0.0
            del active[dropped]
    return [found[size] for size in range(len(found)) if size in found]


def subsets(corner: Array, most: int) -> list[tuple[int, ...]]:
    """The set of columns with the least sum of squares of every size up to `most`, by branch and bound.

    What all columns of a branch leave is the least that any part of it can (Furnival & Wilson 1974).

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import triangle
    >>> from offing.engine.subset_selection import subsets
    >>> x = np.random.default_rng(1).normal(size=(80, 3))
    >>> subsets(triangle(np.column_stack([x, 3.0 * x[:, 2] + x[:, 0]])), 2)
    [(), (2,), (0, 2)]
    """
    m = corner.shape[1] - 1
    start = forward(corner, [[j] for j in range(m)], most)
    best = {len(each): (_rss(corner, each), tuple(sorted(each))) for each in start}
    # The strongest columns last to be dropped: bounds then bite early.
    drop = sorted(range(m), key=lambda j: -_rss(corner, [i for i in range(m) if i != j]))

    def branch(kept: tuple[int, ...], open_to: tuple[int, ...]) -> None:
        everything = (*kept, *open_to)
        low = _rss(corner, everything)
        sizes = range(max(len(kept), 1), min(most, len(everything)) + 1)
        if all(low >= best.get(size, (np.inf, ()))[0] for size in sizes):
            return
        if len(everything) <= most and low < best.get(len(everything), (np.inf, ()))[0]:
            best[len(everything)] = (low, tuple(sorted(everything)))
        for i in range(len(open_to)):
            branch((*kept, *open_to[:i]), open_to[i + 1 :])

    branch((), tuple(drop[::-1]))
    return [best[size][1] for size in sorted(best)]


def _rss(corner: Array, columns: Sequence[int]) -> float:
    return float(solve(take(corner, [*columns, corner.shape[1] - 1])).rss[0])


def coefficients(whole: Array, columns: Sequence[int]) -> Array:
    """Coefficients (k,) of the chosen `columns` of a triangle of [X | y], zero elsewhere."""
    beta = np.zeros(whole.shape[1] - 1)
    beta[list(columns)] = solve(take(whole, [*columns, whole.shape[1] - 1])).beta[:, 0]
    return beta
