"""Weights over the lags of a driver: curves with a few shape parameters, and the columns of linear ones.

Lag 0 is the newest. All weights of a curve add up to 1, so that what stands before them is one slope.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from scipy.linalg import null_space

from offing.base.arrays import Array

Ends = Literal["free", "zero", "far zero", "shifted"]

#: Larger numbers put all weight on one lag of any usual span.
_STEEPEST = 40.0


@dataclass(frozen=True)
class Beta:
    """Weights along a beta density over the `span`: w_j ∝ u^(a−1) (1 − u)^(b−1).

    With ``free`` ends u is the middle of each lag's share of 0 to 1; with ``zero`` ones the density ends just outside
    the span, at 0; ``shifted`` spreads a share c of the weight evenly. From a, b = 1 on (flat), there is one summit.
    """

    span: int
    ends: Ends = "free"

    @property
    def names(self) -> tuple[str, ...]:
        """The shape parameters' names."""
        return ("weights: a", "weights: b", *(("weights: even share",) if self.ends == "shifted" else ()))

    @property
    def bounds(self) -> tuple[Array, Array]:
        """Lowest and highest values (s,)."""
        least = 1.1 if self.ends == "zero" else 1.0
        even = ([0.0], [0.95]) if self.ends == "shifted" else ([], [])
        return np.array([least, least, *even[0]]), np.array([_STEEPEST, _STEEPEST, *even[1]])

    @property
    def grid(self) -> tuple[Array, tuple[int, ...]]:
        """Points (G, s) from which the search starts, and the grid's sides."""
        least = float(self.bounds[0][0])
        exponents = least + (_STEEPEST - least) * np.linspace(0.0, 1.0, 11) ** 2
        sides = (
            exponents,
            exponents,
            *((np.array([0.0, 0.25, 0.5, 0.7, 0.85, 0.95]),) if self.ends == "shifted" else ()),
        )
        return _crossed(sides)

    def weights(self, thetas: Array) -> Array:
        """Weights (S, span) at several θ (S, s)."""
        inner = self._density(thetas)
        if self.ends != "shifted":
            return np.asarray(inner)
        even = thetas[:, 2:3]
        return (1.0 - even) * inner + even / self.span

    def slopes(self, theta: Array) -> Array:
        """Derivative (span, s) of the weights at θ (s,)."""
        inner = self._density(theta[None])[0]
        moved = (inner * (self._logs - (self._logs @ inner)[:, None])).T
        if self.ends != "shifted":
            return np.asarray(moved)
        return np.column_stack([(1.0 - theta[2]) * moved, 1.0 / self.span - inner])

    @cached_property
    def _logs(self) -> Array:
        """Logarithms of u and of 1 − u (2, span)."""
        lags = np.arange(self.span, dtype=np.float64)
        u = (lags + 1.0) / (self.span + 1.0) if self.ends == "zero" else (lags + 0.5) / self.span
        return np.vstack([np.log(u), np.log1p(-u)])

    def _density(self, thetas: Array) -> Array:
        return _normalised((thetas[:, :2] - 1.0) @ self._logs)


@dataclass(frozen=True)
class Exponential:
    """Weights w_j ∝ exp(θ₁ x + θ₂ x²) with x from 0 at the newest lag to 1 at the oldest; θ₂ ≤ 0 has one summit."""

    span: int

    names = ("weights: tilt", "weights: bend")

    @property
    def bounds(self) -> tuple[Array, Array]:
        """Lowest and highest values (2,)."""
        return np.array([-2.0 * _STEEPEST, -2.0 * _STEEPEST]), np.array([2.0 * _STEEPEST, 0.0])

    @property
    def grid(self) -> tuple[Array, tuple[int, ...]]:
        """Points (G, 2) from which the search starts, and the grid's sides."""
        tilt = 2.0 * _STEEPEST * np.sign(steps := np.linspace(-1.0, 1.0, 21)) * steps**2
        bend = -2.0 * _STEEPEST * np.linspace(1.0, 0.0, 12) ** 2
        return _crossed((tilt, bend))

    def weights(self, thetas: Array) -> Array:
        """Weights (S, span) at several θ (S, 2)."""
        return _normalised(thetas @ np.vstack([self._places, np.square(self._places)]))

    def slopes(self, theta: Array) -> Array:
        """Derivative (span, 2) of the weights at θ (2,)."""
        inner, x = self.weights(theta[None])[0], self._places
        return np.column_stack([inner * (each - inner @ each) for each in (x, np.square(x))])

    @property
    def _places(self) -> Array:
        return np.arange(self.span) / max(self.span - 1.0, 1.0)


WeightCurve = Beta | Exponential


def polynomial(span: int, degree: int, ends: Ends = "free") -> Array:
    """Columns (span, q) of which the lags' coefficients are made, orthonormal: polynomials over the lags (Almon 1965).

    With ``zero`` ends they are zero just before the newest and just after the oldest lag; with ``far zero`` only there.

    Examples
    --------
    >>> from offing.engine.lag_weights import polynomial
    >>> polynomial(4, 2, "zero").ravel().round(3).tolist()      # in proportion to 4, 6, 6 and 4
    [-0.392, -0.588, -0.588, -0.392]
    """
    lags = np.arange(span, dtype=np.float64)
    factor = np.ones(span)
    if ends in ("zero", "far zero"):
        factor, degree = factor * (span - lags), degree - 1
    if ends == "zero":
        factor, degree = factor * (lags + 1.0), degree - 1
    place = 2.0 * lags / max(span - 1.0, 1.0) - 1.0
    return np.asarray(np.linalg.qr(np.vander(place, degree + 1, increasing=True) * factor[:, None])[0])


def steps(blocks: tuple[int, ...]) -> Array:
    """Columns (span, blocks): lags of a block have one coefficient."""
    return np.repeat(np.eye(len(blocks)), blocks, axis=0)


def smooth(span: int) -> tuple[Array, Array]:
    """Columns (span, 2) of straight lines, and (span, span − 2) whose coefficients are the second differences.

    Drawing the latter to zero penalises bends (Whittaker 1923; for lags Shiller 1973).
    """
    second = np.diff(np.eye(span), n=2, axis=0)
    return np.asarray(null_space(second)), np.asarray(np.linalg.pinv(second))


def _normalised(logs: Array) -> Array:
    raised = np.exp(logs - logs.max(axis=1, keepdims=True))
    return np.asarray(raised / raised.sum(axis=1, keepdims=True))


def _crossed(sides: tuple[Array, ...]) -> tuple[Array, tuple[int, ...]]:
    points = np.stack(np.meshgrid(*sides, indexing="ij"), axis=-1).reshape(-1, len(sides))
    return points, tuple(len(side) for side in sides)
