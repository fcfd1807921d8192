"""A fitted model."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, Treatment, Verdict
from offing.calendar import Axis
from offing.engine import (
    Carried,
    Estimate,
    FitFigures,
    Phi,
    combined,
    fit_figures,
    partial,
    running,
)
from offing.model.coefficients import coefficient_table, coefficient_text
from offing.model.contributions import Contributions, contribute
from offing.model.direct import by_horizon
from offing.model.equation import equation_text
from offing.model.forecast import Forecast
from offing.model.forecasting import Assumptions, forecast
from offing.model.layout import Design, Layout, lay_out
from offing.model.remarks import examined, remarks
from offing.model.scale import Scale
from offing.model.summary import check_text, fit_numbers, fit_sentences
from offing.model.words import as_html, wrapped
from offing.tables import Information, Panel, Table, View
from offing.tables.table import Array
from offing.terms import Interaction, OwnLags

if TYPE_CHECKING:
    from offing.model.model import Model
    from offing.terms import Term

#: Own lags whose coefficients add up to more than this leave the target no level to come back to.
_UNIT = 0.98


@dataclass(frozen=True)
class Fit:
    """A fitted model: the estimate and views of it. Made by ``Model.fit``; ``print`` it for one screen of words.

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
        How much coefficients that are drawn to zero vary, by their group: variance over that of the noise.
    dynamics
        What was learnt of how the noise carries on; None where it is independent.
    stated
        The model before anything was selected or marked on these data: what is fitted again at another origin.
    noticed
        Findings from before the estimate; `findings` has them all.
    series
        The series' id where the target has several.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> fit = of.Model("sold", terms=[of.Trend()]).fit(sold)
    >>> print(fit.equation)
    sold = 3.3
      + 9.6 * [trend: slope a year]
    where
      [trend: slope a year]: years since 2024-01; a year has 12 months; 0.8 a month
    >>> fit.fitted["fitted"].round(6).tolist(), round(fit.figures.r_squared, 6)
    ([3.3, 4.1, 4.9, 5.7], 0.64)
    """

    model: Model
    source: str
    column: str
    view: View
    states: Mapping[str, Any]
    scale: Scale
    target: Array
    factor: Array
    levels: Array
    working: Array
    used: NDArray[np.bool_]
    rows: Design
    estimate: Estimate
    ratios: Mapping[str, float]
    noticed: tuple[Finding, ...]
    dynamics: Carried | None
    stated: Model
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
    def carried(self) -> Array:
        """What is expected (n,) of each period's noise from that of the last used period before."""
        return self.estimate.chain.carried(self.left[self.used], self.axis.ordinals)

    @property
    def own_places(self) -> tuple[int, ...]:
        """Places of the own lags' coefficients among those of the recursion."""
        return next((term.phi_places for term in self.model.terms if isinstance(term, OwnLags)), ())

    @cached_property
    def own(self) -> Phi:
        """Coefficients of the target's own lags, from lag 1 to the last; empty without any."""
        found = np.zeros(max(self.own_places, default=-1) + 1)
        for slot, term in zip(self.layout.slots, self.model.terms, strict=True):
            if isinstance(term, OwnLags):
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

    def carried_to(self, axis: Axis) -> Array:
        """What is expected (h,) of the noise in later periods."""
        return self.estimate.chain.carried(self.left[self.used], axis.ordinals)

    def walked_on(self, view: View, axis: Axis) -> View:
        """The view with the target's expected path over the periods of `axis`, from which its own lags come."""
        if not self.own:
            return view
        _, first = self.columns(self.walk_of_nothing(view, axis), axis).linearised(self.estimate.beta)
        path = running(first + self.carried_to(axis), self.own)
        return view.walked(self.axis.first, np.concatenate([self.working, path]))

    def walk_of_nothing(self, view: View, axis: Axis) -> View:
        """The view with the target's values, and zero in the periods of `axis`."""
        return view.walked(self.axis.first, np.concatenate([self.working, np.zeros(axis.n)]))

    def columns(self, view: View, axis: Axis) -> Design:
        """The terms' columns for the periods of `axis`, with what the fit learnt of them."""
        return lay_out(self.model.terms, view, axis, self.states, self.rows.centres)

    def unknown_ahead(self, view: View, axis: Axis, design: Design, place: int) -> list[Array]:
        """Columns (n, m) of the `place`-th term that only later periods have, times their coefficients' spread."""
        slot = self.layout.slots[place]
        found = []
        for each in self.model.terms[place].fresh(view, axis, self.states[slot.term]):
            spread = np.sqrt(self.ratios[each.group] * self.estimate.variance)
            level = design.level(self.estimate.beta)[:, None] if slot.factor else 1.0
            found.append(each.columns * spread * level)
        return found

    @property
    def left(self) -> Array:
        """What the terms leave unexplained (n,), NaN where unknown."""
        return self.working - self.explained

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

    def seen(self, reference: str) -> Array:
        """Known values (m,) of a column in the periods used; of another frequency, where they end among the fitted."""
        own = self.view.native(reference, self.axis)
        values = self.view.known(reference, own).values
        values = values[self.used] if own is self.axis else values
        return np.asarray(values[np.isfinite(values)])

    def label_of(self, term: Term) -> str:
        """What people call a term: its column's label where its source states one, else its name."""
        if isinstance(term, Interaction):
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
        levels = self.scale.one_step(self.levels, self.explained + self.carried)
        return self.cut(self.mean_of(levels, self.noise, self.factor))

    @cached_property
    def coefficients(self) -> pd.DataFrame:
        """One row a coefficient: ``term, column, kind, coefficient, std_error, t, p, low, high, status``.

        `low` and `high` bound the 95 % interval. Where columns were left out as dependent, the rest is empty.
        """
        return coefficient_table(self)

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
    def figures(self) -> FitFigures:
        """R², adjusted R², residual standard deviation, MAE and MAPE over the periods used."""
        residual = (self.left - self.carried)[self.used]
        return fit_figures(
            self.working[self.used],
            self.target[self.used],
            self.means[self.used],
            rss=float(residual @ residual),
            columns=int(self.estimate.kept.sum()),
            dof=self.estimate.rows - self.estimate.taken,
        )

    @cached_property
    def contributions(self) -> Contributions:
        """What every term contributes to each fitted value, NaN where a driver is unknown."""
        return contribute(self, self.view, self.axis, self.rows, None)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed about the data, the design and the residuals."""
        return (*self.noticed, *remarks(self))

    @cached_property
    def verdicts(self) -> tuple[Verdict, ...]:
        """What every check of the columns and of the noise measured, whether or not it says anything."""
        return examined(self)

    @property
    def checks(self) -> pd.DataFrame:
        """One row a statistic that was looked at: ``check, statistic, value, limit, p, finding``.

        `limit` is where the check speaks, and `finding` whether it does. A value without a limit stands for itself.
        """
        rows = [(each.check, each.statistic, each.value, each.limit, each.p, bool(each.findings))
                for each in self.verdicts]  # fmt: skip
        return pd.DataFrame(rows, columns=["check", "statistic", "value", "limit", "p", "finding"])

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
    def equation(self) -> str:
        """The estimated equation as text: all that values can be computed from, with twelve digits."""
        return equation_text(self)

    def forecast(
        self,
        horizon: int | None = None,
        *,
        until: object = None,
        plan: Table | Panel | pd.DataFrame | Mapping[str, Table | Panel] | None = None,
        levels: Sequence[float] = (0.5, 0.8, 0.95),
        way: Literal["recursion", "direct"] = "recursion",
        edge: Literal["expected", "shifted"] = "expected",
        unplanned: Literal["refuse", "expected"] = "refuse",
        scenario: Assumptions | None = None,
    ) -> Forecast:
        """Forecast the periods after the target's last value.

        Parameters
        ----------
        horizon
            How many periods ahead.
        until
            A date in the last period to forecast, instead of `horizon`.
        plan
            The drivers' future values: a table, or several by the name of the table that each continues. Rows
            after the target's end that their source declares as ``plan`` or ``actual`` serve as well.
        levels
            Probabilities of the central intervals, each giving two quantiles.
        way
            With own lags: ``recursion``, in which a forecast is the later ones' past; or ``direct``, one equation for
            each horizon, whose lags count from the origin. It is less exact where the model is right, and forgives
            more where it is not (Marcellino, Stock & Watson 2006); it gives no intervals of sums.
        edge
            Where values of drivers that tick at another frequency are not out: ``expected`` takes what models of their
            own expect (trend, season, the period before), whose uncertainty the intervals count; ``shifted`` fits
            one equation for each horizon, with the lags that are out at the origin; it gives no intervals of sums.
        unplanned
            Where a driver of the target's own frequency has neither a value nor a plan: ``refuse``, since a forecast
            should say what it rests on; or ``expected``, which asks a model of the driver's own, as `edge` does.
        scenario
            What is assumed of the drivers instead of what is planned: a `Scenario`.

        Raises
        ------
        InputError
            If a driver or holiday table does not reach far enough, naming it and the first period; or if the future
            needs an effect that the fitted periods cannot tell.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
        >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
        >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
        >>> plan = pd.DataFrame({"rain": [0, 1]}, pd.date_range("2024-01-07", periods=2, freq="D"))
        >>> fit.forecast(2, plan=plan).table[["horizon", "forecast"]].round(2).to_numpy().tolist()
        [[1.0, 6.07], [2.0, 4.0]]
        """
        if way not in ("recursion", "direct"):
            raise InputError(f"found {way!r}", 'Give "recursion" or "direct".', key="way")
        if edge not in ("expected", "shifted"):
            raise InputError(f"found {edge!r}", 'Give "expected" or "shifted".', key="edge")
        if unplanned not in ("refuse", "expected"):
            raise InputError(f"found {unplanned!r}", 'Give "refuse" or "expected".', key="unplanned")
        expect = unplanned == "expected"
        if way == "direct" or edge == "shifted":
            return by_horizon(self, horizon, until, plan, levels, direct=way == "direct", shifted=edge == "shifted",
                              expect=expect, scenario=scenario)  # fmt: skip
        return forecast(self, horizon, until, plan, levels, expect=expect, scenario=scenario)

    def again(self, terms: Sequence[Term]) -> Fit:
        """The same data fitted with other terms, from what was known at the same origin."""
        return replace(self.model, terms=tuple(terms)).fit_at(self.information)

    @property
    def information(self) -> Information:
        """What the fit drew on, to fit another model to the same."""
        sources = self.view.sources
        return Information(sources.tables, self.series, self.view.origin, sources.plans, self.view.foreseen)

    @property
    def sentences(self) -> str:
        """What was fitted, how well, and what the drivers do, in sentences."""
        return fit_sentences(self)

    def __str__(self) -> str:
        return f"{wrapped(self.sentences)}\n\n{fit_numbers(self)}\n\n{coefficient_text(self.coefficients, full=False)}"

    @property
    def statistics(self) -> str:
        """All that is known of the coefficients, and all that was checked, to read: more than ``print(fit)`` shows."""
        tables = coefficient_text(self.coefficients, full=True), check_text(self.checks)
        return "\n\n".join([fit_numbers(self), *tables])

    def _repr_html_(self) -> str:
        return as_html(self.sentences, self.coefficients.drop(columns="kind"))
