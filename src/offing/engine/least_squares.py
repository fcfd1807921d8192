"""Least squares: coefficients, their covariance, and the variance of any linear function of them."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular

from offing.base.arrays import Array
from offing.engine.ar_filter import Chain
from offing.engine.bounded_least_squares import not_falling, within_bounds
from offing.engine.qr import RANK_TOLERANCE, explain_dependence, solve, take, triangle


class TooFewRowsError(ValueError):
    """No row is left for the noise."""


@dataclass(frozen=True)
class Estimate:
    """Least-squares estimate of one target.

    Attributes
    ----------
    beta
        Coefficients (k,); zero where a column was left out as dependent. Shape parameters are among them, with the
        columns of the linearised design.
    kept
        Which columns were kept (k,).
    root
        Triangle (r, r) of the kept columns, and of the rows that draw some of them to zero.
    whole
        Triangle (k + 1, k + 1) of [X | y], from which other choices of columns can be solved.
    rss
        Residual sum of squares, of whitened rows where the noise is not independent.
    rows
        Number n of rows used.
    variance
        Unbiased estimate of the noise variance.
    dof
        Degrees of freedom of that variance: rows less the free columns. Columns that are shrunk towards zero take none,
        since what draws them counts as data.
    effective_dof
        Degrees of freedom that the columns took of the residuals. A column that is shrunk towards zero takes less than
        one (Hodges & Sargent 2001).
    ratios
        Variance (k,) of each coefficient around zero over that of the noise; infinite where it is free.
    chain
        The dynamics of the noise.
    shapes
        Which coefficients (k,) are shape parameters.
    active
        Which coefficients (k,) lie at a bound.
    unconstrained
        Coefficients (k,) without the bounds; `beta` where there are none.
    scores
        Where the covariance is a sandwich, the factor (r, r) of its inside; None where it is the classical one.
    """

    beta: Array
    kept: NDArray[np.bool_]
    root: Array
    whole: Array
    rss: float
    rows: int
    variance: float
    dof: float
    effective_dof: float
    ratios: Array
    chain: Chain
    shapes: NDArray[np.bool_]
    active: NDArray[np.bool_]
    unconstrained: Array
    scores: Array | None = None

    @property
    def pulls(self) -> Array:
        """Rows (d, r) that draw d of the kept coefficients to zero, each worth as much as a row of the data."""
        ratios = self.ratios[self.kept]
        shrunk = np.flatnonzero(np.isfinite(ratios))
        rows = np.zeros((len(shrunk), len(ratios)))
        rows[np.arange(len(shrunk)), shrunk] = 1.0 / np.sqrt(ratios[shrunk])
        return rows

    def moved(self, by: Array) -> Estimate:
        """The estimate of a target to which the columns times `by` (k,) are added."""
        kept = np.where(self.kept, by, 0.0)
        return replace(self, beta=self.beta + kept, unconstrained=self.unconstrained + kept)

    def standard_errors(self, functions: Array) -> Array:
        """Standard errors (m,) of ``functions @ beta``, for `functions` (m, k).

        With R the root, the covariance is s² (R'R)⁻¹, so a row x has variance s² |R'⁻¹x|²; where coefficients are
        shrunk towards zero this is that of prediction (Henderson 1975). Whether a function is estimable at all where
        columns were left out, `unidentified` shows.
        """
        errors: Array = np.sqrt(np.square(self.cov_root(functions)).sum(axis=0))
        return errors

    def cov_root(self, functions: Array) -> Array:
        """H (r, m) with H'H the covariance (m, m) of ``functions @ beta``, for `functions` (m, k)."""
        m, k = functions.shape
        if m > k:
            # A term has few of the columns: a solve for each of those serves all of its periods.
            touched = np.flatnonzero(functions.any(axis=0))
            return np.asarray(self.cov_root(np.eye(k)[touched]) @ functions[:, touched].T)
        cov_root = solve_triangular(self.root, functions[:, self.kept].T, trans="T", check_finite=False)
        if self.scores is not None:
            return np.asarray(self.scores @ solve_triangular(self.root, cov_root, check_finite=False))
        return np.asarray(cov_root * np.sqrt(self.variance))

    def draws(self, count: int, generator: np.random.Generator) -> tuple[Array, Array]:
        """Coefficients (k, count) and noise variances (count,) drawn from their distribution given the data.

        Under a flat prior (Zellner 1971): the variance as its estimate times its degrees of freedom over a
        chi-square, β normal about its estimate given it.
        """
        variances = self.variance * self.dof / generator.chisquare(self.dof, count)
        normal = generator.standard_normal((int(self.kept.sum()), count))
        beta = np.repeat(self.beta[:, None], count, axis=1)
        swell = np.sqrt(variances / self.variance)
        beta[self.kept] += self.cov_root(np.eye(len(self.beta)))[:, self.kept].T @ normal * swell
        return beta, variances

    def dependence(self, column: int) -> Array:
        """Weights (k,) on the kept columns before the left-out `column` that make it up in the rows used."""
        free = self.kept & ~np.isfinite(self.ratios)
        return explain_dependence(self.whole[:-1, :-1], free, column)

    def unidentified(self, rows: Array) -> NDArray[np.bool_]:
        """Which left-out columns break, in any of the `rows` (m, k), the dependence that left them out.

        The value of such rows depends on a coefficient of which the data say nothing. The result (k,) is
        False for kept columns.
        """
        broken = np.zeros(len(self.kept), dtype=bool)
        for column in np.flatnonzero(~self.kept).tolist():
            weights = self.dependence(column)
            typical = np.linalg.norm(self.whole[:, column]) / np.sqrt(self.rows)
            size = np.abs(rows[:, column]) + np.abs(rows) @ np.abs(weights)
            gap = np.abs(rows[:, column] - rows @ weights)
            broken[column] = bool((gap > 1e-7 * np.maximum(size, typical)).any())
        return broken


@dataclass(frozen=True)
class Reduced:
    """Whitened `rows` (n, k + 1) of [X | y] and their triangle, the `whole` (k + 1, k + 1)."""

    rows: Array
    whole: Array

    @classmethod
    def of(cls, design: Array, target: Array, chain: Chain) -> Reduced:
        """The rows freed of what their predecessors predict, and their triangle."""
        together = np.empty((len(target), design.shape[1] + 1), order="F")  # as LAPACK wants it, which saves it a copy
        together[:, :-1], together[:, -1] = design, target
        rows = chain.whiten(together)
        return cls(rows, triangle(rows))


def least_squares(
    design: Array,
    target: Array,
    *,
    ratios: Array | None = None,
    chain: Chain | None = None,
    shapes: NDArray[np.bool_] | None = None,
    bounds: tuple[Array, Array] | None = None,
    rising: Array | None = None,
    variance: float | None = None,
    reduced: Reduced | None = None,
    rows: int | None = None,
    tolerance: float = RANK_TOLERANCE,
) -> Estimate:
    """Estimate `target` (n,) on `design` (n, k) by least squares.

    One correction by the seminormal equations (Björck 1987) follows the triangle's solution: it costs two
    products and restores digits that near-dependent columns take.

    Parameters
    ----------
    ratios
        Variance (k,) of each coefficient around zero over the noise's, infinite where it is free: ridge rows (Hoerl &
        Kennard 1970). By default all are free.
    chain
        The dynamics of the noise; by default it is independent.
    shapes
        Which columns (k,) are derivatives by shape parameters.
    bounds
        Lowest and highest value (k,) of each coefficient. The covariance stays that of the unbounded problem; the
        noise's variance is that around the bounded one.
    rising
        Functions (m, k) of the coefficients that must not be negative; as with bounds, the covariance stays.
    variance
        The noise's variance, where it is known otherwise.
    reduced
        The whitened rows [X | y] with their triangle, where they are at hand.
    rows
        How many rows the design stands for, where some of its own are the triangle of more.

    Raises
    ------
    TooFewRowsError
        If no row is left for the noise: fewer rows than free columns, or as many.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import least_squares
    >>> line = np.column_stack([np.ones(4), np.arange(4.0)])
    >>> least_squares(line, np.array([1.0, 3.0, 5.0, 7.0])).beta.round(12).tolist()
    [1.0, 2.0]
    """
    n, k = design.shape
    n = n if rows is None else rows
    ratios = np.full(k, np.inf) if ratios is None else ratios
    chain = Chain((), np.arange(len(design))) if chain is None else chain
    shapes = np.zeros(k, dtype=bool) if shapes is None else shapes
    reduced = Reduced.of(design, target, chain) if reduced is None else reduced
    whole = reduced.whole
    kept, root, beta = solve_shrunk(whole, ratios, tolerance)
    free = kept & ~np.isfinite(ratios)
    if n <= free.sum():
        raise TooFewRowsError(f"{n} rows cannot estimate {free.sum()} columns and the noise")
    white, aim = reduced.rows[:, :-1], reduced.rows[:, -1]
    columns = white if kept.all() else white[:, kept]
    penalty = 1.0 / ratios[kept]
    inner = beta[kept]
    gradient = columns.T @ (aim - columns @ inner) - penalty * inner
    cov_root = solve_triangular(root, gradient, trans="T", check_finite=False)
    inner = inner + solve_triangular(root, cov_root, check_finite=False)
    beta[kept] = inner
    unconstrained, active = beta, np.zeros(k, dtype=bool)
    lower, upper = (np.full(k, -np.inf), np.full(k, np.inf)) if bounds is None else bounds
    outside = ((beta < lower) | (beta > upper))[kept].any()
    if rising is not None and (outside or (rising @ beta < 0.0).any()):
        inner = not_falling(root, inner, rising[:, kept], lower[kept], upper[kept])
        beta = beta.copy()
        beta[kept], active[kept] = inner, (inner == lower[kept]) | (inner == upper[kept])
    elif outside:
        inner, held = within_bounds(root, inner, lower[kept], upper[kept])
        beta = beta.copy()
        beta[kept], active[kept] = inner, held
    residual = aim - columns @ inner
    rss = float(residual @ residual)
    shrunk = np.isfinite(ratios[kept])
    given = 0.0
    if shrunk.any():
        inverse = solve_triangular(root, np.eye(len(root)), check_finite=False)
        given = float(penalty @ np.square(inverse).sum(axis=1))
    dof = float(n - (free & ~active).sum())
    if variance is None:
        variance = (rss + float(penalty @ np.square(inner))) / dof
    effective_dof = len(root) - given - float((active & free).sum())
    return Estimate(
        beta, kept, root, whole, rss, n, variance, dof, effective_dof, ratios, chain, shapes, active, unconstrained
    )


def solve_shrunk(whole: Array, ratios: Array, tolerance: float) -> tuple[NDArray[np.bool_], Array, Array]:
    """Kept columns (k,), their triangle with the ridge rows, and coefficients (k,), from `whole` (k + 1, k + 1).

    Free columns are kept or left out in their order. A column that is shrunk towards zero is always kept: where the
    free ones contain it, its coefficient is what it was taken to be before the data.
    """
    k = len(ratios)
    shrunk = np.flatnonzero(np.isfinite(ratios))
    if not len(shrunk):
        solution = solve(whole, tolerance=tolerance)
        return solution.kept, solution.root, solution.beta[:, 0]
    free = np.flatnonzero(~np.isfinite(ratios))
    held = free[solve(take(whole, [*free.tolist(), k]), tolerance=tolerance).kept]
    kept = np.zeros(k, dtype=bool)
    kept[held], kept[shrunk] = True, True
    at = np.flatnonzero(kept)
    r = len(at)
    ridge = np.zeros((r, r + 1))
    ridge[:, :r] = np.diag(1.0 / np.sqrt(ratios[at]))
    joined = triangle(np.vstack([whole[:, [*at.tolist(), k]], ridge]))
    beta = np.zeros(k)
    beta[at] = solve_triangular(joined[:r, :r], joined[:r, r], check_finite=False)
    return kept, joined[:r, :r], beta
