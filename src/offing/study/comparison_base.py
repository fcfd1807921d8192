"""What a study's forecast is compared with, as it is said on the command line and in ``[[walks]]``."""

from __future__ import annotations

import dataclasses
import re
from pathlib import Path
from typing import Any

from offing.archiving.archived import ArchivedForecast
from offing.base import InputError
from offing.explain import LAST_YEAR, MEAN
from offing.model import Fit, Forecast
from offing.model.forecast import AS_PLANNED
from offing.study.what_if import WhatIfStudy
from offing.tables import Information, Panel

BASELINE, OUTCOME, ARCHIVE = "baseline", "outcome", "archive"
_DAY = re.compile(r"\d{4}-\d{2}-\d{2}([T ].*)?")


def held_against(study: WhatIfStudy, name: str, said: Any, scenario: str | None = None) -> tuple[Any, Any]:
    """The end and the start of a walk of the fit `name`, as `offing.walk` takes them; the end may be a scenario's.

    ``last-year``, ``mean`` and ``baseline`` are what they are; ``outcome`` walks from the forecast of the study's own
    origin to what came after it; a day is the forecast that was made then; a path ending in ``.toml`` another study,
    of last month say; ``archive`` the last forecast that was archived before, ``archive:2026-06-01`` the one of a day
    or the last before it; a scenario's name that scenario; and a year, quarter, month or two dates a stated period.

    Raises
    ------
    InputError
        If it is none of these.
    """
    if said == OUTCOME:
        return _came(study).fits[name], made_then(_came(study), name, str(study.origin))
    end = study.forecasts[name] if scenario is None else study.what_if[name].of(scenario)
    if isinstance(said, list):
        if len(said) != 2:
            raise InputError(f"found {len(said)} dates", "Give two, the earlier first.", key="against")
        return end, tuple(said)
    if not isinstance(said, str) or said in (LAST_YEAR, MEAN):
        return end, said
    if said == BASELINE:
        return end, None
    if said == ARCHIVE or said.startswith(f"{ARCHIVE}:"):
        return end, _archived(study, name, said.partition(":")[2])
    every = study.what_if.get(name)
    if said in study.scenarios or (said == AS_PLANNED and every is not None):
        if every is None or said not in every.forecasts:
            raise InputError(
                f"the model '{name}' has no scenario {said!r}", "Its drivers are not those of the model.", key="against"
            )
        return end, every.forecasts[said]
    if said.endswith(".toml"):
        return end, _of_study(study, name, said)
    if _DAY.fullmatch(said):
        return end, made_then(study, name, said)
    if ".." in said:
        first, _, last = said.partition("..")
        return end, (first.strip(), last.strip())
    if not said[:1].isdigit():
        known = [LAST_YEAR, MEAN, BASELINE, OUTCOME, ARCHIVE, *study.scenarios]
        advice = f"Give one of {', '.join(known)}, a period such as 2025-07, or an earlier forecast's day or study."
        raise InputError(f"found {said!r} to compare the forecast with", advice, key="against")
    return end, said


def _archived(study: WhatIfStudy, name: str, day: str) -> ArchivedForecast:
    """The study's archived forecast of a day or the last one before it; by default the last before today's."""
    if study.archive is None:
        raise InputError(
            "the study has no archive",
            'Add [archive] with file = "forecasts.sqlite": every forecast from then on is kept.',
            file=study.path.name,
            key="against",
        )
    ahead = study.forecasts[name]
    return study.archive.forecast(
        day or None, series=ahead.fit.series_name, model=ahead.fit.model.name, before=None if day else ahead.origin
    )


def _came(study: WhatIfStudy) -> WhatIfStudy:
    """The study with all that is known today."""
    if study.origin is None:
        raise InputError(
            "the forecast is of periods that have not come yet", "Say from when it is, with --as-of.", key="against"
        )
    spec = study.spec.model_copy(update={"forecast": study.spec.forecast.model_copy(update={"as_of": None})})
    return dataclasses.replace(study, spec=spec, as_of=None)


def made_then(study: WhatIfStudy, name: str, day: object, until: object = None) -> Forecast:
    """The forecast that the study would have made on a day, as a back-test does.

    Columns that ``[backtest]`` calls planned count as known; plans serve if they say when they were made; of other
    drivers models of their own say what was expected then.
    """
    then = fit_then(study, name, day)
    with study.placing():
        requested = study.spec.forecast
        far: dict[str, Any] = (
            {"until": until} if until is not None else {"horizon": requested.horizon, "until": requested.until}
        )
        return then.forecast(levels=requested.levels, missing_plans="expected", **far)


def fit_then(study: WhatIfStudy, name: str, day: object) -> Fit:
    """The fit that the study would have made on a day, from what was known then."""
    fit = study.fits[name]
    sources = fit.view.sources
    model = next(each for each in study.models if each.name == fit.model.name)
    with study.placing():
        known_ahead = frozenset(sources.find(each) for each in study.spec.backtest.planned)
        plans = {each: plan[fit.series] if isinstance(plan, Panel) else plan for each, plan in study.plans.items()}
        return model.fit_at(Information(sources.tables, fit.series, day, plans, known_ahead))


def _of_study(study: WhatIfStudy, name: str, said: str) -> Any:
    path = Path(said) if Path(said).is_absolute() or Path(said).exists() else study.path.parent / said
    if study.reopen is None:
        raise InputError("another study cannot be opened from here", key="against")
    other = study.reopen(path)
    if name not in other.forecasts:
        if len(other.forecasts) == 1 and len(study.fits) == 1:
            return next(iter(other.forecasts.values()))
        raise InputError(f"{said} has no model '{name}'", f"It has: {', '.join(other.forecasts)}.", key="against")
    return other.forecasts[name]
