"""Scores of a back-test: by origin, by horizon, by season, by series and their totals."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal, get_args

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import Frequency
from offing.evaluation.fold_results import Run
from offing.evaluation.origins import one_scene, summed_cuts
from offing.evaluation.past_forecasts import PastForecasts, parts_of_runs
from offing.evaluation.score_parts import LEVELS, PARTS, ratio

By = Literal["origin", "horizon", "season", "series", "level"]


@dataclass(frozen=True)
class Score:
    """How a score is made: of the means of some `parts` over a group of forecasts, `finished` in some way.

    `better` says which side is the better one: ``low``, ``high``, or the nearest to a value. `percent` says that it is
    one and not in the target's unit.
    """

    parts: tuple[str, ...]
    finished: Callable[..., Array]
    better: Literal["low", "near"] = "low"
    aim: float = 0.0
    percent: bool = False
    unit: bool = True


def _itself(mean: Array) -> Array:
    return mean


def _root(mean: Array) -> Array:
    return np.sqrt(mean)


#: All scores by name. MAE, RMSE; MAPE and its symmetric form (Makridakis 1993), WAPE: the sum of absolute errors over
#: that of outcomes (Kolassa & Schütz 2007); bias: forecast less outcome; MASE (Hyndman & Koehler 2006), RMSSE
#: (Makridakis et al. 2022); pinball: the mean quantile loss of the 50, 80 and 95 % intervals' ends and the median
#: (Koenker & Bassett 1978); CRPS (Gneiting & Raftery 2007); coverage and width of intervals; Winkler's score (1972).
SCORES: dict[str, Score] = {
    "MAE": Score(("size",), _itself),
    "RMSE": Score(("square",), _root),
    "bias": Score(("error",), _itself, "near"),
    "MAPE": Score(("share",), _itself, percent=True, unit=False),
    "sMAPE": Score(("both",), _itself, percent=True, unit=False),
    "WAPE": Score(("size", "outcome"), lambda size, outcome: ratio(100.0 * size, outcome), percent=True, unit=False),
    "MASE": Score(("scaled",), _itself, unit=False),
    "RMSSE": Score(("scaled square",), _root, unit=False),
    "pinball": Score(("pinball",), _itself),
    "CRPS": Score(("ranked",), _itself),
    **{
        f"coverage {100 * level:g} %": Score(
            (f"in {level:g}",), lambda share: 100.0 * share, "near", 100.0 * level, percent=True, unit=False
        )
        for level in LEVELS
    },
    **{f"width {100 * level:g} %": Score((f"wide {level:g}",), _itself) for level in LEVELS},
    **{f"Winkler {100 * level:g} %": Score((f"winkler {level:g}",), _itself) for level in LEVELS},
}


#: Why a score can be undefined, by its name.
UNDEFINED = {
    "MAPE": "an outcome is zero",
    "sMAPE": "outcome and forecast are both zero",
    "WAPE": "all outcomes are zero",
    "MASE": "the past never changed, or is too short",
    "RMSSE": "the past never changed, or is too short",
}
_NO_BAND = "it has no intervals"
#: Of fewer forecasts one may well make most of a mean.
_FEW = 6


def check_score(score: str) -> str:
    """The name of a score.

    Raises
    ------
    InputError
        If there is none of that name.
    """
    if score not in SCORES:
        raise InputError(f"found {score!r}", nearest(score, SCORES), key="score")
    return score


def score_of(run: Run, score: str) -> float:
    """One score of a run over all its origins; NaN where it is undefined."""
    known = np.isfinite(run.error)
    means = [float(PARTS[part](run)[known].mean()) for part in SCORES[score].parts]
    return float(SCORES[score].finished(*(np.array(each) for each in means)))


def scored(parts: pd.DataFrame, by: Sequence[str], names: Sequence[str]) -> pd.DataFrame:
    """Scores of every group of rows: one row a group, one column a score; NaN where one is undefined."""
    columns = list(dict.fromkeys(part for name in names for part in SCORES[name].parts))
    if not len(parts):
        return pd.DataFrame(columns=[*by, *names])
    if by:
        # A part that is unknown anywhere makes its mean unknown: nothing is left out silently.
        grouped = parts.groupby(list(by), sort=True)[columns]
        means = grouped.mean()
        means = means.where(grouped.count().eq(grouped.size(), axis=0))
    else:
        means = parts[columns].mean(skipna=False).to_frame().T
    found = {name: SCORES[name].finished(*(means[part].to_numpy() for part in SCORES[name].parts)) for name in names}
    return pd.DataFrame(found, index=means.index)


def scores(
    backtest: PastForecasts,
    *,
    by: By | None = None,
    score: str | None = None,
    series: str | None = None,
    weights: Mapping[str, float] | None = None,
) -> pd.DataFrame:
    """Scores of all candidates and references of a back-test; see `Backtest.scores`."""
    if by is not None and by not in get_args(By):
        raise InputError(f"found {by!r}", nearest(str(by), get_args(By)), key="by")
    names = list(SCORES) if score is None else [check_score(score)]
    parts = all_parts(backtest, series)
    if weights is not None:
        missing = [each for each in parts["series"].unique() if each not in weights]
        if missing:
            raise InputError(f"there is no weight of series {missing[0]!r}", key="weights")
    keys = ["basis", "model", *([by] if by and by not in ("series", "level") else [])]
    if by == "level":
        found = _by_level(backtest, keys, names, weights)
    elif by == "series":
        found = scored(parts, [*keys, "series"], names).reset_index()
    else:
        found = _over_series(scored(parts, [*keys, "series"], names).reset_index(), keys, names, weights)
    order = list(dict.fromkeys(run.name for run in backtest.runs))
    found["model"] = pd.Categorical(found["model"], order)
    found = found.sort_values([*[key for key in keys if key != "model"], "model"], kind="stable", ignore_index=True)
    found["model"] = found["model"].astype(object)
    if score is not None and by is None:
        bases = [each for each in ("ex-post", "ex-ante") if each in set(found["basis"])]
        wide = found.pivot_table(index="model", columns="basis", values=score, sort=False)
        return wide.reindex(order)[bases].dropna(how="all")
    return found


def _over_series(
    each: pd.DataFrame, keys: Sequence[str], names: Sequence[str], weights: Mapping[str, float] | None
) -> pd.DataFrame:
    """Weighted means of the series' scores."""
    if len(each["series"].unique()) <= 1:
        return each.drop(columns="series")
    worth = each["series"].map(dict(weights)) if weights is not None else pd.Series(1.0, each.index)
    weighted = each[list(names)].mul(worth, axis=0)
    grouped = pd.concat([each[list(keys)], weighted, worth.rename("worth")], axis=1).groupby(list(keys), sort=True)
    sums, counts = grouped.sum(), grouped.count()
    means = sums[list(names)].div(sums["worth"], axis=0).where(counts[list(names)].eq(counts["worth"], axis=0))
    return means.reset_index()


