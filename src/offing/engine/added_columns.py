"""In-sample evidence for further columns beside a regression under noise that carries on: what to try first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.engine.qr import orthonormal
from offing.engine.threads import threads_for

#: What a column keeps of its length beside the base, to say anything of its own.
_OWN = 1e-3


@dataclass(frozen=True)
class Base:
    """A regression's columns and target, freed of what their predecessors predict, with the columns taken out.

    `rows` are those that are known; `basis` (m, k) spans the columns and `residual` (m,) the target's residual.
    """

    rows: NDArray[np.intp]
    first: NDArray[np.bool_]
    share: float
    basis: Array
    residual: Array

    @classmethod
    def of(cls, columns: Array, target: Array, share: float) -> Base:
        """From columns (n, k) and a target (n,), NaN where unknown, and the share of the noise that comes back."""
        known = np.isfinite(columns).all(axis=1) & np.isfinite(target)
        rows = np.flatnonzero(known)
        first = np.ones(len(rows), dtype=bool)
        first[1:] = np.diff(rows) > 1
        plain = cls(rows, first, share, np.zeros((len(rows), 0)), np.zeros(len(rows)))
        white, aim = plain.whitened(columns), plain.whitened(target[:, None])[:, 0]
        sizes = np.linalg.norm(white, axis=0)
        white = white[:, sizes > 0.0] / sizes[sizes > 0.0]
        with threads_for(*white.shape):
            basis, root = orthonormal(white) if len(white) > white.shape[1] else (white[:, :0], np.zeros((0, 0)))
        basis = basis[:, np.abs(np.diagonal(root)) > 1e-8]
        return cls(rows, first, share, basis, aim - basis @ (basis.T @ aim))

    def whitened(self, columns: Array) -> Array:
        """The known rows (m, k) of columns (n, k), freed of what their predecessors predict."""
        known = np.isfinite(columns)
        if not known.all():  # what is unknown says nothing beside the constant
            means = np.where(known, columns, 0.0).sum(axis=0) / np.maximum(known.sum(axis=0), 1)
            columns = np.where(known, columns, means)
        here = columns[self.rows]
        before = columns[np.maximum(self.rows - 1, 0)]
        alone = np.sqrt(1.0 - self.share**2) * here
        return np.where(self.first[:, None], alone, here - self.share * before)

    @property
    def dof(self) -> int:
        """Degrees of freedom that are left."""
        return max(len(self.rows) - int(self.basis.shape[1]), 1)

    def gain(self, columns: Array) -> float:
        """By how much the logarithm of the likelihood grows with some further columns (n, m), twice.

        N ln(rss / rss with them), the likelihood ratio of a regression.
        """
        white = self.whitened(columns)
        residual = white - self.basis @ (self.basis.T @ white)
        sizes = np.linalg.norm(residual, axis=0)
        own = sizes > _OWN * np.maximum(np.linalg.norm(white, axis=0), 1e-300)
        if not own.any():
            return 0.0
        spanning, root = orthonormal(residual[:, own] / sizes[own])
        spanning = spanning[:, np.abs(np.diagonal(root)) > _OWN]
        rss = float(self.residual @ self.residual)
        taken = float(np.square(spanning.T @ self.residual).sum())
        return float(len(self.rows) * np.log(rss / max(rss - taken, 1e-12 * max(rss, 1e-300))))

    def t(self, columns: Array) -> Array:
        """T (m,) of each of some columns (n, m) by itself; 0 where the base contains it."""
        white = self.whitened(columns)
        residual = white - self.basis @ (self.basis.T @ white)
        lengths = np.square(residual).sum(axis=0)
        own = lengths > np.square(_OWN) * np.square(white).sum(axis=0)
        lengths = np.where(own, lengths, np.inf)
        effect = residual.T @ self.residual
        rss = float(self.residual @ self.residual) - np.square(effect) / lengths
        spread = np.sqrt(np.maximum(rss, 1e-300) / max(self.dof - 1, 1))
        return np.asarray(effect / np.sqrt(lengths) / spread)
