"""The same columns fitted again and again: to ever more rows, and with ever other choices among them.

Rows of later folds are joined to the triangle of the earlier ones, and every choice of columns takes its own from there
(Golub & Van Loan 2013, section 6.5), so that the rows are gone through once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lapack

from offing.base.arrays import Array
from offing.engine.qr import RANK_TOLERANCE, join, triangle
from offing.engine.variance_components import Groups, Keeping, Projected, learn_beside

Rows = NDArray[np.intp]


@dataclass(frozen=True)
class Choice:
    """Columns of a design, in their order, and the group (k,) with which each is shrunk, −1 where it is free.

    `bounded` (G,) shows how the spread of each group is kept from zero; see `offing.engine.variance_components.learn`.
    """

    places: Rows
    groups: Groups
    bounded: Keeping

    @property
    def free(self) -> int:
        """How many columns are free."""
        return int((self.groups < 0).sum())

    @cached_property
    def order(self) -> Rows:
        """The columns (k,), the free ones first."""
        return np.concatenate([np.flatnonzero(self.groups < 0), np.flatnonzero(self.groups >= 0)]).astype(np.intp)

    @classmethod
    def of_free(cls, places: Sequence[int]) -> Choice:
        """Columns none of which is shrunk."""
        return cls(np.array(places, dtype=np.intp), np.full(len(places), -1), np.zeros(0, dtype=bool))


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
    ratios
        γ (f, G) of the groups of each choice.
    sure
        Whether (c, f) all columns could be separated. Where not, nothing else is said.
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
    ratios: tuple[Array, ...]
    sure: NDArray[np.bool_]
    triangles: Array
    rows: Array
    choices: tuple[Choice, ...]

    def spread(self, choice: int) -> Array:
        """Standard error (f, h) of what one choice expects, from its coefficients."""
        own = self.choices[choice]
        found = np.full(self.rows.shape[:2], np.nan)
        roots = _roots(self.triangles, own)
        for fold in np.flatnonzero(self.sure[choice]).tolist():
            root = roots[fold, :-1, :-1].copy()
            f = own.free
            if f < len(root):
                penalty_rows = np.diag(1.0 / np.sqrt(self.ratios[choice][fold][own.groups[own.order[f:]]]))
                root[f:, f:] = triangle(np.vstack([root[f:, f:], penalty_rows]))
            # With W = R'⁻¹ x the variance of x'β is s² W'W.
            half, _ = lapack.dtrtrs(root, self.rows[fold][:, own.places[own.order]].T, trans=1)
            found[fold] = np.sqrt(np.square(half).sum(axis=0) * self.variance[choice, fold])
        return found


def refits(
    columns: Array, target: Array, *, starts: Rows, ends: Rows, ahead: Rows, choices: Sequence[Choice]
) -> Refits:
    """Least squares of each fold's rows on each choice of columns, some of which may be shrunk towards zero.

    Parameters
    ----------
    columns, target
        X (n, K) and y (n,). Rows that the folds fit must be known, except that a y may be NaN, whose row is left out.
    starts, ends
        First row (f,) of each fold and the one after its last, both in rising order.
    ahead
        Rows (f, h) that each fold forecasts.
    choices
        The columns of each choice.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import Choice, refits
    >>> x = np.column_stack([np.ones(8), np.arange(8.0), np.array([0, 1, 0, 0, 1, 1, 0, 1.0])])
    >>> y = 2.0 + x[:, 1] + np.array([0.1, -0.1, 0.1, -0.1, 0.1, -0.1, 0.0, 0.0])
    >>> found = refits(x, y, starts=np.array([0, 0]), ends=np.array([5, 6]), ahead=np.array([[6], [7]]),
    ...                choices=[Choice.of_free([0]), Choice.of_free([0, 1])])
    >>> found.mean[:, :, 0].round(2).tolist(), found.dof.tolist()
    ([[4.02, 4.5], [8.02, 8.92]], [[4.0, 5.0], [3.0, 4.0]])
    """
    triangles, counts = _triangles(columns, target, starts, ends)
    shape, rows = (len(choices), len(ends)), columns[ahead]
    mean = np.full((*shape, ahead.shape[1]), np.nan)
    variance, dof, sure = np.full(shape, np.nan), np.full(shape, np.nan), np.zeros(shape, dtype=bool)
    every, ratios = [], []
    for c, choice in enumerate(choices):
        each = _shrunk if len(choice.bounded) else _plain
        beta, ratio, variance[c], dof[c], sure[c] = each(triangles, counts, choice)
        with np.errstate(invalid="ignore"):
            mean[c] = np.einsum("fhk,fk->fh", rows[:, :, choice.places], beta)
        every.append(beta)
        ratios.append(ratio)
    return Refits(mean, variance, dof, tuple(every), tuple(ratios), sure, triangles, rows, tuple(choices))


#: Coefficients (f, k), γ (f, G), variances (f,), degrees of freedom (f,), and whether (f,) all is sure.
_Fitted = tuple[Array, Array, Array, Array, NDArray[np.bool_]]


def _roots(triangles: Array, choice: Choice) -> Array:
    """Triangles (f, k + 1, k + 1) of a choice's columns and the target, the free columns first."""
    places = [*choice.places[choice.order].tolist(), triangles.shape[1] - 1]
    roots = np.asarray(np.linalg.qr(triangles[:, :, places], mode="r"))
    # A choice may take a column twice, and then has more than there are rows.
    short = len(places) - roots.shape[1]
    return np.pad(roots, ((0, 0), (0, short), (0, 0))) if short else roots


