"""Sums of products of rows up to each origin, and of rows and those before them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array


@dataclass(frozen=True)
class Products:
    """Sums of products (F, k, k) of rows of columns and target up to each origin.

    `own` of rows that follow another known row, `lagged` of these with the rows before (the latter's columns second),
    `before` of the rows before, and `first` of rows that follow none; `counts` (F, 2) shows how many rows of either
    kind there are.
    """

    own: Array
    lagged: Array
    before: Array
    first: Array
    counts: Array

    @classmethod
    def of(cls, rows: Array, known: NDArray[np.bool_], starts: Sequence[int], ends: Sequence[int]) -> Products:
        """From rows (n, k), which of them are `known` (n,), and from which to which each origin's go.

        Where all begin at the first row, each origin's sums go on from those before.
        """
        if any(starts):
            each = [cls.of(rows[a:b], known[a:b], [0], [b - a]) for a, b in zip(starts, ends, strict=True)]
            return cls(
                *(
                    np.concatenate([getattr(one, name) for one in each])
                    for name in ("own", "lagged", "before", "first", "counts")
                )
            )
        k = rows.shape[1]
        follows = np.zeros(len(rows), dtype=bool)
        follows[1:] = known[1:] & known[:-1]
        begins = known & ~follows
        sums = np.zeros((4, len(ends), k, k))
        counts = np.zeros((len(ends), 2))
        start = 0
        for fold, end in enumerate(ends):
            if fold:
                sums[:, fold], counts[fold] = sums[:, fold - 1], counts[fold - 1]
            at = start + np.flatnonzero(follows[start:end])
            here, there, alone = rows[at], rows[at - 1], rows[start:end][begins[start:end]]
            sums[0, fold] += here.T @ here
            sums[1, fold] += here.T @ there
            sums[2, fold] += there.T @ there
            sums[3, fold] += alone.T @ alone
            counts[fold] += len(at), len(alone)
            start = end
        return cls(sums[0], sums[1], sums[2], sums[3], counts)

    def at(self, fold: int) -> Products:
        """Those of one origin."""
        here = slice(fold, fold + 1)
        return Products(self.own[here], self.lagged[here], self.before[here], self.first[here], self.counts[here])

    def whitened(self, shares: Array) -> Array:
        """Sums of products (F, k, k) of rows freed of what their predecessors predict, at a share (F,) each."""
        phi = shares[:, None, None]
        crossed = self.lagged + self.lagged.swapaxes(1, 2)
        return np.asarray(self.own - phi * crossed + np.square(phi) * self.before + (1.0 - np.square(phi)) * self.first)
