"""What a fit is: the data as it saw them, the columns and the estimate, and what follows from these alone."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Self, cast

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, Treatment
from offing.base.arrays import Array
from offing.base.text import unit_of_sum
from offing.calendar import Axis
from offing.engine import (
    Estimate,
    FitStatistics,
    NoiseFit,
    Phi,
    combined,
    fit_figures,
    partial,
    running,
)
from offing.model.design import Design, lay_out
from offing.model.layout import Layout
from offing.model.options import ModelOptions
from offing.model.target_transform import Scale
from offing.tables import Information, View
from offing.terms import Term

#: Own lags whose coefficients add up to more than this leave the target no level to come back to.
_UNIT = 0.98


@dataclass(frozen=True)
class FitState:
    """A fitted model as data.

    Attributes
    ----------
    model
        What was fitted.
    source, column
        Table and column of the target.
    view
        The data as the fit saw them.
    states
        What each term learnt, by name.
    scale
        How the target became what is fitted.
    target
        The target's values (n,), as treated, NaN where missing.
    factor, levels, working
        The known factor, the target on the working scale before differences, and what is fitted (n,).
    used
        Which periods were used (n,).
    rows
        The terms' columns for the fitted periods.
    estimate
        Coefficients and their covariance.
    ratios
        How much coefficients that are shrunk towards zero vary, by their group: variance over that of the noise.
    dynamics
        What was learnt of how the noise carries on; None where it is independent.
    stated
        The model before anything was selected or marked on these data: what is fitted again at another origin.
    noticed
        Findings from before the estimate; `findings` has them all.
    fitter
        The door through which it was made.
    series
        The series' id where the target has several.
    """

    model: ModelOptions
    source: str
    column: str
    view: View
    states: Mapping[str, Any]
    scale: Scale
    target: Array
    factor: Array
    levels: Array
    transformed: Array
    used: NDArray[np.bool_]
    rows: Design
    estimate: Estimate
    ratios: Mapping[str, float]
    noticed: tuple[Finding, ...]
    dynamics: NoiseFit | None
    stated: ModelOptions
    fitter: Callable[[ModelOptions, Information], Any] = field(repr=False, compare=False)
    series: str = ""

    @property
    def layout(self) -> Layout:
        """Whose coefficients are which."""
        return self.rows.layout

    @cached_property
    def _linearised(self) -> tuple[Array, Array]:
        return self.rows.linearised(self.estimate.beta)

    @property
    def design(self) -> Array:
        """The columns (n, k); for what is not linear the derivatives at the estimate."""
        return self._linearised[0]

    @property
    def explained(self) -> Array:
        """What the terms add up to (n,) on the scale that is fitted."""
        return self._linearised[1]

    @cached_property
    def ar_prediction(self) -> Array:
        """What is expected (n,) of each period's noise from that of the last used period before."""
        return self.estimate.chain.ar_prediction(self.residual[self.used], self.axis.ordinals)

    @property
    def own_places(self) -> tuple[int, ...]:
        """Places of the own lags' coefficients among those of the recursion."""
        return next((term.phi_places for term in self.model.terms if term.recursive), ())

    @cached_property
    def own(self) -> Phi:
        """Coefficients of the target's own lags, from lag 1 to the last; empty without any."""
        found = np.zeros(max(self.own_places, default=-1) + 1)
        for slot, term in zip(self.layout.slots, self.model.terms, strict=True):
            if term.recursive:
                found[list(term.phi_places)] = self.estimate.beta[slot.places]
        return tuple(found.tolist())

    @property
    def returns(self) -> bool:
        """Whether a shock fades through the own lags, so that there is a level to come back to."""
        return bool(np.abs(partial(self.own)).max(initial=0.0) < _UNIT and sum(self.own) < _UNIT)

    @property
    def lingering(self) -> Phi:
        """Coefficients with which a shock lives on: through the noise and through own lags."""
        return combined(self.estimate.chain.phi, self.own)

    def ar_prediction_on(self, axis: Axis) -> Array:
        """What is expected (h,) of the noise in later periods."""
        return self.estimate.chain.ar_prediction(self.residual[self.used], axis.ordinals)

    def walked_on(self, view: View, axis: Axis) -> View:
        """The view with the target's expected path over the periods of `axis`, from which its own lags come."""
        if not self.own:
            return view
        _, first = self.columns(self.walk_of_nothing(view, axis), axis).linearised(self.estimate.beta)
        path = running(first + self.ar_prediction_on(axis), self.own)
        return view.walked(self.axis.first, np.concatenate([self.transformed, path]))

    def walk_of_nothing(self, view: View, axis: Axis) -> View:
        """The view with the target's values, and zero in the periods of `axis`."""
        return view.walked(self.axis.first, np.concatenate([self.transformed, np.zeros(axis.n)]))

    def columns(self, view: View, axis: Axis) -> Design:
        """The terms' columns for the periods of `axis`, with what the fit learnt of them."""
        return lay_out(self.model.terms, view, axis, self.states, self.rows.centres)

    def with_column_moved(self, view: View, reference: str) -> Design:
        """The fitted rows as `view` has them, which differs from the fit's in the values of one column only."""
        return self.with_moved(self.rows, view, self.axis, {view.sources.find(reference)})

    def with_moved(self, design: Design, view: View, axis: Axis, moved: Collection[tuple[str, str]]) -> Design:
        """A design for `axis` as `view` has it: only terms that look at a `moved` column are laid out again."""
        blocks = [
            term.block(view, axis, self.states[str(term.name)])
            if any(view.sources.find(each) in moved for each in term.needs())
            else block
            for term, block in zip(self.model.terms, design.blocks, strict=True)
        ]
        return replace(design, blocks=tuple(blocks))

    def unknown_ahead(self, view: View, axis: Axis, design: Design, place: int) -> list[Array]:
        """Columns (n, m) of the `place`-th term that only later periods have, times their coefficients' spread."""
        slot = self.layout.slots[place]
        found = []
        for each in self.model.terms[place].future_columns(view, axis, self.states[slot.term]):
            spread = np.sqrt(self.ratios[each.group] * self.estimate.variance)
            level = design.level(self.estimate.beta)[:, None] if slot.factor else 1.0
            found.append(each.columns * spread * level)
        return found

    @property
    def residual(self) -> Array:
        """What the terms leave unexplained (n,), NaN where unknown."""
        return self.transformed - self.explained

    @property
    def series_name(self) -> str:
        """The series in tables and files: its id, or the target's column where there is one series only."""
        return self.series or self.column

    @property
    def axis(self) -> Axis:
        """The fitted periods, from the target's first value to its last."""
        return self.view.rows

    @property
    def label(self) -> str:
        """What people call the target, with its series where there are several."""
        named = self.view.sources.label(self.model.target) or self.column
        return f"{named}, {self.series}" if self.series else named

    @property
    def unit(self) -> str:
        """The target's unit, or an empty text."""
        return self.view.sources.unit(self.model.target)

    @property
    def sum_unit(self) -> str:
        """The unit of a sum over periods: that of energy where the target is power."""
        return unit_of_sum(self.unit, self.axis.frequency.unit)

    def seen(self, reference: str) -> Array:
        """Known values (m,) of a column in the periods used; of another frequency, where they end among the fitted."""
        own = self.view.native(reference, self.axis)
        values = self.view.known(reference, own).values
        values = values[self.used] if own is self.axis else values
        return np.asarray(values[np.isfinite(values)])

    def label_of(self, term: Term) -> str:
        """What people call a term: its column's label where its source states one, else its name."""
        if term.parts:
            return " x ".join(self.label_of(part) for part in term.parts)
        labels = [self.view.sources.label(reference) for reference in term.needs()[:1]]
        return next((label for label in labels if label), str(term.name))

    @property
    def source_note(self) -> str:
        """The sources' notes as a sentence, or an empty text."""
        noted = [f"{table.name}, {table.note}" for table in self.view.sources.tables.values() if table.note]
        return f"Source: {'; '.join(noted)}." if noted else ""

    def mean_of(self, levels: Array, variances: Array, factor: Array) -> Array:
        """Mean (m,) of the target, on its own scale, from v, its noise variance and the known factor (m,)."""
        # The mean of a log-normal variable (Aitchison & Brown 1957).
        means = np.exp(levels + variances / 2.0) - self.scale.offset if self.scale.log else levels
        return np.asarray(means / factor)

    def cut(self, values: Array) -> Array:
        """Values of the target put to the limits that it cannot pass."""
        support = self.model.support
        return values if support is None else np.clip(values, *support)

    @cached_property
    def noise(self) -> Array:
        """Noise variance (n,) of v in each fitted period, given the values before it."""
        variance = self.estimate.variance / self.scale.gain**2
        if self.scale.growth:
            return np.square(self.scale.one_step(self.levels, np.zeros(self.axis.n))) * variance
        return self.estimate.chain.conditional_variances(self.axis.ordinals) * variance

    @cached_property
    def means(self) -> Array:
        """Fitted mean (n,) of every period, given the values before it."""
        levels = self.scale.one_step(self.levels, self.explained + self.ar_prediction)
        return self.cut(self.mean_of(levels, self.noise, self.factor))

    @cached_property
    def fitted(self) -> pd.DataFrame:
        """One row a period: ``target, fitted, residual, status``. `fitted` is the mean, also on the log scale."""
        fitted = self.means
        conditions = [self.used & self.treated, self.used, np.isnan(self.target) & self.treated, np.isnan(self.target)]
        words = ["used, treated", "used", "excluded", "target missing"]
        status = np.select(conditions, words, default="driver missing")
        return pd.DataFrame(
            {"target": self.target, "fitted": fitted, "residual": self.target - fitted, "status": status},
            index=self.axis.index,
        )

    @cached_property
    def statistics(self) -> FitStatistics:
        """R², adjusted R², residual standard deviation, MAE and MAPE over the periods used."""
        residual = (self.residual - self.ar_prediction)[self.used]
        return fit_figures(
            self.transformed[self.used],
            self.target[self.used],
            self.means[self.used],
            rss=float(residual @ residual),
            columns=int(self.estimate.kept.sum()),
            dof=self.estimate.rows - self.estimate.effective_dof,
        )

    def start_of(self, row: int) -> str:
        """First day of a fitted period."""
        return str(self.axis.index[row].date())

    @property
    def treatments(self) -> tuple[Treatment, ...]:
        """Every change to the data: by reading, then by the treatments asked for."""
        read = tuple(entry for table in self.view.sources.tables.values() for entry in table.treatments)
        return (*read, *(entry for patch in self.view.patches.values() for entry in patch.log))

    @property
    def treated(self) -> NDArray[np.bool_]:
        """Which periods (n,) of the target a treatment changed or set apart."""
        patch = self.view.patches.get((self.source, self.column))
        if patch is None:
            return np.zeros(self.axis.n, dtype=bool)
        return np.isin(self.axis.ordinals, [*patch.ordinals.tolist(), *patch.pulses])

    @property
    def information(self) -> Information:
        """What the fit drew on, to fit another model to the same."""
        sources = self.view.sources
        return Information(sources.tables, self.series, self.view.origin, sources.plans, self.view.known_ahead)

    def again(self, terms: Sequence[Term]) -> Self:
        """The same data fitted with other terms, from what was known at the same origin."""
        return cast("Self", self.fitter(replace(self.model, terms=tuple(terms)), self.information))
