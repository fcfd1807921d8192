"""A forecast as formulas: every step from the drivers' values to means, quantiles and contributions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.engine import difference_weights, quantile, running
from offing.engine.expressions import (
    Call,
    Carried,
    Coefficient,
    Compounded,
    Constant,
    Earlier,
    Expression,
    Extreme,
    Facts,
    Input,
    Named,
    Step,
    Steps,
    Words,
    added,
    evaluate,
    walked,
)
from offing.model.decomposition import ADJUSTMENT, BASELINE, CORRECTION, PAST
from offing.model.forecast import Forecast
from offing.model.target_transform import Scale
from offing.model.term_effects import both_references, measured, split_up
from offing.tables import View
from offing.terms import Term, naming_term
from offing.terms.formulas import Rows, Summand

#: Of more coefficients the products of all pairs would be larger than all else.
_MOST_MOVED = 40


@dataclass(frozen=True)
class TableOfInputs:
    """The periods of one frequency and what is known in them: columns of numbers (n,) or of words.

    The first `lead` of them lie before the forecast.
    """

    name: str
    axis: Axis
    lead: int
    columns: Mapping[str, Any]
    words: frozenset[str] = frozenset()


@dataclass(frozen=True)
class ForecastFormulas:
    """The steps of a forecast.

    Attributes
    ----------
    forecast
        What they compute again.
    tables
        The columns that they start from, by frequency, the target's first.
    steps
        All steps in their order.
    mean
        The step that is the forecast.
    quantiles
        The steps that are quantiles, by probability.
    contributions
        The step of each row of the contributions, by its name, the baseline first.
    fixed
        Why some of it does not follow the drivers, a sentence each.
    intervals_follow
        Whether the quantiles do.
    """

    forecast: Forecast
    tables: tuple[TableOfInputs, ...]
    steps: tuple[Step, ...]
    mean: str
    quantiles: Mapping[float, str]
    contributions: Mapping[str, str]
    fixed: tuple[str, ...]
    intervals_follow: bool

    @cached_property
    def values(self) -> dict[str, Array]:
        """What every step comes to (n,), by its name."""
        return self.computed({table.name: table.columns for table in self.tables})

    def computed(self, columns: Mapping[str, Mapping[str, Array]]) -> dict[str, Array]:
        """What every step comes to (n,) with other values of the columns."""
        return evaluate(self.steps, columns, {table.name: table.axis.n for table in self.tables})

    @cached_property
    def by_name(self) -> dict[str, Step]:
        """The steps by name."""
        return {step.name: step for step in self.steps}

    @cached_property
    def coefficients(self) -> dict[str, float]:
        """The coefficients that the steps use, by name."""
        return {
            part.name: part.value
            for step in self.steps
            for part in walked(step.expression)
            if isinstance(part, Coefficient)
        }


def formulas_of(ahead: Forecast) -> ForecastFormulas:
    """The formulas of a forecast.

    Raises
    ------
    InputError
        If the forecast has no one equation: each period has its own, or several models are combined.
    """
    if getattr(ahead, "parts", ()) or not hasattr(ahead, "fit"):
        raise InputError(
            "the forecast has no one equation: each period, or each of several models, has its own",
            'Forecast with method = "recursion" and one model.',
        )
    return _Assembly(ahead).whole()


class _Assembly:
    """The putting together of formulas, from the terms to the table of the forecast."""

    def __init__(self, ahead: Forecast) -> None:
        self.ahead, self.fit, self.view, self.axis = ahead, ahead.fit, ahead.view, ahead.axis
        self.steps = Steps()
        self.fixed: dict[str, None] = {}
        self.intervals_follow = True
        self.rows = self._rows()
        self.fitted_scale: Expression = Constant(0.0)
        self.table: str = self.axis.frequency.unit
        scale = self.fit.scale
        self.differences = tuple(-difference_weights(scale.lags)[1:]) if not (scale.plain or scale.growth) else ()

    def _rows(self) -> Rows:
        terms = self.fit.model.terms
        own = max(len(self.fit.own), self.fit.scale.before)
        lead = max([own, *(term.looks_back(self.view) for term in terms)])
        whole = Axis(self.axis.frequency, self.axis.first - lead, self.axis.n + lead)
        others: dict[Frequency, Axis] = {}
        for term in terms:
            found = term.own_periods(self.view, whole)
            if found is not None:
                kept = others.get(found.frequency, found)
                first, after = min(kept.first, found.first), max(kept.first + kept.n, found.first + found.n)
                others[found.frequency] = Axis(found.frequency, first, after - first)
        names = [f"{frequency.unit}" for frequency in others]
        named = {
            frequency: (name if names.count(name) == 1 else f"{name} {i}", axis)
            for i, (name, (frequency, axis)) in enumerate(zip(names, others.items(), strict=True), 1)
        }
        return Rows(self.axis, lead, named)

    def add(self, name: str, expression: Expression) -> Named:
        """One more step by the target's periods."""
        return self.steps.add(name, expression, self.table)

    def facts(self, name: str, values: Array) -> Expression:
        """Numbers (n,) of the forecast's periods; one number where they are all the same."""
        whole = np.broadcast_to(np.asarray(values, dtype=np.float64), self.axis.n)
        return Constant(float(whole[0])) if (whole == whole[0]).all() else self.rows.facts(name, whole)

    def whole(self) -> ForecastFormulas:
        """All steps."""
        fit, scale, path = self.fit, self.fit.scale, self.ahead.path
        effects = self._effects()
        parts = split_up(fit, self.view, self.axis, self.ahead.rows, later=True)
        level, past = self.facts("level", parts.level), None if parts.past is None else parts.past[0]
        more = [] if past is None else [self.facts(PAST, past)]
        self.fitted_scale = self.add("on the fitted scale", added([level, *effects.values(), *more]))
        worth = self._worth(level, effects, past)
        base = self.facts("values before", path.base)
        rows: dict[str, Expression] = {BASELINE: self._propagated("baseline", level, worth, base)}
        for name, effect in effects.items():
            rows[name] = self._propagated(name, effect, worth)
        if past is not None:
            rows[PAST] = self._propagated(PAST, self.facts(PAST, past), worth)
        return self._on_target_scale(rows, scale.log)

    def _effects(self) -> dict[str, Expression]:
        """What each term adds to the fitted scale less its reference, with what lives on of it through own lags."""
        fit = self.fit
        alone: dict[str, tuple[Expression, int]] = {}
        shared: dict[str, list[Expression]] = {}
        for place, (term, slot) in enumerate(zip(fit.model.terms, fit.layout.slots, strict=True)):
            if term.recursive:
                continue
            state = fit.states[slot.term]
            with naming_term(term):
                summands = term.summands(self.view, self.rows, state, fit.estimate.beta[slot.places])
            self.fixed.update(dict.fromkeys(each.fixed for each in summands if each.fixed))
            if term.shares:
                for name, part in self._shares(term, place):
                    shared.setdefault(name, []).append(part)
                continue
            value = self._summed(slot.term, summands)
            if slot.factor:
                level = self.ahead.rows.level(fit.estimate.beta)
                value = value * self.facts("level that is multiplied", level)
            at = measured(fit, self.view, self.axis, self.ahead.rows, place)[2]
            name = f"{slot.term}: effect"
            if np.any(at):
                value = value - self.facts(f"{slot.term}: reference", np.asarray(at))
            alone[slot.term] = self.add(name, value), place
        effects: dict[str, Expression] = {}
        for name, (effect, place) in alone.items():
            whole = added([effect, *shared.get(name, [])])
            if name in shared:
                whole = self.add(f"{name}: effect with what is shared", whole)
            effects[name] = self.add(f"{name}: with what lives on", self._lived_on(whole, place)) if fit.own else whole
        return effects

    def _summed(self, term: str, summands: list[Summand]) -> Expression:
        """Coefficients times what they belong to, each of which is a step if it has to be computed."""
        parts = []
        for each in summands:
            if not each.coefficient:
                continue
            value = each.expression
            if not isinstance(value, (Input, Facts, Words)):
                value = self.add(each.name, value)
            parts.append(value if each.coefficient == 1.0 else Coefficient(each.name, each.coefficient) * value)
        return self.steps.total(term, parts, self.table)

    def _shares(self, term: Term, place: int) -> list[tuple[str, Expression]]:
        """What a shared interaction adds to each of its terms: (a − a₀)(b + b₀)/2, and so turned to the other."""
        fit, slot = self.fit, self.fit.layout.slots[place]
        state, beta = fit.states[slot.term], fit.estimate.beta[slot.places]
        (first, second), _ = term.part_columns(self.view, self.rows, state, np.zeros(0))
        a0, b0 = both_references(fit, self.view, self.axis, term)
        products = beta.reshape(len(first), len(second)) / 2.0
        by_first, by_second = products @ b0[0], a0[0] @ products
        constant = float(a0[0] @ products @ b0[0])

        def weighed(numbers: Array, summands: list[Summand]) -> list[Expression]:
            return [float(x) * each.expression for x, each in zip(numbers, summands, strict=True) if x]

        both = [
            float(products[i, j]) * (a.expression * b.expression)
            for i, a in enumerate(first)
            for j, b in enumerate(second)
            if products[i, j]
        ]
        names = [str(part.name) for part in term.parts]
        own = added([*both, *weighed(by_first, first), *weighed(-by_second, second), Constant(-constant)])
        turned = added([*both, *weighed(-by_first, first), *weighed(by_second, second), Constant(-constant)])
        return [
            (name, self.add(f"{slot.term}: share of {name}", part))
            for name, part in zip(names, (own, turned), strict=True)
        ]

    def _lived_on(self, effect: Expression, place: int) -> Expression:
        """An effect with what own lags carry on of it, in a forecast from what it was before."""
        fit, lead = self.fit, self.rows.lead
        before = np.zeros(lead)
        if fit.returns:
            values = measured(fit, fit.view, fit.axis, fit.rows, place, against=self.axis)[0]
            sums = running(np.nan_to_num(values), fit.own)
            known = sums[max(len(sums) - lead, 0) :]
            before[lead - len(known) :] = known
        return Carried(effect, fit.own, before)

    def _worth(self, level: Expression, effects: Mapping[str, Expression], past: Array | None) -> Expression | None:
        """What one unit of what is fitted adds to the target's working scale; None where that is one."""
        scale = self.fit.scale
        if scale.plain:
            return None
        if not scale.growth:
            return Constant(1.0 / scale.gain)
        lead, lag = self.rows.lead, scale.lags[0]
        start = np.concatenate([np.full(lead - scale.before, np.nan), self.ahead.start])
        rest = [] if past is None else [self.facts(PAST, past)]
        rate = self.add("growth", 1.0 + added([level, *effects.values(), *rest]) / 100.0)
        run = self.add("level by growth", Compounded(rate, lag, start))
        return self.add("worth of a percent", Earlier(run, lag) / 100.0)

    def _propagated(
        self, name: str, part: Expression, worth: Expression | None, base: Expression | None = None
    ) -> Expression:
        """What a part of what is fitted adds to the working scale, through differences of the target."""
        scale = self.fit.scale
        if worth is not None:
            phi = self.differences
            if scale.growth:
                phi = (*[0.0] * (scale.lags[0] - 1), 1.0)
            part = Carried(part * worth, phi, np.zeros(self.rows.lead))
        whole = part if base is None or scale.plain else part + base
        return whole if isinstance(whole, (Named, Constant)) else self.add(f"{name}: on the working scale", whole)

    def _factor(self) -> Expression | None:
        """The known factor that the target is multiplied by; None where there is none."""
        scale, target = self.fit.scale, self.fit.model.target
        if not scale.factors:
            return None
        whole: Expression | None = None
        for i, step in enumerate(scale.factors):
            inner = replace(scale, factors=scale.factors[:i])

            def so_far(each: Axis, inner: Scale = inner) -> Array:
                return np.asarray(self.view.known(target, each).values * inner.factor(self.view, target, each))

            own = step.factor_formula(so_far, self.view, self.rows.whole)
            whole = own if whole is None else whole * own
        return None if whole is None else self.add("factor of the target", whole)

    def _on_target_scale(self, rows: dict[str, Expression], log: bool) -> ForecastFormulas:
        """Means, quantiles and contributions from the rows of the working scale."""
        fit, scale, path = self.fit, self.fit.scale, self.ahead.path
        factor = self._factor()
        eta = self.add("sum of all rows", added(list(rows.values())))
        variance = self.facts("variance of the noise", path.variances)
        if scale.growth:
            self.intervals_follow = False
            self.fixed["what the noise adds to intervals is that of the forecast as exported"] = None

        def own_unit(value: Expression) -> Expression:
            return value if factor is None else value / factor

        offset = fit.scale.offset
        uncut = self.add(
            "mean before limits", own_unit(Call("exp", eta + variance / 2.0) - offset) if log else own_unit(eta)
        )
        mean = self._cut("forecast", uncut)
        amounts = self._amounts(rows, factor, log)
        if self._limited:
            amounts[ADJUSTMENT] = self.add("contribution of limits", mean - uncut)
        spread = self.add("standard error", self._standard_error())
        quantiles = {}
        given = ""
        if self.ahead.bare is not self.ahead:
            given = "quantiles are as wide as past errors say, and given as values"
        elif scale.growth and self.axis.n > scale.before:
            given = "quantiles of growth beyond a year ahead are simulated, and given as values"
        if given:
            self.intervals_follow = False
            self.fixed[given] = None
        for probability, name in self._probabilities():
            if given:
                values = self.ahead.table[name].to_numpy()
                quantiles[probability] = self.add(name, self.rows.facts(name, values)).name
                continue
            reach = float(quantile(probability, fit.estimate.dof))
            value = eta + reach * spread
            value = own_unit(Call("exp", value) - offset) if log else own_unit(value)
            quantiles[probability] = self._cut(name, value).name
        return ForecastFormulas(
            self.ahead,
            self._inputs(),
            tuple(self.steps.found),
            mean.name,
            quantiles,
            {name: step.name for name, step in amounts.items()},
            tuple(self.fixed),
            self.intervals_follow,
        )

    @property
    def _limited(self) -> bool:
        """Whether a mean can lie beyond the target's limits: a logarithm's own is no limit."""
        model = self.fit.model
        stated = model.lower_limit is not None or model.upper_limit is not None
        return model.support is not None and (stated or bool(self.fit.scale.offset))

    def _cut(self, name: str, value: Expression) -> Named:
        """A value within the target's limits."""
        support = self.fit.model.support if self._limited else None
        for limit, largest in zip(support or (), (True, False), strict=False):
            if np.isfinite(limit):
                value = Extreme(largest, value, Constant(float(limit)))
        return self.add(name, value)

    def _amounts(self, rows: dict[str, Expression], factor: Expression | None, log: bool) -> dict[str, Named]:
        """Contributions on the target's own scale: on the log scale by the logarithmic mean (Ang 2005)."""
        if not log:
            return {
                name: self.add(f"contribution of {name}", row if factor is None else row / factor)
                for name, row in rows.items()
            }
        variances = self.ahead.path.variances
        first = float(variances[0]) / 2.0
        rest = variances / 2.0 - first
        baseline = rows[BASELINE] + first
        if factor is not None:
            baseline = baseline - Call("ln", factor)
        low = self.add("logarithm of the baseline", baseline)
        others = {name: row for name, row in rows.items() if name != BASELINE}
        if rest.any():
            others[CORRECTION] = self.facts(CORRECTION, rest)
        above = self.add("all other rows", added(list(others.values())))
        start = self.add("baseline as an amount", Call("exp", low))
        weight = self.add("what one unit is worth", start * Call("growth", above))
        offset = self.fit.scale.offset
        shown: Expression = start
        if offset:
            shown = start - (Constant(offset) if factor is None else offset / factor)
        found = {BASELINE: self.add(f"contribution of {BASELINE}", shown)}
        for name, row in others.items():
            found[name] = self.add(f"contribution of {name}", row * weight)
        return found

    def _standard_error(self) -> Expression:
        """The standard error of an outcome on the working scale.

        Other drivers give other derivatives g + δ by the coefficients, whose variance g'Cg then has more by
        Σ δ_i (2 (Cg)_i + Σ C_ij δ_j): nothing where the drivers are as exported.
        """
        ahead, fit = self.ahead, self.fit
        widen = fit.model.widen_intervals
        planned = ahead.path.variances + np.square(ahead.spread)
        moved = self._moved()
        if moved is None:
            self.intervals_follow = False
            self.fixed["the uncertainty of the coefficients in the intervals is that of the drivers as exported"] = None
        if not moved:
            return self.rows.facts("standard error as exported", np.sqrt(planned) * widen)
        places = np.array(list(moved))
        root = fit.estimate.cov_root(np.eye(fit.layout.k)[places])
        whole = fit.estimate.cov_root(fit.scale.gradient(ahead.start, ahead.transformed, ahead.moves))
        linear, square = 2.0 * root.T @ whole, root.T @ root
        parts: list[Expression] = [self.rows.facts("variance as exported", planned)]
        for i, (place, delta) in enumerate(moved.items()):
            name = fit.layout.names[place]
            rest = [float(square[i, j]) * other for j, other in enumerate(moved.values()) if square[i, j]]
            with_others = self.steps.total(f"{name}: covariance", rest, self.table)
            own = self.rows.facts(f"{name}: covariance as exported", linear[i]) + with_others
            parts.append(self.add(f"{name}: variance by its change", delta * own))
        variance = self.add("variance of an outcome", self.steps.total("variance", parts, self.table))
        return variance**0.5 * widen

    def _moved(self) -> dict[int, Expression] | None:
        """How far the derivative by each coefficient is from that of the drivers as exported; None if it is not known.

        Only coefficients are there whose derivative depends on a driver.
        """
        fit, ahead, beta = self.fit, self.ahead, self.fit.estimate.beta
        if fit.scale.growth or ahead.outlooks:
            return None
        found: dict[int, Expression] = {}
        for at, (term, slot) in enumerate(zip(fit.model.terms, fit.layout.slots, strict=True)):
            if term.recursive or not term.needs():
                continue
            if slot.factor or slot.borrowed:
                return None
            slopes = term.slopes(self.view, self.rows, fit.states[slot.term], beta[slot.places])
            if slopes is None:
                return None
            planned = ahead.rows.part(at, beta).own
            for place, slope, own in zip(slot.places.tolist(), slopes, planned.T, strict=True):
                if fit.estimate.kept[place] and any(isinstance(each, (Input, Words)) for each in walked(slope)):
                    found[place] = self._change(fit.layout.names[place], slope, own)
        if fit.own and found:
            lags = next(slot for slot, term in zip(fit.layout.slots, fit.model.terms, strict=True) if term.recursive)
            path = self._change("path", self.fitted_scale, ahead.transformed)
            for place, back in zip(lags.places.tolist(), fit.own_places, strict=True):
                found[place] = self._carried_on(fit.layout.names[place], Earlier(path, back + 1))
        return found if len(found) <= _MOST_MOVED else None

    def _change(self, name: str, value: Expression, planned: Array) -> Named:
        """How far a value is from what it is with the drivers as exported, and what that does to later periods."""
        change = self.add(f"{name}: change", value - self.rows.facts(f"{name}: as exported", planned))
        # Nothing is changed before the forecast.
        begun = Carried(change, (), np.zeros(self.rows.lead)) if self.rows.lead else change
        if name == "path":
            return self.add(f"{name}: change of the forecast", begun)
        return self._carried_on(name, begun)

    def _carried_on(self, name: str, change: Expression) -> Named:
        """A change of a derivative through own lags and differences of the target."""
        scale, none = self.fit.scale, np.zeros(self.rows.lead)
        if self.fit.own:
            change = Carried(change, self.fit.own, none)
        if not scale.plain:
            change = Carried(change / scale.gain, self.differences, none)
        return self.add(f"{name}: change of the derivative", change)

    def _probabilities(self) -> list[tuple[float, str]]:
        """The probabilities of the forecast's quantiles, and their names."""
        names = [str(name) for name in self.ahead.table.columns if str(name).startswith("q")]
        return [(float(name[1:]), name) for name in names]

    def _inputs(self) -> tuple[TableOfInputs, ...]:
        """The columns that the steps look at, by table."""
        axes = {self.table: (self.rows.whole, self.rows.lead)}
        axes |= {name: (axis, 0) for name, axis in self.rows.others.values()}
        columns: dict[str, dict[str, Any]] = {name: {} for name in axes}
        words = set()
        for step in self.steps.found:
            for part in walked(step.expression):
                if isinstance(part, Words):
                    words.add(part.of.column)
                if isinstance(part, Input) and part.column not in columns[self._table_of(step, part)]:
                    name = self._table_of(step, part)
                    columns[name][part.column] = self._values(part.column, axes[name][0])
        return tuple(
            TableOfInputs(name, axis, lead, columns[name], frozenset(words & set(columns[name])))
            for name, (axis, lead) in axes.items()
        )

    def _table_of(self, step: Step, part: Input) -> str:
        """The table of a column: the step's own, unless it is of another frequency."""
        frequency = self.view.frequency(part.column)
        return self.rows.others[frequency][0] if frequency in self.rows.others else step.table

    def _values(self, column: str, axis: Axis) -> Any:
        view: View = self.view
        return view.known(column, axis).values if view.numeric(column) else view.words(column, axis)
