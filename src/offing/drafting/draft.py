"""`draft`: from tables to a model and a forecast that past forecasts support."""

from __future__ import annotations

import re
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from functools import cached_property
from math import gcd
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import Finding, InputError
from offing.base.limits import check_ahead
from offing.base.workers import Workers
from offing.calendar import DAY, on_clock_of
from offing.calendar.axis import instant_of
from offing.drafting.candidate import LEVEL, Candidate, Ingredients
from offing.drafting.choosing import FEWEST, SUPPORT, Chooser, Step, form_words
from offing.drafting.materials import Materials, Offered
from offing.drafting.past import Past, Scored
from offing.drafting.screen import screen
from offing.drafting.write import script_text, study_text
from offing.engine.threads import threads_for
from offing.judging import Backtest, Combination, Comparison, combine, combined, compare
from offing.judging.backtest import jobs_of
from offing.judging.combination import STATED_WEIGHTS
from offing.judging.origins import Origins
from offing.judging.references import PLAIN_MODEL, names_for, plain_model
from offing.judging.routes import attempt_all
from offing.judging.run import Run
from offing.model import Fit, Forecast, Model
from offing.model.words import as_html
from offing.survey import Survey, inspect
from offing.tables import Information, Panel, Sources, Table
from offing.tables.table import Array
from offing.terms import Driver, Term

#: Seconds of a draft where nothing is stated, of hours and of all others.
_BUDGET_HOURS, _BUDGET = 60.0, 30.0
#: The share of the budget in which candidates are tried; the rest is for fits, forecasts and figures.
_CHOOSING = 0.6
#: Origins, and how far they lie apart at least, by the unit of a period; then for all others.
_ORIGINS = {"hour": (4, 192), "day": (8, 80), "business day": (8, 60)}
_USUAL_ORIGINS = (10, 1)
#: With a short horizon, where an origin says less, so many periods are forecast in all, from so many origins at most.
_PERIODS, _MOST_ORIGINS = 40, 24
#: How far a forecast goes where nothing is stated.
_HORIZONS = {"hour": 168, "day": 28, "business day": 20, "week": 13, "month": 12, "quarter": 4, "year": 3}
#: Members of the combination, and how steeply their weights fall with their errors.
_MEMBERS, _STEEPNESS = 3, 0.05
#: Members with a smaller weight are left out.
_LEAST_WEIGHT = 0.02
#: Designs have about so many columns at most, for how many threads are of use.
_WIDE = 100
#: From so few periods nothing is learnt but a level.
_FEW = 12
#: What the model, the combination and an earlier draft's model are called; a study's only model is its main one.
DRAFT, COMBINATION, PREVIOUS = "main", "combination", "previous draft"

Data = Table | Panel | pd.DataFrame | pd.Series | Mapping[str, Table | Panel]


