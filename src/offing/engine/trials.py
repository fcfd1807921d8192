"""Forecasts from many origins by one regression whose noise carries on, all origins and trial values at once.

These order the candidates of a draft. Sums of products are taken once, up to every origin; whatever is then tried of
the noise's dynamics or of a group's spread needs them alone. Parameters are taken from a grid, where a fit would
search for the best one, so that a trial differs from a fit in about the third digit.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.engine.threads import threads_for
from offing.engine.trial_products import Products
from offing.engine.variance_components import AWAY, Groups, kept_away

#: What is tried of the share of the noise that comes back in the next period, and then closer around the best.
_SHARES = np.array([0.0, 0.3, 0.6, 0.8, 0.92, 0.975])
#: What is tried of a group's variance over that of the noise, per squared length of its columns.
_WEAK, _STRONG, _SPREADS = -7.0, 9.0, 9
#: Fewer shares where groups are learnt as well.
_FEWER_SHARES = np.array([0.0, 0.3, 0.6, 0.85])
#: With more columns in groups than this the grid is tried in full at the first origin only: a trial's cost grows with
#: their third power, and what is learnt moves little from one origin to the next.
_MANY = 60
#: A column that has not moved is held at zero by this share of the largest sum of squares.
_STILL = 1e-9


@dataclass(frozen=True)
class Trials:
    """Forecasts from all origins.

    Attributes
    ----------
    mean, variance
        Means and variances (F, h) on the scale that is fitted.
    share
        The share (F,) of the noise that comes back.
    deviance
        Minus twice the logarithm of the restricted likelihood (F,), but for a constant.
    coefficients, errors
        Of the last origin: coefficients (k,) and their standard errors (k,).
    """

    mean: Array
    variance: Array
    share: Array
    deviance: Array
    coefficients: Array
    errors: Array


def trials(
    columns: Array,
    target: Array,
    ends: Sequence[int],
    ahead: Array,
    distance: NDArray[np.intp],
    *,
    groups: Groups,
    kept: NDArray[np.intp],
    autocorrelated: bool,
    starts: Sequence[int] | None = None,
) -> Trials:
    """Forecast from every origin.

    Parameters
    ----------
    columns, target
        Rows (n, k), a constant among the columns, and (n,); a row with NaN is not used.
    ends
        How many rows lie before each origin, rising (F,).
    ahead
        Columns (F, h, k) of the periods that are forecast.
    distance
        How many periods (F, h) these lie after the last row before the origin.
    groups, kept
        As for `learn` of `offing.engine.variance_components`: the group (k,) of each column, −1 where it is free, and
        how each group's spread is kept from zero.
    autocorrelated
        Whether the noise comes back in the next period (an autoregression of the first order).
    starts
        The first row (F,) that each origin learns from; by default all begin at the first row.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine.trials import trials
    >>> t = np.arange(40.0)
    >>> x = np.column_stack([np.ones(40), t])
    >>> found = trials(x[:38], 3.0 + 2.0 * t[:38], [36, 38], np.array([x[36:38], x[38:40]]), np.array([[1, 2]] * 2),
    ...                groups=np.array([-1, -1]), kept=np.zeros(0, dtype=int), autocorrelated=True)
    >>> found.mean.round(3).tolist()
    [[75.0, 77.0], [79.0, 81.0]]
    """
    together = np.column_stack([columns, target])
    known: NDArray[np.bool_] = np.asarray(np.isfinite(together).all(axis=1))
    with threads_for(len(together), 0), np.errstate(all="ignore"):
        first = [0] * len(ends) if starts is None else starts
        return _Trial.of(np.where(known[:, None], together, 0.0), known, first, ends, groups=groups, kept=kept).best(
            ahead, distance, autocorrelated=autocorrelated
        )


@dataclass(frozen=True)
class _Trial:
    """The regression with its columns at one size each, and what its trials share."""

    rows: Array
    known: NDArray[np.bool_]
    ends: NDArray[np.intp]
    sizes: Array
    products: Products
    groups: Groups
    kept: NDArray[np.intp]
    lengths: Array

    @classmethod
    def of(
        cls,
        rows: Array,
        known: NDArray[np.bool_],
        starts: Sequence[int],
        ends: Sequence[int],
        *,
        groups: Groups,
        kept: NDArray[np.intp],
    ) -> _Trial:
        free = np.append(groups < 0, True)
        sizes = np.where(free, np.sqrt(np.square(rows).sum(axis=0) / max(known.sum(), 1)), 1.0)
        sizes = np.where(sizes > 0.0, sizes, 1.0)
        rows = rows / sizes
        lengths = np.array([np.square(rows[:, :-1][:, groups == g]).sum(axis=0).mean() for g in range(len(kept))])
        return cls(
            rows,
            known,
            np.array(ends),
            sizes,
            Products.of(rows, known, starts, ends),
            groups,
            kept,
            np.maximum(lengths, 1e-300),
        )

    def best(self, ahead: Array, distance: NDArray[np.intp], *, autocorrelated: bool) -> Trials:
        """The forecasts at the trial values with the largest restricted likelihood."""
        grouped = len(self.kept)
        shares = np.zeros(1) if not autocorrelated else _FEWER_SHARES if grouped else _SHARES
        spreads = np.linspace(_WEAK, _STRONG, _SPREADS if grouped < 2 else _SPREADS - 2)
        axes = [spreads - np.log(length) for length in self.lengths]
        many = self._grouped.sum() > _MANY
        found = self._in_turn(shares, axes) if many else self._closer(*self._everywhere(shares, axes), shares, axes)
        share, _, deviance, root = found
        return self._forecast(share, deviance, root, ahead, distance)

    def _closer(self, share: Array, log: Array, shares: Array, axes: Sequence[Array]) -> tuple[Array, ...]:
        """Closer around the best: half the way to the next share on either side, and a third to the next spread."""
        down, up = (
            np.interp(share, shares, gaps)[:, None] / 2.0
            for gaps in (np.append(0.0, np.diff(shares)), np.append(np.diff(shares), 0.0))
        )
        steps = np.zeros(1) if len(shares) < 2 else np.array([-1.0, 0.0, 1.0] if axes else [-1.0, -0.5, 0.0, 0.5, 1.0])
        near = share[:, None] + np.where(steps < 0.0, down, up) * steps
        apart = [(axis[1] - axis[0]) / 3.0 * np.array([-1.0, 0.0, 1.0]) for axis in axes]
        return self._least(near, log[:, None, :] + _crossed(apart))

    def _everywhere(self, shares: Array, axes: Sequence[Array]) -> tuple[Array, Array]:
        """The best share (F,) and logarithms of γ (F, G) of the whole grid, at each origin by itself."""
        folds, logs = len(self.ends), _crossed(axes)
        return self._least(np.broadcast_to(shares, (folds, len(shares))), np.broadcast_to(logs, (folds, *logs.shape)))[
            :2
        ]

    def _in_turn(self, shares: Array, axes: Sequence[Array]) -> tuple[Array, ...]:
        """The same where columns are many: all of the grid at the first origin, then a step around the one before."""
        found: list[tuple[Array, ...]] = []
        for fold in range(len(self.ends)):
            one = self._at(fold)
            start = one._everywhere(shares, axes) if not found else found[-1][:2]
            found.append(one._closer(start[0], start[1], shares, axes))
        return tuple(np.concatenate(each) for each in zip(*found, strict=True))

    def _at(self, fold: int) -> _Trial:
        """One origin alone."""
        return replace(self, ends=self.ends[fold : fold + 1], products=self.products.at(fold))

    def _least(self, shares: Array, logs: Array) -> tuple[Array, Array, Array, Array]:
        """Of shares (F, P) crossed with logarithms of γ (F, Q, G), per origin the best, its deviance and triangle.

        Free columns are taken out once a share, since γ does not touch them.
        """
        folds, inner = len(self.ends), self._grouped.sum()
        every = np.arange(folds)
        best_share, best_log = shares[:, 0].copy(), logs[:, 0].copy()
        least = np.full(folds, np.inf)
        block = max(1, int(4e6 // (folds * (inner + 1) ** 2)))
        for p in range(shares.shape[1]):
            whole, constant = self._whitened(shares[:, p])
            remaining, sizes = self._beside_free(whole)
            for start in range(0, logs.shape[1], block):
                part = logs[:, start : start + block]
                value = self._deviance(remaining, part)
                at = np.argmin(np.where(np.isfinite(value), value, np.inf), axis=1)
                found = value[every, at] + constant + sizes
                better = found < least
                best_share[better], best_log[better] = shares[better, p], part[every, at][better]
                least[better] = found[better]
        whole, _ = self._whitened(best_share)
        return best_share, best_log, least, np.asarray(np.linalg.cholesky(self._weighed(whole, best_log, self.groups)))

    @cached_property
    def _grouped(self) -> NDArray[np.bool_]:
        return np.asarray(self.groups >= 0)

    def _beside_free(self, whole: Array) -> tuple[Array, Array]:
        """What free columns leave of the sums of the others and the target, and the size (F,) of their own."""
        other, free = np.append(self._grouped, True), np.append(~self._grouped, False)
        root = np.linalg.cholesky(whole[:, free][:, :, free])
        across = np.linalg.solve(root, whole[:, free][:, :, other])
        remaining = whole[:, other][:, :, other] - across.swapaxes(1, 2) @ across
        return remaining, 2.0 * np.log(np.einsum("fii->fi", root)).sum(axis=1)

    @staticmethod
    def _weighed(whole: Array, logs: Array, groups: Groups) -> Array:
        """Sums of products (…, k + 1, k + 1) with one over γ added, in place, to the diagonal of each group (…, G)."""
        diagonal = np.einsum("...ii->...i", whole)[..., :-1]
        for g in range(logs.shape[-1]):
            diagonal[..., groups == g] += np.exp(-logs[..., g])[..., None]
        return whole

    def _whitened(self, share: Array) -> tuple[Array, Array]:
        """Sums of products (F, k + 1, k + 1) at one share each (F,), and what these add to the deviance (F,)."""
        whole = self.products.whitened(share)
        diagonal = np.einsum("fii->fi", whole)
        k = len(self.groups)
        diagonal[:, :k] += _STILL * diagonal[:, :k].max(axis=1)[:, None]
        diagonal[:, k] *= 1.0 + 1e-12
        return whole, -self.products.counts[:, 1] * np.log1p(-np.square(share))

    def _deviance(self, remaining: Array, logs: Array) -> Array:
        """Minus twice the restricted log-likelihood (F, Q) at some γ, but for what free columns and shares add."""
        inner = self.groups[self._grouped]
        tried = self._weighed(np.repeat(remaining[:, None], logs.shape[1], axis=1), logs, inner)
        sizes = np.log(np.einsum("fqii->fqi", np.linalg.cholesky(tried)))
        rows = self.products.counts.sum(axis=1)
        free = len(self.groups) - len(inner)
        value = 2.0 * sizes[:, :, :-1].sum(axis=2) + (rows[:, None] - free) * 2.0 * sizes[:, :, -1]
        for g, how in enumerate(self.kept.tolist()):
            value += (self.groups == g).sum() * logs[:, :, g] + kept_away(logs[:, :, g] + self._unit(how, g), how)[0]
        return np.asarray(value)

    def _unit(self, how: int, group: int) -> float:
        """What makes γ of a group a number beside the noise's variance; see `learn`."""
        return 0.0 if how != AWAY else float(np.log(self.lengths[group]))

    def _forecast(self, share: Array, deviance: Array, root: Array, ahead: Array, distance: NDArray[np.intp]) -> Trials:
        k = len(self.groups)
        inner, aim = root[:, :k, :k], root[:, k, :k]
        beta = np.linalg.solve(inner.swapaxes(1, 2), aim[:, :, None])[:, :, 0]
        rows = self.products.counts.sum(axis=1)
        dof = np.maximum(rows - (self.groups < 0).sum(), 1.0)
        variance = np.square(root[:, k, k]) / dof
        last = np.array([int(np.flatnonzero(self.known[:end])[-1]) for end in self.ends.tolist()])
        remaining = self.rows[last, k] - np.einsum("fk,fk->f", self.rows[last, :k], beta)
        gone = distance + (self.ends - 1 - last)[:, None]
        phi = share[:, None]
        back = np.where(phi > 0.0, np.power(phi, gone), 0.0)
        scaled = ahead / self.sizes[:k]
        mean = np.einsum("fhk,fk->fh", scaled, beta) + back * remaining[:, None]
        difference = scaled - back[:, :, None] * self.rows[last, None, :k]
        scaled_rows = np.linalg.solve(inner, difference.swapaxes(1, 2))
        own = np.where(phi > 0.0, (1.0 - np.square(back)) / (1.0 - np.square(phi)), 1.0)
        spread = variance[:, None] * (own + np.square(scaled_rows).sum(axis=1))
        inverse = np.linalg.inv(inner[-1])
        errors = np.sqrt(variance[-1] * np.square(inverse).sum(axis=0))
        unit = self.sizes[k]
        return Trials(
            mean * unit,
            spread * unit * unit,
            share,
            deviance,
            beta[-1] * unit / self.sizes[:k],
            errors * unit / self.sizes[:k],
        )


def _crossed(axes: Sequence[Array]) -> Array:
    """All combinations (Q, G) of the values on some axes; a single empty one where there are none."""
    if not axes:
        return np.zeros((1, 0))
    return np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, len(axes))
