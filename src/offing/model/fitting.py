"""The one door through which every model is fitted and refitted, from what was known at an origin."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from offing.base import Finding, InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, on_clock_of
from offing.calendar.axis import instant_of
from offing.diagnostics import missing_drivers
from offing.engine import (
    TooFewRowsError,
)
from offing.model.design import lay_out
from offing.model.estimation import Sample, chosen_design, judged, solve_design
from offing.model.fitted import Fitted
from offing.model.lag_selection import with_selected_lags
from offing.model.options import ModelOptions
from offing.model.target_checks import (
    check_drivers,
    check_rows,
    check_target,
    check_treatments,
    constant_target,
)
from offing.model.target_transform import Scale
from offing.tables import Information, Patch, Sources, Table, Treat, View
from offing.tables.treatments import zero_question
from offing.terms import Pulses, naming_term


def fit_at(options: ModelOptions, information: Information) -> Fitted:
    """Fit one series from an information set: the one door through which every fit and refit goes."""
    if information.window is not None:
        return fit_at(replace(options, window=information.window), replace(information, window=None))
    if options.driver_selection is not None:
        base = replace(options, driver_selection=None)
        added = options.driver_selection.select(fit_at(base, information))
        names = (str(term.name) for term in added)
        selected = replace(base, terms=(*options.terms, *added), chosen=(*options.chosen, *names))
        return replace(fit_at(selected, information), stated=options)
    sources, as_of = information.sources, information.as_of
    source, column = sources.find(options.target)
    table = sources.tables[source]
    axis, origin = _span(options, sources, table, column, as_of)
    check_treatments(options, sources)
    view = information.view(origin, axis, options.goal)
    patches = [each.learn(view, _explained(options, view, axis, each, (source, column))) for each in options.treatments]
    view = view.treated(patches)
    model = _with_pulses(options, patches, source, column)
    target = view.known(model.target, axis).values
    there = target[np.isfinite(target)]
    if len(there) and np.ptp(there) == 0.0 and (options.terms or options.scale == "log" or options.transform):
        return replace(fit_at(_of_constant(options), information), stated=options)
    check_target(model, target, table, column, axis)
    check_drivers(model, view)
    scale = Scale.of(model.transform, model.scale == "log", axis.frequency, model.offset)
    factor = scale.factor(view, model.target, axis)
    levels = scale.levels(target, factor, axis)
    transformed = scale.transformed(levels, axis)
    view = view.walked(axis.first, transformed)
    model, selections = with_selected_lags(model, view, transformed)
    states = {}
    for term in model.terms:
        with naming_term(term):
            states[str(term.name)] = term.learn(view)
    design = lay_out(model.terms, view, axis, states)
    known = np.isfinite(transformed)
    used = known & design.known
    sample = Sample(transformed[used], used, axis)
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
        *selections,
        *(() if as_of is not None else _later_origin(table, axis, origin)),
        *_findings(view, model, states, target),
        *((constant_target(float(target[used][0]), column, axis),) if np.ptp(target[used]) == 0.0 else ()),
        *missing_drivers(
            design.linear,
            layout.owners[: layout.linear],
            known,
            lambda row: axis.part(row, row + 1).labels()[0],
            axis.frequency.unit,
        ),
        *(() if solved.converged else (_unsettled(),)),
    )
    return Fitted(
        model,
        source,
        column,
        view,
        states,
        scale,
        target,
        factor,
        levels,
        transformed,
        used,
        design,
        estimate,
        dict(zip(layout.groups[1], solved.ratios.tolist(), strict=True)),
        findings,
        solved.noise_fit,
        options,
        fit_at,
        information.series,
    )


def _explained(model: ModelOptions, view: View, axis: Axis, treat: Treat, place: tuple[str, str]) -> Array | None:
    """What days and drivers explain of the target (n, k): a holiday that the model contains is no outlier."""
    terms = [term for term in model.terms if not term.own_course]
    if not terms or view.sources.find(treat.data) != place:
        return None
    columns = []
    for term in terms:
        with naming_term(term):
            columns.append(term.block(view, axis, term.learn(view)).columns)
    found = np.hstack(columns)
    return found if found.shape[1] < axis.n // 3 else None


def _of_constant(model: ModelOptions) -> ModelOptions:
    """What is left of the model where the target never varies: the constant alone."""
    return replace(
        model,
        terms=(),
        scale="level",
        transform=(),
        offset=0.0,
        errors="independent",
        order=1,
        seasonal_lag=None,
        chosen=(),
        driver_selection=None,
    )


def _with_pulses(model: ModelOptions, patches: Sequence[Patch], source: str, column: str) -> ModelOptions:
    """The model with a pulse for each value that a treatment of the target set apart."""
    pulses = [at for patch in patches if (patch.source, patch.column) == (source, column) for at in patch.pulses]
    # Those of another fit, from which the model may come, were learnt from what that fit knew.
    terms = [term for term in model.terms if not term.from_treatment]
    return replace(model, terms=[*terms, Pulses(tuple(pulses))] if pulses else terms)


def fitted_span(model: ModelOptions, sources: Sources, source: str, column: str) -> tuple[Axis, int]:
    """The periods of the target that are fitted today, and the instant at which the last value became known."""
    return _span(model, sources, sources.tables[source], column, None)


def _span(model: ModelOptions, sources: Sources, table: Table, column: str, as_of: object) -> tuple[Axis, int]:
    """The periods from the target's first value to its last that is known at the origin, and that instant."""
    known = np.flatnonzero(np.isfinite(table.values(column)))
    if not len(known):
        raise InputError("the target has no values", file=table.name, column=column)
    released = table.known_at()[known]
    if as_of is None:
        origin = max([int(released[-1]), *(_others(model, sources, table.axis.frequency))])
    else:
        origin = _instant(as_of, table.axis.frequency)
        known = known[released <= origin]
        if not len(known):
            first = table.axis.frequency.index(released[:1])[0]
            raise InputError(
                f"nothing of the target was known on {as_of}: its first value was released on {first:%Y-%m-%d}",
                "Give a later date.",
                file=table.name,
                column=column,
                key="as_of",
            )
    start, end = int(known[0]), int(known[-1]) + 1
    start = start if model.window is None else max(start, end - model.window)
    return table.axis.part(start, end), origin


