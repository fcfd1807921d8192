"""The columns among which a screening chooses, laid out once for all folds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd

from offing.base import InputError, Keywords
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import running, triangle
from offing.engine.subset_selection import beside, coefficients, forward, least_angle, subsets
from offing.model.design import Design, lay_out
from offing.model.fitted import Fitted
from offing.tables import View
from offing.terms import Driver


@dataclass(frozen=True)
class SelectionOptions(Keywords):
    """Candidate drivers, and how some of them are selected: see `offing.screen`."""

    candidates: Sequence[Driver]
    method: Method = "forward"
    mix: float = 1.0
    most: int = 10
    origins: int = 8


@dataclass(frozen=True)
class ScreeningProblem:
    """Columns of the base (n, b) and of all candidates (n, m) beside the target (n,), and the usable rows.

    `steps` are the columns of each candidate, `own` those of the target's own lags, by lag.
    """

    columns: Array
    always: tuple[int, ...]
    steps: tuple[tuple[int, ...], ...]
    target: Array
    rows: np.ndarray
    method: Method
    mix: float
    own: Mapping[int, int]

    def path(self, rows: np.ndarray, most: int) -> list[tuple[int, ...]]:
        """The best set of candidates of every size, from some of the rows."""
        return self._path(self._whole(rows), most)

    def _whole(self, rows: np.ndarray) -> Array:
        return triangle(np.column_stack([self.columns[rows], self.target[rows]]))

    def squared_errors(self, later: Array, outcome: Array, most: int) -> Array:
        """Mean squared error (sizes,) of forecasts of an `outcome` (h,), NaN where none counts, from columns (h, k).

        Selection and estimation see the rows of the problem alone. Own lags are those of the forecast itself.
        """
        whole = self._whole(self.rows)
        found = np.full(most + 1, np.nan)
        counts = np.isfinite(outcome)
        for size, kept in enumerate(self._path(whole, most)):
            used = [*self.always, *(column for i in kept for column in self.steps[i])]
            beta = coefficients(whole, used)
            phi = np.zeros(max(self.own, default=0))
            for lag, column in self.own.items():
                phi[lag - 1] = beta[column]
            ahead = running(later @ beta, tuple(phi.tolist()))
            found[size] = np.mean(np.square(outcome - ahead)[counts])
        return np.asarray(pd.Series(found).ffill())  # a path that ends early has its last model for more

    def _path(self, whole: Array, most: int) -> list[tuple[int, ...]]:
        own = sorted({column for step in self.steps for column in step})
        place = {column: i for i, column in enumerate(own)}
        corner = beside(whole, list(self.always), own)
        if self.method == "forward":
            return forward(corner, [[place[column] for column in step] for step in self.steps], most)
        found = least_angle(corner, most, self.mix) if self.method == "path" else subsets(corner, most)
        step_of = {place[step[0]]: i for i, step in enumerate(self.steps)}
        return [tuple(step_of[column] for column in kept) for kept in found]


def laid_out_for(base: Fitted, view: View, axis: Axis, past: Fitted, selection: SelectionOptions) -> ScreeningProblem:
    """The columns of the periods of `axis`, made from a view with what the terms learnt in a `past` fit."""
    terms, candidates = past.model.terms, selection.candidates
    states = {**past.states, **{str(term.name): term.learn(past.view) for term in candidates}}
    design = lay_out((*terms, *candidates), view, axis, states)
    _check_plain(design, any(term.choice(states[str(term.name)]) is not None for term in terms))
    rows = (
        np.flatnonzero(np.isfinite(base.transformed) & design.known) if axis.n == base.axis.n else np.zeros(0, np.intp)
    )
    slots = design.layout.slots[len(terms) :]
    always = range(design.layout.linear - sum(len(slot.places) for slot in slots))
    steps = tuple(tuple(slot.places.tolist()) for slot in slots)
    own = {
        before + 1: int(place)
        for term, slot in zip(terms, design.layout.slots, strict=False)
        if term.recursive
        for before, place in zip(term.phi_places, slot.places, strict=True)
    }
    target, how = base.transformed, (selection.method, selection.mix)
    return ScreeningProblem(design.linear, tuple(always), steps, target, rows, *how, own)


def _check_plain(design: Design, chooses: bool) -> None:
    if chooses or not design.layout.plain or design.layout.groups[1]:
        raise InputError(
            "a term of the model has shapes or strengths that are estimated, which every set would change",
            "State them for the choice, and estimate them in the model chosen.",
            key="terms",
        )


Method = Literal["forward", "path", "subsets"]
