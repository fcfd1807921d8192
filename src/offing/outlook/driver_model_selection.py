"""Which terms a driver's own model needs, by forecasting its past."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from offing.base import InputError
from offing.base.text import number
from offing.model.driver_forecasts import driver_model, own_model
from offing.model.model import DriverModel
from offing.tables import Information
from offing.terms import Term

if TYPE_CHECKING:
    from offing.outlook.driver_future import Future

#: Past origins that choose a model, and the newest periods they look at: 4,000 hours are half a year of both seasons.
_ORIGINS, _NEWEST = 6, 4000
#: The simplest set whose error is nearly the least is taken: so few origins cannot show more.
_NEAR = 1.02


@dataclass(frozen=True)
class Chosen:
    """The terms of a driver's own model, how far it was off in the past, and what was tried."""

    terms: tuple[Term, ...]
    words: str
    errors: dict[str, float]


def candidates_of(usual: Sequence[Term]) -> dict[str, tuple[Term, ...]]:
    """The sets of terms that are tried, by what they are called, the simplest first."""
    trend = [term for term in usual if term.role == "trend"]
    seasons = [term for term in usual if term.role == "season"]
    lags = [term for term in usual if term.recursive]
    sets: dict[str, tuple[Term, ...]] = {
        "own lags": tuple(lags),
        "season": tuple(seasons),
        "season, own lags": (*seasons, *lags),
        "trend, season": (*trend, *seasons),
        "trend, season, own lags": (*trend, *seasons, *lags),
    }
    return sets if seasons else {"own lags": tuple(lags), "trend": tuple(trend), "trend, own lags": (*trend, *lags)}


def chosen_terms(future: Future) -> Chosen:
    """The simplest set with nearly the least root mean square error over past origins, each as far ahead as needed now.

    The past is that which is known now, so that nothing of the forecast's own periods enters. With a history too short
    for any origin all terms are taken.
    """
    table = future.view.sources.tables[future.view.sources.find(future.reference)[0]]
    known = np.isfinite(future.actual(future.past))
    rows = np.flatnonzero(known)
    sets = candidates_of(own_model(table.axis.frequency, len(rows)))
    whole = list(sets)[-1]
    horizon = future.axis.n
    step = max(horizon // 2, 1)
    ends = [int(rows[-1]) + 1 - horizon - step * k for k in range(_ORIGINS)] if len(rows) else []
    least = max(len(rows) // 2, 8)
    ends = [end for end in ends if end >= least]
    if not ends:
        return Chosen(sets[whole], f"{whole}; its past is too short to choose", {})
    values = future.actual(future.past)
    errors = {}
    for name, terms in sets.items():
        errors[name] = _error(future, terms, ends, values)
    least_error = min(errors.values())
    best = next(name for name in sets if errors[name] <= _NEAR * least_error)
    if not np.isfinite(errors[best]):
        return Chosen(sets[whole], whole, errors)
    unit = f" {future.unit}" if future.unit else ""
    return Chosen(sets[best], f"{best}; RMSE {number(errors[best])}{unit} over {len(ends)} back-tests", errors)


def _error(future: Future, terms: Sequence[Term], ends: Sequence[int], values: np.ndarray) -> float:
    """Root mean square error of a set of terms; infinite where it cannot be fitted."""
    source = future.view.sources.find(future.reference)[0]
    table = future.view.sources.tables[source]
    stated = driver_model(future.fit, future.view, future.reference, terms)
    model = replace(DriverModel.of(stated), window=min(_NEWEST, max(ends)))
    released, sums = table.known_at(), []
    for end in ends:
        try:
            fit = model.fit_at(Information({source: table}, as_of=int(released[end - 1])))
            ahead = fit.forecast(end + future.axis.n - (fit.axis.first - table.axis.first + fit.axis.n))
        except InputError:
            return float("inf")  # a set that the past cannot separate is none to choose
        off = ahead.mean[-future.axis.n :] - values[end : end + future.axis.n]
        sums.append(np.nanmean(np.square(off)))
    return float(np.sqrt(np.mean(sums)))
