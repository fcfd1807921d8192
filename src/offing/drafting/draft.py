"""`draft`: from tables to a model and a forecast that past forecasts support."""

from __future__ import annotations

import re
import time
from collections.abc import Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import Finding, InputError
from offing.base.limits import check_ahead
from offing.base.workers import Workers
from offing.calendar.axis import instant_of
from offing.drafting.choice import Choice, choose
from offing.drafting.materials import Materials
from offing.drafting.rivals import rivals_of
from offing.drafting.screen import screen
from offing.drafting.words import form_words
from offing.drafting.write import script_text, study_text
from offing.engine.threads import threads_for
from offing.judging import Backtest, Combination, Comparison, combine, compare
from offing.judging.references import PLAIN_MODEL, names_for, plain_model
from offing.model import Fit, Forecast, Model
from offing.model.words import as_html
from offing.survey import Survey, inspect
from offing.tables import Panel, Table
from offing.tables.table import Array
from offing.terms import Driver, Term

#: Seconds of a draft where nothing is stated, of hours and of all others.
_BUDGET_HOURS, _BUDGET = 60.0, 30.0
#: The share of the budget in which candidates are tried; the rest is for fits, forecasts and figures.
_CHOOSING = 0.6
#: How far a forecast goes where nothing is stated.
_HORIZONS = {"hour": 168, "day": 28, "business day": 20, "week": 13, "month": 12, "quarter": 4, "year": 3}
#: Designs have about so many columns at most, for how many threads are of use.
_WIDE = 100
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
        """Why a term, or a field of the model, is as it is; of an earlier draft's term what it is."""
        term = next((each for each in self.model.terms if str(each.name) == about), None)
        if term is not None and not self.is_choice:
            return form_words(term)
        return self.choice.reasons.get(about, "")

    @property
    def is_choice(self) -> bool:
        """Whether the model is what was chosen last, and not that of an earlier draft, or the next best one."""
        chosen = self.choice.shown.terms(self.choice.ingredients)
        return [each.name for each in chosen] == [each.name for each in self.model.terms]

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
        choice = choose(materials, started, started + _CHOOSING * (end - started))
        found = rivals_of(choice, previous, end, workers)
    choice = replace(choice, remarks=(*choice.remarks, *found.remarks))
    # Several series are forecast by one model each; a study combines models of one series.
    members, weights = (found.members, found.weights) if whole is None else ((), {})
    return Draft(
        survey, ahead, choice, found.model, members, weights, found.backtest, time.monotonic() - started, whole
    )


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
