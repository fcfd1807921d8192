"""How strongly groups of coefficients are shrunk towards zero, learnt by restricted maximum likelihood.

Coefficients of a group are taken as normal around zero with a variance of their own, γ times that of the noise; the
restricted likelihood (Patterson & Thompson 1971) of γ is read off a triangle, so that no trial goes back to the rows.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular, svd
from scipy.optimize import Bounds, brentq, minimize
from scipy.special import expit

from offing.base.arrays import Array
from offing.engine.qr import solve, take, triangle

Groups = NDArray[np.intp]
Keeping = NDArray[np.integer]

#: How the spread of a group is kept from zero: not at all; as it is; or as a share of what it and the noise make.
FREE, AWAY, SHARED = 0, 1, 2

#: γ is sought between these multiples of what a column's own length makes of one unit of noise.
_WEAKEST, _STRONGEST = 1e-7, 1e9


@dataclass(frozen=True)
class Learnt:
    """γ of each group (G,), and minus twice the logarithm of the restricted likelihood there, but for a constant."""

    ratios: Array
    deviance: float


@dataclass(frozen=True)
class Projected:
    """What a triangle leaves of the penalised columns and the target beside the free columns.

    `root` (m, m) and `target` (m,) are its corner, `rss` what neither explains, `groups` (m,) whose column each is
    (from 0 on), `log_determinant` that of the free columns' cross-products, `free` how many of these were kept.
    """

    root: Array
    target: Array
    rss: float
    groups: Groups
    log_determinant: float
    free: int


def project(whole: Array, groups: Groups) -> Projected:
    """Free columns (group −1) of the triangle `whole` (k + 1, k + 1) of [X | y] taken out of the others."""
    k = len(groups)
    free = np.flatnonzero(groups < 0)
    kept = free[solve(take(whole, [*free.tolist(), k])).kept]
    penalised = np.flatnonzero(groups >= 0)
    corner = take(whole, [*kept.tolist(), *penalised.tolist(), k])
    f = len(kept)
    sizes = np.abs(np.diagonal(corner)[:f])
    return Projected(
        corner[f:-1, f:-1],
        corner[f:-1, -1],
        float(corner[-1, -1] ** 2),
        groups[penalised],
        float(2.0 * np.log(sizes).sum()),
        f,
    )


def learn(
    whole: Array,
    groups: Groups,
    rows: int,
    bounded: Keeping,
    *,
    near: Array | None = None,
    stated: int = -1,
) -> Learnt:
    """Learn γ of every group from the triangle `whole` of `rows` rows of [X | y].

    Parameters
    ----------
    groups
        The group (k,) of each column, −1 where its coefficient is free.
    bounded
        How the spread of each group (G,) is kept from zero. `AWAY`: the likelihood is multiplied by the spread √γ,
        which moves the estimate up by about one standard error (Chung, Rabe-Hesketh, Dorie, Gelman & Liu 2013), so that
        few members do not look exactly alike. `SHARED`: it is multiplied by √(γ / (1 + γ)), for a group whose columns
        can take up all that the rows hold, as the steps of a level can: with √γ its spread would have no end.
    near
        γ (G,) from which to start; without it several starts are tried.
    stated
        The group whose spread is stated as 1 in units of the target, −1 for none: its γ is one over the noise's
        variance, which is then learnt as well.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import triangle
    >>> from offing.engine.variance_components import FREE, learn
    >>> generator = np.random.default_rng(1)
    >>> dummies = np.kron(np.eye(40), np.ones((10, 1)))
    >>> y = dummies @ generator.normal(0.0, 2.0, 40) + generator.normal(size=400)
    >>> whole = triangle(np.column_stack([np.ones(400), dummies, y]))
    >>> bool(3.0 < learn(whole, np.array([-1] + [0] * 40), 400, np.array([FREE])).ratios[0] < 5.0)
    True
    """
    return learn_beside(project(whole, groups), rows, bounded, near=near, stated=stated)


def learn_beside(
    parts: Projected, rows: int, bounded: Keeping, *, near: Array | None = None, stated: int = -1
) -> Learnt:
    """Learn γ of every group from what is left beside the free columns; see `learn`."""
    count = len(bounded)
    if not count:
        return Learnt(np.zeros(0), (rows - parts.free) * float(np.log(parts.rss)) + parts.log_determinant)
    lengths = np.square(parts.root).sum(axis=0)
    sizes = np.array(
        [max(lengths[parts.groups == g].mean(), 1e-300) if (parts.groups == g).any() else 1.0 for g in range(count)]
    )
    low, high = np.log(_WEAKEST / sizes), np.log(_STRONGEST / sizes)
    if stated >= 0:
        noise = parts.rss / max(rows - parts.free - len(parts.groups), 1)
        sizes[stated] = max(noise, 1e-300)
        low[stated], high[stated] = -np.log(sizes[stated]) - 14.0, -np.log(sizes[stated]) + 14.0
    if count == 1 and stated < 0:
        log, least = _single(parts, rows, int(bounded[0]), float(low[0]), float(high[0]))
        return Learnt(np.exp(np.array([log])), least + parts.log_determinant)

    def deviance(logs: Array) -> tuple[float, Array]:
        return _deviance(parts, logs, rows, bounded, stated)

    starts = [1.0 / sizes, 1e-3 / sizes, 1e3 / sizes] if near is None else [near]
    if near is None and stated >= 0:
        for start in starts:
            start[stated] = 1.0 / sizes[stated]
        starts = starts[: 1 if count == 1 else 3]
    found = [
        minimize(
            deviance,
            np.clip(np.log(start), low, high),
            jac=True,
            method="L-BFGS-B",
            bounds=Bounds(low, high),
            options={"ftol": 1e-13, "gtol": 1e-7},
        )
        for start in starts
    ]
    best = min(found, key=lambda each: round(float(each.fun), 9))  # the first of equals
    return Learnt(np.exp(best.x), float(best.fun) + parts.log_determinant)


def _single(parts: Projected, rows: int, bounded: int, low: float, high: float) -> tuple[float, float]:
    """Logarithm of γ of the only group between its bounds, and the deviance there.

    In the singular directions of the columns each trial is a sum (Harville 1977): grids within grids find the valley.
    """
    left, values, _ = svd(parts.root, check_finite=False)  # SciPy's, beside whose threads NumPy's would be in the way
    squares, seen = np.square(values), np.square(left.T @ parts.target)
    dof = rows - parts.free

    def deviance(logs: Array) -> Array:
        growth = 1.0 + np.exp(logs)[:, None] * squares
        rss = parts.rss + (seen / growth).sum(axis=1)
        return np.asarray(dof * np.log(rss) + np.log(growth).sum(axis=1) + kept_away(logs, bounded)[0])

    def slope(log: float) -> float:
        growth = 1.0 + np.exp(log) * squares
        moved = np.exp(log) * squares / growth
        rss = parts.rss + float((seen / growth).sum())
        return float(moved.sum() - dof * (seen / growth * moved).sum() / rss + kept_away(log, bounded)[1])

    for _ in range(4):  # each grid spans a twentieth of the one before
        grid = np.linspace(low, high, 41)
        values = deviance(grid)
        i = int(np.argmin(values))
        low, high = float(grid[max(i - 1, 0)]), float(grid[min(i + 1, 40)])
    # The deviance is flat there: only its slope shows the place to all digits.
    if slope(low) < 0.0 < slope(high):
        log = float(brentq(slope, low, high, xtol=1e-13))
        return log, float(deviance(np.array([log]))[0])
    return float(grid[i]), float(values[i])


def kept_away(logs: Array | float, bounded: Keeping | int) -> tuple[Array, Array]:
    """What keeping spreads from zero adds to the deviance, and the derivative of that by the logarithms of γ."""
    shared = np.equal(bounded, SHARED)
    away = np.not_equal(bounded, FREE)
    return away * -np.asarray(logs) + shared * np.logaddexp(0.0, logs), away * -1.0 + shared * expit(logs)


def _deviance(parts: Projected, logs: Array, rows: int, bounded: Keeping, stated: int) -> tuple[float, Array]:
    """Deviance and its derivative by the logarithms of γ; σ² is profiled out, or one over the `stated` group's γ."""
    m, dof = len(parts.groups), rows - parts.free
    precision = np.exp(-logs)[parts.groups]
    stacked = np.zeros((2 * m, m + 1))
    stacked[:m, :m], stacked[:m, m] = parts.root, parts.target
    stacked[m:, :m] = np.diag(np.sqrt(precision))
    joined = triangle(stacked)
    root = joined[:m, :m]
    inverse = solve_triangular(root, np.eye(m), check_finite=False)
    effects = inverse @ joined[:m, m]
    rss = parts.rss + float(joined[m, m] ** 2)
    variances = np.square(inverse).sum(axis=1)
    value = 2.0 * np.log(np.abs(np.diagonal(root))).sum() - np.log(precision).sum()
    weight = dof / rss if stated < 0 else float(np.exp(logs[stated]))
    value += dof * np.log(rss) if stated < 0 else weight * rss - dof * logs[stated]
    penalty = precision * (variances + weight * np.square(effects))
    slope = np.bincount(parts.groups, 1.0 - penalty, minlength=len(logs)).astype(np.float64)
    if stated >= 0:
        slope[stated] += weight * rss - dof
    kept, pulled = kept_away(logs, bounded)
    return float(value + kept.sum()), np.asarray(slope + pulled, dtype=np.float64)
