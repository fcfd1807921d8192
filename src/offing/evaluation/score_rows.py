"""Rows of a back-test's scores: of candidates, of totals, and as trained."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import pandas as pd

from offing.calendar import Frequency
from offing.calendar.iso import iso_words
from offing.evaluation.backtest import Backtest
from offing.evaluation.origins import one_scene
from offing.evaluation.past_forecasts import parts_of_runs
from offing.evaluation.scoring import EACH, SCORES, TOTAL, all_parts, levels_of, notes, scored, scores, summed, sums_of

_SCORES = ["series", "model", "scenario", "basis", "set", "origin", "horizon", "season", "score", "value", "note"]


def score_rows(found: Backtest, sums: Sequence[str] = (), weights: Mapping[str, float] | None = None) -> pd.DataFrame:
    """Rows of ``scores.csv``: all, by origin, by horizon and by season, on new periods and on those fitted.

    `sums` adds scores of sums over calendar units, such as ``quarter``; there is always that of the whole horizon.
    Of several series there are those of each, of their sums where they have the same periods, and means with `weights`.
    Why a score is undefined, its note shows.
    """
    parts = all_parts(found)
    names, frequency = list(SCORES), found.cuts().table.axis.frequency
    frames = [
        _long(scored(parts, ["basis", "model", "series", *by], names), by)
        for by in ([], ["origin"], ["horizon"], ["season"])
    ]
    frames += [_trained(found), _totals(found, None), *(_totals(found, unit) for unit in sums)]
    if one_scene([job.cuts for job in found.jobs.values()]):
        frames.append(_levels(found, names))
    if len(found.series) > 1:
        frames.append(_means(found, names, weights))
    rows = pd.concat(frames, ignore_index=True)
    rows["origin"] = texts_of(rows["origin"], frequency)
    rows["series"] = rows["series"].replace("", found.cuts().column)
    rows["scenario"], rows["note"] = AS_IT_IS, ""
    reported = notes(found)
    noted = (rows["value"].isna() | (rows["score"] == "MAPE")).to_numpy()
    keys = zip(rows["model"][noted], rows["score"][noted], strict=True)
    rows.loc[noted, "note"] = [reported.get((model, score), "") for model, score in keys]
    return rows[_SCORES]


def _long(wide: pd.DataFrame, by: Sequence[str]) -> pd.DataFrame:
    """One row a score; what it is by is empty where it is of all."""
    rows = wide.reset_index().melt(list(wide.index.names), var_name="score", value_name="value")
    rows["set"] = "test"
    for column, empty in (("origin", pd.NaT), ("horizon", ""), ("season", "")):
        if column not in by:
            rows[column] = empty
    rows["horizon"] = rows["horizon"].astype(str)
    return rows


def _trained(found: Backtest) -> pd.DataFrame:
    """Errors of the fits on the periods fitted, by origin."""
    rows = [
        (run.series, run.name, run.basis, "train", origin, "", "", score, value)
        for run in found.own
        if run.train is not None
        for origin, values in zip(run.cuts.origins, run.train.tolist(), strict=True)
        for score, value in zip(("MAE", "RMSE"), values, strict=True)
    ]
    return pd.DataFrame(rows, columns=_SCORES[:2] + _SCORES[3:10])


def _totals(found: Backtest, unit: str | None) -> pd.DataFrame:
    """Scores of sums over the horizon, or over calendar units that lie within it."""
    rows = []
    for run in found.runs:
        if run.why:
            continue
        *_, target, forecast = sums_of(run, unit)
        error = forecast - target
        if not len(error):
            continue
        sizes = np.abs(target).sum()
        values = {
            "MAE": np.abs(error).mean(),
            "RMSE": np.sqrt(np.square(error).mean()),
            "bias": error.mean(),
            "WAPE": 100.0 * np.abs(error).sum() / sizes if sizes > 0.0 else np.nan,
        }
        for basis in filter(run.is_of, found.bases):
            rows += [
                (run.series, run.name, basis, f"sum of {unit or 'horizon'}", pd.NaT, "", "", score, float(value))
                for score, value in values.items()
            ]
    return pd.DataFrame(
        rows, columns=["series", "model", "basis", "set", "origin", "horizon", "season", "score", "value"]
    )


def _levels(found: Backtest, names: Sequence[str]) -> pd.DataFrame:
    """Scores of the sums of series that share an id, and of all, by the name of what is summed."""
    frames = []
    for level, groups in levels_of(found).items():
        if level != EACH:
            runs = summed(found, groups)
            own = _long(scored(parts_of_runs(runs, found), ["basis", "model", "series"], names), [])
            frames.append(own.assign(series=[level if level == TOTAL else f"{level} {name}" for name in own["series"]]))
    return pd.concat(frames, ignore_index=True)


def _means(found: Backtest, names: Sequence[str], weights: Mapping[str, float] | None) -> pd.DataFrame:
    """Means of the series' scores, each counting as the weights say, or all alike."""
    wide = scores(found, weights=weights or None).set_index(["basis", "model"])
    return _long(wide[list(names)], []).assign(series="mean of series")


#: The scenario of what is judged: none is assumed.
AS_IT_IS = ""


def texts_of(stamps: pd.Series, frequency: Frequency) -> np.ndarray:
    """Moments as text, each one made once; an empty text where there is none."""
    codes, unlike = pd.factorize(stamps)
    return np.array([*iso_of(list(unlike), frequency), ""], dtype=object)[codes]


def iso_of(stamps: Sequence[pd.Timestamp] | pd.Series, frequency: Frequency) -> list[str]:
    """Instants as ISO 8601 text, in the form that the frequency needs."""
    texts = pd.DatetimeIndex(list(stamps))
    plain = frequency.unit != "hour" and frequency.zone is None
    words: list[str] = iso_words(texts, timed=not (plain and bool((texts == texts.normalize()).all()))).tolist()
    return words
