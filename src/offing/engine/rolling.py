"""The same regression estimated anew from ever more rows, each from where the shapes were before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.engine.regression import Problem
from offing.engine.separable import Bent, Beside, End, Grid, Shapes, descend, lowest
from offing.engine.triangle import RANK_TOLERANCE

#: So many valleys of the grid are followed, whose sums are at most so many times the lowest.
_RIVALS, _RIVAL = 2, 1.01
#: Within so many steps of that grid two points are of one valley.
_STEPS = 1.0
#: Folds are many: the search ends where a step promises less than this share of the sum of squares.
_REST = 1e-10


@dataclass(frozen=True)
class Rolled:
    """Coefficients (m, k), shapes (m, s) and sums of squares (m,) from the first `ends` (m,) rows each."""

    ends: NDArray[np.intp]
    beta: Array
    theta: Array
    rss: Array


def rolling(problem: Problem, ends: Sequence[int]) -> Rolled:
    """Least squares with shapes from the first rows up to each of `ends`, without strengths and dynamics.

    The grid of the shapes is looked at for all folds at once, from running sums of products; each fold follows the
    end of the one before it, and its own lowest valleys of the grid. What a fold gives depends on its own rows alone.

    Raises
    ------
    ValueError
        If strengths, dynamics, bounds, expectations, weights of rows or another loss are asked for.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import Bent, Grid, Problem, Shapes
    >>> from offing.engine.rolling import rolling
    >>> t = np.arange(1.0, 41.0)
    >>> def bend(theta):
    ...     fades = np.exp(-theta[0] * t)[:, None]
    ...     return Bent(fades, np.zeros(40), lambda beta: -t[:, None] * fades * beta[0])
    >>> def many(thetas):
    ...     return np.exp(-np.outer(thetas[:, 0], t))[:, :, None], np.zeros((len(thetas), 40))
    >>> grid = Grid(np.array([0]), np.array([[0.05], [0.2], [0.5]]), (3,))
    >>> shapes = Shapes((grid,), np.array([0.01]), np.array([1.0]), bend, many, np.array([False]), np.array([1]))
    >>> problem = Problem(1.0 + 3.0 * np.exp(-0.1 * t), np.column_stack([np.ones(40), np.exp(-t)]), np.arange(40),
    ...                   np.array([-1, -1, -1]), shapes=shapes)
    >>> rolling(problem, [20, 40]).theta.round(6).ravel().tolist()
    [0.1, 0.1]
    """
    shapes = problem.shapes
    more = (problem.dynamics, problem.worth, problem.limits, problem.towards, problem.rising)
    if shapes is None or len(problem.bounded) or problem.loss != "squares" or any(each is not None for each in more):
        raise ValueError("rolling estimates are plain least squares with shapes, and nothing else is learnt or asked")
    fixed = np.setdiff1d(np.arange(problem.columns.shape[1]), shapes.varying)
    open_ = [each for each in shapes.grids if len(each.points) > 1]
    grid = open_[0] if len(open_) == 1 and open_[0].sides and len(shapes.varying) == 1 else None
    rivals = _rivals(problem, shapes, grid, problem.columns[:, fixed], np.asarray(ends))
    loose = np.full(problem.columns.shape[1], np.inf)
    found: list[End] = []
    rows = []
    for end, points in zip(ends, rivals, strict=True):
        part = _head(shapes, int(end))
        columns, target = problem.columns[:end], problem.target[:end]
        chain = replace(problem.chain, times=problem.times[:end])
        beside = Beside.of(columns, target, shapes.varying, loose, chain)
        reached = _reached(part, beside, found[-1] if found else None, points, grid)
        found.append(reached)
        trial = reached.trial
        whole = columns.copy()
        whole[:, shapes.varying] = trial.bent.columns
        rows.append(np.linalg.lstsq(whole, target - trial.bent.offset, rcond=None)[0])
    return Rolled(
        np.asarray(ends, dtype=np.intp), np.array(rows), np.array([each.trial.theta for each in found]),
        np.array([each.trial.value for each in found]),
    )  # fmt: skip


def _reached(shapes: Shapes, beside: Beside, before: End | None, points: Array | None, grid: Grid | None) -> End:
    """The lowest of where the warm start and the grid's rivals (p, s) lead; the whole search where these are none."""
    if before is None or points is None or grid is None:
        return lowest(shapes, beside)[0]
    warm = descend(shapes, before.trial.theta, beside, beyond=before.beyond, rest=_REST)
    found = [end for end in (warm,) if end is not None]
    for point in points:
        if any(_beside_each_other(grid, end.trial.theta, point) for end in found):
            continue
        end = descend(shapes, point, beside, met=found, rest=_REST)
        if end is not None:
            found.append(end)
    return min(found, key=lambda each: each.trial.value)


