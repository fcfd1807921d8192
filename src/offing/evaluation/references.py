"""Plain references: forecasts that cost nothing, which every model is compared with."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.calendar import Frequency
from offing.engine import quantile
from offing.evaluation.fold_results import PROBABILITIES, Run
from offing.evaluation.origins import Cuts, one_scene, summed_cuts
from offing.evaluation.refit import Job
from offing.evaluation.runner import run_all
from offing.model import Model
from offing.model.driver_forecasts import own_model

#: The week, whose days differ.
_WEEK: dict[str, int] = {"hour": 168, "day": 7, "business day": 5}
#: Repeats the newest periods, as many as are forecast, in whole cycles.
NEWEST = "newest periods"
#: The shortest cycle of units that have one within the year.
_SHORTEST: dict[str, int] = {"hour": 24, "day": 7, "business day": 5}
#: The name of the model of calendar terms alone, and that of the forecast by shares of a total.
PLAIN_MODEL, SHARES = "trend and season", "total by shares"


@dataclass(frozen=True)
class Guess:
    """Means (h,) and standard deviations (h,) of the outcomes, and the degrees of freedom of these."""

    mean: Array
    deviation: Array
    dof: float


class TooShortError(Exception):
    """The history is too short for a reference; the text says why."""


#: What a reference makes of past values (n,) for the horizons (h,), given how many periods its season has.
Reference = Callable[[Array, NDArray[np.intp], int], Guess]


def _last_value(past: Array, horizons: NDArray[np.intp], season: int) -> Guess:
    return _moving(past, past[-1] + np.zeros(len(horizons)), 1, np.sqrt(horizons))


def _same_season(past: Array, horizons: NDArray[np.intp], season: int) -> Guess:
    mean, cycles = _a_season_ago(past, horizons, season)
    return _moving(past, mean, season, np.sqrt(cycles))


def _drift(past: Array, horizons: NDArray[np.intp], season: int) -> Guess:
    known = np.flatnonzero(np.isfinite(past))
    steps = int(known[-1] - known[0])
    if steps < 2:
        raise TooShortError("a drift needs three periods")
    slope = (past[known[-1]] - past[known[0]]) / steps
    return _moving(
        past - slope * np.arange(len(past)),
        past[-1] + slope * horizons,
        1,
        np.sqrt(horizons * (1.0 + horizons / steps)),
    )


def _growth(past: Array, horizons: NDArray[np.intp], season: int) -> Guess:
    """The value a year before, grown by the yearly rate between the first and the last year."""
    years = len(past) // season
    if years < 2:
        raise TooShortError("a yearly rate of growth needs two years")
    first, last = past[len(past) - years * season :][:season], past[-season:]
    both = np.isfinite(first) & np.isfinite(last)
    if not both.any() or first[both].sum() <= 0.0 or last[both].sum() <= 0.0:
        raise TooShortError("growth needs positive years")
    rate = (last[both].sum() / first[both].sum()) ** (1.0 / (years - 1))
    mean, cycles = _a_season_ago(past, horizons, season)
    grown = past / rate ** (np.arange(len(past)) / season)
    scaled = _moving(grown, mean, season, np.sqrt(cycles))
    return Guess(mean * rate**cycles, scaled.deviation * rate ** (len(past) / season), scaled.dof)


def _mean(past: Array, horizons: NDArray[np.intp], season: int) -> Guess:
    known = past[np.isfinite(past)]
    if len(known) < 2:
        raise TooShortError("a mean with a band needs two periods")
    spread = known.std(ddof=1) * np.sqrt(1.0 + 1.0 / len(known))
    return Guess(np.full(len(horizons), known.mean()), np.full(len(horizons), spread), len(known) - 1.0)


#: References by their names for people. Others can be added here.
REFERENCES: dict[str, Reference] = {
    "last value": _last_value,
    "same season": _same_season,
    "drift": _drift,
    "compound growth": _growth,
    "mean": _mean,
}


def _a_season_ago(past: Array, horizons: NDArray[np.intp], season: int) -> tuple[Array, NDArray[np.intp]]:
    """Values (h,) of the same place in the newest known season, and how many seasons (h,) lie between."""
    if len(past) < season + 1:
        raise TooShortError(f"there are no {season} periods before some origin")
    cycles = (horizons - 1) // season + 1
    at = len(past) - 1 + horizons - cycles * season
    values = past[at].copy()
    for i in np.flatnonzero(np.isnan(values)).tolist():
        earlier = past[int(at[i]) :: -season]
        known = earlier[np.isfinite(earlier)]
        values[i] = known[0] if len(known) else np.nan
    return values, cycles


def _moving(past: Array, mean: Array, lag: int, factor: Array) -> Guess:
    """A guess whose errors add up over time like the changes of the past over `lag` periods (a random walk)."""
    changes = past[lag:] - past[:-lag]
    changes = changes[np.isfinite(changes)]
    if len(changes) < 2:
        raise TooShortError("the history is too short")
    return Guess(mean, np.sqrt(np.square(changes).mean()) * factor, float(len(changes) - 1))


def names_for(
    frequency: Frequency, horizon: int, repeats: Mapping[str, int] | None = None
) -> dict[str, tuple[Reference, int]]:
    """The references of a series of some frequency and horizon, with their seasons, and those that repeat a stated lag.

    Of days and hours there is also the week before, and in all cases the newest H periods once more, H being the
    horizon in whole cycles, unless that is one of the others.
    """
    year = frequency.year_back
    found = {name: (each, year) for name, each in REFERENCES.items()}
    if frequency.unit in _WEEK:
        found["same season (week)"] = (REFERENCES["same season"], _WEEK[frequency.unit])
    cycle = _SHORTEST.get(frequency.unit, year)
    newest = -(-horizon // cycle) * cycle
    same_season = [season for reference, season in found.values() if reference is _same_season]
    if newest not in same_season:
        found[NEWEST] = (_same_season, newest)
    return found | {name: (_same_season, lag) for name, lag in (repeats or {}).items()}


def naive_runs(series: str, cuts: Cuts, repeats: Mapping[str, int] | None = None) -> list[Run]:
    """What the references say from every origin."""
    pasts = [cuts.past(fold) for fold in range(len(cuts.ends))]
    found = []
    horizon = int(cuts.horizons[-1])
    for name, (reference, season) in names_for(cuts.table.axis.frequency, horizon, repeats).items():
        try:
            guesses = [reference(past, cuts.horizons, season) for past in pasts]
        except TooShortError as short:
            found.append(_absent(series, name, cuts, str(short)))
            continue
        mean = np.array([each.mean for each in guesses])
        found.append(Run(series, name, "ex-ante", "reference", cuts, mean, _Spread(tuple(guesses))))
    return found


@dataclass(frozen=True)
class _Spread:
    guesses: tuple[Guess, ...]

    def __call__(self) -> Array:
        t = [quantile(PROBABILITIES, each.dof) for each in self.guesses]
        return np.array(
            [each.mean[:, None] + each.deviation[:, None] * row for each, row in zip(self.guesses, t, strict=True)]
        )


def _absent(series: str, name: str, cuts: Cuts, why: str) -> Run:
    return Run(series, name, "ex-ante", "reference", cuts, np.full(cuts.rows.shape, np.nan), why=why)


def plain_model(model: Model, cuts: Cuts) -> Model:
    """A model of the same target with calendar terms alone: trend and seasons."""
    n = int(cuts.ends[0]) - cuts.first if cuts.plan.window is None else cuts.plan.window
    frequency = cuts.table.axis.frequency
    # Of a year and a quarter the season can be separated from a straight line.
    long = 2 * n if n >= 1.25 * frequency.periods_a_year else n
    terms = [term for term in own_model(frequency, long) if not term.recursive]
    return Model(
        model.target,
        terms,
        model.scale,
        PLAIN_MODEL,
        offset=model.offset,
        lower_limit=model.lower_limit,
        upper_limit=model.upper_limit,
    )


def plain_run(job: Job) -> Run:
    """What a model of calendar terms alone says; see `plain_model`."""
    job = replace(
        job,
        model=plain_model(job.model, job.cuts),
        known_ahead=frozenset(),
        basis="ex-ante",
        method="recursion",
        unreleased="expected",
    )
    try:
        (run,) = run_all([job])
    except InputError as error:
        return _absent(job.series, PLAIN_MODEL, job.cuts, f"it cannot be fitted ({error.found})")
    return replace(run, kind="reference")


def by_shares(jobs: Mapping[str, Job]) -> list[Run]:
    """Each series as its share of a forecast of the total by trend and season, the shares being those of the last year.

    The share of a series is its sum over that of all (Gross & Sohl 1990).
    """
    first = next(iter(jobs.values()))
    every = [job.cuts for job in jobs.values()]
    if not one_scene(every) or any(cuts.table.vintages is not None for cuts in every):
        why = "the series do not have the same periods and origins"
        return [_absent(series, SHARES, job.cuts, why) for series, job in jobs.items()]
    values = {series: job.cuts.table.values(job.cuts.column) for series, job in jobs.items()}
    cuts = summed_cuts(every)
    summed, table = cuts.table.values(cuts.column), first.cuts.table
    source = next(name for name, each in first.tables.items() if each is table)
    run = plain_run(replace(first, tables={source: cuts.table}, series="", cuts=cuts))
    if run.why:
        return [_absent(series, SHARES, job.cuts, run.why) for series, job in jobs.items()]
    year, found = table.axis.frequency.year_back, []
    for series, job in jobs.items():
        shares = np.array([_share(values[series][:end][-year:], summed[:end][-year:]) for end in job.cuts.ends])
        quantiles = None if run.made is None else _Part(run, shares)
        found.append(Run(series, SHARES, "ex-ante", "reference", job.cuts, run.mean * shares[:, None], quantiles))
    return found


@dataclass(frozen=True)
class _Part:
    """Quantiles of a share of a total, whose share is taken as certain."""

    run: Run
    shares: Array

    def __call__(self) -> Array:
        whole = np.full(1, np.nan) if self.run.quantiles is None else self.run.quantiles
        return np.asarray(whole * self.shares[:, None, None])


def _share(own: Array, whole: Array) -> float:
    known = np.isfinite(own) & np.isfinite(whole)
    total = float(whole[known].sum())
    return float(own[known].sum()) / total if known.any() and total else float("nan")


def spell_origins(cuts: Cuts) -> str:
    """The origins in words."""
    days = [f"{day:%Y-%m-%d}" for day in cuts.origins]
    ahead = f"{count(cuts.plan.horizon, cuts.table.axis.frequency.unit)} ahead"
    return (
        f"{len(days)} origins from {days[0]} to {days[-1]}, {ahead}"
        if len(days) > 1
        else f"one origin, {days[0]}, {ahead}"
    )
