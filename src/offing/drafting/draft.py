"""`draft`: from tables to a model and a forecast that past forecasts support."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from math import gcd
from pathlib import Path

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.drafting.candidate import Candidate, Ingredients
from offing.drafting.choosing import FEWEST, Chooser, Step
from offing.drafting.materials import Materials
from offing.drafting.past import Past, Scored
from offing.judging.origins import Cuts, Origins
from offing.survey import Survey
from offing.tables import Information, Panel, Sources, Table

#: Origins by the unit of a period, and how far they lie apart at least.
_ORIGINS = {"hour": (4, 192), "day": (8, 80), "business day": (8, 60)}
_USUAL_ORIGINS = 10
#: Members of the combination, and how steeply their weights fall with their errors.
_MEMBERS, _STEEPNESS = 6, 0.05


def origins_for(survey: Survey, horizon: int) -> tuple[int, int, int]:
    """How many past origins there are, how far apart, and how many there would be.

    They are spread over the year: their distance shares no factor with the season, so that they fall into different
    months, weekdays or hours. The first one leaves two fifths of the history, or two seasons, to learn from.
    """
    axis, _ = survey.span
    unit, n = axis.frequency.unit, axis.n
    wanted, least = _ORIGINS.get(unit, (_USUAL_ORIGINS, 1))
    season = (
        axis.frequency.year_back
        if unit not in ("hour", "day", "business day")
        else {"hour": 168, "day": 7}.get(unit, 5)
    )
    every = max(least, horizon // 2, 1)
    while season > 1 and every > 1 and gcd(every, season) > 1:
        every += 1
    cycles = 2 * season + 2 if n >= 3 * season + horizon else 0
    first = max(int(0.4 * n), cycles, min(8, n // 2))
    room = n - horizon - first
    if room < 0:
        first = max(min(8, n // 2), 4)
        room = n - horizon - first
    if room < 0:
        return 0, every, wanted
    count = room // every + 1
    if count < wanted and every > 1:
        every = max(1, room // (wanted - 1))
        while season > 1 and every > 1 and gcd(every, season) > 1:
            every -= 1
        count = room // every + 1
    return min(count, wanted), every, wanted


@dataclass(frozen=True)
class Drafted:
    """What was chosen, with all that was tried."""

    past: Past
    materials: Materials
    shown: Scored
    members: tuple[Scored, ...]
    weights: tuple[float, ...]
    steps: tuple[Step, ...]
    remarks: tuple[str, ...]
    unjudged: tuple[str, ...]
    stopped: str
    tried: int
    seconds: float


def planned_columns(survey: Survey, horizon: int) -> frozenset[tuple[str, str]]:
    """The columns that are known today as far as the forecast goes: they are taken to have been so at every origin."""
    found = set()
    materials = Materials(survey, horizon)
    sources = Sources(survey.own)
    for each in materials.offered:
        if each.future >= horizon:
            found.add(sources.find(each.reference))
    return frozenset(found)


def choose(survey: Survey, horizon: int, budget: float = float("inf")) -> Drafted:
    """Choose a model of a survey's target by its forecasts from past origins."""
    started = time.monotonic()
    materials = Materials(survey, horizon)
    foreseen = planned_columns(survey, horizon)
    count, every, _ = origins_for(survey, horizon)
    plans = {name: each[survey.series] if isinstance(each, Panel) else each for name, each in survey.plans.items()}
    information = Information(survey.own, survey.series, None, plans, foreseen)
    table = survey.own[survey.source]
    ingredients = Ingredients(
        survey.target, horizon, materials.season_length,
        max(round(materials.year / 4.0), 2, -(-materials.axis.n // 60)),
    )  # fmt: skip
    cuts = Origins(horizon, max(count, 1), None, every).on(table, survey.column)
    past = Past(information, ingredients, cuts)
    chooser = Chooser(past, materials, started + budget, started=started)
    end = chooser.run()
    must = set(chooser.unjudged)
    ranked = sorted(
        (each for each in past.scored.values() if np.isfinite(each.score)
         and must <= {str(term.name) for term in (*each.candidate.drivers, *each.candidate.events)}),
        key=lambda each: each.score,
    )  # fmt: skip
    members = tuple(ranked[:_MEMBERS])
    shown = end
    weights = np.exp(-(np.array([each.score for each in members]) / max(members[0].score, 1e-300) - 1.0) / _STEEPNESS)
    weights /= weights.sum()
    return Drafted(past, materials, shown, members, tuple(weights.tolist()), tuple(chooser.steps), tuple(chooser.remarks),
                   tuple(chooser.unjudged), chooser.stopped, len(past.scored), time.monotonic() - started)  # fmt: skip