def _beside_each_other(grid: Grid, theta: Array, other: Array) -> bool:
    """Whether two sets of shapes lie within a step of the grid, so that they are of one valley."""
    steps = [
        float(np.ptp(np.interp([theta[place], other[place]], line, np.arange(len(line)))))
        for place, line in zip(grid.places, grid.lines, strict=True)
    ]
    return max(steps) <= _STEPS


def _head(shapes: Shapes, end: int) -> Shapes:
    """The shapes on the first `end` rows."""

    def bend(theta: Array) -> Bent:
        whole = shapes.bend(theta)
        return Bent(whole.columns[:end], whole.offset[:end], lambda beta: whole.slopes(beta)[:end])

    def many(thetas: Array) -> tuple[Array, Array]:
        columns, offsets = shapes.many(thetas)
        return columns[:, :end], offsets[:, :end]

    return replace(shapes, bend=bend, many=many)


def _rivals(
    problem: Problem, shapes: Shapes, grid: Grid | None, fixed: Array, ends: NDArray[np.intp]
) -> list[Array] | list[None]:
    """The points (p, s) of the grid with the smallest sums of squares of each fold; None where there is no such."""
    if grid is None:
        return [None] * len(ends)
    thetas = np.repeat(shapes.first[None], len(grid.points), axis=0)
    thetas[:, grid.places] = grid.points
    columns, offsets = shapes.many(thetas)
    if offsets.any():
        return [None] * len(ends)
    bent, last, target = columns[:, :, 0].T, ends - 1, problem.target
    # Sums of products over the first rows: fixed among themselves, with the grid's columns, and with the target.
    among = np.cumsum(fixed[:, :, None] * fixed[:, None, :], axis=0)[last]
    beside = np.cumsum(fixed[:, :, None] * bent[:, None, :], axis=0)[last]
    aimed = np.cumsum(fixed * target[:, None], axis=0)[last]
    own = np.cumsum(bent * bent, axis=0)[last]
    both = np.cumsum(bent * target[:, None], axis=0)[last]
    whole = np.cumsum(target * target)[last]
    solved = np.linalg.solve(among, np.concatenate([beside, aimed[:, :, None]], axis=2))
    left = own - np.einsum("mfg,mfg->mg", beside, solved[:, :, :-1])
    gain = both - np.einsum("mfg,mf->mg", beside, solved[:, :, -1])
    rest = whole - np.einsum("mf,mf->m", aimed, solved[:, :, -1])
    sure = left > np.square(RANK_TOLERANCE) * own
    sums = np.where(sure, rest[:, None] - np.square(gain) / np.maximum(left, 1e-300), np.inf)
    # The lowest valleys of each fold, those that are none last.
    ordered = np.where(grid.lower(sums), sums, np.inf)
    places = np.argsort(ordered, axis=1, kind="stable")[:, :_RIVALS]
    lowest_ = np.take_along_axis(ordered, places, axis=1)
    return [thetas[row[value <= value[0] * _RIVAL]] for row, value in zip(places, lowest_, strict=True)]
