"""Which columns of the design are whose, and what they add up to at given coefficients."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import Bent, Grid, Shapes
from offing.model.layout import Layout, Slot
from offing.tables import View
from offing.terms import Block, Constraints, Curve, Readout, Shaped, Term, naming_term


@dataclass(frozen=True)
class Part:
    """What a term adds: `value` (n,) and its derivative `own` (n, m) by its own coefficients.

    `whole` (n, k) is the derivative by all coefficients, where it is not by its own alone.
    """

    value: Array
    own: Array
    whole: Array | None = None

    def by_all(self, places: NDArray[np.intp], k: int) -> Array:
        """Its derivative (n, k) by all coefficients, its own ones standing at `places`."""
        if self.whole is not None:
            return self.whole
        found = np.zeros((len(self.own), k))
        found[:, places] = self.own
        return found


@dataclass(frozen=True)
class Design:
    """The blocks of all terms for some periods."""

    layout: Layout
    blocks: tuple[Block, ...]
    n: int
    centres: Array | None = None

    @cached_property
    def linear(self) -> Array:
        """Columns (n, linear) that the solver takes as linear, the constant first."""
        columns = np.empty((self.n, self.layout.linear), order="F")
        columns[:, 0] = 1.0 if self.layout.constant else 0.0
        for slot, block in zip(self.layout.slots, self.blocks, strict=True):
            if not slot.factor:
                columns[:, slot.places[: len(slot.places) - slot.curved]] = block.columns
        return columns

    @property
    def known(self) -> NDArray[np.bool_]:
        """Periods (n,) in which every column is known."""
        known = np.isfinite(self.linear.sum(axis=1))
        for slot, block in zip(self.layout.slots, self.blocks, strict=True):
            if slot.factor:
                known &= np.isfinite(block.columns.sum(axis=1))
            if isinstance(block.curve, Curve):
                known &= np.isfinite(block.curve.value(block.curve.starts[0])[0])
        return np.asarray(known)

    def part(self, place: int, beta: Array) -> Part:
        """What the `place`-th term adds at the coefficients."""
        slot, block = self.layout.slots[place], self.blocks[place]
        if not slot.factor:
            return _plain(slot, block, beta)
        share, level = block.columns @ beta[slot.places], self._level(beta)
        whole = share[:, None] * level.own
        whole[:, slot.places] += level.value[:, None] * block.columns
        return Part(level.value * share, level.value[:, None] * block.columns, whole)

    def level(self, beta: Array) -> Array:
        """The level (n,), which factors multiply: constant, trends, and drivers at their mean."""
        return self._level(beta).value

    def means(self, used: NDArray[np.bool_]) -> Array | None:
        """Means (linear,) over the rows `used` of the columns that are measured from there, 0 of others.

        Where no term is a factor they are not needed, and there are none.
        """
        if not self._factors:
            return None
        means = np.zeros(self.layout.linear)
        for slot, block in zip(self.layout.slots, self.blocks, strict=True):
            if slot.centred:
                means[slot.places] = block.columns[used].mean(axis=0)
        return means

    @cached_property
    def _levels(self) -> Array:
        """Columns (n, linear) of the level that factors multiply: constant, trends, and drivers at their mean."""
        columns = np.zeros((self.n, self.layout.linear))
        columns[:, 0] = 1.0 if self.layout.constant else 0.0
        for slot, block in zip(self.layout.slots, self.blocks, strict=True):
            if slot.level:
                columns[:, slot.places[: len(slot.places) - slot.curved]] = block.columns
        return columns if self.centres is None else columns + self.centres

    def _level(self, beta: Array) -> Part:
        """The level, and its derivative by all coefficients (n, k)."""
        value = self._levels @ beta[: self.layout.linear]
        whole = np.zeros((self.n, self.layout.k))
        whole[:, : self.layout.linear] = self._levels
        for slot, block in zip(self.layout.slots, self.blocks, strict=True):
            if slot.level and isinstance(block.curve, Curve):
                own = slot.places[len(slot.places) - slot.curved :]
                bent, whole[:, own] = block.curve.value(beta[own])
                value = value + bent
        return Part(value, whole)

    def linearised(self, beta: Array) -> tuple[Array, Array]:
        """Derivative (n, k) of the whole at the coefficients, and its value (n,) there."""
        if self.layout.plain:
            return self.linear, self.linear @ beta
        matrix = np.zeros((self.n, self.layout.k))
        matrix[:, 0] = 1.0 if self.layout.constant else 0.0
        value = matrix[:, 0] * beta[0]
        for place, slot in enumerate(self.layout.slots):
            part = self.part(place, beta)
            value = value + part.value
            if part.whole is None:
                matrix[:, slot.places] += part.own
            else:
                matrix += part.whole
        return matrix, value

    def shapes(self, rows: NDArray[np.bool_]) -> Shapes | None:
        """The shape parameters, as the solver takes them, over some of the periods."""
        if self.layout.plain:
            return None
        k, total = self.layout.linear, self.layout.k
        pieces = self._pieces()
        varying = self._varying
        used = slice(None) if rows.all() else rows
        fixed = self.linear[used][:, varying]
        levels = self._levels[used][:, varying] if self._factors else np.zeros((len(fixed), 0))

        def bend(theta: Array) -> Bent:
            beta = np.concatenate([np.zeros(k), theta])
            factors = np.ones(len(fixed))
            curves = np.zeros((len(fixed), total - k))
            offset = np.zeros(len(fixed))
            columns = fixed.copy()
            shaped = []
            for slot, block in zip(self.layout.slots, self.blocks, strict=True):
                own = slot.places[len(slot.places) - slot.curved :]
                if slot.factor:
                    factors = factors + block.columns[used] @ beta[slot.places]
                elif isinstance(block.curve, Shaped):
                    at = np.searchsorted(varying, slot.places[: len(slot.places) - slot.curved])
                    bent, by_shape = block.curve.columns(beta[own])
                    columns[:, at] = bent[used]
                    shaped.append((at, own - k, by_shape[used]))
                elif block.curve is not None:
                    value, slopes = block.curve.value(beta[own])
                    offset, curves[:, own - k] = offset + value[used], slopes[used]
            if self._factors:
                columns += (factors - 1.0)[:, None] * levels
            base = offset

            def slope(inner: Array) -> Array:
                found = curves * factors[:, None]
                level = base + levels @ inner if self._factors else base
                for slot in self._factors:
                    block = self.blocks[self.layout.slots.index(slot)]
                    found[:, slot.places - k] = level[:, None] * block.columns[used]
                for at, own, by_shape in shaped:
                    found[:, own] += np.einsum("nms,m->ns", by_shape, inner[at])
                return np.asarray(found)

            return Bent(columns, offset * factors, slope)

        def many(thetas: Array) -> tuple[Array, Array]:
            if any(
                not isinstance(block.curve, Shaped | None) or slot.factor
                for slot, block in zip(self.layout.slots, self.blocks, strict=True)
            ):
                bents = [bend(theta) for theta in thetas]
                return np.array([bent.columns for bent in bents]), np.array([bent.offset for bent in bents])
            columns = np.repeat(fixed[None], len(thetas), axis=0)
            for slot, block in zip(self.layout.slots, self.blocks, strict=True):
                if isinstance(block.curve, Shaped):
                    own = slot.places[len(slot.places) - slot.curved :]
                    at = np.searchsorted(varying, slot.places[: len(slot.places) - slot.curved])
                    columns[:, :, at] = block.curve.at_many(thetas[:, own - k])[:, used]
            return columns, np.zeros(columns.shape[:2])

        lower, upper, flags = (np.concatenate([each[i] for each in pieces]) for i in (1, 2, 3))
        return Shapes(tuple(each[0] for each in pieces), lower, upper, bend, many, flags.astype(bool), varying)

    @property
    def _factors(self) -> tuple[Slot, ...]:
        """The slots that multiply the trend."""
        return tuple(slot for slot in self.layout.slots if slot.factor)

    @cached_property
    def _varying(self) -> NDArray[np.intp]:
        """Places of the linear columns that shape parameters change."""
        own = [
            slot.places[: len(slot.places) - slot.curved]
            for slot, block in zip(self.layout.slots, self.blocks, strict=True)
            if isinstance(block.curve, Shaped)
        ]
        levels = np.flatnonzero(self._levels.any(axis=0)) if self._factors else np.zeros(0, dtype=np.intp)
        return np.unique(np.concatenate([*own, levels])).astype(np.intp)

    @property
    def bounds(self) -> tuple[Array, Array]:
        """Bounds (k,) of the coefficients, as declared."""
        constraints = self.layout.constraints or Constraints.none(self.layout.k)
        lower, upper = np.array(constraints.lower), np.array(constraints.upper)
        for slot, block in zip(self.layout.slots, self.blocks, strict=True):
            if block.curve is not None:
                own = slot.places[len(slot.places) - slot.curved :]
                lower[own], upper[own] = block.curve.lower, block.curve.upper
        return lower, upper

    def _pieces(self) -> list[tuple[Grid, Array, Array, NDArray[np.bool_]]]:
        """Grids, bounds and whether they are linear to people, of the shape parameters in their order."""
        found, k = [], self.layout.linear
        for slot, block in zip(self.layout.slots, self.blocks, strict=True):
            if slot.factor:
                m = len(slot.places)
                wide = np.full(m, np.inf)
                found.append((Grid(slot.places - k, np.zeros((1, m))), -wide, wide, np.ones(m, dtype=bool)))
            elif block.curve is not None and not slot.borrowed:
                curve = block.curve
                grid = Grid(slot.places[len(slot.places) - slot.curved :] - k, curve.starts, curve.sides)
                found.append((grid, curve.lower, curve.upper, np.zeros(slot.curved, dtype=bool)))
        return found


def _plain(slot: Slot, block: Block, beta: Array) -> Part:
    """What a term adds that is no factor."""
    linear = slot.places[: len(slot.places) - slot.curved]
    if isinstance(block.curve, Shaped):
        columns, by_shape = block.curve.columns(beta[slot.places[len(linear) :]])
        own = np.column_stack([columns, np.einsum("nms,m->ns", by_shape, beta[linear])])
        return Part(columns @ beta[linear], own)
    value, own = block.columns @ beta[linear], block.columns
    if block.curve is not None:
        bent, slopes = block.curve.value(beta[slot.places[len(linear) :]])
        value, own = value + bent, np.column_stack([own, slopes])
    return Part(value, own)


def lay_out(
    terms: Sequence[Term], view: View, axis: Axis, states: Mapping[str, Any], centres: Array | None = None
) -> Design:
    """The design for the periods of `axis`, with what the fit learnt of the terms and of their `centres`."""
    blocks = []
    for term in terms:
        with naming_term(term):
            blocks.append(term.block(view, axis, states[str(term.name)]))
    return Design(_layout(terms, blocks), tuple(blocks), axis.n, centres)


def _layout(terms: Sequence[Term], blocks: Sequence[Block]) -> Layout:
    borrowing = [bool(term.borrows) and block.curve is not None for term, block in zip(terms, blocks, strict=True)]
    linear = 1 + sum(len(block.names) for term, block in zip(terms, blocks, strict=True) if not term.multiplies_trend)
    slots: list[Slot] = []
    at, shape = 1, linear
    lent: dict[str, NDArray[np.intp]] = {}
    for term, block, borrows in zip(terms, blocks, borrowing, strict=True):
        if not borrows:
            curved = 0 if block.curve is None else len(block.curve.names)
            curved = len(block.names) if term.multiplies_trend else curved
            lent[str(term.name)], shape = np.arange(shape, shape + curved), shape + curved
    shape = linear
    for term, block, borrows in zip(terms, blocks, borrowing, strict=True):
        m, curved = len(block.names), 0 if block.curve is None else len(block.curve.names)
        if term.multiplies_trend:
            places, shape = np.arange(shape, shape + m), shape + m
        else:
            shaped = (
                np.concatenate([lent[name] for name in term.borrows]) if borrows else np.arange(shape, shape + curved)
            )
            places = np.concatenate([np.arange(at, at + m), shaped])
            at, shape = at + m, shape + (0 if borrows else curved)
        names = block.names if block.curve is None else (*block.names, *block.curve.names)
        readout = block.readout or Readout(block.names, np.eye(m))
        if block.curve is not None:
            own = getattr(block.curve, "readout", None) or Readout(block.curve.names, np.eye(curved))
            more = 0 if borrows else curved
            wide = np.zeros((len(readout.names) + more, m + curved))
            wide[: len(readout.names), :m], wide[len(readout.names) :, m:] = readout.matrix, own.matrix[:more]
            readout = Readout((*readout.names, *own.names[:more]), wide, readout.base)
        groups = (*block.shrinkage_groups, *[""] * curved)
        slots.append(
            Slot(
                str(term.name),
                places.astype(np.intp),
                names,
                readout,
                groups,
                curved,
                factor=term.multiplies_trend,
                level=term.states_level,
                centred=term.centred,
                constraints=block.constraints,
                rising=block.rising,
                borrowed=borrows,
            )
        )
    return Layout(tuple(slots), linear, not any(term.holds_level for term in terms))
