"""Ordinary least squares: coefficients, their covariance, and the variance of any linear function of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular

from offing.engine.triangle import RANK_TOLERANCE, Array, explain_dependence, solve, triangle


@dataclass(frozen=True)
class Estimate:
    """Least-squares estimate of one target.

    Attributes
    ----------
    beta
        Coefficients (k,); zero where a column was left out as dependent.
    kept
        Which columns were kept (k,).
    root
        Triangle (r, r) of the kept columns.
    whole
        Triangle (k + 1, k + 1) of [X | y], from which other choices of columns can be solved.
    rss
        Residual sum of squares.
    rows
        Number n of rows used.
    """

    beta: Array
    kept: NDArray[np.bool_]
    root: Array
    whole: Array
    rss: float
    rows: int

    @property
    def dof(self) -> int:
        """Degrees of freedom of the noise: rows less kept columns."""
        return self.rows - int(self.kept.sum())

    @property
    def variance(self) -> float:
        """Unbiased estimate of the noise variance."""
        return self.rss / self.dof

    def standard_errors(self, functions: Array) -> Array:
        """Classical standard errors (m,) of ``functions @ beta``, for `functions` (m, k).

        With R the root, the covariance is s² (R'R)⁻¹, so a row x has variance s² |R'⁻¹x|². Whether
        a function is estimable at all where columns were left out, `unidentified` tells.
        """
        half = solve_triangular(self.root, functions[:, self.kept].T, trans="T", check_finite=False)
        errors: Array = np.sqrt(self.variance * np.square(half).sum(axis=0))
        return errors

    def dependence(self, column: int) -> Array:
        """Weights (k,) on the kept columns before the left-out `column` that make it up in the rows used."""
        return explain_dependence(self.whole[:-1, :-1], self.kept, column)

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


def least_squares(design: Array, target: Array, tolerance: float = RANK_TOLERANCE) -> Estimate:
    """Estimate `target` (n,) on `design` (n, k) by least squares.

    One correction by the seminormal equations (Björck 1987) follows the triangle's solution: it costs two
    products and restores digits that near-dependent columns take.

    Raises
    ------
    ValueError
        If no row is left for the noise: fewer rows than columns, or as many.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import least_squares
    >>> line = np.column_stack([np.ones(4), np.arange(4.0)])
    >>> least_squares(line, np.array([1.0, 3.0, 5.0, 7.0])).beta.round(12).tolist()
    [1.0, 2.0]
    """
    n, k = design.shape
    together = np.empty((n, k + 1), order="F")  # as LAPACK wants it, which saves it a copy
    together[:, :k], together[:, k] = design, target
    whole = triangle(together)
    solution = solve(whole, tolerance=tolerance)
    if n <= solution.kept.sum():
        raise ValueError(f"{n} rows cannot estimate {solution.kept.sum()} columns and the noise")
    kept, root = solution.kept, solution.root
    columns = design if kept.all() else design[:, kept]
    inner = solution.beta[kept, 0]
    gradient = columns.T @ (target - columns @ inner)
    half = solve_triangular(root, gradient, trans="T", check_finite=False)
    inner = inner + solve_triangular(root, half, check_finite=False)
    beta = np.zeros(design.shape[1])
    beta[kept] = inner
    residual = target - columns @ inner
    return Estimate(beta, kept, root, whole, float(residual @ residual), n)
