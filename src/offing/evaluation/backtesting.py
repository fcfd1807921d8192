"""Forecasting from past origins: the jobs, and the back-test that they make."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import replace
from typing import Literal

import numpy as np

from offing.base import InputError
from offing.evaluation.backtest import Backtest
from offing.evaluation.external_forecasts import ExternalForecast, external_run
from offing.evaluation.fold_results import Basis, Run
from offing.evaluation.origins import Origins
from offing.evaluation.past_forecasts import BASES
from offing.evaluation.references import (
    NEWEST,
    PLAIN_MODEL,
    REFERENCES,
    SHARES,
)
from offing.evaluation.refit import DriverForecastCache, Job, known_ahead_by
from offing.evaluation.runner import attempt_all, run_all
from offing.model import Model
from offing.model.fit import Data
from offing.model.model import tables_of
from offing.tables import Panel, Sources, Table, not_in_all, split_series


def backtest(
    models: Model | Sequence[Model],
    data: Data,
    *,
    horizon: int,
    origins: int | Sequence[object] | None = None,
    first_origin: object = None,
    every: int | None = None,
    gap: int = 0,
    window: int | None = None,
    basis: Basis | None = None,
    planned: Sequence[str] = (),
    plans: Mapping[str, Table | Panel] | None = None,
    external: Sequence[ExternalForecast] = (),
    repeats: Mapping[str, int] | None = None,
    method: Literal["recursion", "direct"] = "recursion",
    unreleased: Literal["expected", "shifted"] = "expected",
    executor: Executor | None = None,
) -> Backtest:
    """Forecast from past origins as it would have been done there, all being learnt again at each.

    Parameters
    ----------
    models
        One or several of the same target, with different names.
    data
        As for ``Model.fit``; a target of several series is forecast series by series.
    horizon, origins, first_origin, every, gap, window
        See `Origins`: 12 origins by default, as far apart as the horizon.
    basis
        ``ex-post`` takes the drivers' actual later values; ``ex-ante`` only what was known at the origin, whereas what
        was not known is forecast by models of the drivers' own. By default both, whose difference is the cost of not
        knowing the drivers; without drivers they are the same, and reported as ex-ante.
    planned
        Columns whose later values were settled beforehand, as fares and timetables are: they count as known.
    plans
        Plans of the drivers by the table that each continues. Those that say when they were made (`released` in
        `offing.read`) serve as they stood at each origin; others say nothing of the past.
    external
        Forecasts made elsewhere; see `offing.external_forecast`.
    repeats
        Further plain references by name: each repeats the value a number of periods before, such as
        ``{"four weeks before": 28}`` for days. Where it is not known yet, the same lag counts once more.
    method, unreleased
        As for ``Fit.forecast``.
    executor
        Any ``concurrent.futures.Executor`` to share the work among its workers. By default processes are started where
        much is to be done.

    Raises
    ------
    InputError
        If no origin is possible, models are called the same or have different targets, or a fold cannot be fitted or
        forecast, naming its origin.

    Notes
    -----
    Plain regressions share one design, whose triangle later folds are joined to; all other folds are fitted by
    themselves. Outcomes are the newest values of the target, as read.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(3)
    >>> days = pd.date_range("2024-01-01", periods=200, freq="D")
    >>> rain = generator.normal(size=200)
    >>> data = pd.DataFrame({"sold": 5.0 + 2.0 * rain + generator.normal(size=200), "rain": rain}, days)
    >>> found = of.backtest(of.Model("sold", [of.Driver("rain")]), data, horizon=7, origins=8)
    >>> found.scores(score="RMSE").round(1)[["ex-post", "ex-ante"]].loc["main"].tolist()
    [0.9, 1.8]
    """
    models = (models,) if isinstance(models, Model) else tuple(models)
    _check_models(models, external, repeats or {})
    plan = Origins(horizon, origins, first_origin, every, gap, window)
    if basis is not None and basis not in BASES:
        raise InputError(f"found {basis!r}", 'Give "ex-post" or "ex-ante".', key="basis")
    bases, given = bases_of(models, basis), tables_of(data)
    owner = next((each for each in given.values() if isinstance(each, Panel)), None)
    jobs, unusable = jobs_of(
        models, split_series(given, models[0].target), plan, bases, planned=tuple(planned), plans=plans or {}
    )
    every_one = [replace(job, method=method, unreleased=unreleased) for job in jobs]
    runs, left_out = _runs(every_one, executor)
    left_out = {**not_in_all(given, models[0].target), **unusable, **left_out}
    first = {
        series: next(job for job in every_one if job.series == series)
        for series in dict.fromkeys(job.series for job in every_one)
        if series not in left_out
    }
    for each in external:
        runs += [external_run(each, series, job.cuts) for series, job in first.items()]
    return Backtest(
        models,
        plan,
        tuple(runs),
        first,
        tuple(external),
        () if owner is None else owner.id,
        dict(repeats or {}),
        left_out,
    )


def _runs(jobs: Sequence[Job], executor: Executor | None) -> tuple[list[Run], dict[str, InputError]]:
    """The runs of all jobs; of several series those that can be had, and why others cannot."""
    if not jobs[0].series:
        return run_all(jobs, executor), {}
    tried = attempt_all(jobs, executor)
    failed: dict[str, InputError] = {}
    for job, run in zip(jobs, tried, strict=True):
        if isinstance(run, InputError):
            failed.setdefault(job.series, run)
    runs = [
        run
        for job, run in zip(jobs, tried, strict=True)
        if job.series not in failed and not isinstance(run, InputError)
    ]
    if not runs:
        raise next(iter(failed.values()))
    return runs, failed


def bases_of(models: Sequence[Model], basis: Basis | None) -> tuple[Basis, ...]:
    """The basis asked for; else both, where there are drivers."""
    if basis is not None:
        return (basis,)
    return BASES if any(model.needs() for model in models) else ("ex-ante",)


def jobs_of(
    models: Sequence[Model],
    series: Mapping[str, dict[str, Table]],
    plan: Origins,
    bases: Sequence[Basis],
    *,
    planned: Sequence[str] = (),
    plans: Mapping[str, Table | Panel] | None = None,
    hidden: int = 0,
) -> tuple[list[Job], dict[str, InputError]]:
    """One job a series, basis and model, as if the newest `hidden` periods were not there; and why others have none.

    Raises
    ------
    InputError
        If no series has an origin.
    """
    found: list[Job] = []
    refused: dict[str, InputError] = {}
    for name, tables in series.items():
        source, column = Sources(tables).find(models[0].target)
        try:
            cuts = plan.on(tables[source], column, hidden)
            own = {key: each[name] if isinstance(each, Panel) else each for key, each in (plans or {}).items()}
        except InputError as error:
            if not name:
                raise
            error.found = f"series {name!r}: {error.found}"
            refused[name] = error
            continue
        for basis in bases:
            known_ahead, driver_forecasts = (
                known_ahead_by(basis, tables, models[0].target, planned),
                DriverForecastCache(),
            )
            found += [
                Job(model, tables, own, name, cuts, basis, known_ahead, driver_forecasts=driver_forecasts)
                for model in models
            ]
    if not found:
        raise next(iter(refused.values()))
    return found, refused


def _check_models(models: Sequence[Model], external: Sequence[ExternalForecast], repeats: Mapping[str, int]) -> None:
    names = [*(model.name for model in models), *(each.name for each in external), *repeats]
    for name, lag in repeats.items():
        if isinstance(lag, bool) or not isinstance(lag, (int, np.integer)) or lag < 1:
            raise InputError(f"found {lag!r} for '{name}'", "Give a whole number of periods from 1 on.", key="repeats")
    if not models or len({model.target for model in models}) > 1:
        raise InputError(
            f"found {len(models)} models of {len({model.target for model in models})} targets",
            "Give models of one target.",
            key="models",
        )
    for name in names:
        if name in (*REFERENCES, NEWEST, PLAIN_MODEL, SHARES):
            raise InputError(f"'{name}' is the name of a plain reference", "Give another name.", key="name")
        if names.count(name) > 1:
            raise InputError(f"two forecasts are called '{name}'", "Give one of them another name.", key="models")