def _distinct(roots: Array, free: int) -> NDArray[np.bool_]:
    """Whether (f,) every free column keeps something of its own beside the earlier ones."""
    lengths = np.sqrt(np.square(roots[:, :, :free]).sum(axis=1))
    own = np.abs(np.diagonal(roots, axis1=1, axis2=2)[:, :free])
    return np.asarray((own > RANK_TOLERANCE * lengths).all(axis=1))


def _plain(triangles: Array, counts: Rows, choice: Choice) -> _Fitted:
    """All folds of free columns."""
    k, f = len(choice.places), len(triangles)
    roots = _roots(triangles, choice)
    sure = _distinct(roots, k) & (counts > k)
    beta, variance, dof = np.full((f, k), np.nan), np.full(f, np.nan), (counts - k).astype(float)
    for fold in np.flatnonzero(sure).tolist():
        beta[fold] = lapack.dtrtrs(roots[fold, :k, :k], roots[fold, :k, k])[0]
        variance[fold] = roots[fold, k, k] ** 2 / dof[fold]
    return beta, np.zeros((f, 0)), variance, dof, sure


def _shrunk(triangles: Array, counts: Rows, choice: Choice) -> _Fitted:
    """Folds of columns of which some are shrunk towards zero, as strongly as each fold's own rows say."""
    k, f, free = len(choice.places), len(triangles), choice.free
    roots, groups = _roots(triangles, choice), choice.groups[choice.order[free:]]
    sure = _distinct(roots, free) & (counts > free)
    beta, ratios = np.full((f, k), np.nan), np.full((f, len(choice.bounded)), np.nan)
    variance, dof = np.full(f, np.nan), (counts - free).astype(float)
    for fold in np.flatnonzero(sure).tolist():
        root = roots[fold]
        sizes = 2.0 * float(np.log(np.abs(np.diagonal(root)[:free])).sum())
        beside = Projected(root[free:k, free:k], root[free:k, k], float(root[k, k] ** 2), groups, sizes, free)
        ratios[fold] = learn_beside(beside, int(counts[fold]), choice.bounded).ratios
        gamma = ratios[fold][groups]
        pulls = np.column_stack([np.diag(1.0 / np.sqrt(gamma)), np.zeros(len(gamma))])
        joined = triangle(np.vstack([root[free:k, free:], pulls]))
        inner = lapack.dtrtrs(joined[:-1, :-1], joined[:-1, -1])[0]
        outer = lapack.dtrtrs(root[:free, :free], root[:free, k] - root[:free, free:k] @ inner)[0]
        beta[fold, choice.order] = np.concatenate([outer, inner])
        # What the ridge rows leave is the penalised sum of squares.
        variance[fold] = (beside.rss + float(joined[-1, -1] ** 2)) / dof[fold]
    return beta, ratios, variance, dof, sure


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
