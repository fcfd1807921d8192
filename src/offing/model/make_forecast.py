"""Making a forecast: how far, from which plans and assumptions, and what must be known for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Protocol

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.base.limits import check_ahead
from offing.calendar import Axis
from offing.calendar.axis import instant_of
from offing.diagnostics.rank import is_constant
from offing.model.driver_forecasts import Made, looked_ahead
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED, Forecast
from offing.tables import Panel, Sources, Table, View, read
from offing.terms import Term, naming_term

#: Levels of the intervals where none are stated.
LEVELS = (0.5, 0.8, 0.95)


class Assumptions(Protocol):
    """What a forecast may assume of its drivers: a name, and a view with all that it needs on some periods."""

    @property
    def name(self) -> str:
        """What it is called."""

    def on(self, fit: Fitted, view: View, axis: Axis) -> tuple[View, dict[str, str]]:
        """The view with everything assumed, and what that is of each driver in words."""


def forecast(
    fit: Fitted,
    horizon: int | None,
    until: object,
    plan: Table | Panel | pd.DataFrame | Mapping[str, Table | Panel] | None,
    levels: Sequence[float],
    *,
    expect: bool = False,
    made: Made | None = None,
    scenario: Assumptions | None = None,
) -> Forecast:
    """See ``Fit.forecast``; with `expect` drivers without a plan have models, which may have `made` theirs before."""
    axis = fit.axis.after(_horizon(fit.axis, horizon, until))
    if not levels or not all(0.0 < level < 1.0 for level in levels):
        raise InputError(f"found {list(levels)!r}", "Give probabilities between 0 and 1.", key="levels")
    view = fit.view
    if plan is not None:
        view = replace(view, sources=Sources(view.sources.tables, _plans(fit, plan)))
    name, assumed = AS_PLANNED, dict[str, str]()
    if scenario is not None:
        name, (view, assumed) = scenario.name, scenario.on(fit, view, axis)
    view, outlooks = looked_ahead(fit, view, axis, _onward, every=expect, made=made)
    for term in fit.model.terms:
        with naming_term(term):
            check_known(view, term, axis)
    _check_scale(fit, view, axis)
    view = fit.walked_on(view, axis)
    ahead = Forecast(fit, view, axis, fit.columns(view, axis), tuple(levels), outlooks, name, assumed)
    _check_identified(fit, ahead.design, axis)
    with np.errstate(over="ignore"):
        endless = ahead.endless
    if len(endless):
        first = int(endless[0])
        raise InputError(
            "the forecast grows beyond all numbers",
            'Use scale = "level", fewer terms or a shorter horizon.',
            period=axis.part(first, first + 1).labels()[0],
        )
    return ahead


def _onward(fit: Fitted, horizon: int) -> Forecast:
    """A driver's own forecast, which needs no plan."""
    return forecast(fit, horizon, None, None, LEVELS)


def _horizon(axis: Axis, horizon: int | None, until: object) -> int:
    if (horizon is None) == (until is None):
        raise InputError("a forecast needs either a horizon or an end", "Give horizon or until.", key="horizon")
    if until is None:
        if isinstance(horizon, bool) or not isinstance(horizon, (int, np.integer)) or horizon < 1:
            raise InputError(f"found {horizon!r}", "Give a whole number of periods from 1 on.", key="horizon")
        check_ahead(int(horizon), axis.frequency.periods_a_year)
        return int(horizon)
    try:
        last = int(axis.frequency.ordinals(instant_of(until, axis.frequency))[0])
    except (ValueError, TypeError) as error:
        raise InputError(f"found {until!r}, which is not a date", key="until") from error
    periods = last - (axis.first + axis.n) + 1
    if periods < 1:
        raise InputError(
            f"{until} lies before the end of the data, {axis.part(axis.n - 1, axis.n).labels()[0]}",
            key="until",
        )
    check_ahead(periods, axis.frequency.periods_a_year, "until")
    return periods


def _plans(fit: Fitted, plan: Table | Panel | pd.DataFrame | Mapping[str, Table | Panel] | None) -> dict[str, Table]:
    tables = fit.view.sources.tables
    if plan is None:
        return {}
    if isinstance(plan, Panel):
        plan = plan[fit.series]
    if isinstance(plan, Mapping):
        for name in plan:
            if name not in tables:
                raise InputError(f"there is a plan for {name!r}, which is no table of the fit", key="plan")
        return {name: each[fit.series] if isinstance(each, Panel) else each for name, each in plan.items()}
    if len(tables) > 1:
        raise InputError("several tables were fitted", "Give the plans by table, as a dictionary.", key="plan")
    ((name, table),) = tables.items()
    if isinstance(plan, Table):
        return {name: plan}
    return {name: read(plan, name="plan", **table.axis.frequency.stated)}


def check_known(view: View, term: Term, axis: Axis) -> None:
    """Refuse periods in which a value that the term needs is not known, and say how it could be."""
    unknown = term.first_unknown(view, axis)
    if unknown is None:
        return
    reference, missing = unknown
    if reference == view.goal.target:
        raise InputError(
            "the target is missing there, but its own lags need it",
            'Fill it with a treatment, such as missing = "linear".',
            period=missing.labels()[0],
        )
    if view.numeric(reference):
        more = int(np.isnan(view.known(reference, view.native(reference, axis)).values).sum()) - 1
    else:
        more = int((view.words(reference, axis) == "").sum()) - 1
    raise InputError(
        "the driver has no value there"
        + (f", and in {count(more, f'more {missing.frequency.unit}')} of the forecast" if more > 0 else ""),
        view.why_missing(reference, missing),
        period=missing.labels()[0],
    )


def _check_scale(fit: Fitted, view: View, axis: Axis) -> None:
    """The way back from the working scale must be known: future factors, and the last values."""
    for step in fit.scale.factors:
        for reference in step.needs():
            unknown = np.flatnonzero(np.isnan(view.known(reference, axis).values))
            if len(unknown):
                missing = axis.part(int(unknown[0]), int(unknown[0]) + 1)
                raise InputError(
                    f"'{reference}' has no value there, but the way back to the target needs it",
                    view.why_missing(reference, missing),
                    period=missing.labels()[0],
                    key="transform",
                )
    last = fit.levels[len(fit.levels) - fit.scale.before :]
    gone = np.flatnonzero(np.isnan(last))
    if len(gone):
        at = fit.axis.n - fit.scale.before + int(gone[0])
        raise InputError(
            "the target is missing there, but the forecast of its changes starts from it",
            'Fill it with a treatment, such as missing = "linear".',
            period=fit.axis.part(at, at + 1).labels()[0],
        )


def _check_identified(fit: Fitted, design: Array, axis: Axis) -> None:
    """Refuse a future that parts what the fitted periods never parted: the data say nothing about it."""
    drivers = {str(term.name) for term in fit.model.drivers}
    for column in np.flatnonzero(fit.estimate.unidentified(design)):
        if fit.layout.owners[column] in drivers and is_constant(fit.estimate, int(column)):
            continue  # left out with a warning: nothing is known of what another value would do
        weights = fit.estimate.dependence(int(column))
        gap = np.abs(design[:, column] - design @ weights)
        first = int(np.argmax(gap > 1e-7 * max(gap.max(), 1e-300)))
        raise InputError(
            f"the effect of '{fit.layout.names[column]}' could not be separated from other columns in the fit, "
            "but the forecast needs it by itself",
            f"Remove the term '{fit.layout.owners[column]}', or the terms that it cannot be separated from.",
            period=axis.part(first, first + 1).labels()[0],
        )
