"""What a study's forecast is held against, as it is said on the command line and in ``[[walks]]``."""

from __future__ import annotations

import dataclasses
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from offing.base import InputError
from offing.explain import LAST_YEAR, MEAN
from offing.model.forecast import AS_PLANNED

if TYPE_CHECKING:
    from offing.study.study import Study

BASELINE, OUTCOME = "baseline", "outcome"
_DAY = re.compile(r"\d{4}-\d{2}-\d{2}([T ].*)?")


def held_against(study: Study, name: str, end: Any, said: Any) -> tuple[Any, Any]:
    """The end and the start of a walk of the fit `name`, as `offing.walk` takes them.

    ``last-year``, ``mean`` and ``baseline`` are what they are; ``outcome`` walks from the forecast of the study's own
    origin to what came after it; a day is the forecast that was made then; a path ending in ``.toml`` another study,
    of last month say; a scenario's name that scenario; and a year, quarter, month or two dates a stated period.

    Raises
    ------
    InputError
        If it is none of these.
    """
    if isinstance(said, list):
        if len(said) != 2:
            raise InputError(f"found {len(said)} dates", "Give two, the earlier first.", key="against")
        return end, tuple(said)
    if not isinstance(said, str) or said in (LAST_YEAR, MEAN):
        return end, said
    if said == BASELINE:
        return end, None
    if said == OUTCOME:
        return _came(study, name), end
    every = study.what_if.get(name)
    if said in study.scenarios or (said == AS_PLANNED and every is not None):
        if every is None or said not in every.forecasts:
            raise InputError(f"the model '{name}' has no scenario {said!r}", "Its drivers are not those of the model.",
                             key="against")  # fmt: skip
        return end, every.forecasts[said]
    if said.endswith(".toml"):
        return end, _of_study(study, name, said)
    if _DAY.fullmatch(said):
        return end, _made_then(study, name, said)
    if ".." in said:
        first, _, last = said.partition("..")
        return end, (first.strip(), last.strip())
    if not said[:1].isdigit():
        known = [LAST_YEAR, MEAN, BASELINE, OUTCOME, *study.scenarios]
        advice = f"Give one of {', '.join(known)}, a period such as 2025-07, or an earlier forecast's day or study."
        raise InputError(f"found {said!r} to hold the forecast against", advice, key="against")
    return end, said


def _came(study: Study, name: str) -> Any:
    if study.origin is None:
        raise InputError("the forecast is of periods that have not come yet", "Say from when it is, with --as-of.",
                         key="against")  # fmt: skip
    spec = study.spec.model_copy(update={"forecast": study.spec.forecast.model_copy(update={"as_of": None})})
    return dataclasses.replace(study, spec=spec, as_of=None).fits[name]


def _made_then(study: Study, name: str, day: str) -> Any:
    """The forecast made on a day, as far as the present one goes."""
    then = dataclasses.replace(study, as_of=day)
    last = study.forecasts[name].axis
    how = {**then.how, "horizon": None, "until": last.part(last.n - 1, last.n).index[0]}
    with then.placing():
        return then.fits[name].forecast(**how)


def _of_study(study: Study, name: str, said: str) -> Any:
    from offing.study.open import open_study  # noqa: PLC0415  which makes studies, and asks for this one's walks

    path = Path(said) if Path(said).is_absolute() or Path(said).exists() else study.path.parent / said
    other = open_study(path)
    if name not in other.forecasts:
        if len(other.forecasts) == 1 and len(study.fits) == 1:
            return next(iter(other.forecasts.values()))
        raise InputError(f"{said} has no model '{name}'", f"It has: {', '.join(other.forecasts)}.", key="against")
    return other.forecasts[name]
