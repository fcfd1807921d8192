"""Folds that are refitted, each from what was known at its origin."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.parallel import InterruptedWork, carried_out
from offing.evaluation.fold_results import PROBABILITIES, Basis, Run
from offing.evaluation.gaps import bridged
from offing.evaluation.origins import Cuts
from offing.model import Fit, Forecast, Model
from offing.model.fitted import Fitted
from offing.model.make_forecast import forecast
from offing.tables import Columns, Information, Sources, Table

#: Tasks that workers share among them, if there are as many folds: more than one per worker evens out their load.
_TASKS = 8


class DriverForecastCache(dict[tuple[object, ...], Forecast]):
    """What models of the drivers' own have said, for all jobs on the same data; it is not sent to other processes."""

    def __reduce__(self) -> tuple[type[DriverForecastCache], tuple[()]]:
        return DriverForecastCache, ()


@dataclass(frozen=True)
class Job:
    """One candidate on one series: what is fitted at every origin, and what counts as known there."""

    model: Model
    tables: Mapping[str, Table]
    plans: Mapping[str, Table]
    series: str
    cuts: Cuts
    basis: Basis
    known_ahead: Columns
    method: Literal["recursion", "direct"] = "recursion"
    unreleased: Literal["expected", "shifted"] = "expected"
    driver_forecasts: DriverForecastCache = field(default_factory=DriverForecastCache, compare=False, repr=False)

    def information(self, fold: int) -> Information:
        """What was known at one origin, within the window that the origins ask for."""
        return Information(
            self.tables, self.series, int(self.cuts.moments[fold]), self.plans, self.known_ahead, self.cuts.plan.window
        )

    def fit(self, fold: int) -> Fit:
        """The fit at one origin."""
        return self.model.fit_at(self.information(fold))

    def forecast(self, fit: Fit, fold: int) -> tuple[Forecast, NDArray[np.bool_]]:
        """The forecast of a fit as far as the horizon, and in which periods (h,) drivers are missing, so that none is.

        Ex-post a driver must have a value; ex-ante models of the drivers' own say what was expected.
        """
        periods, none = self._periods, np.zeros(self._periods, dtype=bool)
        if self.method != "recursion" or self.unreleased != "expected":
            return self._by_horizon(fit, periods), none
        expect = self.basis == "ex-ante"
        used: Fitted = fit
        if not expect:
            used, none = bridged(fit, self.information(fold), periods)
        return forecast(used, periods, None, None, (0.95,), expect=expect, made=self.driver_forecasts), none

    @property
    def _periods(self) -> int:
        return self.cuts.plan.gap + self.cuts.plan.horizon

    def _by_horizon(self, fit: Fit, periods: int) -> Forecast:
        expect = self.basis == "ex-ante"
        return fit.forecast(
            periods,
            method=self.method,
            unreleased=self.unreleased,
            levels=[0.95],
            missing_plans="expected" if expect else "refuse",
        )


@dataclass(frozen=True)
class _Task:
    """Some folds of jobs on one series."""

    jobs: tuple[Job, ...]
    folds: tuple[int, ...]
    strict: bool


def known_ahead_by(basis: Basis, tables: Mapping[str, Table], target: str, planned: Sequence[str]) -> Columns:
    """The columns whose later values count as known: of ex-post all but the target, of ex-ante those that are planned.

    Raises
    ------
    InputError
        If a planned column does not exist, or is the target.
    """
    sources = Sources(dict(tables))
    own = sources.find(target)
    every = {(name, column) for name, table in tables.items() for column in (*table.columns, *table.unusable)}
    if basis == "ex-post":
        return frozenset(every - {own})
    found = set()
    for each in planned:
        place = sources.find(each)
        if place == own:
            raise InputError(f"{each!r} is the target, whose later values are unknown", key="planned")
        found.add(place)
    return frozenset(found)


def refitted(jobs: Sequence[Job], executor: Executor | None = None) -> list[Run]:
    """The runs of some jobs, every fold of which is fitted by itself.

    Raises
    ------
    InputError
        If one cannot be fitted or forecast, naming its origin.
    """
    return [run for run in _attempted(jobs, executor, strict=True) if isinstance(run, Run)]


def attempted_again(jobs: Sequence[Job], executor: Executor | None = None) -> list[Run | InputError]:
    """The runs of some jobs, or why there is none."""
    return _attempted(jobs, executor, strict=False)