def _by_level(
    backtest: PastForecasts, keys: Sequence[str], names: Sequence[str], weights: Mapping[str, float] | None
) -> pd.DataFrame:
    """Scores at each level of a hierarchy: means over the members of each, as many series weighted as it sums."""
    frames = []
    for level, groups in levels_of(backtest).items():
        runs = summed(backtest, groups) if level != EACH else list(backtest.runs)
        each = scored(parts_of_runs(runs, backtest), [*keys, "series"], names).reset_index()
        worth = None
        if weights is not None:
            worth = {name: sum(weights[own] for own in members) for name, members in groups.items()}
        frames.append(_over_series(each, keys, names, worth).assign(level=level))
    found = pd.concat(frames, ignore_index=True)
    return found[[*keys, "level", *names]]


#: The names of the lowest level and the highest.
EACH, TOTAL = "each series", "total"


def levels_of(backtest: PastForecasts) -> dict[str, dict[str, tuple[str, ...]]]:
    """The series that each group of each level sums: each by itself, those that share an id, and all."""
    series = backtest.series
    found: dict[str, dict[str, tuple[str, ...]]] = {EACH: {name: (name,) for name in series}}
    if len(backtest.ids) > 1:
        for place, column in enumerate(backtest.ids):
            groups: dict[str, list[str]] = {}
            for name in series:
                groups.setdefault(name.split(" / ")[place], []).append(name)
            found[column] = {key: tuple(members) for key, members in groups.items()}
    return found if len(series) == 1 else {**found, TOTAL: {TOTAL: tuple(series)}}


def all_parts(backtest: PastForecasts, series: str | None = None) -> pd.DataFrame:
    """The parts of all runs on both bases, each forecast of a reference under every basis."""
    if series is not None and series not in (*backtest.series, TOTAL):
        raise InputError(f"found {series!r}", nearest(series, [*backtest.series, TOTAL]), key="series")
    if series == TOTAL:
        return parts_of_runs(summed(backtest, levels_of(backtest).get(TOTAL, {})), backtest)
    return backtest.parts if series is None else backtest.parts[backtest.parts["series"] == series]


