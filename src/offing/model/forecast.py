"""A forecast: means, quantiles, contributions, and where the drivers' values came from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, count
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import in_units, number, rounded, serious_first, text_table
from offing.calendar import Axis
from offing.diagnostics import beyond_range, beyond_target, contradicted, holds_target, unused, wide_on_log_scale
from offing.engine import growth_paths, impulse_response, quantile, running
from offing.model.ahead import Ahead
from offing.model.contributions import Contributions, contributions_ahead
from offing.model.decomposition import Account, account, carrier
from offing.model.design import Design
from offing.model.fitted import Fitted
from offing.model.term_effects import ar_gradient
from offing.tables import MARKS, Sources, View
from offing.terms import Term

#: What a forecast is called that rests on the drivers' plan alone.
AS_PLANNED = "as planned"


@dataclass(frozen=True)
class Forecast(Result, figure="series.draw_forecast"):
    """A forecast of the periods after a fit's last one. Made by ``fit.forecast``.

    Attributes
    ----------
    fit
        The fit it rests on.
    view
        The data and plans it used.
    axis
        The forecast periods.
    rows
        The terms' columns for them.
    levels
        Probabilities of the central intervals that `table` shows.
    outlooks
        What models of their own expect of drivers of another frequency, where their values end before.
    scenario
        What is assumed of the drivers, by its name.
    assumed
        What that is of each driver, in words.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> ahead = of.Model("sold").fit(sold).forecast(2, levels=[0.8])
    >>> ahead.table.columns.tolist(), ahead.axis.labels()
    (['horizon', 'forecast', 'q0.1', 'q0.5', 'q0.9'], ['2024-05', '2024-06'])
    >>> ahead.sentence.split(",")[0]
    "Each month's outcome lies between q0.1 and q0.9 with 80 % probability"
    """

    fit: Fitted
    view: View
    axis: Axis
    rows: Design
    levels: tuple[float, ...]
    outlooks: tuple[Outlook, ...] = ()
    scenario: str = AS_PLANNED
    assumed: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def _linearised(self) -> tuple[Array, Array]:
        return self.rows.linearised(self.fit.estimate.beta)

    @property
    def design(self) -> Array:
        """The columns (h, k); for what is not linear the derivatives at the estimate."""
        return self._linearised[0]

    @cached_property
    def start(self) -> Array:
        """The last values (before,) on the working scale from which the way back starts."""
        before = self.fit.scale.before
        return self.fit.levels[len(self.fit.levels) - before :]

    @cached_property
    def path(self) -> Ahead:
        """The forecast on the working scale, and what it rests on."""
        fit, h = self.fit, self.axis.n
        scale, chain = fit.scale, fit.estimate.chain
        ar_prediction = fit.ar_prediction_on(self.axis)
        levels = scale.ahead(self.start, self._linearised[1] + ar_prediction)
        run = np.concatenate([self.start, levels])
        reach = self.axis.first + h - 1 - int(chain.times[-1])  # the last used period may lie before the origin
        variances = scale.noise(fit.estimate.variance, impulse_response(fit.lingering, reach), run)
        factor = scale.factor(self.view, fit.model.target, self.axis)
        worth = scale.worth(run) if not scale.plain else np.ones(h)
        base = np.zeros(h)
        if scale.growth:
            base = np.tile(self.start, -(-h // scale.before))[:h]
        elif not scale.plain:
            base = scale.ahead(self.start, np.zeros(h))
        mean = fit.mean_of(levels, variances, factor)
        return Ahead(base, levels, variances, worth, factor, mean, fit.cut(mean), ar_prediction)

    @property
    def transformed(self) -> Array:
        """What is expected (h,) on the scale that is fitted: the terms, and what is carried on from the last noise."""
        return np.asarray(self._linearised[1] + self.path.ar_prediction)

    @cached_property
    def spread(self) -> Array:
        """Standard error (h,) of η: of the coefficients, and of what only the future holds of the terms."""
        return np.asarray(np.sqrt(np.square(self.cov_root).sum(axis=0)))

    @property
    def moves(self) -> Array:
        """Derivative (h, k) of z by the coefficients: what moves a period moves later ones through own lags."""
        return np.asarray(running(self.design - ar_gradient(self.fit, self.axis), self.fit.own))

    @cached_property
    def mean_gradient(self) -> tuple[Array, Array]:
        """Derivatives of the means, limits aside: (h, k) by the coefficients, (h, m) by what only later periods have.

        The m are what terms such as a wandering level add from the origin on, each with a variance of 1.
        """
        fit, path = self.fit, self.path
        worth = path.mean + fit.scale.offset / path.factor if fit.scale.log else 1.0 / path.factor
        propagated = carrier(fit, path, later=True)
        places = range(len(fit.layout.slots))
        unknown = [each for at in places for each in fit.unknown_ahead(self.view, self.axis, self.rows, at)]
        ahead = propagated(np.hstack(unknown)) if unknown else np.zeros((self.axis.n, 0))
        return worth[:, None] * propagated(self.moves), worth[:, None] * ahead

    @cached_property
    def cov_root(self) -> Array:
        """H (m, h) with H'H the covariance of η from the coefficients and from what only the future holds."""
        fit, scale = self.fit, self.fit.scale
        z = self.transformed
        gradient = scale.gradient(self.start, z, self.moves)
        parts = [fit.estimate.cov_root(gradient)]
        for place in range(len(fit.layout.slots)):
            for future_columns in fit.unknown_ahead(self.view, self.axis, self.rows, place):
                parts.append(scale.gradient(self.start, z, running(future_columns, fit.own)).T)
        if self.outlooks:
            cov_root = np.sum([each.cov_root for each in self.outlooks], axis=0)
            parts.append(scale.gradient(self.start, z, cov_root.T).T)
        return np.vstack(parts)

    @property
    def bare(self) -> Forecast:
        """The forecast as the model makes it, without what past errors made of its intervals."""
        return self

    @property
    def mean(self) -> Array:
        """Forecast means (h,)."""
        return self.path.cut

    @property
    def origin(self) -> pd.Timestamp:
        """The instant from which it is made: what was known then counts."""
        return self.axis.frequency.index(np.array([self.fit.view.origin]))[0]

    def quantiles(self, probabilities: Sequence[float]) -> pd.DataFrame:
        """Values that the outcome stays below with the given probabilities, one column each such as ``q0.1``.

        They count the noise and the uncertainty of the coefficients, by Student's t: with the noise variance s² and a
        row x, the standard error of an outcome is (s² + var(x'β))^½, both carried through differences of the target.
        Growth on the year before, more than a year ahead, takes its quantiles from 4,000 seeded joint paths. All
        distances from the median are multiplied by the model's ``widen_intervals``.

        Raises
        ------
        InputError
            If a probability is not between 0 and 1.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
        >>> of.Model("sold").fit(sold).forecast(1).quantiles([0.1, 0.9]).round(2).to_numpy().tolist()
        [[2.14, 6.86]]
        """
        for probability in probabilities:
            if not 0.0 < probability < 1.0:
                raise InputError(f"found {probability!r}", "Give probabilities between 0 and 1.", key="levels")
        names = [_quantile_name(probability) for probability in probabilities]
        return pd.DataFrame(self._quantiles(probabilities), index=self.axis.index, columns=names)

    @property
    def endless(self) -> NDArray[np.intp]:
        """The periods in which it grows beyond all numbers."""
        tail = (1.0 - max(self.levels)) / 2.0
        values = np.column_stack([self.mean, self._quantiles([tail, 1.0 - tail])])
        return np.flatnonzero(~np.isfinite(values).all(axis=1))

    def _quantiles(self, probabilities: Sequence[float]) -> Array:
        """The quantiles (h, q) of the plain model."""
        fit, scale, path = self.fit, self.fit.scale, self.path
        if scale.growth and self.axis.n > scale.before:
            paths = growth_paths(self.start, self.transformed, self.moves, fit.estimate, fit.lingering)
            own = np.quantile(paths, [*probabilities, 0.5], axis=0).T
            values = widened(own[:, :-1], own[:, -1:], fit.model.widen_intervals)
        else:
            spread = np.sqrt(path.variances + np.square(self.spread)) * fit.model.widen_intervals
            transformed = path.levels[:, None] + spread[:, None] * quantile(np.array(probabilities), fit.estimate.dof)
            values = np.exp(transformed) - scale.offset if scale.log else transformed
        return fit.cut(values / path.factor[:, None])

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period: ``horizon``, ``forecast`` (the mean) and the quantiles of all levels with the median."""
        tails = {(1.0 - level) / 2.0 for level in self.levels}
        probabilities = sorted({round(p, 10) for tail in tails for p in (tail, 1.0 - tail)} | {0.5})
        frame = pd.DataFrame({"horizon": np.arange(1, self.axis.n + 1), "forecast": self.mean}, index=self.axis.index)
        return frame.join(self.quantiles(probabilities))

    @cached_property
    def account(self) -> Account:
        """The means taken apart on the working scale, from which contributions and walks come."""
        return account(self.fit, self.view, self.axis, self.rows, self.path, later=True)

    @cached_property
    def contributions(self) -> Contributions:
        """What every term contributes to each forecast mean."""
        return contributions_ahead(self.fit, self.view, self.axis, self.rows, (self.path, self.account))

    @property
    def _readers(self) -> list[Term]:
        """The terms that look at data by themselves."""
        return [term for term in self.fit.model.terms if not term.parts]

    @cached_property
    def drivers(self) -> pd.DataFrame:
        """The drivers' values that the forecast rests on: ``period, driver, value, mark`` (plan or actual)."""
        frames = []
        for term in self._readers:
            for reference in filter(self.view.numeric, term.needs()):
                own = term.needed(self.view, self.axis, reference)
                known = self.view.known(reference, own)
                frames.append(
                    pd.DataFrame(
                        {
                            "period": own.index,
                            "driver": term.name,
                            "value": known.values,
                            "mark": [MARKS[mark] for mark in known.marks],
                        }
                    )
                )
        if not frames:
            return pd.DataFrame(columns=["period", "driver", "value", "mark"])
        return pd.concat(frames, ignore_index=True)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """The fit's findings and what was noticed about the future."""
        found = list(self.fit.findings)
        found += [finding for plan in self.view.sources.plans.values() for finding in plan.findings]
        found += self._beyond_target()
        found += self._plans()
        for term in self._readers:
            for reference in filter(self.view.numeric, term.needs()):
                found += self._beyond_range(term, reference)
        for term in self.fit.model.terms:
            found += term.remarks_ahead(self.view, self.axis, self.fit.states[str(term.name)])
        return (*found, *self._below_zero())

    def _plans(self) -> list[Finding]:
        """What plans say beside what is known, of the target, and of columns that no term uses."""
        sources, found = self.view.sources, list[Finding]()
        references = [each for term in self.fit.model.terms for each in term.needs()]
        references += [each for step in self.fit.scale.factors for each in step.needs()]
        needed = {sources.find(each): each for each in references}
        bare = replace(self.view, sources=Sources(sources.tables), changes=(), patches={})
        for name, plan in sources.plans.items():
            own = self.fit.column if name == self.fit.source else ""
            if own in plan.columns and np.isfinite(plan.values(own)).any():
                found += holds_target(plan.name, own)
            for column in filter(lambda each: (name, each) in needed, plan.columns):
                values = plan.values(column), bare.actual(needed[name, column], plan.axis)
                found += contradicted(plan.name, column, values, plan.axis.labels(), plan.axis.frequency.unit)
            idle = [each for each in (*plan.columns, *plan.unusable) if each != own and (name, each) not in needed]
            found += unused(plan.name, idle)
        return found

    def _beyond_target(self) -> tuple[Finding, ...]:
        """Where the forecast itself has left all that the target ever was, or says next to nothing."""
        fit, path = self.fit, self.path
        known = fit.target[np.isfinite(fit.target)]
        extremes = float(known.min()), float(known.max())
        found = beyond_target(fit.levels, path.levels, self.axis.labels(), self.mean.tolist(), extremes)
        if fit.scale.log:
            errors = np.sqrt(path.variances + np.square(self.spread))
            found += wide_on_log_scale(errors, self.axis.labels())
        return found

    def _beyond_range(self, term: Term, reference: str) -> tuple[Finding, ...]:
        """Where a driver lies outside what was fitted: its changes, if these are what the model looks at."""
        unit, view, fit = self.view.sources.unit(reference), self.view, self.fit
        state = fit.states[str(term.name)]
        past = term.looked_at(fit.view, fit.axis, state, reference)
        future = term.looked_at(view, self.axis, state, reference)
        if past is not None and future is not None:
            return beyond_range(past[0], past[1][fit.used], future[1], "", self.axis.frequency.unit)
        values = view.known(reference, term.needed(view, self.axis, reference)).values
        return beyond_range(str(term.name), fit.seen(reference), values, unit, self.axis.frequency.unit)

    def _below_zero(self) -> tuple[Finding, ...]:
        """A remark where the band falls below zero though the target never did."""
        if self.fit.model.lower_limit is not None or np.nanmin(self.fit.target) < 0.0:
            return ()
        low = self.table.iloc[:, 2].to_numpy()
        below = int((low < 0.0).sum())
        if not below:
            return ()
        name = self.table.columns[2]
        message = f"In {count(below, self.axis.frequency.unit)} {name} is below zero, where the target never was."
        advice = "If it cannot be, state lower_limit = 0 in the target, or use the log scale."
        return (Finding("below zero", "warning", message, advice=advice, evidence={"periods": float(below)}),)

    def with_history(self) -> pd.DataFrame:
        """History and forecast in one table: ``target, fitted`` up to the origin, the forecast's columns after it."""
        return pd.concat([self.fit.fitted[["target", "fitted"]], self.table]).rename_axis("period")

    @property
    def sentence(self) -> str:
        """What the widest band means, in one sentence."""
        level = max(self.levels)
        unit = self.axis.frequency.unit
        low, high = (_quantile_name(p) for p in ((1.0 - level) / 2.0, (1.0 + level) / 2.0))
        given = (
            "the drivers come as given and " if self.drivers["mark"].isin(["plan", "actual", "assumed"]).any() else ""
        )
        expected = int((self.drivers["mark"] == "modelled").sum())
        more = f", and that of {count(expected, 'value')} expected by the drivers' own models" if expected else ""
        factor = self.fit.model.widen_intervals
        wider = f", widened by {100.0 * (factor - 1.0):.3g} % for what else is uncertain" if factor > 1.0 else ""
        return (
            f"Each {unit}'s outcome lies between {low} and {high} with {100 * level:g} % probability, if {given}the "
            f"model holds: this band counts the noise and the uncertainty of the coefficients{more}{wider}."
        )

    @property
    def sentences(self) -> str:
        """What is forecast and what the band means."""
        # Whether a sum over periods means anything depends on the unit; an average always does.
        average = number(float(self.mean.mean()), 4)
        name = in_units(self.fit.label, self.fit.unit)
        first, rest = serious_first(self.findings)
        lines = [*first, f"{name}: forecast of {self.axis.spell()}, {average} on average."]
        marks = self.drivers["mark"].value_counts()
        if len(marks):
            lines.append(_origin_of_drivers({str(mark): int(number) for mark, number in marks.items()}))
        return "\n".join([*lines, self.sentence, *rest])

    def text_table(self) -> str:
        """The forecast to read: one row a period, the mean and the quantiles."""
        shown = self.table.drop(columns="horizon")
        cells, width = rounded(shown.to_numpy().ravel()), shown.shape[1]
        columns = [self.axis.labels(), *(cells[j::width] for j in range(width))]
        return text_table([self.axis.frequency.unit, *shown.columns], columns)