def _attempted(jobs: Sequence[Job], executor: Executor | None, *, strict: bool) -> list[Run | InputError]:
    groups: dict[tuple[str, Basis], list[int]] = {}
    for i, job in enumerate(jobs):
        groups.setdefault((job.series, job.basis), []).append(i)
    tasks, members = [], []
    for own in groups.values():
        for folds in _shares(len(jobs[own[0]].cuts.moments), len(groups)):
            tasks.append(_Task(tuple(jobs[i] for i in own), folds, strict))
            members.append(own)
    found = _kept(tasks, "forecasting from past origins" if strict else "", executor)
    parts: list[list[_Folds | InputError]] = [[] for _ in jobs]
    for own, results in zip(members, found, strict=True):
        for i, result in zip(own, results, strict=True):
            parts[i].append(result)
    return [_joined(job, own) for job, own in zip(jobs, parts, strict=True)]


def _kept(tasks: Sequence[_Task], what: str, executor: Executor | None) -> list[list[_Folds | InputError]]:
    """What became of all tasks; after Ctrl-C folds of those that were not finished are not known.

    Raises
    ------
    KeyboardInterrupt
        If nothing was finished, or the work has no name and is part of other work.
    """
    try:
        return carried_out(_folds, tasks, what, executor)
    except InterruptedWork as stopped:
        if not what or not any(stopped.found):
            raise
        return [
            done or [_unfinished(job, len(task.folds)) for job in task.jobs]
            for task, done in zip(tasks, stopped.found, strict=True)
        ]


def _unfinished(job: Job, folds: int) -> _Folds:
    h = job.cuts.plan.horizon
    return (
        np.full((folds, h), np.nan),
        np.full((folds, h, len(PROBABILITIES)), np.nan),
        np.full((folds, 2), np.nan),
        np.full(folds, np.nan),
        0.0,
    )


#: Means (f, h), quantiles (f, h, q), training errors (f, 2), columns (f,) and seconds.
_Folds = tuple[Array, Array, Array, Array, float]


def _joined(job: Job, parts: Sequence[_Folds | InputError]) -> Run | InputError:
    whole: list[_Folds] = []
    for part in parts:
        if isinstance(part, InputError):
            return part
        whole.append(part)
    mean, quantiles, train, columns = (np.concatenate([each[i] for each in whole]) for i in range(4))
    return Run(
        job.series,
        job.model.name,
        job.basis,
        "model",
        job.cuts,
        mean,
        _Kept(quantiles),
        _Kept(train),
        columns,
        sum(each[4] for each in whole),
    )


@dataclass(frozen=True)
class _Kept:
    values: Array

    def __call__(self) -> Array:
        return self.values


def _shares(folds: int, groups: int) -> list[tuple[int, ...]]:
    parts = min(folds, max(_TASKS // groups, 1))
    return [tuple(each.tolist()) for each in np.array_split(np.arange(folds), parts)]


def _folds(task: _Task) -> list[_Folds | InputError]:
    """What became of each job in some folds."""
    found: list[_Folds | InputError] = []
    for job in task.jobs:
        try:
            found.append(_job_folds(job, task.folds))
        except InputError as error:
            if task.strict:
                raise
            found.append(error)
    return found


def _job_folds(job: Job, folds: Sequence[int]) -> _Folds:
    started, gap = time.perf_counter(), job.cuts.plan.gap
    mean, quantiles = [], []
    train, columns = [], []
    for fold in folds:
        with _placing(job, fold):
            fit = job.fit(fold)
            ahead, gone = job.forecast(fit, fold)
        mean.append(np.where(gone, np.nan, ahead.mean)[gap:])
        own = ahead.quantiles(PROBABILITIES.tolist()).to_numpy()
        quantiles.append(np.where(gone[:, None], np.nan, own)[gap:])
        missed = (fit.target - fit.means)[fit.used]
        train.append([np.abs(missed).mean(), np.sqrt(np.square(missed).mean())])
        columns.append(float(fit.estimate.kept.sum()))
    taken = time.perf_counter() - started
    return np.array(mean), np.array(quantiles), np.array(train), np.array(columns), taken


@contextmanager
def _placing(job: Job, fold: int) -> Iterator[None]:
    """Let an error that arises inside say at which origin."""
    try:
        yield
    except InputError as error:
        error.found = f"model '{job.model.name}' at the origin {job.cuts.origins[fold]:%Y-%m-%d}: {error.found}"
        raise
