"""The model: a target, a scale and terms."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Literal, Protocol

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, Keywords, Progress
from offing.calendar import Axis, Frequency, on_clock_of
from offing.calendar.axis import instant_of
from offing.checks import missing_drivers
from offing.engine import (
    Covariance,
    Dynamics,
    Loss,
    TooFewRowsError,
)
from offing.model.estimation import check_estimation, check_options, check_together
from offing.model.fit import Fit
from offing.model.layout import lay_out
from offing.model.scale import Scale, check_target_steps
from offing.model.settling import settled
from offing.model.solving import Sample, chosen_design, judged, solve_design
from offing.model.target_checks import (
    check_drivers,
    check_rows,
    check_target,
    check_treatments,
    constant_target,
)
from offing.tables import Goal, Information, Panel, Patch, Sources, Table, Treat, View, not_in_all, read, split_series
from offing.tables.table import Array
from offing.tables.treat import zero_question
from offing.terms import Interaction, Pulses, Term, telling
from offing.terms.transforms import Stated, Step, steps_of

Data = Table | Panel | pd.DataFrame | pd.Series | Mapping[str, Table | Panel]


class DriverSelector(Protocol):
    """What selects drivers beside a model's terms, from what a fit without them knew."""

    def select(self, base: Fit) -> Sequence[Term]:
        """The terms to add."""

    def needs(self) -> Sequence[str]:
        """The columns that it looks at."""


class SeriesFits(dict[str, "Fit"]):
    """A fit by series; `left_out` says of the series that cannot be fitted, or forecast, why."""

    def __init__(self) -> None:
        super().__init__()
        self.left_out: dict[str, InputError] = {}

    def leave_out(self, series: str, error: InputError) -> None:
        """Keep the reason why a series has no result."""
        self.left_out[series] = error
        self.pop(series, None)


