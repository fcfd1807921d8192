"""The chosen model and its rivals, refitted at every past origin, and the weights of their combination."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.parallel import Workers
from offing.drafting.choice import Choice
from offing.drafting.past import Past
from offing.drafting.rules import SUPPORT
from offing.drafting.widening import errors_of_choosing, widened_run, widening
from offing.evaluation import Backtest
from offing.evaluation.backtesting import jobs_of
from offing.evaluation.combination_methods import STATED_WEIGHTS
from offing.evaluation.fold_results import Run
from offing.evaluation.refit import Job
from offing.evaluation.runner import attempt_all
from offing.model import Model

#: Members of the combination, and how steeply their weights fall with their errors.
_MEMBERS, _STEEPNESS = 3, 0.05
#: Members with a smaller weight are left out.
_LEAST_WEIGHT = 0.02
#: What the model, the combination and an earlier draft's model are called; a study's only model is its main one.
DRAFT, COMBINATION, PREVIOUS = "main", "combination", "previous draft"


@dataclass(frozen=True)
class Rivals:
    """The model that is shown, those that are combined with it, their weights, and how all did from past origins."""

    model: Model
    members: tuple[Model, ...]
    weights: Mapping[str, float]
    backtest: Backtest | None
    remarks: tuple[str, ...] = ()


def rivals_of(choice: Choice, previous: Model | None, end: float, workers: Workers) -> Rivals:
    """The chosen model and its rivals, refitted at every past origin; as many of them as the time allows."""
    model = choice.shown.model(choice.ingredients, DRAFT)
    if choice.past is None:
        return Rivals(model, (), {}, None)
    pool = [each.candidate for each in choice.ranked if each.candidate.key != choice.shown.key][:_MEMBERS]
    models = [model, *(each.model(choice.ingredients, f"member {i}") for i, each in enumerate(pool, 2))]
    if previous is not None:
        models.insert(1, replace(previous, name=PREVIOUS, widen_intervals=1.0))
    plan, known_ahead = choice.past.cuts.plan, choice.past.information.known_ahead or frozenset()
    planned = [f"{source}.{column}" for source, column in sorted(known_ahead)]
    jobs, _ = jobs_of(
        models, {"": dict(choice.today.tables)}, plan, ["ex-ante"], planned=planned, plans=dict(choice.today.plans)
    )
    kept, runs, remarks = _from_origins(models, jobs, end, workers)
    if _stay(kept, runs):
        remarks = (*remarks, "the model of the earlier draft stays, as past forecasts do not support another one")
    kept, runs = _widened(choice, choice.past, kept, runs)
    first, *members = kept
    if first.name != DRAFT:  # the choice itself cannot be fitted somewhere: the next best one is shown
        runs[0] = replace(runs[0], name=DRAFT)
        first = replace(first, name=DRAFT)
    backtest = Backtest((first, *members), plan, tuple(runs), {"": jobs[0]})
    weights = _weights(runs)
    members = [each for each in members if each.name in weights]
    if len(weights) > 1:
        backtest = backtest.combined(method=STATED_WEIGHTS, weights=weights, name=COMBINATION)
    else:
        weights, members = {}, []
    return Rivals(first, tuple(members), weights, backtest, remarks)


def _from_origins(
    models: Sequence[Model], jobs: Sequence[Job], end: float, workers: Workers
) -> tuple[list[Model], list[Run], tuple[str, ...]]:
    """The models that can be fitted at every origin, as many as the time allows, with their runs, and remarks.

    Raises
    ------
    InputError
        If there is none.
    """
    kept: list[Model] = []
    runs: list[Run] = []
    remarks: tuple[str, ...] = ()
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
            remarks = (*remarks, f"the first choice could not be used: {run.found}")
    if not runs:
        raise InputError("no model could be fitted at past origins", "Give more data, or fewer columns.")
    return kept, runs, remarks


def _widened(choice: Choice, past: Past, models: Sequence[Model], runs: Sequence[Run]) -> tuple[list[Model], list[Run]]:
    """The models with intervals as wide as past errors say, and their runs with these."""
    errors = errors_of_choosing(past, choice.ranked)
    wider = [replace(model, widen_intervals=widening(errors, run)) for model, run in zip(models, runs, strict=True)]
    return wider, [widened_run(past, run, model) for model, run in zip(wider, runs, strict=True)]


def _stay(kept: list[Model], runs: list[Run]) -> bool:
    """Put the previous draft's model first, unless past forecasts support the new one; whether it stays."""
    at = next((i for i, run in enumerate(runs) if run.name == PREVIOUS), None)
    if at is None or at == 0:
        return False
    if replace(kept[at], name=DRAFT) == kept[0]:
        del kept[at], runs[at]
        return False
    gains = np.nanmean(np.abs(runs[at].error), axis=1) - np.nanmean(np.abs(runs[0].error), axis=1)
    error = float(gains.std(ddof=1) / np.sqrt(len(gains))) if len(gains) > 1 else 0.0
    if float(gains.mean()) > SUPPORT * error:
        return False
    kept.insert(0, replace(kept.pop(at), name=DRAFT))
    runs.insert(0, replace(runs.pop(at), name=DRAFT))
    kept[1], runs[1] = replace(kept[1], name="member 1"), replace(runs[1], name="member 1")
    return True


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
