"""From one forecast to a later one, or to what came: what is done one after the other, and what each does."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from offing.base import InputError
from offing.calendar import Axis
from offing.explain.why.walk import check_same
from offing.model import Forecast
from offing.model.contributions import fitted_account
from offing.model.decomposition import CORRECTION, PAST, UNEXPLAINED, Account
from offing.model.direct_forecast import DirectForecast
from offing.model.fitted import Fitted
from offing.model.options import ModelOptions
from offing.model.reapply import moved, restart
from offing.tables import View
from offing.tables.overlay import ACTUAL, MISSING

REVISED = "revised data"
DRIVERS = "drivers' actual values"
PLANS = "changed assumptions"
NEW = "new actual values"
REESTIMATED = "re-estimated"
MODEL = "changed model"
OTHERWISE = "drivers that turned out otherwise"
LEFT = "unexplained"

#: Accounts of the same periods in their order, each with what leads to it.
Stages = list[tuple[str, Account]]


def scenario_stages(before: Forecast, after: Forecast, axis: Axis) -> Stages:
    """Two forecasts of one fit: only what is assumed of the drivers differs."""
    return [("", _part(before, axis)), ("", _part(after, axis))]


def revised_stages(before: Forecast, after: Forecast, axis: Axis) -> Stages:
    """From a forecast to a later one, in the order in which things become known.

    With the earlier coefficients: values of the past that were revised; actual values of the drivers; what is assumed
    of their future; new actual values of the target. Then the same model re-estimated, and another model. Periods
    that came meanwhile end at their outcome.
    """
    _check_alike(before.fit, after.fit)
    if isinstance(before, DirectForecast) or isinstance(after, DirectForecast):
        return [
            ("", _part(before, axis)),
            (REESTIMATED, _with(_came(after.fit, axis), after, axis)),
        ]
    old, new, sources = before.fit, after.fit, after.view.sources
    same = replace(after.view, patches=old.view.patches)
    # What was known before of each driver's later values stays, until it is its turn.
    kept = _as_before(before)
    stages: Stages = [("", _part(before, axis))]
    for name, view in (
        (REVISED, _assuming(same, kept)),
        (
            DRIVERS,
            _assuming(
                same,
                {
                    each: (own, np.where(marks == ACTUAL, np.nan, values), marks)
                    for each, (own, values, marks) in _seen_after(kept, after).items()
                },
            ),
        ),
        (PLANS, same),
    ):
        fit = moved(old, sources, old.axis, new.view.origin, over=view)
        stages.append((name, _part(restart(before, fit, _onto(fit, view), before.axis), axis)))
    # Trends count from the earlier fit's first period, whether or not the later one looks back as far.
    whole = Axis(old.axis.frequency, old.axis.first, new.axis.first + new.axis.n - old.axis.first)
    fit = moved(old, sources, whole, new.view.origin, over=same)
    # To estimate again changes no outcome: what came stays as the earlier coefficients explain it.
    came = _came(fit, axis)
    stages.append((NEW, _with(came, restart(after, fit, _onto(fit, same), after.axis), axis)))
    if _model_of(old) == _model_of(new):
        return [*stages, (REESTIMATED, _with(came, after, axis))]
    again = _same_model(old, new)
    stages.append((REESTIMATED, _with(came, restart(after, again, _onto(again, same), after.axis), axis)))
    return [*stages, (MODEL, _with(came, after, axis))]


def outcome_stages(before: Forecast, after: Fitted, axis: Axis) -> Stages:
    """From a forecast to what came: revised data, drivers otherwise than assumed, the model again, what it leaves."""
    _check_alike(before.fit, after)
    old, sources = before.fit, after.view.sources
    view = replace(after.view, patches=old.view.patches, path=None)
    stages: Stages = [("", _part(before, axis))]
    for name, each in ((REVISED, _assuming(view, _as_before(before))), (OTHERWISE, view)):
        fit = moved(old, sources, old.axis, after.view.origin, over=each)
        stages.append((name, _part(restart(before, fit, _onto(fit, each), before.axis), axis)))
    drivers = stages[-1][1]
    whole = fitted_account(after).came(after.target).only(_places(after.axis, axis))
    # What the noise before carries on and what is left are one: they were not known, and no term shows them.
    noise = (PAST, CORRECTION, UNEXPLAINED)
    rows = [
        replace(
            row, values=next((each.values for each in drivers.rows if each.name == row.name), np.zeros_like(row.values))
        )
        if row.name in noise
        else row
        for row in whole.rows
    ]
    rows += [row for row in drivers.rows if row.name in noise and row.name not in whole.names]
    modelled = replace(whole, rows=tuple(rows))
    size = np.exp(modelled.whole) if modelled.log else modelled.whole
    return [*stages, (REESTIMATED, replace(modelled, mean=size + whole.extra)), (LEFT, whole)]


def _check_alike(old: Fitted, new: Fitted) -> None:
    check_same(old.label, old.unit, new.label, new.unit)
    if old.axis.frequency != new.axis.frequency:
        raise InputError(
            f"one forecast is by {old.axis.frequency.unit}, the other by {new.axis.frequency.unit}",
            "Walk between forecasts of one frequency.",
            key="against",
        )


def _places(whole: Axis, axis: Axis) -> np.ndarray:
    return np.arange(axis.first - whole.first, axis.first - whole.first + axis.n)


def _part(ahead: Forecast, axis: Axis) -> Account:
    return ahead.account.only(_places(ahead.axis, axis))


def _came(fit: Fitted, axis: Axis) -> Account | None:
    """The periods of `axis` that have come, as outcomes; None where there is none."""
    n = min(fit.axis.first + fit.axis.n - axis.first, axis.n)
    return fitted_account(fit).came(fit.target).only(_places(fit.axis, axis.part(0, n))) if n > 0 else None


def _with(came: Account | None, ahead: Forecast, axis: Axis) -> Account:
    """What came of the periods of `axis`, and the forecast of the rest."""
    n = 0 if came is None else len(came.ordinals)
    if came is not None and n == axis.n:
        return came
    rest = _part(ahead, axis.part(n, axis.n))
    return rest if came is None else came.followed(rest)


def _onto(fit: Fitted, view: View) -> View:
    """The view that looks ahead from a fit's own rows."""
    return replace(view, rows=fit.axis, path=fit.view.path)


