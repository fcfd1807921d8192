"""Shape parameters of a design: what bends its columns, and grids of starts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array


@dataclass(frozen=True)
class Bent:
    """What shape parameters θ (s,) make of the model: the `columns` (n, v) that they change, and an `offset` (n,).

    `slopes(β)` gives the derivative (n, s) of the model by θ, from the coefficients (v,) of these columns.
    """

    columns: Array
    offset: Array
    slopes: Callable[[Array], Array]


@dataclass(frozen=True)
class Grid:
    """Points (G, m) at which the search for the shapes at `places` (m,) looks first.

    `sides` are the grid's sizes, the last shape changing fastest; points in no order are a grid of one side, where all
    of them are next to each other.
    """

    places: NDArray[np.intp]
    points: Array
    sides: tuple[int, ...] = ()

    @property
    def lines(self) -> list[Array]:
        """The values along each side."""
        wide, d = self.points.reshape(*self.sides, -1), len(self.sides)
        found: list[Array] = []
        for axis in range(d):
            along: Any = (*[0] * axis, slice(None), *[0] * (d - axis - 1), axis)
            found.append(wide[along])
        return found

    def valleys(self, sums: Array) -> NDArray[np.intp]:
        """Points whose sum (G,) is no larger than those next to them, or on an edge than those along it; best first."""
        if not self.sides:
            return np.argsort(sums, kind="stable")[:1].astype(np.intp)
        found = np.flatnonzero(self.lower(sums[None])[0])
        return found[np.argsort(sums[found], kind="stable")].astype(np.intp)

    def lower(self, sums: Array) -> NDArray[np.bool_]:
        """Which points are valleys of each of several problems, by their sums (m, G)."""
        wide = sums.reshape(-1, *self.sides)
        low = wide <= _least_around(wide, several=True)
        for axis, n in enumerate(self.sides) if len(self.sides) > 1 else ():
            for end in (0, n - 1):
                face: Any = (slice(None), *[slice(None)] * axis, end)
                low[face] |= wide[face] <= _least_around(wide[face], several=True)
        return low.reshape(sums.shape) & np.isfinite(sums)

    def bottoms(self, found: NDArray[np.intp], looked: Callable[[Array], Array]) -> tuple[Array, Array]:
        """From valleys (V,) to points (V, m) nearer to their bottoms, and how low (V,) a descent from each may come.

        Twice the places between a point and the next ones are `looked` at, of all valleys together. A descent may come
        as far below as some times what lies between the lowest and the middle one of the last of these.
        """
        lines = self.lines
        place = np.array(np.unravel_index(found, self.sides), dtype=np.float64).T
        most, rows = np.array(self.sides) - 1.0, np.arange(len(found))
        for parts in _CLOSER if len(lines) < 3 else _CLOSER[1:]:
            around = np.stack(np.meshgrid(*[parts] * len(lines), indexing="ij"), axis=-1).reshape(-1, len(lines))
            near = np.clip(place[:, None, :] + around, 0.0, most)
            points = np.stack(
                [np.interp(near[..., axis], np.arange(len(line)), line) for axis, line in enumerate(lines)], axis=-1
            )
            sums = looked(points.reshape(-1, len(lines))).reshape(len(found), -1)
            best = np.argmin(sums, axis=1)
            place, lowest_ = near[rows, best], sums[rows, best]
        return points[rows, best], lowest_ - _DEPTH * (np.median(sums, axis=1) - lowest_)


def _least_around(grid: Array, *, several: bool = False) -> Array:
    """The least value of each point of a grid, or of `several`, and those next to it, corners too."""
    least = grid.copy()
    for axis in range(1 if several else 0, grid.ndim):
        along, before = np.moveaxis(least, axis, 0), np.moveaxis(least.copy(), axis, 0)
        np.minimum(along[1:], before[:-1], out=along[1:])
        np.minimum(along[:-1], before[1:], out=along[:-1])
    return least


@dataclass(frozen=True)
class Shapes:
    """Shape parameters: where the search for them looks first, their bounds (s,), and what they make of the model.

    `varying` (v,) are the places of the columns that they change; `many` gives these (S, n, v) and the offsets (S, n)
    at several θ (S, s). `linear` (s,) marks those that enter as factors, such as the effects of a season that grows
    with the trend: they can be shrunk towards zero as coefficients can.
    """

    grids: tuple[Grid, ...]
    lower: Array
    upper: Array
    bend: Callable[[Array], Bent]
    many: Callable[[Array], tuple[Array, Array]]
    linear: NDArray[np.bool_]
    varying: NDArray[np.intp]

    @property
    def first(self) -> Array:
        """The first point of every grid (s,)."""
        theta = np.zeros(len(self.lower))
        for grid in self.grids:
            theta[grid.places] = grid.points[0]
        return np.clip(theta, self.lower, self.upper)


#: Parts of the way from a point of a grid to the next ones, at first and then nearer.
_CLOSER = ((-0.6, -0.3, 0.0, 0.3, 0.6), (-0.2, 0.0, 0.2))


#: How much deeper a valley may be than its rim is above its bottom.
_DEPTH = 2.0
