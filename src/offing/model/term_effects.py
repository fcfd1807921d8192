"""What every term adds on the scale that is fitted, less its reference, with the derivative by all coefficients."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import running
from offing.model.design import Design
from offing.model.fit_state import FitState
from offing.tables import View
from offing.terms import Block, Shaped, Term
from offing.terms.interaction import multiplied


@dataclass(frozen=True)
class Parts:
    """What the terms at `places` add to the fitted scale: `values` (n,) less their references, with derivatives (n, k).

    `level` (n,) is what they are measured from, `base` (n, k) its derivative; `past` what is carried on of what no
    term explained, with its derivative, where anything is. `ats` are the parts of the level that are the terms'
    references, with their derivatives.
    """

    places: tuple[int, ...]
    values: tuple[Array, ...]
    functions: tuple[Array, ...]
    level: Array
    base: Array
    past: tuple[Array, Array] | None
    ats: tuple[tuple[Array, Array], ...]


def split_up(fit: FitState, view: View, axis: Axis, design: Design, *, later: bool) -> Parts:
    """The parts on `axis`: the fitted periods, or `later` ones.

    With own lags φ a term's D = c − r lives on, D_t = c_t − r + Σ φ_k D_{t−k}, from zero before the first period,
    and the level is (b + Σ r) / (1 − Σ φ). Where that sum is nearly 1 there is no such level: the values before are
    the base then, and D counts in its own period, or from the origin on in a forecast.
    """
    places = tuple(i for i, term in enumerate(fit.model.terms) if not term.recursive)
    level, base = np.zeros(axis.n), np.zeros((axis.n, fit.layout.k))
    if fit.layout.constant:
        level, base[:, 0] = level + fit.estimate.beta[0], 1.0
    found, ats = [], []
    shared: dict[int, list[tuple[Array, Array]]] = {}
    for place in places:
        value, function, reference, at_reference = measured(fit, view, axis, design, place)
        level, base = level + reference, base + at_reference
        ats.append((np.broadcast_to(reference, axis.n), np.broadcast_to(at_reference, base.shape)))
        term = fit.model.terms[place]
        if term.shares:
            for at, part in _shares(fit, view, axis, place):
                shared.setdefault(at, []).append(part)
        found.append((value, function))
    for at, more in shared.items():
        own = found[places.index(at)]
        found[places.index(at)] = own[0] + sum(each[0] for each in more), own[1] + sum(each[1] for each in more)
    kept = [i for i, place in enumerate(places) if not fit.model.terms[place].shares]
    places, found = tuple(places[i] for i in kept), [found[i] for i in kept]
    held = tuple(ats[i] for i in kept)
    if not fit.own:
        past = None if fit.dynamics is None else (_noise_ahead(fit, axis, later=later), -ar_gradient(fit, axis))
        return Parts(places, *_apart(found), level, base, past, held)
    return _recursed(fit, view, axis, design, Parts(places, *_apart(found), level, base, None, held), later=later)


def _shares(fit: FitState, view: View, axis: Axis, place: int) -> list[tuple[int, tuple[Array, Array]]]:
    """What an interaction adds to each of its terms: (a − a₀)(b + b₀)/2 to the first, and so turned to the other."""
    term, slot = fit.model.terms[place], fit.layout.slots[place]
    names = [str(each.name) for each in fit.model.terms]
    a, b = (block.columns for block in term.part_blocks(view, axis, fit.states[slot.term]))
    a0, b0 = both_references(fit, view, axis, term)
    found = []
    for part, columns in zip(
        term.parts, (multiplied(a - a0, b + b0) / 2.0, multiplied(a + a0, b - b0) / 2.0), strict=True
    ):
        function = np.zeros((axis.n, fit.layout.k))
        function[:, slot.places] = columns
        found.append((names.index(str(part.name)), (columns @ fit.estimate.beta[slot.places], function)))
    return found


def _apart(found: Sequence[tuple[Array, Array]]) -> tuple[tuple[Array, ...], tuple[Array, ...]]:
    return tuple(each[0] for each in found), tuple(each[1] for each in found)


def _noise_ahead(fit: FitState, axis: Axis, *, later: bool) -> Array:
    if later:
        return fit.ar_prediction_on(axis)
    start = axis.first - fit.axis.first
    return fit.ar_prediction[start : start + axis.n]


def _recursed(fit: FitState, view: View, axis: Axis, design: Design, alone: Parts, *, later: bool) -> Parts:
    """What each term adds with all that it did before, through the target's own lags."""
    phi, slot = fit.own, next(s for s, t in zip(fit.layout.slots, fit.model.terms, strict=True) if t.recursive)
    term, own = fit.model.terms[fit.layout.slots.index(slot)], slot.places
    lags, back = term.block(view, axis, None), list(fit.own_places)

    def through(values: Array, functions: Array) -> tuple[Array, Array]:
        """Values (m,) and their derivatives (m, k), with what lives on of earlier ones."""
        sums = running(np.nan_to_num(values), phi)
        functions = np.nan_to_num(functions).copy()
        for place, lag in zip(own, back, strict=True):
            functions[lag + 1 :, place] += sums[: max(len(sums) - lag - 1, 0)]
        return sums, running(functions, phi)

    noise = _noise_ahead(fit, axis, later=later), -ar_gradient(fit, axis)
    if not fit.returns:
        level, base = alone.level + lags.columns @ fit.estimate.beta[own], alone.base.copy()
        if not later:
            base[:, own] += lags.columns
            past = None if fit.dynamics is None else noise
            return replace(alone, level=level, base=base, past=past)
        known = fit.walk_of_nothing(view, axis).past
        history = sum((phi[k] * known(axis.shifted(-k - 1)) for k in back), np.zeros(axis.n))
        level = running(history + alone.level, phi)
        on = fit.view.walked(fit.axis.first, np.concatenate([fit.transformed, level]))
        base[:, own] += np.column_stack([on.past(axis.shifted(-k - 1)) for k in back])
        parts = [through(*each) for each in zip(alone.values, alone.functions, strict=True)]
        past = None if fit.dynamics is None else through(*noise)
        ats = tuple(through(*each) for each in alone.ats)
        return Parts(alone.places, *_apart(parts), level, running(base, phi), past, ats)
    parts = []
    for i, place in enumerate(alone.places):
        value, function = alone.values[i], alone.functions[i]
        if later:
            before = measured(fit, fit.view, fit.axis, fit.rows, place, against=axis)
            value, function = np.concatenate([before[0], value]), np.vstack([before[1], function])
        moved, gradient = through(value, function)
        unknown = np.isnan(value[-axis.n :])
        parts.append((np.where(unknown, np.nan, moved[-axis.n :]), gradient[-axis.n :]))
    left = 1.0 - sum(phi)

    def settled(value: Array, function: Array) -> tuple[Array, Array]:
        """What a level (n,) comes to in the long run; where a reference moves, it moves through the lags as well."""
        moved, gradient = through(value - value[0], function - function[0])
        gradient = function[0] / left + gradient
        gradient[:, own] += value[0] / left**2
        return value[0] / left + moved, gradient

    level, base = settled(alone.level, alone.base)
    ats = tuple(settled(*each) for each in alone.ats)
    rows = design.linearised(fit.estimate.beta)
    whole, slope = rows[1] + noise[0], rows[0] + noise[1]
    if later:
        slope = running(slope, phi)
    left_over = whole - level - sum((each[0] for each in parts), np.zeros(axis.n))
    return Parts(
        alone.places,
        *_apart(parts),
        level,
        base,
        (left_over, slope - base - sum((each[1] for each in parts), np.zeros_like(base))),
        ats,
    )