@dataclass(frozen=True)
class Draft:
    """A model and a forecast proposed from tables. Made by `offing.draft`; printed, one screen in words.

    Attributes
    ----------
    survey
        What was read.
    horizon
        How many periods are forecast.
    choice
        What was chosen among, step by step.
    model, members
        The model that is shown and explained, and the next best ones.
    weights
        The weight of each in the combination, by name; empty where nothing is combined.
    backtest
        Model, members and their combination from past origins, beside plain references; None where the history is too
        short for any.
    seconds
        How long all took.
    whole
        What was read, where the target has several series; `survey` is then that of the one that is looked at.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2016-01", periods=96, freq="M")
    >>> wave = 10.0 * np.sin(2.0 * np.pi * np.arange(96) / 12.0)
    >>> noise = np.random.default_rng(1).normal(size=96)
    >>> found = of.draft(pd.Series(100.0 + np.arange(96) + wave + noise, months, name="sold"), horizon=6)
    >>> [term.name for term in found.model.terms], found.forecast.table.shape[0], found.beats
    (['trend', 'season'], 6, True)
    """

    survey: Survey
    horizon: int
    choice: Choice
    model: Model
    members: tuple[Model, ...]
    weights: Mapping[str, float]
    backtest: Backtest | None
    seconds: float
    whole: Survey | None = None

    @property
    def series(self) -> str:
        """The series that is looked at, where there are several."""
        return "" if self.whole is None else self.whole.series

    @cached_property
    def fit(self) -> Fit:
        """The model, fitted to everything."""
        return self.model.fit_at(self.choice.today)

    @cached_property
    def forecast(self) -> Forecast:
        """Its forecast."""
        return self.fit.forecast(self.horizon, plan=self.choice.today.plans, unplanned=self._unplanned)

    @cached_property
    def combination(self) -> Combination | None:
        """The combination of the model and its members, if there is one."""
        if not self.weights:
            return None
        return combine((self.model, *self.members), dict(self.choice.today.tables), horizon=self.horizon,
                       plan=self.choice.today.plans, weights=self.weights, unplanned=self._unplanned)  # fmt: skip

    @property
    def _unplanned(self) -> Any:
        return "expected" if self.expects else "refuse"

    @cached_property
    def comparison(self) -> Comparison | None:
        """Model, combination and references, by the mean absolute error from past origins."""
        return None if self.backtest is None else compare(self.backtest, score="MAE")

    @property
    def reference(self) -> str | None:
        """The best plain reference."""
        return None if self.comparison is None else self.comparison.best_reference

    @cached_property
    def reference_forecast(self) -> Array | None:
        """The forecast (h,) of the best plain reference, if there is one."""
        axis, values = self.survey.span
        if self.reference == PLAIN_MODEL and self.backtest is not None:
            plain = plain_model(self.model, self.backtest.cuts())
            return plain.fit_at(self.choice.today).forecast(self.horizon).mean
        known = names_for(axis.frequency, self.horizon)
        if self.reference not in known:
            return None
        reference, season = known[self.reference]
        return np.asarray(reference(values, np.arange(1, self.horizon + 1), season).mean)

    @property
    def beats(self) -> bool:
        """Whether the model's past forecasts were better than those of the best plain reference."""
        found = self.comparison
        return found is not None and self.reference is not None and bool(
            found.overall[self.model.name] < found.overall[self.reference]
        )  # fmt: skip

    @property
    def expects(self) -> tuple[str, ...]:
        """Drivers without a plan as far as the forecast goes, of which their own models say what to expect."""
        known = {each.reference for each in self.choice.offered if each.future >= self.horizon}
        needed = [name for model in (self.model, *self.members) for name in model.needs()]
        return tuple(dict.fromkeys(name for name in needed if name not in known))

    @property
    def planned(self) -> tuple[str, ...]:
        """Drivers of the model or its members that were taken to be known beforehand."""
        known = {each.reference for each in self.choice.offered if each.future >= self.horizon}
        needed = [name for model in (self.model, *self.members) for name in model.needs()]
        return tuple(dict.fromkeys(name for name in needed if name in known))

    @property
    def table(self) -> pd.DataFrame:
        """One row a decision: ``about, tried, taken, gain``."""
        return pd.DataFrame([vars(each) for each in self.choice.steps], columns=["about", "tried", "taken", "gain"])

    @cached_property
    def tried(self) -> pd.DataFrame:
        """One row a candidate, the best first: ``scale, structure, seasons, days, drivers, events, MAE, why``."""
        rows = [
            {
                "scale": each.candidate.scale.name, "structure": each.candidate.structure.name,
                **{kind: ", ".join(map(form_words, getattr(each.candidate, kind)))
                   for kind in ("seasons", "days", "drivers", "events")},
                "MAE": each.score, "why": each.why,
            }
            for each in sorted(self.choice.scored, key=lambda each: each.score)
        ]  # fmt: skip
        return pd.DataFrame(rows)

    @property
    def left_out(self) -> list[tuple[str, Term, str]]:
        """Drivers that were tried and left out: name, plainest form, and why."""
        return self.choice.left_out

    @property
    def searched(self) -> tuple[list[str], dict[str, list[Any]]]:
        """What `offing.search` may choose on: terms that may go, and values of fields."""
        optional = [str(term.name) for term in self.model.terms]
        choices: dict[str, list[Any]] = {"errors": ["independent", "ar"]}
        if len(self.choice.scales) > 1 and not self.model.offset:
            choices["scale"] = ["level", "log"]
        for term in self.model.terms:
            pairs = getattr(term, "harmonics", None)
            if isinstance(pairs, int):
                choices[f"{term.name}.harmonics"] = sorted({max(pairs - 1, 1), pairs, pairs + 1, 2 * pairs})
            if isinstance(term, Driver) and term.weights is None and term.combine is None and term.carry_over is None:
                own = [list(term.lags), [0], [1], [0, 1]]
                choices[f"{term.name}.lags"] = [each for i, each in enumerate(own) if each not in own[:i]]
        return optional, choices

    def reason(self, about: str) -> str:
        """Why a term, or a field of the model, is as it is."""
        return self.choice.reasons.get(about, "")

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What still speaks against the forecast."""
        return tuple(each for each in self.forecast.findings if each.severity != "note")

    @property
    def questions(self) -> list[str]:
        """What only the analyst knows, each with the line that answers it; at most five."""
        return self.survey.questions

    @property
    def sentences(self) -> str:
        """The screen, in words."""
        return screen(self)

    def study(self, folder: str | Path | None = None) -> str:
        """The draft as a commented study file; paths in it are relative to `folder`.

        Raises
        ------
        InputError
            If the tables did not come from files through ``offing draft``.
        """
        return study_text(self, None if folder is None else Path(folder))

    def script(self, folder: str | Path | None = None) -> str:
        """The same as a short Python script."""
        return script_text(self, None if folder is None else Path(folder))

    def __str__(self) -> str:
        return screen(self)

    def _repr_html_(self) -> str:
        return as_html(screen(self), self.forecast.table)


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


def draft(
    data: Data | Survey,
    target: str | None = None,
    *,
    horizon: int | None = None,
    until: object = None,
    plans: Mapping[str, Table | Panel] | None = None,
    holidays: str | Path | pd.DataFrame | None = None,
    budget: float | None = None,
    previous: Model | None = None,
    executor: Executor | None = None,
) -> Draft:
    """Draft a model from tables: chosen by forecasts from past origins, fitted, and forecast.

    Scale, level and trend, seasons, calendar, drivers with their forms and lags, jumps and bends are chosen one after
    the other, and again where the others have changed. A step is taken only where forecasts from past origins, with
    what was known there, support it, origin by origin.

    Parameters
    ----------
    data, target, plans
        As for `offing.inspect`; or a Survey that it made.
    holidays
        A table of holidays, as for `Holidays`, or the code of a country, such as ``NO``.
    horizon, until
        How many periods to forecast, or up to which date. By default a year of months, a quarter of weeks and so on, or
        as far as the plans of drivers go.
    budget
        Seconds for everything, 30 by default and 60 for hours. They cut a fixed order of steps short: the same data
        and a budget that suffices give the same draft.
    previous
        The model of an earlier draft: it stays unless past forecasts support another one, origin by origin.
    executor
        Any ``concurrent.futures.Executor`` for the forecasts from past origins.

    Raises
    ------
    InputError
        As `offing.inspect`; or for a horizon or budget that is none.

    Notes
    -----
    An interruption from the keyboard leaves the best so far. Of several series the one with most values is looked at,
    and all are forecast by its model.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(3)
    >>> weeks = pd.date_range("2022-01-03", periods=150, freq="W-MON")
    >>> spend = generator.uniform(0.0, 10.0, 150)
    >>> data = pd.DataFrame({"sold": 50.0 + 3.0 * spend + generator.normal(size=150), "spend": spend}, weeks)
    >>> data.loc[data.index[-8:], "sold"] = np.nan
    >>> found = of.draft(of.read(data, later_rows="plan"), "sold")
    >>> [term.name for term in found.model.terms], found.horizon
    (['spend'], 8)
    """
    started = time.monotonic()
    country = holidays if isinstance(holidays, str) and re.fullmatch(r"[A-Z]{2,3}", holidays) else None
    table = None if country else holidays
    survey = data if isinstance(data, Survey) else inspect(data, target, plans=plans, holidays=table)
    usual = _BUDGET_HOURS if survey.span[0].frequency.unit == "hour" else _BUDGET
    if budget is not None and not budget > 0.0:
        raise InputError(f"found {budget!r}", "Give a number of seconds above 0, such as 30.", key="budget")
    end = started + (usual if budget is None else float(budget))
    whole = survey if survey.members > 1 else None
    if whole is not None:
        own = {name: each[survey.series] if isinstance(each, Panel) else each for name, each in survey.plans.items()}
        survey = replace(survey, tables=dict(survey.own), plans=own, series="")
    ahead = _horizon(survey, horizon, until)
    materials = Materials(survey, ahead, country)
    with threads_for(materials.axis.n, _WIDE), Workers(executor) as workers:
        choice = _choose(materials, started, started + _CHOOSING * (end - started))
        found = _judged(materials, choice, previous, (started, end), workers)
    if whole is None:
        return found
    # Several series are forecast by one model each; a study combines models of one series.
    return replace(found, whole=whole, members=(), weights={})


def _horizon(survey: Survey, horizon: int | None, until: object) -> int:
    axis, _ = survey.span
    if until is not None:
        if horizon is not None:
            raise InputError("found a horizon and an end", "Give one of them.", key="until")
        try:
            last = int(axis.frequency.ordinals(instant_of(until, axis.frequency))[0])
        except (ValueError, TypeError) as error:
            raise InputError(f"found {until!r}, which is no date", "Write it as 2026-05-21.", key="until") from error
        horizon = last - (axis.first + axis.n) + 1
        if horizon < 1:
            raise InputError(f"{until} lies before the end of the data, {axis.labels()[-1]}", key="until")
    if horizon is not None:
        if isinstance(horizon, bool) or not isinstance(horizon, (int, np.integer)) or horizon < 1:
            raise InputError(f"found {horizon!r}", "Give a whole number of periods from 1 on.", key="horizon")
        check_ahead(int(horizon), axis.frequency.periods_a_year)
        return int(horizon)
    futures = [each.future for each in Materials(survey, 1).offered]
    usual = _HORIZONS[axis.frequency.unit]
    planned = max(futures, default=0)
    return planned if 0 < planned <= usual else usual


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
    """The past origins: where the target's values came out, or so much later as faster tables reach beyond it today.

    An index that is out two months into the quarter that is forecast was so at every origin.
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


