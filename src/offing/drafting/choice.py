"""The choice of a model: from which origins, among which candidates, and why what is in is in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from math import gcd
from typing import Any

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import DAY, on_clock_of
from offing.drafting.candidate import LEVEL, WANDERING, Candidate, Ingredients
from offing.drafting.choosing import Chooser
from offing.drafting.materials import Materials, Offered
from offing.drafting.past import Past
from offing.drafting.rules import Step
from offing.drafting.scored import Scored
from offing.drafting.words import form_words
from offing.evaluation.origins import Origins
from offing.inspection import Survey
from offing.tables import Information, Sources, Table
from offing.terms import Term

#: Origins, and how far they lie apart at least, by the unit of a period; then for all others.
_ORIGINS = {"hour": (4, 192), "day": (8, 80), "business day": (8, 60)}
_USUAL_ORIGINS = (10, 1)
#: With a short horizon an origin says less: then there are more, until 40 periods are forecast in all.
_PERIODS, _MOST_ORIGINS = 40, 24
#: From so few periods nothing is learnt but a level.
_FEW = 12


@dataclass(frozen=True)
class Choice:
    """What was chosen among, and how.

    Attributes
    ----------
    past
        The past origins; None where the history is too short for any.
    shown
        The candidate at the end of all steps.
    ranked
        Others that did well, the best first.
    steps, remarks, stopped
        Every decision, what to know of it, and where it was cut short.
    today
        All that is known, from which the model is fitted.
    offered, scored, scales
        The columns that might serve as drivers, all candidates, and the scales.
    reasons
        Why each term and each field is as it is, by name.
    left_out
        Drivers that are not in: name, plainest form, and why.
    """

    past: Past | None
    shown: Candidate
    ranked: tuple[Scored, ...]
    ingredients: Ingredients
    steps: tuple[Step, ...]
    remarks: tuple[str, ...]
    stopped: str
    today: Information
    offered: tuple[Offered, ...]
    scored: tuple[Scored, ...]
    scales: tuple[str, ...]
    reasons: Mapping[str, str] = field(default_factory=dict)
    left_out: list[tuple[str, Term, str]] = field(default_factory=list)


def origins_for(survey: Survey, horizon: int) -> tuple[int, int]:
    """How many past origins there are, and how far apart they lie; none where the history is too short.

    They are spread over the year: their distance shares no factor with the season, so that they fall into different
    months, weekdays or hours. The first one leaves two fifths of the history, or two seasons, to learn from.
    """
    axis, _ = survey.span
    unit, n = axis.frequency.unit, axis.n
    wanted, least = _ORIGINS.get(unit, _USUAL_ORIGINS)
    wanted = max(wanted, min(_PERIODS // horizon, _MOST_ORIGINS))
    season = {"hour": 168, "day": 7, "business day": 5}.get(unit, axis.frequency.year_back)

    def apart(every: int) -> int:
        while season > 1 and every > 1 and gcd(every, season) > 1:
            every += 1
        return max(every, 1)

    every = apart(max(least, horizon // 2, 1))
    cycles = 2 * season + 2 if n >= 3 * season + horizon else 0
    room = n - horizon - max(int(0.4 * n), cycles, min(8, n // 2))
    if room < 0:
        room = n - horizon - max(min(8, n // 2), 4)
    if room < 0:
        return 0, every
    if room // every + 1 < wanted and every > 1:
        every = min(apart(max(1, room // (wanted - 1))), every)
    return min(room // every + 1, wanted), every


def _origins(materials: Materials, count: int, every: int) -> Origins:
    """The past origins: where the target's values were released, or as much later as faster tables reach beyond today.

    An index that is published two months into the quarter that is forecast was so at every origin.
    """
    survey, horizon = materials.survey, materials.horizon
    table = survey.own[survey.source]
    released = table.known_at()
    frequency = table.axis.frequency
    last = int(np.flatnonzero(np.isfinite(table.values(survey.column)))[-1])
    newest = [int(released[last])]
    for each in materials.offered:
        if each.faster > 1:
            source, column = Sources(survey.own).find(each.reference)
            other = survey.own[source]
            known = np.flatnonzero(np.isfinite(other.values(column)))
            newest.append(int(on_clock_of(frequency, other.axis.frequency, other.known_at()[known[-1:]])[0]))
    lead = max(newest) - newest[0]
    following = int(frequency.starts(np.array([table.axis.first + last + 2]))[0])
    if lead < DAY or newest[0] + lead >= following:
        return Origins(horizon, count, None, every)
    first = last - horizon - (count - 1) * every
    day = frequency.index(np.array([int(released[first]) + lead]))[0]
    return Origins(horizon, count, f"{day:%Y-%m-%d}", every)


def choose(materials: Materials, started: float, deadline: float) -> Choice:
    """Choose a model of a survey's target by its forecasts from past origins."""
    survey, horizon = materials.survey, materials.horizon
    sources = Sources(survey.own)
    plans = {name: each for name, each in survey.plans.items() if isinstance(each, Table)}
    today = Information(dict(survey.own), survey.series, None, plans)
    axis, values = survey.span
    known = values[np.isfinite(values)]
    ingredients = Ingredients(
        survey.target,
        horizon,
        materials.season_length,
        max(round(materials.year / 4.0), 2, -(-axis.n // 60)),
        {each.reference: each.faster for each in materials.offered},
    )
    count, every = origins_for(survey, horizon)
    if np.ptp(known) == 0.0 or axis.n < _FEW or not count:
        why = (
            "every value is the same"
            if np.ptp(known) == 0.0
            else f"{len(known)} values are too few for forecasts from past origins"
        )
        plain = _unjudged(materials, known, today, ingredients)
        reasons = {
            "trend": plain.structure.words,
            **{str(term.name): "from at least two cycles" for term in plain.seasons},
        }
        return Choice(None, plain, (), ingredients, (), (why,), "", today, (), (), ("level",), reasons)
    known_ahead = frozenset(sources.find(each.reference) for each in materials.offered if each.future >= horizon)
    cuts = _origins(materials, count, every).on(survey.own[survey.source], survey.column)
    past = Past(replace(today, known_ahead=known_ahead), ingredients, cuts)
    chooser = Chooser(past, materials, deadline, started=started)
    end = chooser.run()
    must = set(chooser.unjudged)
    ranked = sorted(
        (
            each
            for each in past.scored.values()
            if np.isfinite(each.score)
            and must <= {str(term.name) for term in (*each.candidate.drivers, *each.candidate.events)}
        ),
        key=lambda each: each.score,
    )
    reasons, left_out = _reasons(chooser, end)
    return Choice(
        past,
        end.candidate,
        tuple(ranked),
        ingredients,
        tuple(chooser.steps),
        tuple(chooser.remarks),
        chooser.stopped,
        today,
        tuple(materials.offered),
        tuple(past.scored.values()),
        tuple(each.name for each in chooser.scales()),
        reasons,
        left_out,
    )


def _unjudged(materials: Materials, known: Array, today: Information, ingredients: Ingredients) -> Candidate:
    """What is forecast where no past forecast can judge: a level that wanders, with its season; of little the mean."""
    mean = Candidate(structure=replace(LEVEL, errors="independent"))
    if np.ptp(known) == 0.0:
        return mean
    for seasons in (materials.seasons[0], ()):
        candidate = Candidate(structure=WANDERING, seasons=seasons)
        try:
            candidate.model(ingredients).fit_at(today)
        except InputError:
            continue
        return candidate
    return mean


def _reasons(chooser: Chooser, end: Scored) -> tuple[dict[str, str], list[tuple[str, Term, str]]]:
    """Why each term is in, by what past forecasts would have been without it; and why drivers are out."""
    own, past = end.candidate, chooser.past
    trend = past.ingredients.trend(own.structure, own.knots)
    forms = [own.scale.words] if own.scale.per else []
    forms += [own.structure.words] if own.structure.change else []
    found = {
        "scale": own.scale.words,
        "errors": "noise that carries on, as far as it does",
        "transform": "; ".join(forms),
    }
    if own.window is not None:
        whole = past.scored.get(replace(own, window=None).key)
        more = (
            ""
            if whole is None or not np.isfinite(whole.score)
            else (f": from all {len(past.target)} past forecasts missed by {_more(whole.score, end.score)}")
        )
        found["window"] = f"learnt from the newest {own.window} periods alone{more}"
    if trend is not None:
        found["trend"] = f"{own.structure.words}{': ' + ', '.join(own.knots) if own.knots else ''}"
    for kind in ("seasons", "days", "drivers", "events"):
        terms = getattr(own, kind)
        for term in terms:
            rest: dict[str, Any] = {kind: tuple(other for other in terms if other is not term)}
            without = replace(own, **rest)
            known = past.scored.get(without.key) if chooser.stopped else past.score(without)
            if str(term.name) in chooser.unjudged:
                words = "clear on all rows, though no past forecast could judge it"
            elif known is None or not np.isfinite(known.score) or end.score <= 0.0:
                words = "in since the start"
            else:
                words = f"without it past forecasts missed by {_more(known.score, end.score)}"
            found[str(term.name)] = f"{form_words(term)}: {words}"
    names = {str(term.name) for term in own.drivers}
    out = []
    for each in chooser.offered:
        if each.name in names:
            continue
        term = chooser.plain(each)
        with_it = past.scored.get(replace(own, drivers=(*own.drivers, term)).key)
        why = "no past forecast was clearly better with it"
        if with_it is not None and np.isfinite(with_it.score) and end.score > 0.0:
            why = f"with it past forecasts missed by {_more(with_it.score, end.score)}"
        if with_it is not None and with_it.why:
            why = with_it.why
        out.append((each.name, term, why))
    return found, out


def _more(score: float, against: float) -> str:
    """How much more or less an error is than another, in words."""
    change = 100.0 * (score / against - 1.0)
    return f"{abs(change):.0f} % {'more' if change >= 0.0 else 'less'}" if abs(change) >= 0.5 else "the same"