def _as_before(before: Forecast) -> dict[str, tuple[Axis, np.ndarray, np.ndarray]]:
    """What the earlier forecast took of each driver in periods that were no outcome then."""
    found: dict[str, tuple[Axis, np.ndarray, np.ndarray]] = {}
    view = before.view
    for term in before.fit.model.terms:
        for reference in filter(view.numeric, term.needs()):
            reach = view.reach(reference)
            near = view.native(reference, before.axis)
            own = Axis(reach.frequency, reach.first, max(reach.n, near.first + near.n - reach.first))
            known = view.known(reference, own)
            values = np.where((known.marks != ACTUAL) & (known.marks != MISSING), known.values, np.nan)
            found[reference] = own, values, known.marks
    return found


def _seen_after(
    kept: dict[str, tuple[Axis, np.ndarray, np.ndarray]], after: Forecast
) -> dict[str, tuple[Axis, np.ndarray, np.ndarray]]:
    """The same with the marks that the later forecast has."""
    return {
        reference: (own, values, after.view.known(reference, own).marks) for reference, (own, values, _) in kept.items()
    }


def _assuming(view: View, kept: dict[str, tuple[Axis, np.ndarray, np.ndarray]]) -> View:
    for reference, (own, values, marks) in kept.items():
        view = view.assuming(reference, own.first, values, marks)
    return view


def _model_of(fit: Fitted) -> ModelOptions:
    """What makes two models one: all but their names, and the pulses that treatments of the data set."""
    return replace(fit.model, name="", terms=[term for term in fit.model.terms if not term.from_treatment])


def _same_model(old: Fitted, new: Fitted) -> Fitted:
    fitted: Fitted = new.fitter(_model_of(old), new.information)
    return fitted
