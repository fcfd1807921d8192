"""Sums of products of rows at a few lags, from which any autoregression whitens them without going back to them.

The likelihood of an autoregression is a quadratic form in its coefficients (Box & Jenkins 1970, appendix A7.4). Missing
periods are coefficients of a pulse each, taken out by a banded matrix (Ljung 1982).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import blas, cholesky, cholesky_banded, lapack, solve_triangular

from offing.base.arrays import Array
from offing.engine.ar_filter import Phi, Times


@dataclass(frozen=True)
class Moments:
    """Sums of products of whitened rows at any coefficients with the given lags.

    `products` (pairs, k, k) belong to `pairs` of places in `lags`, of columns made orthonormal. `pulses` are the
    missing periods' own sums, if any.
    """

    lags: tuple[int, ...]
    pairs: tuple[tuple[int, int], ...]
    products: Array
    pulses: Pulses | None

    @classmethod
    def of(cls, rows: Array, root: Array, times: Times, lags: tuple[int, ...]) -> Moments:
        """Products of `rows` (n, k) of [X | y] with their triangle `root`, none dependent, at the `lags` from 0 on."""
        basis = solve_triangular(root, rows.T, trans="T", check_finite=False).T
        count = int(times[-1] - times[0]) + 1
        full = np.zeros((count, rows.shape[1]))
        full[times - times[0]] = basis
        pairs = tuple((a, b) for a in range(len(lags)) for b in range(a, len(lags)))
        products = np.empty((len(pairs), *root.shape))
        for at, (a, b) in enumerate(pairs):
            i, j = lags[a], lags[b]
            # SciPy's product, as NumPy's would wake threads of its own beside those of the triangles.
            product = blas.dgemm(1.0, full[i : count - j].T, full[j : count - i].T, trans_b=True)
            products[at] = product if a == b else product + product.T
        pulses = Pulses.of(full, times, lags) if count > len(rows) else None
        return cls(lags, pairs, products, pulses)

    def weights(self, phi: Phi) -> Array:
        """Weight of each lag in the difference that `phi` makes: 1, −φ₁ …"""
        return np.array([1.0 if lag == 0 else -phi[lag - 1] if lag <= len(phi) else 0.0 for lag in self.lags])

    def whitened(self, phi: Phi) -> tuple[Array, float]:
        """Triangle (k, k) of the orthonormal columns whitened by `phi`, and the log-determinant of missing periods.

        Raises
        ------
        LinAlgError
            Where rounding leaves no positive sums, at the edge of what is stationary.
        """
        own = self.weights(phi)
        factors = np.array([own[a] * own[b] for a, b in self.pairs])
        whole = np.einsum("p,pij->ij", factors, self.products)
        log_determinant = 0.0
        if self.pulses is not None:
            beside, more = self.pulses.taken_out(own)
            whole, log_determinant = whole - blas.dgemm(1.0, beside, beside, trans_a=True), more
        return cholesky(whole, check_finite=False), log_determinant

    def slopes(self, phi: Phi, weight: Array) -> Array:
        """Derivative by the weights of the lags of Σ `weight` (k, k) · M, with M the sums of products, and of log |A|.

        A is the matrix of the missing periods.
        """
        own = self.weights(phi)
        moved = np.einsum("pij,ij->p", self.products, weight)
        found = np.zeros(len(own))
        for (a, b), each in zip(self.pairs, moved.tolist(), strict=True):
            found[a] += own[b] * each
            found[b] += own[a] * each
        return found if self.pulses is None else found + self.pulses.slopes(own, weight)


@dataclass(frozen=True)
class Pulses:
    """Missing periods as a column each: products with the rows (lags², m, k), and among themselves by place."""

    beside: Array
    rows: NDArray[np.intp]
    columns: NDArray[np.intp]
    factors: NDArray[np.intp]
    count: int
    wide: int

    @classmethod
    def of(cls, full: Array, times: Times, lags: tuple[int, ...]) -> Pulses:
        """Of the periods between the first and the last row that have none."""
        n = len(full)
        missing = np.setdiff1d(np.arange(n), times - times[0])
        place = np.full(n, -1)
        place[missing] = np.arange(len(missing))
        beside, rows, columns, factors = [], [], [], []
        for at, (i, j) in enumerate(product(lags, lags)):
            there = missing - i + j
            valid = (missing - i >= 0) & (missing - i <= n - 1 - i - j)
            gathered = np.zeros((len(missing), full.shape[1]))
            gathered[valid] = full[there[valid]]
            beside.append(gathered)
            met = np.flatnonzero(valid)
            met = met[place[there[met]] >= 0]
            rows.append(met)
            columns.append(place[there[met]])
            factors.append(np.full(len(met), at))
        row, column = np.concatenate(rows), np.concatenate(columns)
        lower = row >= column
        row, column = row[lower], column[lower]
        return cls(
            np.array(beside),
            row,
            column,
            np.concatenate(factors)[lower],
            len(missing),
            int((row - column).max(initial=0)),
        )

    def taken_out(self, own: Array) -> tuple[Array, float]:
        """Rows (m, k) whose products the missing periods take from those of the others, and a log-determinant."""
        both = np.outer(own, own).ravel()
        lower = self._root(both)
        rows, _ = lapack.dtbtrs(lower, np.einsum("p,pij->ij", both, self.beside), uplo="L")
        return rows, float(2.0 * np.log(lower[0]).sum())

    def _root(self, both: Array) -> Array:
        bands = np.zeros((self.wide + 1, self.count))
        np.add.at(bands, (self.rows - self.columns, self.columns), both[self.factors])
        return np.asarray(cholesky_banded(bands, lower=True, check_finite=False))

    def slopes(self, own: Array, weight: Array) -> Array:
        """Derivative by the weights `own` of what `taken_out` takes from Σ `weight` (k, k) · M, and of log |A|.

        With A the pulses' own sums and B those with the rows, −B'A⁻¹B moves by −dB'W − W'dB + W'dA W, with W = A⁻¹B.
        """
        both = np.outer(own, own).ravel()
        lower = self._root(both)
        met = np.einsum("p,pij->ij", both, self.beside)
        product, _ = lapack.dtbtrs(lower, met, uplo="L")
        weights, _ = lapack.dtbtrs(lower, product, uplo="L", trans="T")
        pulled = blas.dgemm(1.0, weights, weight)
        by_pair = -2.0 * np.einsum("pij,ij->p", self.beside, pulled)
        twice = np.where(self.rows == self.columns, 1.0, 2.0)
        inner = twice * np.einsum("ik,ik->i", pulled[self.rows], weights[self.columns])
        by_pair += np.bincount(self.factors, inner, minlength=len(by_pair))
        square = by_pair.reshape(len(own), len(own))
        found = (square + square.T) @ own

        def log_determinant(each: Array) -> float:
            return float(2.0 * np.log(self._root(np.outer(each, each).ravel())[0]).sum())

        return np.asarray(found + slope_of(log_determinant, own))


def slope_of(function: Callable[[Array], float], at: Array, step: float = 1e-4) -> Array:
    """Central differences of a function."""
    moves = step * np.eye(len(at))
    return np.array([(function(at + move) - function(at - move)) / (2.0 * step) for move in moves])
