"""A study's back-test, comparison and search."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from offing.base import InputError
from offing.evaluation import (
    Backtest,
    Comparison,
    Search,
    TermGain,
    search,
    term_gain,
)
from offing.study.study import Study

#: Seconds in the units of a budget.
_UNITS = {"": 1.0, "s": 1.0, "min": 60.0, "m": 60.0, "h": 3600.0}


def seconds_of(budget: str | float | None) -> float | None:
    """Seconds of a budget such as ``60s``, ``5 min``, ``2 h`` or a number.

    Raises
    ------
    InputError
        For anything else.

    Examples
    --------
    >>> from offing.study.judged import seconds_of
    >>> seconds_of("5 min"), seconds_of(None)
    (300.0, None)
    """
    if budget is None:
        return None
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(s|min|m|h)?\s*", str(budget))
    value = 0.0 if found is None else float(found.group(1)) * _UNITS[found.group(2) or ""]
    if not value > 0.0:
        raise InputError(f"found {budget!r}", 'Give a time such as "60s", "5 min" or "1 h".', key="budget")
    return value


def study_term_gain(comparison: Comparison) -> TermGain | None:
    """What each term is worth, where the study asks for it."""
    names = {model.name for model in comparison.backtest.models}
    first = comparison.backtest.models[0]
    if not any(f"without {term.name}" in names for term in first.terms):
        return None
    return term_gain(comparison)


def joined(studies: Sequence[Study]) -> Backtest:
    """The models of several studies of the same outcomes in one back-test, each named after its study.

    Raises
    ------
    InputError
        If their targets or origins differ.
    """
    first, *others = [each.backtest for each in studies]
    start = studies[0].path.name
    stems = [each.path.stem for each in studies]
    if len(set(stems)) < len(stems):
        stems = [str(each.path) for each in studies]
    runs, models = [], []
    for stem, study, found in zip(stems, studies, [first, *others], strict=True):
        for series, job in first.jobs.items():
            own = found.jobs.get(series)
            if own is None or not _alike(own.cuts, job.cuts):
                raise InputError(
                    f"its target or its origins are not those of {start}",
                    "Compare studies of the same data, with the same [backtest].",
                    file=study.path.name,
                )
        names = {run.name: f"{stem}: {run.name}" for run in found.own}
        if len(names) == 1:
            names = dict.fromkeys(names, stem)
        runs += [
            replace(run, name=names[run.name], members=tuple(names.get(each, each) for each in run.members))
            for run in found.own
        ]
        models += [replace(model, name=names[model.name]) for model in found.models]
    return replace(first, own=tuple(runs), models=tuple(models))


def _alike(one: Any, other: Any) -> bool:
    return bool(
        np.array_equal(one.moments, other.moments)
        and np.array_equal(one.rows, other.rows)
        and np.array_equal(one.outcome, other.outcome, equal_nan=True)
    )


def study_search(
    study: Study,
    budget: str | float | None,
    record: Path | None,
    report: Callable[[str], object] | None,
    *,
    spent: float = 0.0,
) -> Search:
    """The study's search; of its time `spent` seconds are gone, on reading and on what is to be written.

    Raises
    ------
    InputError
        If the study does not say what to choose, or as `offing.search` does.
    """
    requested, past = study.spec.search, study.spec.backtest
    if requested is None:
        advice = 'Add [search] with optional = ["TERM"] or [search.choices].'
        raise InputError("the study does not say what to choose", advice, file=study.path.name)
    with study.placing(("search",)):
        names = [model.name for model in study.models]
        if requested.model is not None and requested.model not in names:
            raise InputError(f"there is no model {requested.model!r}", f"Allowed: {', '.join(names)}.", key="model")
        model = study.models[0 if requested.model is None else names.index(requested.model)]
        seconds = seconds_of(requested.budget if budget is None else budget)
        return search(
            model,
            study.tables,
            study.choices,
            optional=requested.optional,
            horizon=study._far(),
            budget=None if seconds is None else max(seconds - spent, seconds / 3.0),
            method=requested.method,
            tries=requested.tries,
            seed=requested.seed,
            score=requested.score,
            held_back=requested.held_back,
            origins=requested.origins,
            every=requested.every or past.every,
            first_origin=past.first_origin,
            gap=past.gap,
            basis=requested.basis or past.basis,
            planned=past.planned,
            plans=study.plans,
            record=record,
            report=report,
        )