def _origin_of_drivers(marks: Mapping[str, int]) -> str:
    """Where the drivers' values come from, in words."""
    sources = {
        "plan": "come from the plan",
        "actual": "are actual values",
        "assumed": "are assumed",
        "modelled": "are forecast by the drivers' own models",
    }
    if len(marks) == 1:
        ((mark, number),) = marks.items()
        return f"All {number:,} driver values {sources.get(mark, mark)}."
    noted = ", ".join(f"{number:,} {sources.get(mark, mark)}" for mark, number in marks.items())
    return f"Of {sum(marks.values()):,} driver values {noted}."


def widened(values: Array, median: Array, factor: float) -> Array:
    """Values with all distances from the median multiplied by a factor."""
    return np.asarray(median + factor * (values - median))


def _quantile_name(probability: float) -> str:
    return f"q{round(probability, 10):g}"


@dataclass(frozen=True)
class Outlook:
    """What a driver's own model expects of the periods that a forecast needs and that are not known yet.

    Attributes
    ----------
    reference
        The driver's column.
    ahead
        The forecast of its own model.
    root
        G (R, m) with G'G the covariance of these values, from R sources that all drivers of a forecast share.
    gradient
        What one more in each of the driver's periods does (m, h) to what is fitted.
    """

    reference: str
    ahead: Forecast
    root: Array
    gradient: Array

    @property
    def cov_root(self) -> Array:
        """H (R, h): summed over the drivers, H'H is the covariance that not knowing their values adds."""
        return self.root @ self.gradient

    @property
    def axis(self) -> Axis:
        """The periods that are forecast."""
        return self.ahead.axis