def _choose(materials: Materials, started: float, deadline: float) -> Choice:
    """Choose a model of a survey's target by its forecasts from past origins."""
    survey, horizon = materials.survey, materials.horizon
    sources = Sources(survey.own)
    plans = {name: each for name, each in survey.plans.items() if isinstance(each, Table)}
    today = Information(dict(survey.own), survey.series, None, plans)
    axis, values = survey.span
    known = values[np.isfinite(values)]
    ingredients = Ingredients(
        survey.target, horizon, materials.season_length, max(round(materials.year / 4.0), 2, -(-axis.n // 60))
    )
    count, every = origins_for(survey, horizon)
    if np.ptp(known) == 0.0 or axis.n < _FEW or not count:
        why = ("every value is the same" if np.ptp(known) == 0.0
               else f"{len(known)} values are too few for forecasts from past origins")  # fmt: skip
        plain = Candidate(structure=replace(LEVEL, errors="independent"))
        return Choice(None, plain, (), ingredients, (), (why,), "", today, (), (), ("level",))
    foreseen = frozenset(sources.find(each.reference) for each in materials.offered if each.future >= horizon)
    cuts = _origins(materials, count, every).on(survey.own[survey.source], survey.column)
    past = Past(replace(today, foreseen=foreseen), ingredients, cuts)
    chooser = Chooser(past, materials, deadline, started=started)
    end = chooser.run()
    must = set(chooser.unjudged)
    ranked = sorted(
        (each for each in past.scored.values() if np.isfinite(each.score)
         and must <= {str(term.name) for term in (*each.candidate.drivers, *each.candidate.events)}),
        key=lambda each: each.score,
    )  # fmt: skip
    reasons, left_out = _reasons(chooser, end)
    return Choice(past, end.candidate, tuple(ranked), ingredients, tuple(chooser.steps), tuple(chooser.remarks),
                  chooser.stopped, today, tuple(materials.offered), tuple(past.scored.values()),
                  tuple(each.name for each in chooser.scales()), reasons, left_out)  # fmt: skip


def _reasons(chooser: Chooser, end: Scored) -> tuple[dict[str, str], list[tuple[str, Term, str]]]:
    """Why each term is in, by what past forecasts would have been without it; and why drivers are out."""
    own, past = end.candidate, chooser.past
    trend = past.ingredients.trend(own.structure, own.knots)
    found = {"scale": own.scale.words, "errors": "noise that carries on, as far as it does",
             "transform": own.structure.words}  # fmt: skip
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


def _judged(
    materials: Materials, choice: Choice, previous: Model | None, times: tuple[float, float], workers: Workers
) -> Draft:
    """The chosen model and its rivals, fitted anew at every past origin; as many of them as the time allows."""
    survey, horizon = materials.survey, materials.horizon
    started, end = times
    model = choice.shown.model(choice.ingredients, DRAFT)
    if choice.past is None:
        return Draft(survey, horizon, choice, model, (), {}, None, time.monotonic() - started)
    pool = [each.candidate for each in choice.ranked if each.candidate.key != choice.shown.key][:_MEMBERS]
    models = [model, *(each.model(choice.ingredients, f"member {i}") for i, each in enumerate(pool, 2))]
    if previous is not None:
        models.insert(1, replace(previous, name=PREVIOUS))
    plan, foreseen = choice.past.cuts.plan, choice.past.information.foreseen or frozenset()
    planned = [f"{source}.{column}" for source, column in sorted(foreseen)]
    jobs, _ = jobs_of(models, {"": dict(choice.today.tables)}, plan, ["ex-ante"], planned=planned,
                      plans=dict(choice.today.plans))  # fmt: skip
    kept: list[Model] = []
    runs: list[Run] = []
    for each, job in zip(models, jobs, strict=True):
        if runs and time.monotonic() > end - _last(runs):
            break
        try:
            (run,) = attempt_all([job], workers.executor)
        except KeyboardInterrupt:
            if not runs:
                raise
            break
        if isinstance(run, Run):
            kept.append(each)
            runs.append(run)
        elif not runs:
            choice = replace(choice, remarks=(*choice.remarks, f"the first choice could not be used: {run.found}"))
    if not runs:
        raise InputError("no model could be fitted at past origins", "Give more data, or fewer columns.")
    _stay(kept, runs)
    first, *members = kept
    if first.name != DRAFT:  # the choice itself cannot be fitted somewhere: the next best one is shown
        runs[0] = replace(runs[0], name=DRAFT)
        first = replace(first, name=DRAFT)
    backtest = Backtest((first, *members), plan, tuple(runs), {"": jobs[0]})
    weights = _weights(runs)
    members = [each for each in members if each.name in weights]
    if len(weights) > 1:
        backtest = combined(backtest, way=STATED_WEIGHTS, weights=weights, name=COMBINATION)
    else:
        weights, members = {}, []
    return Draft(survey, horizon, choice, first, tuple(members), weights, backtest, time.monotonic() - started)


def _stay(kept: list[Model], runs: list[Run]) -> None:
    """Put the previous draft's model first, unless past forecasts support the new one."""
    at = next((i for i, run in enumerate(runs) if run.name == PREVIOUS), None)
    if at is None or at == 0:
        return
    gains = np.nanmean(np.abs(runs[at].error), axis=1) - np.nanmean(np.abs(runs[0].error), axis=1)
    if not float(gains.mean()) > SUPPORT * float(gains.std(ddof=1) / np.sqrt(len(gains)) if len(gains) > 1 else 0.0):
        kept.insert(0, replace(kept.pop(at), name=DRAFT))
        runs.insert(0, replace(runs.pop(at), name=DRAFT))
        kept[1], runs[1] = replace(kept[1], name="member 1"), replace(runs[1], name="member 1")


def _last(runs: Sequence[Run]) -> float:
    """Seconds that the dearest run took."""
    return max(run.seconds for run in runs)


def _weights(runs: Sequence[Run]) -> dict[str, float]:
    """Weights that fall steeply with the past errors: exp(−(error / least error − 1) / 0.05)."""
    scores = np.array([_score(run) for run in runs])
    if len(runs[0].cuts.ends) < 2 or not np.isfinite(scores).any():
        return {}
    raw: Array = np.exp(-(scores / max(float(np.nanmin(scores)), 1e-300) - 1.0) / _STEEPNESS)
    raw = np.where(np.isfinite(raw), raw, 0.0)
    raw /= raw.sum()
    raw = np.where(raw < _LEAST_WEIGHT, 0.0, raw)
    raw /= raw.sum()
    return {run.name: round(float(weight), 4) for run, weight in zip(runs, raw.tolist(), strict=True) if weight > 0.0}


def _score(run: Run) -> float:
    error = np.abs(run.error)
    return float(np.nanmean(error)) if np.isfinite(error).any() else float("nan")


__all__ = ["COMBINATION", "DRAFT", "FEWEST", "Choice", "Draft", "draft", "origins_for"]