def measured(
    fit: FitState, view: View, axis: Axis, design: Design, place: int, *, against: Axis | None = None
) -> tuple[Array, Array, Array | float, Array | float]:
    """A term's value less its reference (n,), its derivative (n, k), the reference and the derivative of that.

    The reference needs no value of a driver in the periods of `axis`; it is that of the periods `against`, if given.
    """
    slot, beta = fit.layout.slots[place], fit.estimate.beta
    term = fit.model.terms[place]
    part, k = design.part(place, beta), fit.layout.k
    reference = term.reference_on(view, axis if against is None else against, fit.states[slot.term])
    if against is not None and reference.columns is not None and len(reference.columns) > 1:
        reference = term.reference_on(view, axis, fit.states[slot.term])  # each period has its own
    columns, curve = reference.columns, reference.curve
    if term.parts:
        both = term.product(*_reference_blocks(fit, view, axis if against is None else against, term))
        columns, curve = both.columns, both.curve
    elif columns is None:
        columns, curve = _mean(fit, place)
    if slot.factor and not columns.any():
        return part.value, part.by_all(slot.places, k), 0.0, 0.0
    block = replace(design.blocks[place], columns=columns, curve=curve)
    if slot.factor:
        block = replace(block, columns=np.broadcast_to(columns, design.blocks[place].columns.shape))
    blocks = (*design.blocks[:place], block, *design.blocks[place + 1 :])
    n = len(block.columns) if slot.factor else len(columns)
    at = replace(design, blocks=blocks, n=n).part(place, beta)
    there = at.by_all(slot.places, k)
    if part.whole is None and at.whole is None:
        function = replace(part, own=part.own - at.own).by_all(slot.places, k)
    else:
        function = part.by_all(slot.places, k) - there
    return part.value - at.value - reference.offset, function, at.value + reference.offset, there


