"""From a design to the estimate: what the data choose of it, the regression, and the covariance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import (
    AWAY,
    FREE,
    SHARED,
    Chain,
    Estimate,
    Menu,
    Problem,
    Solved,
    choose,
    regress,
    sandwiched,
    triangle,
)
from offing.model.design import Design, lay_out
from offing.model.option_checks import clusters_of
from offing.model.options import ModelOptions
from offing.tables import View
from offing.terms import STATED, WalkSteps


@dataclass(frozen=True)
class Sample:
    """What is fitted (m,), which of the periods of `axis` are `used` (n,) for it."""

    values: Array
    used: NDArray[np.bool_]
    axis: Axis

    @property
    def times(self) -> NDArray[np.int64]:
        """The ordinals of the periods used."""
        return self.axis.ordinals[self.used]

    def rows(self, columns: Array) -> Array:
        """The used rows of columns (n, k)."""
        return columns if len(self.values) == len(columns) else columns[self.used]


def judged(model: ModelOptions, estimate: Estimate, design: Design, sample: Sample) -> Estimate:
    """The estimate with the covariance that is asked for."""
    if model.covariance == "classical":
        return estimate
    if design.layout.groups[1]:
        raise InputError(
            f"{design.layout.groups[1][0]} are shrunk towards zero, of which {model.covariance} knows nothing",
            'Use pooling = "none" or stated knots, or covariance = "classical".',
            key="covariance",
        )
    rows, explained = (each[sample.used] for each in design.linearised(estimate.beta))
    clusters = clusters_of(model, sample.used, sample.axis)
    return sandwiched(
        estimate, rows, sample.values - explained, times=sample.times, kind=model.covariance, clusters=clusters
    )


def solve_design(model: ModelOptions, design: Design, sample: Sample) -> Solved:
    """The regression of the used rows."""
    groups, names = design.layout.groups
    times = sample.times
    worth = None if model.half_life is None else np.power(0.5, (sample.axis.ordinals[-1] - times) / model.half_life)
    constraints = design.layout.constraints
    requested: dict[str, Array] = {}
    if constraints is not None:
        requested = {key: np.array(getattr(constraints, key)) for key in ("lower", "upper", "towards", "scales")}
        if not np.isfinite([requested["lower"], requested["upper"]]).any():
            requested.pop("lower"), requested.pop("upper")
    stated = names.index(STATED) if STATED in names else -1
    problem = Problem(
        sample.values,
        sample.rows(design.linear),
        times,
        groups,
        kept_from_zero(names),
        model.dynamics,
        design.shapes(sample.used),
        stated,
        worth=worth,
        loss=model.loss,
        rising=design.layout.rising,
        **requested,
    )
    return regress(problem)


def kept_from_zero(names: Sequence[str]) -> NDArray[np.intp]:
    """How the spread of each group of coefficients is kept from zero; see `offing.engine.variance_components.learn`."""
    kinds = [FREE if name == STATED else SHARED if isinstance(name, WalkSteps) else AWAY for name in names]
    return np.array(kinds, dtype=np.intp)


def chosen_design(model: ModelOptions, design: Design, states: dict[str, Any], view: View, sample: Sample) -> Design:
    """The design with what the data choose: `states` of the terms concerned are put to what was chosen."""
    choices = [
        (term, slot, term.choice(states[slot.term]))
        for term, slot in zip(model.terms, design.layout.slots, strict=True)
    ]
    requested = [(term, slot, choice) for term, slot, choice in choices if choice is not None]
    if not requested:
        return design
    if model.loss != "squares":
        raise InputError(
            f"'{requested[0][0].name}' is chosen by a criterion of least squares, which a robust loss is not",
            "State its harmonics or knots.",
            key="loss",
        )
    menus = [
        Menu(
            tuple(tuple(slot.places[list(step)].tolist()) for step in choice.steps),
            min(choice.at_most, len(choice.steps)),
            choice.nested,
            choice.least,
            choice.apart,
        )
        for _, slot, choice in requested
    ]
    offered = {column for menu in menus for step in menu.steps for column in step}
    chain = _beside_bends(model, design, sample, menus)
    together = np.column_stack([sample.rows(design.linear), sample.values])
    whole = triangle(chain.whiten(together))
    always = [column for column in range(design.layout.linear) if column not in offered]
    kept = choose(whole, len(sample.values), always, menus)
    for (term, slot, _), steps in zip(requested, kept, strict=True):
        states[slot.term] = term.chosen(states[slot.term], steps)
    return lay_out(model.terms, view, view.rows, states)


def _beside_bends(model: ModelOptions, design: Design, sample: Sample, menus: Sequence[Menu]) -> Chain:
    """The noise's dynamics beside a trend that may bend at every place on offer: bends are no likeness of noise."""
    times = sample.times
    if not model.dynamics:
        return Chain((), times)
    groups, names = design.layout.groups
    groups, count = groups[: design.layout.linear].copy(), len(names)
    for menu in menus:
        if not menu.nested:
            groups[[column for step in menu.steps for column in step]] = count
            count += 1
    kept = np.append(kept_from_zero(names), [AWAY] * (count - len(names)))
    problem = Problem(sample.values, sample.rows(design.linear), times, groups, kept, model.dynamics)
    return regress(problem).estimate.chain
