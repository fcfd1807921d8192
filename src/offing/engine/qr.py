"""The triangle R of a QR of [X | Y], and least squares solved on it.

R'R equals the cross-products of [X | Y], but R keeps twice their digits (Golub 1965). Triangles of
disjoint rows are joined by one more small QR, and columns are chosen by taking them from R: neither
goes back to the rows. Householder triangles without pivoting follow any rescaling of the columns
exactly, so columns are not scaled first.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack, solve_triangular

from offing.base.arrays import Array

#: A column is dependent when less than this share of its length is left beside the earlier columns.
#: Rounding leaves about 1e-15, times the condition of the earlier columns; the worst of the certified
#: regressions (Longley's) leaves 9e-5, tenth powers of an uncentred column 6e-8.
RANK_TOLERANCE = 1e-10


@dataclass(frozen=True)
class Solution:
    """Least-squares solution read off a triangle.

    Attributes
    ----------
    beta
        Coefficients (k, q); zero where a column was left out.
    kept
        Which columns were kept (k,).
    root
        Triangle of the kept columns (r, r): ``root.T @ root`` is their cross-product.
    rss
        Residual sum of squares of each target (q,).
    """

    beta: Array
    kept: NDArray[np.bool_]
    root: Array
    rss: Array


def triangle(matrix: Array, weights: Array | None = None) -> Array:
    """Triangle R (k, k) of a QR of `matrix` (n, k), its rows weighted by `weights` (n,) if given.

    Fewer rows than columns are filled up with rows of zeros.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import triangle
    >>> bool(np.allclose(abs(triangle(np.array([[3.0], [4.0]]))), 5.0))
    True
    """
    rows = matrix if weights is None else matrix * np.sqrt(weights)[:, None]
    k = rows.shape[1]
    if len(rows) < k:
        rows = np.vstack([rows, np.zeros((k - len(rows), k))])
    work = lapack.dgeqrf_lwork(*rows.shape)[0]
    packed = lapack.dgeqrf(rows, lwork=int(work))[0]
    return np.triu(packed[:k])


def orthonormal(matrix: Array) -> tuple[Array, Array]:
    """Orthonormal columns Q (n, k) and the triangle R (k, k) with Q R = `matrix` (n, k), n not below k."""
    k = matrix.shape[1]
    if not k:
        return matrix, np.zeros((0, 0))
    packed, tau, *_ = lapack.dgeqrf(matrix, lwork=int(lapack.dgeqrf_lwork(*matrix.shape)[0]))
    root = np.triu(packed[:k])
    return lapack.dorgqr(packed, tau, lwork=64 * k)[0], root


def join(first: Array, rows: Array) -> Array:
    """Triangle of the rows behind `first` (k, k) together with further `rows` (m, k)."""
    return triangle(np.vstack([first, rows]))


def take(whole: Array, columns: NDArray[np.intp] | list[int]) -> Array:
    """Triangle of the chosen `columns` of the matrix behind the triangle `whole`."""
    return triangle(whole[:, columns])


def solve(whole: Array, targets: int = 1, tolerance: float = RANK_TOLERANCE) -> Solution:
    """Solve least squares from the triangle `whole` (k + q, k + q) of [X | Y] with q `targets`.

    Rank is decided in the order of the columns: of dependent columns always the later one is left out,
    whatever rows were used, so that the same column goes in every fold.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import solve, triangle
    >>> x = np.array([[1.0, 2.0, 3.0], [1.0, 2.0, 5.0]])          # the second column is twice the first
    >>> solve(triangle(x)).kept.tolist(), solve(triangle(x)).beta[:, 0].round(12).tolist()
    ([True, False], [4.0, 0.0])
    """
    k = whole.shape[0] - targets
    kept, reduced = list(range(k)), whole
    while len(dependent := _dependent(reduced, len(kept), tolerance)):
        place = int(dependent[0])
        del kept[place]
        # Columns before `place` stay as they are; only the corner behind the gap is no longer triangular.
        reduced = np.delete(reduced, place, axis=1)
        corner = triangle(reduced[place:, place:])
        reduced = np.vstack([reduced[:place], np.hstack([np.zeros((len(corner), place)), corner])])
    r = len(kept)
    root = reduced[:r, :r]
    beta = np.zeros((k, targets))
    if r:
        beta[kept] = solve_triangular(root, reduced[:r, r:], check_finite=False)
    mask = np.zeros(k, dtype=bool)
    mask[kept] = True
    return Solution(beta, mask, root, np.square(reduced[r:, r:]).sum(axis=0))


def _dependent(reduced: Array, k: int, tolerance: float) -> NDArray[np.intp]:
    """Which of the first k columns keep too little of their length beside the earlier ones; the first is sure."""
    lengths = np.linalg.norm(reduced[:, :k], axis=0)
    return np.flatnonzero(np.abs(np.diagonal(reduced)[:k]) <= tolerance * lengths)


def explain_dependence(whole: Array, kept: NDArray[np.bool_], column: int) -> Array:
    """Weights (k,) on the kept columns before `column` that make up the left-out `column`."""
    before = np.flatnonzero(kept[:column])
    corner = triangle(whole[:, [*before, column]])
    weights = np.zeros(len(kept))
    if len(before):
        weights[before] = solve_triangular(corner[:-1, :-1], corner[:-1, -1], check_finite=False)
    return weights