def reference_columns(fit: FitState, view: View, axis: Axis, place: int) -> Array:
    """The columns (1, m) that a term's contributions are measured from; of an interaction the product of both's."""
    term = fit.model.terms[place]
    if not term.parts:
        columns = term.reference_on(view, axis, fit.states[str(term.name)]).columns
        return _mean(fit, place)[0] if columns is None else columns[:1]
    return term.product(*_reference_blocks(fit, view, axis, term)).columns


def both_references(fit: FitState, view: View, axis: Axis, term: Term) -> tuple[Array, Array]:
    """The references (1, a) and (1, b) of the terms of an interaction; of a condition how often it is met."""
    first, second = _reference_blocks(fit, view, axis, term)
    return first.columns, second.columns


def _reference_blocks(fit: FitState, view: View, axis: Axis, term: Term) -> tuple[Block, Block]:
    """The same as blocks, with what their shape parameters make of them."""
    names = [str(each.name) for each in fit.model.terms]
    found = []
    for part in term.parts:
        name = str(part.name)
        place = names.index(name)
        own = fit.model.terms[place].reference_on(view, axis, fit.states[name])
        curve = own.curve if isinstance(own.curve, Shaped) else None
        if own.columns is None and isinstance(fit.rows.blocks[place].curve, Shaped):
            curve = _mean(fit, place)[1]
        columns = reference_columns(fit, view, axis, place)
        found.append(Block(columns, ("",) * columns.shape[1], curve=curve))
    first, second = found
    if term.conditional:
        met = term.part_blocks(fit.view, fit.axis, fit.states[str(term.name)])[1].columns[fit.used]
        second = Block(met.mean(axis=0, keepdims=True), ("",) * met.shape[1])
    return first, second


def _mean(fit: FitState, place: int) -> tuple[Array, Shaped | None]:
    """A term's columns (1, m) at their mean over the fitted rows; with their derivatives where these have a shape."""
    block = fit.rows.blocks[place]
    shaped = block.curve
    if not isinstance(shaped, Shaped):
        return block.columns[fit.used].mean(axis=0, keepdims=True), None

    def columns(theta: Array) -> tuple[Array, Array]:
        bent, by_shape = shaped.columns(theta)
        return bent[fit.used].mean(axis=0, keepdims=True), by_shape[fit.used].mean(axis=0, keepdims=True)

    return columns(shaped.starts[0])[0], replace(shaped, columns=columns)


def ar_gradient(fit: FitState, axis: Axis) -> Array:
    """Derivative (n, k) by the coefficients of what the terms added before, in the noise that is carried on."""
    chain = fit.estimate.chain
    if chain.independent:
        return np.zeros((axis.n, fit.layout.k))
    return chain.ar_prediction(fit.design[fit.used], axis.ordinals)
