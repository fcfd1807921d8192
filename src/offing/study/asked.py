"""What a study asks beyond its forecasts: scenarios, walks, changes of drivers, goals, adjustments by hand."""

from __future__ import annotations

import dataclasses
from typing import TYPE_CHECKING, Any

import pandas as pd

from offing.explain import (
    Overridden,
    Override,
    Scenarios,
    Sensitivity,
    Sought,
    Walk,
    override,
    scenarios,
    seek,
    sensitivity,
    walk,
)
from offing.explain.spans import named_span
from offing.judging import recalibrate
from offing.model import Fit
from offing.model.direct import DirectForecast
from offing.outlook import driver_names
from offing.study.against import held_against, made_then

if TYPE_CHECKING:
    from offing.study.study import Study


def study_scenarios(study: Study) -> dict[str, Scenarios]:
    """See ``Study.what_if``."""
    if not study.scenarios:
        return {}
    found = {}
    for name, fit in study.fits.items():
        drivers = {str(term.name) for term in fit.model.terms} | {each for t in fit.model.terms for each in t.needs()}
        own = [each for each in study.scenarios.values() if all(driver in drivers for driver, _ in each.rules)]
        if own:
            with study.placing(("scenarios",)):
                found[name] = scenarios(fit, own, **study.how)
            way = study.spec.forecast.intervals
            if way != "model":
                with study.placing(("forecast", "intervals")):
                    each = {key: recalibrate(ahead, study.backtest, way=way)
                            for key, ahead in found[name].forecasts.items()}  # fmt: skip
                found[name] = dataclasses.replace(found[name], forecasts=each)
    return found


def study_walks(study: Study) -> dict[str, list[Walk]]:
    """See ``Study.walks``."""
    found: dict[str, list[Walk]] = {name: [] for name in study.fits}
    for i, asked in enumerate(study.spec.walks):
        with study.placing(("walks", i)):
            for name in study.fits:
                if asked.scenario is None or asked.scenario in getattr(study.what_if.get(name), "names", ()):
                    found[name].append(study_walk(study, name, asked.against, by=asked.by, span=asked.span,
                                            scenario=asked.scenario))  # fmt: skip
    return found


def study_walk(
    study: Study, name: str, against: Any, *, by: str | None = None, span: Any = None, scenario: str | None = None
) -> Walk:
    """One walk of a fit, with the study's groups as far as the fit has their terms."""
    end, start = held_against(study, name, against, scenario)
    terms = {str(term.name) for term in study.fits[name].model.terms}
    groups = {group: [each for each in members if each in terms] for group, members in study.spec.groups.items()}
    where = tuple(span) if isinstance(span, list) else span
    return walk(end, start, by=by, span=where, groups={group: own for group, own in groups.items() if own})


def study_sensitivities(study: Study) -> dict[str, Sensitivity]:
    """See ``Study.sensitivities``."""
    found = {}
    for name, ahead in study.forecasts.items():
        own = driver_names(ahead.fit)
        if not own or isinstance(ahead, DirectForecast):
            continue
        asked = study.spec.changes
        with study.placing(("changes",)):
            changes = None if asked is None else {driver: rule for driver, rule in asked.items() if driver in own}
            found[name] = sensitivity(ahead, changes)
    return found


def study_goals(study: Study) -> dict[str, list[Sought]]:
    """See ``Study.goals``."""
    found: dict[str, list[Sought]] = {name: [] for name in study.forecasts}
    for i, asked in enumerate(study.spec.goals):
        for name, ahead in study.forecasts.items():
            if asked.driver in {str(term.name) for term in ahead.fit.model.terms}:
                with study.placing(("goals", i)):
                    limits = None if asked.limits is None else (asked.limits[0], asked.limits[1])
                    span = tuple(asked.span) if isinstance(asked.span, list) else asked.span
                    found[name].append(seek(ahead, asked.driver, asked.total, how=asked.how, limits=limits, span=span))
    return found


def study_overrides(study: Study) -> dict[str, Overridden]:
    """See ``Study.overridden``."""
    found = {}
    for name, ahead in study.forecasts.items():
        own = [each for each in _overrides(study) if not _over(each, ahead.fit)]
        if own:
            with study.placing(("overrides",)):
                found[name] = override(ahead, own)
    return found


def study_override_scores(study: Study) -> dict[str, pd.DataFrame]:
    """See ``Study.override_scores``."""
    found = {}
    for name, fit in study.fits.items():
        rows = []
        for each in _overrides(study):
            if _over(each, fit) and each.made is not None:
                with study.placing(("overrides",)):
                    until = each.span[-1] if isinstance(each.span, tuple) else each.span
                    ahead = made_then(study, name, each.made, _last(until, fit))
                    rows.append(override(ahead, [each]).scored(fit))
        if rows:
            found[name] = pd.concat(rows, ignore_index=True)
    return found


def _overrides(study: Study) -> list[Override]:
    return [Override(**each.model_dump()) for each in study.spec.overrides]


def _over(each: Override, fit: Fit) -> bool:
    """Whether all periods of an override are past."""
    return _last_ordinal(each.span, fit) < fit.axis.first + fit.axis.n


def _last_ordinal(span: object, fit: Fit) -> int:
    own = named_span(span, fit.axis)
    return own.first + own.n - 1


def _last(span: object, fit: Fit) -> Any:
    at = _last_ordinal(span, fit)
    return dataclasses.replace(fit.axis, first=at, n=1).index[0]
