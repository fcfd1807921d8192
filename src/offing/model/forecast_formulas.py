"""A forecast as formulas: every step from the drivers' values to means, quantiles and contributions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import quantile, running
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
    Words,
    added,
    evaluate,
    walked,
)
from offing.model.decomposition import ADJUSTMENT, BASELINE, CORRECTION, PAST
from offing.model.forecast import Forecast
from offing.model.formula_assembly import Assembly
from offing.model.interval_formulas import standard_error
from offing.model.target_transform import Scale
from offing.model.term_effects import both_references, measured, split_up
from offing.tables import View
from offing.terms import Term, naming_term
from offing.terms.formulas import Summand


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


class _Assembly(Assembly):
    """The putting together of formulas, from the terms to the table of the forecast."""

    def __init__(self, ahead: Forecast) -> None:
        super().__init__(ahead)
        self.fixed: dict[str, None] = {}
        self.named: set[str] = set()

    def whole(self) -> ForecastFormulas:
        """All steps."""
        fit, scale, path = self.fit, self.fit.scale, self.ahead.path
        effects = self._effects()
        parts = split_up(fit, self.view, self.axis, self.ahead.rows, later=True)
        level, past = self.facts("level", parts.level), None if parts.past is None else parts.past[0]
        more = [] if past is None else [self.facts(PAST, past)]
        fitted_scale = self.add("on the fitted scale", added([level, *effects.values(), *more]))
        worth = self._worth(level, effects, past)
        base = self.facts("values before", path.base)
        rows: dict[str, Expression] = {BASELINE: self._propagated("baseline", level, worth, base)}
        for name, effect in effects.items():
            rows[name] = self._propagated(name, effect, worth)
        if past is not None:
            rows[PAST] = self._propagated(PAST, self.facts(PAST, past), worth)
        return self._on_target_scale(rows, fitted_scale, scale.log)

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
            parts.append(value if each.coefficient == 1.0 else self._coefficient(each.name, each.coefficient) * value)
        return self.steps.total(term, parts, self.table)

    def _coefficient(self, name: str, value: float) -> Coefficient:
        """A coefficient under a name that is no other's: columns of two terms may be called the same."""
        own, number = name, 2
        while own in self.named:
            own, number = f"{name} ({number})", number + 1
        self.named.add(own)
        return Coefficient(own, value)

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

    def _on_target_scale(self, rows: dict[str, Expression], fitted_scale: Expression, log: bool) -> ForecastFormulas:
        """Means, quantiles and contributions from the rows of the working scale."""
        fit, scale, path = self.fit, self.fit.scale, self.ahead.path
        factor = self._factor()
        eta = self.add("sum of all rows", added(list(rows.values())))
        variance = self.facts("variance of the noise", path.variances)
        if scale.growth:
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
        error, follows = standard_error(self, fitted_scale)
        if not follows:
            self.fixed["the uncertainty of the coefficients in the intervals is that of the drivers as exported"] = None
        spread = self.add("standard error", error)
        quantiles = {}
        given = ""
        if self.ahead.bare is not self.ahead:
            given = "quantiles are as wide as past errors say, and given as values"
        elif scale.growth and self.axis.n > scale.before:
            given = "quantiles of growth beyond a year ahead are simulated, and given as values"
        if given:
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
            follows and not given,
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