def summed(backtest: PastForecasts, groups: Mapping[str, Sequence[str]]) -> list[Run]:
    """The sums of groups of series, of each candidate; without intervals, which need to know how series go together.

    Raises
    ------
    InputError
        If there is one series only, or they have not the same periods and origins.
    """
    if not groups or not one_scene([job.cuts for job in backtest.jobs.values()]):
        raise InputError("sums need several series with the same periods and origins", key="series")
    found = []
    for group, members in groups.items():
        whole = summed_cuts([backtest.jobs[name].cuts for name in members])
        runs: dict[tuple[str, str], list[Run]] = {}
        for run in backtest.runs:
            if not run.why and run.series in members:
                runs.setdefault((run.name, run.basis), []).append(run)
        found += [
            replace(
                own[0],
                series=group,
                cuts=whole,
                mean=np.sum([each.mean for each in own], axis=0),
                made=None,
                trained=None,
                weights=None,
            )
            for own in runs.values()
            if len(own) == len(members)
        ]
    return found


def notes(backtest: PastForecasts) -> dict[tuple[str, str], str]:
    """Why a candidate has no such score, or what rules it, by candidate and score.

    Candidates without forecasts stand under every score. A MAPE of which one outcome near zero makes more than half is
    reported as well: it says nothing of the others.
    """
    found: dict[tuple[str, str], str] = {}
    noted = scored(backtest.parts, ["model", "basis", "series"], list(SCORES))
    missing = noted.isna().groupby(level="model").any()
    for model, row in missing.iterrows():
        for name in row.index[row]:
            found[str(model), str(name)] = UNDEFINED.get(str(name), _NO_BAND)
    shares = backtest.parts.groupby(["model", "basis", "series"])["share"].agg(["size", "max", "sum"])
    ruled = shares[(shares["size"] >= _FEW) & (shares["max"] > shares["sum"] / 2.0)]
    found |= {
        (str(model), "MAPE"): "one outcome near zero makes most of it"
        for model in ruled.index.get_level_values("model")
    }
    return found | {(run.name, ""): run.why for run in backtest.runs if run.why}


def totals_of(run: Run, unit: str | None = None) -> pd.DataFrame:
    """Sums over the horizon of every origin, or over those calendar units that it holds whole: outcome and forecast.

    ``origin, period, target, forecast``; the period is the first one summed. Where a value is unknown there is none.
    """
    folds, firsts, target, forecast = sums_of(run, unit)
    frequency = run.cuts.table.axis.frequency
    periods = frequency.index(frequency.starts(firsts))
    return pd.DataFrame({"origin": run.cuts.origins[folds], "period": periods, "target": target, "forecast": forecast})


def sums_of(run: Run, unit: str | None = None) -> tuple[NDArray[np.intp], NDArray[np.int64], Array, Array]:
    """The fold, the first ordinal, the outcome and the forecast (n,) of every sum of `totals_of`."""
    axis, outcome = run.cuts.table.axis, run.cuts.outcome
    if unit is None:
        folds, firsts = np.arange(len(run.mean)), axis.first + run.cuts.rows[:, 0]
        sums = outcome.sum(axis=1), run.mean.sum(axis=1)
    else:
        parts = [(fold, own, mask) for fold in range(len(run.mean)) for own, mask in _units(run, fold, unit)]
        folds, firsts = np.array([each[0] for each in parts], dtype=np.intp), np.array([each[1] for each in parts])
        sums = (
            np.array([outcome[fold, mask].sum() for fold, _, mask in parts]),
            np.array([run.mean[fold, mask].sum() for fold, _, mask in parts]),
        )
    known = np.isfinite(sums[0]) & np.isfinite(sums[1])
    return folds[known], firsts[known].astype(np.int64), sums[0][known], sums[1][known]


def _units(run: Run, fold: int, unit: str) -> list[tuple[int, NDArray[np.bool_]]]:
    """The first ordinal of each calendar unit that a fold's periods hold whole, and which of these (h,) lie in it."""
    own = run.cuts.axis(fold)
    larger = Frequency(unit, zone=own.frequency.zone)  # type: ignore[arg-type]
    place = larger.ordinals(own.starts)
    starts, ends = larger.starts(place), larger.starts(place + 1)
    whole = (own.edges[0] <= starts) & (own.edges[-1] >= ends)
    return [(int(own.ordinals[place == each][0]), place == each) for each in np.unique(place[whole])]
