"""The same columns fitted again and again: to ever more rows, and with ever other choices among them.

Rows of later folds are joined to the triangle of the earlier ones, and every choice of columns takes its own from there
(Golub & Van Loan 2013, section 6.5), so that the rows are gone through once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack

from offing.engine.triangle import RANK_TOLERANCE, Array, join, triangle

Rows = NDArray[np.intp]


@dataclass(frozen=True)
class Refits:
    """What c choices of columns, each fitted in f folds, expect of h rows.

    Attributes
    ----------
    mean
        What is expected (c, f, h).
    variance, dof
        Noise variance (c, f) and its degrees of freedom.
    beta
        Coefficients (f, k) of each choice.
    sure
        Whether (c, f) all columns could be told apart. Where not, nothing else is said.
    triangles
        The triangle (f, K + 1, K + 1) of each fold's rows [X | y].
    rows
        The rows (f, h, K) that are forecast.
    choices
        The columns of each choice.
    """

    mean: Array
    variance: Array
    dof: Array
    beta: tuple[Array, ...]
    sure: NDArray[np.bool_]
    triangles: Array
    rows: Array
    choices: tuple[Rows, ...]

    def spread(self, choice: int) -> Array:
        """Standard error (f, h) of what one choice expects, from its coefficients."""
        places = self.choices[choice]
        found = np.full(self.rows.shape[:2], np.nan)
        roots = np.triu(np.linalg.qr(self.triangles[:, :, places], mode="r"))
        for fold in np.flatnonzero(self.sure[choice]).tolist():
            # With W = R'⁻¹ x the variance of x'β is s² W'W.
            half, _ = lapack.dtrtrs(roots[fold], self.rows[fold][:, places].T, trans=1)
            found[fold] = np.sqrt(np.square(half).sum(axis=0) * self.variance[choice, fold])
        return found


def refits(
    columns: Array, target: Array, *, starts: Rows, ends: Rows, ahead: Rows, choices: Sequence[Rows]
) -> Refits:  # fmt: skip
    """Least squares of each fold's rows on each choice of columns.

    Parameters
    ----------
    columns, target
        X (n, K) and y (n,). Rows that the folds fit must be known, except that a y may be NaN, whose row is left out.
    starts, ends
        First row (f,) of each fold and the one after its last, both in rising order.
    ahead
        Rows (f, h) that each fold forecasts.
    choices
        The columns of each choice, in their order.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine.refits import refits
    >>> x = np.column_stack([np.ones(8), np.arange(8.0), np.array([0, 1, 0, 0, 1, 1, 0, 1.0])])
    >>> y = 2.0 + x[:, 1] + np.array([0.1, -0.1, 0.1, -0.1, 0.1, -0.1, 0.0, 0.0])
    >>> found = refits(x, y, starts=np.array([0, 0]), ends=np.array([5, 6]), ahead=np.array([[6], [7]]),
    ...                choices=[np.array([0]), np.array([0, 1])])
    >>> found.mean[:, :, 0].round(2).tolist(), found.dof.tolist()
    ([[4.02, 4.5], [8.02, 8.92]], [[4.0, 5.0], [3.0, 4.0]])
    """
    triangles, counts = _triangles(columns, target, starts, ends)
    shape, rows = (len(choices), len(ends)), columns[ahead]
    mean = np.full((*shape, ahead.shape[1]), np.nan)
    variance, dof, sure = np.full(shape, np.nan), np.full(shape, np.nan), np.zeros(shape, dtype=bool)
    every = []
    last = columns.shape[1]
    for c, choice in enumerate(choices):
        k = len(choice)
        roots: Array = np.linalg.qr(triangles[:, :, [*choice, last]], mode="r")  # type: ignore[assignment]
        lengths = np.sqrt(np.square(roots[:, :, :k]).sum(axis=1))
        free = np.abs(np.diagonal(roots, axis1=1, axis2=2)[:, :k]) > RANK_TOLERANCE * lengths
        sure[c] = free.all(axis=1) & (counts > k)
        dof[c] = counts - k
        beta = np.full((len(ends), k), np.nan)
        for f in np.flatnonzero(sure[c]).tolist():
            beta[f] = lapack.dtrtrs(roots[f, :k, :k], roots[f, :k, k])[0]
            variance[c, f] = roots[f, k, k] ** 2 / dof[c, f]
        mean[c] = np.einsum("fhk,fk->fh", rows[:, :, choice], beta)
        every.append(beta)
    return Refits(mean, variance, dof, tuple(every), sure, triangles, rows, tuple(choices))


def _triangles(columns: Array, target: Array, starts: Rows, ends: Rows) -> tuple[Array, NDArray[np.intp]]:
    """The triangle (f, K + 1, K + 1) of each fold's rows [X | y], and how many these are (f,)."""
    together = np.empty((len(target), columns.shape[1] + 1), order="F")
    together[:, :-1], together[:, -1] = columns, target
    known = np.isfinite(target)
    found: list[Array] = []
    before = (-1, 0)
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        if found and start == before[0]:
            fresh = together[before[1] : end][known[before[1] : end]]
            found.append(join(found[-1], fresh) if len(fresh) else found[-1])
        else:
            found.append(triangle(together[start:end][known[start:end]]))
        before = (start, end)
    counts = [int(known[start:end].sum()) for start, end in zip(starts.tolist(), ends.tolist(), strict=True)]
    return np.array(found), np.array(counts)