def _others(model: ModelOptions, sources: Sources, frequency: Frequency) -> Iterator[int]:
    """When the last values of drivers of another frequency became known, on the target's clock."""
    for owner, reference in [(term, reference) for term in model.terms for reference in term.needs()]:
        with naming_term(owner):
            source, column = sources.find(reference)
        table = sources.tables[source]
        if table.axis.frequency == frequency or table.later_rows == "plan":
            continue
        known = np.flatnonzero(np.isfinite(table.values(column)))
        if len(known):
            yield int(on_clock_of(frequency, table.axis.frequency, table.known_at()[known[-1:]])[0])


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
        f"All is seen from {moment}, when the last value of a faster or slower driver was released; the target's "
        f"own was released on {before}."
    )
    return (
        Finding(
            "origin",
            "note",
            message,
            advice="State as_of to see it from another date.",
            evidence={"origin": moment, "target": before},
        ),
    )


def _unsettled() -> Finding:
    return Finding(
        "not converged",
        "warning",
        "The search for the shape parameters did not come to rest.",
        advice="State limits, use a simpler form, or fit more data.",
    )


def _findings(view: View, model: ModelOptions, states: Mapping[str, object], target: Array) -> tuple[Finding, ...]:
    noticed = [finding for table in view.sources.tables.values() for finding in table.findings]
    noticed += [finding for patch in view.patches.values() for finding in patch.findings]
    if view.sources.find(model.target) not in view.patches:
        noticed += zero_question(view.sources.find(model.target)[1], view.rows, target)
    noticed += [remark for term in model.terms for remark in term.remarks(view, states[str(term.name)])]
    return tuple(noticed)
