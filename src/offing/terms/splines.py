"""A smooth curve of a driver: cubic B-splines whose bends are shrunk towards zero, straight beyond the range seen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.engine.expressions import Constant, Expression, Extreme
from offing.terms.term import Block, Readout

Bend = Literal["smooth", "rising", "falling"]

#: Equal pieces of the range seen, fewer where there are few different values.
_PIECES = 12
#: Fewer different values are categories; a cubic through them bends between them as it likes.
_LEAST_VALUES = 8


@dataclass(frozen=True)
class Smooth:
    """The curve between `low` and `high` in equal `pieces`; `rising` or `falling` throughout, or free.

    Its columns are the straight line, and the bends: those of a B-spline basis whose coefficients' second differences
    are independent (Eilers & Marx 1996, as a mixed model: Currie & Durbán 2002), so that drawing them to zero makes the
    curve straighter. `spans` (q, m) turns basis values into columns.
    """

    low: float
    high: float
    pieces: int
    bend: Bend

    @classmethod
    def over(cls, values: Array, bend: Bend, column: str) -> Smooth:
        """The curve over the range of known values.

        Raises
        ------
        InputError
            For too few different values.
        """
        different = len(np.unique(values))
        if different < _LEAST_VALUES:
            raise InputError(
                f"it has only {different} different values in the fitted periods, too few for a curve",
                f"It needs {_LEAST_VALUES}; leave out curve.",
                column=column,
                key="curve",
            )
        return cls(float(values.min()), float(values.max()), min(_PIECES, different // 2), bend)

    @property
    def spans(self) -> Array:
        """What turns the basis (n, q) into the columns (n, q − 1): a line of slope 1, and the bends."""
        q = self.pieces + 3
        second = np.diff(np.eye(q), n=2, axis=0)
        line = self._step * (np.arange(q) - 1.0)
        return np.column_stack([line, second.T @ np.linalg.inv(second @ second.T)])

    @property
    def _step(self) -> float:
        return (self.high - self.low) / self.pieces

    def columns(self, values: Array) -> Array:
        """Columns (n, m), NaN where a value is unknown."""
        inside = np.clip(np.nan_to_num(values, nan=self.low), self.low, self.high)
        basis, slope = self._basis(inside)
        # Beyond what was seen it goes straight on.
        basis = basis + (np.nan_to_num(values, nan=self.low) - inside)[:, None] * slope
        found = basis @ self.spans
        found[:, 0] += self.low
        found[np.isnan(values)] = np.nan
        return np.asarray(found)

    def formula(self, x: Expression, beta: Array) -> Expression:
        """The curve at its coefficients: a cubic, what each knot adds to it, and the straight lines beyond the ends."""
        q = self.spans @ beta + self.low * beta[0]
        a, b, c, d = q[:-3], q[1:-2], q[2:-1], q[3:]
        cubes = (d - 3.0 * c + 3.0 * b - a) / 6.0
        u = Extreme(False, Extreme(True, (x - self.low) / self._step, Constant(0.0)), Constant(float(self.pieces)))
        curve: Expression = float(a[0] + 4.0 * b[0] + c[0]) / 6.0 + 0.5 * float(c[0] - a[0]) * u
        curve = curve + 0.5 * float(a[0] - 2.0 * b[0] + c[0]) * u**2.0 + float(cubes[0]) * u**3.0
        for knot, change in enumerate(np.diff(cubes).tolist(), 1):
            curve = curve + change * Extreme(True, u - float(knot), Constant(0.0)) ** 3.0
        slopes = self._basis(np.array([self.low, self.high]))[1] @ q
        low, high = float(slopes[0]), float(slopes[1])
        below = Extreme(False, x - self.low, Constant(0.0))
        return curve + low * below + high * Extreme(True, x - self.high, Constant(0.0))

    def said(self, beta: Array) -> str:
        """The curve at its coefficients, as the B-splines' own."""
        own = ", ".join(f"{value:.12g}" for value in (self.spans @ beta + self.low * beta[0]).tolist())
        return (
            f"uniform cubic B-splines on {self.pieces} pieces from {self.low:.12g} to {self.high:.12g} with the "
            f"coefficients {own}; beyond that along the straight lines at the ends"
        )

    def rises(self) -> Array | None:
        """Rows A (m + 1, m) with A β ≥ 0 where the curve rises (falls) everywhere: its coefficients do so in turn."""
        if self.bend == "smooth":
            return None
        sign = 1.0 if self.bend == "rising" else -1.0
        return sign * np.diff(self.spans, axis=0)

    def _basis(self, values: Array) -> tuple[Array, Array]:
        """Uniform cubic B-splines (n, q) and their derivatives (n, q) (de Boor 1978)."""
        place = np.clip((values - self.low) / self._step, 0.0, self.pieces)
        piece = np.minimum(place.astype(np.intp), self.pieces - 1)
        u = place - piece
        parts = ((1 - u) ** 3, 3 * u**3 - 6 * u**2 + 4, -3 * u**3 + 3 * u**2 + 3 * u + 1, u**3)
        slopes = (-3 * (1 - u) ** 2, 9 * u**2 - 12 * u, -9 * u**2 + 6 * u + 3, 3 * u**2)
        basis, slope = np.zeros((len(values), self.pieces + 3)), np.zeros((len(values), self.pieces + 3))
        rows = np.arange(len(values))
        for k in range(4):
            basis[rows, piece + k], slope[rows, piece + k] = parts[k] / 6.0, slopes[k] / 6.0 / self._step
        return basis, slope

    def points(self, values: Array) -> Array:
        """Five usual values (5,) at which the curve is reported."""
        return np.asarray(np.quantile(values, [0.1, 0.25, 0.5, 0.75, 0.9]))


def curve_block(smooth: Smooth, stem: str, values: Array, seen: Callable[[], Array]) -> Block:
    """The block of a curve at `values` (n,); five points of it stand for its coefficients, against its middle."""
    columns = smooth.columns(values)
    m = columns.shape[1]
    known = seen()
    points = smooth.points(known[np.isfinite(known)])
    noted = smooth.columns(points)
    names = tuple(f"{stem}: at {point:.4g} against {points[2]:.4g}" for i, point in enumerate(points) if i != 2)
    groups = ("", *(f"{stem}: bends",) * (m - 1))
    return Block(
        columns,
        (f"{stem}: slope", *(f"{stem}: bend {i}" for i in range(1, m))),
        Readout(names, np.delete(noted, 2, axis=0) - noted[2]),
        groups,
        rising=smooth.rises(),
    )


def lagged_block(columns: Array, names: tuple[str, ...], stem: str, degree: int) -> Block:
    """The block of many lags (n, L) whose effects lie on a polynomial; the effects themselves are reported."""
    curve = lag_curve(len(names), degree)
    with np.errstate(invalid="ignore"):
        return Block(columns @ curve, tuple(f"{stem}, lag curve {i}" for i in range(degree + 1)), Readout(names, curve))


def lag_curve(count: int, degree: int) -> Array:
    """Orthonormal polynomials (L, degree + 1) over the lags: their effects lie on such a curve (Almon 1965)."""
    place = np.linspace(-1.0, 1.0, count)
    return np.asarray(np.linalg.qr(np.vander(place, degree + 1, increasing=True))[0])
