"""`draft`: from tables to a model and a forecast that past forecasts support."""

from __future__ import annotations

import re
import time
from collections.abc import Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.limits import check_ahead
from offing.base.parallel import Workers
from offing.base.results import Result
from offing.base.text import as_html
from offing.calendar.axis import instant_of
from offing.drafting.choice import choose
from offing.drafting.drafted import Drafted
from offing.drafting.materials import Materials
from offing.drafting.rivals import rivals_of
from offing.drafting.screen import screen
from offing.drafting.write import script_text, study_text
from offing.engine.threads import threads_for
from offing.inspection import Survey, inspect
from offing.model import Model
from offing.tables import Panel, Table

#: Seconds of a draft where nothing is stated, of hours and of all others.
_BUDGET_HOURS, _BUDGET = 60.0, 30.0
#: The share of the budget in which candidates are tried; the rest is for fits, forecasts and figures.
_CHOOSING = 0.6
#: How far a forecast goes where nothing is stated.
_HORIZONS = {"hour": 168, "day": 28, "business day": 20, "week": 13, "month": 12, "quarter": 4, "year": 3}
#: The usual number of columns of the widest designs, from which follows how many threads are of use.
_WIDE = 100
Data = Table | Panel | pd.DataFrame | pd.Series | Mapping[str, Table | Panel]


@dataclass(frozen=True)
class Draft(Drafted, Result, figure="draft.draw_draft"):
    """A model and a forecast proposed from tables. Made by `offing.draft`; printed, one screen in words.

    Attributes are those of `Drafted`: ``survey``, ``horizon``, ``choice``, ``model``, ``members``, ``weights``,
    ``backtest``, ``fit``, ``forecast``, ``combination``, ``comparison``, ``tried``, ``left_out``, ``findings``.

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
    >>> found.model.terms[-1].name, found.horizon
    ('spend', 8)
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
