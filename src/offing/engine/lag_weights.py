"""Weights over the lags of a driver: curves with a few shape parameters, and the columns of linear ones.

Lag 0 is the newest. All weights of a curve add up to 1, so that what stands before them is one slope.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
from scipy.linalg import null_space

from offing.base.arrays import Array

#: Where a curve of weights is zero just outside its span: before the newest lag, beyond the oldest one, or both.
Pinned = Literal["none", "start", "end", "both"]

#: Larger numbers put all weight on one lag of any usual span.
_STEEPEST = 40.0
#: A density with a smaller exponent than this, less 1, falls to zero so steeply that it is hardly pinned.
_PINNED = 1.1
_SHARES = np.array([0.0, 0.25, 0.5, 0.7, 0.85, 0.95])


@dataclass(frozen=True)
class _Curve(ABC):
    """Weights over `span` lags by some shape parameters; with an `even_share` one more spreads a share evenly."""

    span: int
    pinned: Pinned = "none"
    even_share: bool = False

    @property
    def names(self) -> tuple[str, ...]:
        """The shape parameters' names."""
        return (*self._names, *(("weights: even share",) if self.even_share else ()))

    @property
    def bounds(self) -> tuple[Array, Array]:
        """Lowest and highest values (s,)."""
        lower, upper = self._bounds
        return (np.append(lower, 0.0), np.append(upper, _SHARES[-1])) if self.even_share else (lower, upper)

    @property
    def grid(self) -> tuple[Array, tuple[int, ...]]:
        """Points (G, s) from which the search starts, and the grid's sides."""
        return _crossed((*self._sides, *((_SHARES,) if self.even_share else ())))

    def weights(self, thetas: Array) -> Array:
        """Weights (S, span) at several θ (S, s)."""
        inner = _normalised(thetas[:, : len(self._names)] @ self._logs + self._factor)
        if not self.even_share:
            return inner
        even = thetas[:, -1:]
        return np.asarray((1.0 - even) * inner + even / self.span)

    def slopes(self, theta: Array) -> Array:
        """Derivative (span, s) of the weights at θ (s,)."""
        inner = _normalised(theta[None, : len(self._names)] @ self._logs + self._factor)[0]
        moved = (inner * (self._logs - (self._logs @ inner)[:, None])).T
        if not self.even_share:
            return np.asarray(moved)
        return np.column_stack([(1.0 - theta[-1]) * moved, 1.0 / self.span - inner])

    @property
    @abstractmethod
    def _names(self) -> tuple[str, ...]: ...

    @property
    @abstractmethod
    def _bounds(self) -> tuple[Array, Array]: ...

    @property
    @abstractmethod
    def _sides(self) -> tuple[Array, ...]: ...

    @property
    @abstractmethod
    def _logs(self) -> Array:
        """What each parameter multiplies (s, span) in the logarithm of the weights."""

    @property
    @abstractmethod
    def _factor(self) -> Array:
        """The part of that logarithm (span,) that no parameter moves."""


@dataclass(frozen=True)
class Beta(_Curve):
    """Weights along a beta density over the span: w_j ∝ u^(a−1) (1 − u)^(b−1).

    u is the middle of each lag's share of 0 to 1; where the curve is `pinned`, 0 or 1 lies a whole lag outside the span
    instead of half of one. From a, b = 1 on (flat), there is one summit.
    """

    @property
    def _names(self) -> tuple[str, ...]:
        return "weights: a", "weights: b"

    @property
    def _bounds(self) -> tuple[Array, Array]:
        least = [_PINNED if self.pinned in (side, "both") else 1.0 for side in ("start", "end")]
        return np.array(least), np.full(2, _STEEPEST)

    @property
    def _sides(self) -> tuple[Array, ...]:
        squares = np.linspace(0.0, 1.0, 11) ** 2
        return tuple(least + (_STEEPEST - least) * squares for least in self._bounds[0].tolist())

    @cached_property
    def _logs(self) -> Array:
        before, after = (1.0 if self.pinned in (side, "both") else 0.5 for side in ("start", "end"))
        u = (np.arange(self.span) + before) / (self.span - 1.0 + before + after)
        return np.vstack([np.log(u), np.log1p(-u)])

    @cached_property
    def _factor(self) -> Array:
        return np.asarray(-self._logs.sum(axis=0))


@dataclass(frozen=True)
class Exponential(_Curve):
    """Weights w_j ∝ exp(θ₁ x + θ₂ x²) with x from 0 at the newest lag to 1 at the oldest; θ₂ ≤ 0 has one summit.

    Where the curve is `pinned`, they are multiplied by the distance to the lag just outside the span.
    """

    @property
    def _names(self) -> tuple[str, ...]:
        return "weights: tilt", "weights: bend"

    @property
    def _bounds(self) -> tuple[Array, Array]:
        return np.array([-2.0 * _STEEPEST, -2.0 * _STEEPEST]), np.array([2.0 * _STEEPEST, 0.0])

    @property
    def _sides(self) -> tuple[Array, ...]:
        steps = np.linspace(-1.0, 1.0, 21)
        return 2.0 * _STEEPEST * np.sign(steps) * steps**2, -2.0 * _STEEPEST * np.linspace(1.0, 0.0, 12) ** 2

    @cached_property
    def _logs(self) -> Array:
        places = np.arange(self.span) / max(self.span - 1.0, 1.0)
        return np.vstack([places, np.square(places)])

    @cached_property
    def _factor(self) -> Array:
        return np.asarray(np.log(_distances(self.span, self.pinned)))


WeightCurve = Beta | Exponential


def polynomial(span: int, degree: int, pinned: Pinned = "none") -> Array:
    """Columns (span, q) of which the lags' coefficients are made, orthonormal: polynomials over the lags (Almon 1965).

    Where they are `pinned`, they are zero just before the newest lag (``start``), just after the oldest (``end``), or
    at both.

    Examples
    --------
    >>> from offing.engine.lag_weights import polynomial
    >>> polynomial(4, 2, "both").ravel().round(3).tolist()      # in proportion to 4, 6, 6 and 4
    [-0.392, -0.588, -0.588, -0.392]
    """
    degree -= pins(pinned)
    place = 2.0 * np.arange(span) / max(span - 1.0, 1.0) - 1.0
    powers = np.vander(place, degree + 1, increasing=True)
    return np.asarray(np.linalg.qr(powers * _distances(span, pinned)[:, None])[0])


def pins(pinned: Pinned) -> int:
    """How many ends are pinned."""
    return {"none": 0, "start": 1, "end": 1, "both": 2}[pinned]


def _distances(span: int, pinned: Pinned) -> Array:
    """A factor (span,) that falls to zero in a line at each pinned end."""
    lags = np.arange(span, dtype=np.float64)
    before = lags + 1.0 if pinned in ("start", "both") else 1.0
    return np.ones(span) * before * (span - lags if pinned in ("end", "both") else 1.0)


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