@dataclass(frozen=True)
class Model(Keywords):
    """A forecast as a sum of terms, plus a constant that is always there.

    Parameters
    ----------
    target
        The column to forecast, as ``column`` or ``table.column``.
    terms
        The pieces: `Trend`, `Season`, `Holidays`, `Driver`. Their names must differ.
    scale
        ``level``, where terms add up, or ``log``, where they multiply and the target must be positive.
    treatments
        How columns are treated before the terms see them: a `Treat` each.
    transform
        What becomes of the target before the fit, as for a `Driver`: factors such as ``{"deflate": "prices.index"}`` or
        ``per day`` first, then changes such as ``difference``. Forecasts, quantiles and contributions come
        back in the target's own unit.
    offset
        On the log scale: what is added before the logarithm, for a target that can be zero.
    lower_limit, upper_limit
        What the target cannot pass. Forecasts, quantiles and contributions respect it.
    errors
        ``independent``, or ``ar``: noise of which a share comes back in the next period, learnt by restricted maximum
        likelihood. By default independent, unless a term learns from how neighbouring periods change, as bends that
        are found from the data do.
    order
        With ``ar``: over how many periods noise carries on; ``chosen`` for the best of 0 to 6 by Schwarz's criterion.
    seasonal_lag
        With ``ar``: a number of periods after which noise comes back as well, such as 52 for weeks or 24 for hours.
    loss
        ``squares``; ``huber``, to which a large residual counts by its size alone; or ``tukey``, to which a very large
        one does not count at all.
    half_life
        After how many periods an observation counts half, for a world that changes; by default all count alike.
    window
        How many of the newest periods are fitted; by default all of them.
    covariance
        Of the coefficients: ``classical`` for noise of one variance; ``hc0`` to ``hc3`` where it may differ from period
        to period, of which hc3 is the most careful with few rows; ``newey-west`` where neighbours may be alike too;
        ``clustered`` where all periods of a cluster may be alike in any way.
    clusters
        With ``clustered``: ``year``, ``quarter``, ``month`` or ``week``. There should be thirty or more of them.

    chosen
        Names of terms that were chosen on the data to be fitted: no p is told for them, as none would mean what it
        says.
    driver_selection
        A `DriverSelection`: drivers selected at every fit from what it knows, beside the terms.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2020-01", periods=36, freq="M")
    >>> sold = pd.Series(100.0 + np.arange(36) + 10 * (months.month == 12), months, name="sold")
    >>> fit = of.Model("sold", terms=[of.Trend(), of.Season("year")]).fit(sold)
    >>> fit.forecast(2).table["forecast"].round(6).tolist()
    [136.0, 137.0]
    """

    target: str
    terms: Sequence[Term] = ()
    scale: Literal["level", "log"] = "level"
    name: str = "main"
    treatments: Sequence[Treat] = ()
    transform: Sequence[Stated] = ()
    offset: float = 0.0
    lower_limit: float | None = None
    upper_limit: float | None = None
    errors: Literal["independent", "ar"] | None = None
    order: int | Literal["chosen"] = 1
    seasonal_lag: int | None = None
    loss: Loss = "squares"
    half_life: float | None = None
    window: int | None = None
    covariance: Covariance = "classical"
    clusters: Literal["year", "quarter", "month", "week"] | None = None
    chosen: Sequence[str] = ()
    driver_selection: DriverSelector | None = None
    smooth_target: ClassVar[bool] = False

    def __post_init__(self) -> None:
        if not isinstance(self.target, str) or not self.target:
            raise InputError(f"found {self.target!r}", "Give the target's column.", key="target")
        if self.scale not in ("level", "log"):
            raise InputError(f"found {self.scale!r}", 'Give "level" or "log".', key="scale")
        if isinstance(self.terms, Term):
            raise InputError("found one term", "Give a list of terms.", key="terms")
        for term in self.terms:
            if not isinstance(term, Term):
                raise InputError(f"found {term!r}, which is no term", "Give terms such as Trend().", key="terms")
        names = [term.name for term in self.terms]
        for name in names:
            if names.count(name) > 1:
                raise InputError(f"two terms are called '{name}'", "Give one of them another name.", key="terms")
        for each in self.treatments:
            if not isinstance(each, Treat):
                raise InputError(f"found {each!r}, which is no treatment", "Give a list of Treat.", key="treatments")
        columns = [each.data for each in self.treatments]
        for column in columns:
            if columns.count(column) > 1:
                raise InputError(f"{column!r} has two treatments", "Put them into one.", key="treatments")
        check_target_steps(steps_of(self.transform), log=self.scale == "log")
        check_options(self)
        check_together(self)
        check_estimation(self)
        object.__setattr__(self, "chosen", tuple(self.chosen))
        object.__setattr__(self, "transform", tuple(self.transform))
        by_name = {str(term.name): term for term in self.terms}
        terms = []
        for term in self.terms:
            with telling(term):
                terms.append(term.among(by_name) if isinstance(term, Interaction) else term)
        object.__setattr__(self, "terms", tuple(terms))
        object.__setattr__(self, "treatments", tuple(self.treatments))

    @property
    def dynamics(self) -> Dynamics | None:
        """How the noise of a period is taken to carry on; None where it is independent."""
        if self.errors == "ar" or (self.errors is None and any(term.needs_dynamics for term in self.terms)):
            return Dynamics(None if self.order == "chosen" else self.order, self.seasonal_lag)
        return None

    @property
    def goal(self) -> Goal:
        """What terms may know of the target."""
        return Goal(self.target, self.scale == "log", self.offset)

    def needs(self) -> tuple[str, ...]:
        """The columns that its terms, and the drivers from which it selects, look at."""
        found = [reference for term in self.terms for reference in term.needs()]
        found += [] if self.driver_selection is None else self.driver_selection.needs()
        return tuple(dict.fromkeys(found))

    @property
    def support(self) -> tuple[float, float] | None:
        """Between what values the target lies: its limits and, with the logarithm of the target itself, the offset."""
        ends = -self.offset if self.scale == "log" and not self.transform else -np.inf
        low = max(-np.inf if self.lower_limit is None else self.lower_limit, ends)
        high = np.inf if self.upper_limit is None else self.upper_limit
        return None if (low, high) == (-np.inf, np.inf) else (low, high)

    @property
    def steps(self) -> tuple[Step, ...]:
        """The target's transformations."""
        return steps_of(self.transform)

    def fit(self, data: Data, *, as_of: object = None) -> Fit:
        """Estimate the model by least squares on all periods from the target's first value to its last.

        Parameters
        ----------
        data
            A Table from `offing.read`, a DataFrame or Series with dates as its index, or several Tables by name.
        as_of
            A date or time: only what was known then counts, by the release delays of the sources. By default the
            moment at which the target's last value became known; or later, with drivers that tick at another
            frequency, when the last of their values did.

        Returns
        -------
        Fit
            Periods whose target or drivers are unknown are left out and still get a fitted value where the
            drivers allow one.

        Raises
        ------
        InputError
            If a column is missing or not numeric, the target is constant or without values, not positive with the
            log scale, or the rows do not suffice for the columns.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
        >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
        >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
        >>> fit.coefficients["coefficient"].round(2).tolist()
        [6.07, -2.07]
        """
        fits = self.fit_each(data, as_of=as_of)
        if len(fits) > 1:
            raise InputError(f"there are {len(fits)} series", "Use fit_each, which gives a fit for each.", key="id")
        return next(iter(fits.values()))

    def fit_each(self, data: Data, *, as_of: object = None) -> SeriesFits:
        """Fit each series of a target that has several, by id; a source without ids serves all of them.

        A series that cannot be fitted does not stop the others: ``left_out`` of what is returned names it, and why.

        Raises
        ------
        InputError
            As `fit`, if no series can be fitted.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> months = ["2024-01", "2024-02", "2024-03"] * 2
        >>> rows = pd.DataFrame({"month": months, "port": ["N"] * 3 + ["S"] * 3, "sold": [3, 4, 6, 1, 5, 2]})
        >>> list(of.Model("sold").fit_each(of.read(rows, id="port")))
        ['N', 'S']
        """
        given = tables_of(data)
        every = split_series(given, self.target)
        fits = SeriesFits()
        bar = Progress("fitting series")
        for done, (series, tables) in enumerate(every.items()):
            bar.update(done / len(every))
            try:
                fits[series] = self.fit_at(Information(tables, series, as_of))
            except InputError as error:
                if not series:
                    raise
                error.found = f"series {series!r}: {error.found}"
                fits.leave_out(series, error)
        bar.end()
        if not fits:
            raise next(iter(fits.left_out.values()))
        fits.left_out |= not_in_all(given, self.target)
        return fits

    def fit_at(self, information: Information) -> Fit:
        """Fit one series from an information set: the one door through which every fit and refit goes."""
        if information.window is not None:
            return replace(self, window=information.window).fit_at(replace(information, window=None))
        if self.driver_selection is not None:
            base = replace(self, driver_selection=None)
            added = self.driver_selection.select(base.fit_at(information))
            names = (str(term.name) for term in added)
            selected = replace(base, terms=(*self.terms, *added), chosen=(*self.chosen, *names))
            return replace(selected.fit_at(information), stated=self)
        sources, as_of = information.sources, information.as_of
        source, column = sources.find(self.target)
        table = sources.tables[source]
        axis, origin = self._span(sources, table, column, as_of)
        check_treatments(self, sources)
        view = information.view(origin, axis, self.goal)
        patches = [each.learn(view, self._explained(view, axis, each, source, column)) for each in self.treatments]
        view = view.treated(patches)
        model = self._with_pulses(patches, source, column)
        target = view.known(self.target, axis).values
        there = target[np.isfinite(target)]
        if len(there) and np.ptp(there) == 0.0 and (self.terms or self.scale == "log" or self.transform):
            return replace(self._of_constant().fit_at(information), stated=self)
        check_target(self, target, table, column, axis)
        check_drivers(self, view)
        scale = Scale.of(self.transform, self.scale == "log", axis.frequency, self.offset)
        factor = scale.factor(view, self.target, axis)
        levels = scale.levels(target, factor, axis)
        working = scale.working(levels, axis)
        view = view.walked(axis.first, working)
        model, settlings = settled(model, view, working)
        states = {}
        for term in model.terms:
            with telling(term):
                states[str(term.name)] = term.learn(view)
        design = lay_out(model.terms, view, axis, states)
        known = np.isfinite(working)
        used = known & design.known
        sample = Sample(working[used], used, axis)
        design = chosen_design(model, design, states, view, sample)
        if (centres := design.means(used)) is not None:
            design = replace(design, centres=centres)
        check_rows(design, used, int((design.layout.groups[0] < 0).sum()) - (not design.layout.constant), axis)
        try:
            solved = solve_design(model, design, sample)
        except TooFewRowsError as error:
            raise InputError(str(error), "Use fewer terms or more data.", file=table.name) from error
        layout = design.layout
        estimate = judged(model, solved.estimate, design, sample)
        findings = (
            *settlings,
            *(() if as_of is not None else _later_origin(table, axis, origin)),
            *_findings(view, model, states, target),
            *((constant_target(float(target[used][0]), column, axis),) if np.ptp(target[used]) == 0.0 else ()),
            *missing_drivers(
                design.linear, layout.owners[: layout.linear], known,
                lambda row: axis.part(row, row + 1).labels()[0], axis.frequency.unit,
            ),
            *(() if solved.converged else (_unsettled(),)),
        )  # fmt: skip
        return Fit(
            model, source, column, view, states, scale, target, factor, levels, working, used, design, estimate,
            dict(zip(layout.groups[1], solved.ratios.tolist(), strict=True)), findings, solved.carried, self,
            information.series,
        )  # fmt: skip

    def _explained(self, view: View, axis: Axis, treat: Treat, source: str, column: str) -> Array | None:
        """What days and drivers explain of the target (n, k): a holiday that the model contains is no outlier."""
        terms = [term for term in self.terms if not term.own_course]
        if not terms or view.sources.find(treat.data) != (source, column):
            return None
        columns = []
        for term in terms:
            with telling(term):
                columns.append(term.block(view, axis, term.learn(view)).columns)
        found = np.hstack(columns)
        return found if found.shape[1] < axis.n // 3 else None

    def _of_constant(self) -> Model:
        """What is left of the model where the target never varies: the constant alone."""
        return replace(self, terms=(), scale="level", transform=(), offset=0.0, errors="independent", order=1,
                       seasonal_lag=None, chosen=(), driver_selection=None)  # fmt: skip

    def _with_pulses(self, patches: Sequence[Patch], source: str, column: str) -> Model:
        """The model with a pulse for each value that a treatment of the target set apart."""
        pulses = [at for patch in patches if (patch.source, patch.column) == (source, column) for at in patch.pulses]
        # Those of another fit, from which the model may come, were learnt from what that fit knew.
        terms = [term for term in self.terms if not isinstance(term, Pulses)]
        return replace(self, terms=[*terms, Pulses(tuple(pulses))] if pulses else terms)

    def _span(self, sources: Sources, table: Table, column: str, as_of: object) -> tuple[Axis, int]:
        """The periods from the target's first value to its last that is known at the origin, and that instant."""
        known = np.flatnonzero(np.isfinite(table.values(column)))
        if not len(known):
            raise InputError("the target has no values", file=table.name, column=column)
        released = table.known_at()[known]
        if as_of is None:
            origin = max([int(released[-1]), *(self._others(sources, table.axis.frequency))])
        else:
            origin = _instant(as_of, table.axis.frequency)
            known = known[released <= origin]
            if not len(known):
                first = table.axis.frequency.index(released[:1])[0]
                raise InputError(f"nothing of the target was known on {as_of}: its first value came out on "
                                 f"{first:%Y-%m-%d}", "Give a later date.", file=table.name, column=column,
                                 key="as_of")  # fmt: skip
        start, end = int(known[0]), int(known[-1]) + 1
        start = start if self.window is None else max(start, end - self.window)
        return table.axis.part(start, end), origin

    def _others(self, sources: Sources, frequency: Frequency) -> Iterator[int]:
        """When the last values of drivers that tick at another frequency became known, on the target's clock."""
        for owner, reference in [(term, reference) for term in self.terms for reference in term.needs()]:
            with telling(owner):
                source, column = sources.find(reference)
            table = sources.tables[source]
            if table.axis.frequency == frequency or table.later_rows == "plan":
                continue
            known = np.flatnonzero(np.isfinite(table.values(column)))
            if len(known):
                yield int(on_clock_of(frequency, table.axis.frequency, table.known_at()[known[-1:]])[0])


@dataclass(frozen=True)
class DriverModel(Model):
    """A driver's own model, whose target is the driver as the terms of another model see it, smoothed or not."""

    smooth_target: ClassVar[bool] = True


def tables_of(data: Data) -> dict[str, Table | Panel]:
    """The tables by name, whatever was given."""
    if isinstance(data, (Table, Panel)):
        return {"data": data}
    if isinstance(data, Mapping):
        for name, table in data.items():
            if not isinstance(table, (Table, Panel)):
                raise InputError(f"found {type(table).__name__} under {name!r}", "Give Tables made by read.")
        return dict(data)
    return {"data": read(data)}


def _instant(moment: object, frequency: Frequency) -> int:
    if isinstance(moment, (int, np.integer)) and not isinstance(moment, bool):
        return int(moment)
    try:
        return int(instant_of(moment, frequency)[0])
    except (ValueError, TypeError) as error:
        raise InputError(
            f"found {moment!r}, which is not a date", "Give one such as 2026-05-21.", key="as_of"
        ) from error


def _later_origin(table: Table, axis: Axis, origin: int) -> tuple[Finding, ...]:
    """A note where the last value of a driver, and not that of the target, makes the moment of the forecast."""
    own = int(table.known_at()[axis.first + axis.n - 1 - table.axis.first])
    if origin <= own:
        return ()
    moment, before = (f"{axis.frequency.index(np.array([each]))[0]:%Y-%m-%d}" for each in (origin, own))
    message = (
        f"All is seen from {moment}, when the last value of a faster or slower driver came out; the target's own came "
        f"out on {before}."
    )
    return (Finding("origin", "note", message, advice="State as_of to see it from another date.",
                    evidence={"origin": moment, "target": before}),)  # fmt: skip


def _unsettled() -> Finding:
    return Finding(
        "not settled", "warning", "The search for the shape parameters did not come to rest.",
        advice="State limits, use a simpler form, or fit more data.",
    )  # fmt: skip


def _findings(view: View, model: Model, states: Mapping[str, object], target: Array) -> tuple[Finding, ...]:
    noticed = [finding for table in view.sources.tables.values() for finding in table.findings]
    noticed += [finding for patch in view.patches.values() for finding in patch.findings]
    if view.sources.find(model.target) not in view.patches:
        noticed += zero_question(view.sources.find(model.target)[1], view.rows, target)
    noticed += [remark for term in model.terms for remark in term.remarks(view, states[str(term.name)])]
    return tuple(noticed)
