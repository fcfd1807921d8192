"""Back-tests, comparisons and searches as the rows of the contract's files."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import pandas as pd

from offing.base.results import Entry, alone, by_name, numbered, register
from offing.calendar import Frequency
from offing.calendar.iso import iso_words
from offing.evaluation.backtest import Backtest
from offing.evaluation.calibration import Calibration
from offing.evaluation.comparison import Comparison
from offing.evaluation.origins import one_scene
from offing.evaluation.past_forecasts import PastForecasts, parts_of_runs, rows_of
from offing.evaluation.scoring import EACH, SCORES, TOTAL, all_parts, levels_of, notes, scored, scores, summed, sums_of
from offing.evaluation.search import Search
from offing.evaluation.term_gain import Change, TermGain
from offing.model.rows import coefficient_rows

#: The scenario of what is judged: none is assumed.
_NONE = ""
_SCORES = ["series", "model", "scenario", "basis", "set", "origin", "horizon", "season", "score", "value", "note"]


def backtest_rows(found: Backtest) -> pd.DataFrame:
    """Rows of ``backtest.csv``: one a forecast, those of the references as well."""
    runs = [run for run in found.runs if not run.why]
    rows = rows_of(runs)
    frequency = found.cuts().table.axis.frequency
    for column in ("origin", "period"):
        rows[column] = _texts(rows[column], frequency)
    sizes = [run.mean.size for run in runs]
    names = np.array([run.series or run.cuts.column for run in runs], dtype=object)
    # What looks at no driver has no basis.
    bases = np.array(["" if run.kind in ("reference", "external") else run.basis for run in runs], dtype=object)
    rows["series"], rows["basis"] = np.repeat(names, sizes), np.repeat(bases, sizes)
    rows.insert(2, "scenario", _NONE)
    return rows


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
    rows["origin"] = _texts(rows["origin"], frequency)
    rows["series"] = rows["series"].replace("", found.cuts().column)
    rows["scenario"], rows["note"] = _NONE, ""
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


def change_rows(found: Change, backtest: Backtest) -> pd.DataFrame:
    """Rows of ``change.csv``: one an origin, then one a horizon."""
    frequency = backtest.cuts().table.axis.frequency
    origins = found.by_origin.assign(origin=_iso(list(found.by_origin.index), frequency), horizon="")
    horizons = found.by_horizon.assign(origin="", horizon=found.by_horizon.index.astype(str))
    rows = pd.concat([origins, horizons], ignore_index=True)
    keys = {
        "series": series_of(backtest),
        "model": found.after,
        "scenario": _NONE,
        "against": found.before,
        "score": found.score,
    }
    head = pd.DataFrame(keys, index=rows.index)
    return pd.concat([head, rows[["origin", "horizon", "before", "after", "change"]]], axis=1)


def comparison_rows(found: Comparison) -> pd.DataFrame:
    """Rows of ``comparison.csv``: one a candidate or reference, the best first."""
    rows = found.table.rename(columns={found.score: "value"})
    rows.insert(0, "series", series_of(found.backtest))
    rows.insert(2, "scenario", _NONE)
    rows.insert(3, "basis", found.basis)
    rows.insert(5, "score", found.score)
    return rows


def accuracy_test_rows(found: Comparison) -> pd.DataFrame:
    """Rows of ``tests.csv``: candidates against the best one and against the best reference."""
    rows = found.tests.copy()
    rows.insert(0, "series", series_of(found.backtest))
    rows.insert(2, "scenario", _NONE)
    rows.insert(3, "basis", found.basis)
    return rows


def calibration_rows(found: Calibration, backtest: Backtest) -> pd.DataFrame:
    """Rows of ``calibration.csv``: one a level and horizon."""
    rows = found.table.copy()
    for place, (name, value) in enumerate(
        (("series", series_of(backtest)), ("model", found.model), ("scenario", _NONE), ("basis", found.basis))
    ):
        rows.insert(place, name, value)
    return rows


def term_gain_rows(found: TermGain, backtest: Backtest) -> pd.DataFrame:
    """Rows of ``term_gain.csv``: one a term."""
    rows = found.table.rename(columns={"score": "value"})
    for place, (name, value) in enumerate(
        (("series", series_of(backtest)), ("model", found.model), ("scenario", _NONE))
    ):
        rows.insert(place, name, value)
    rows.insert(4, "score", found.score)
    return rows


def search_rows(found: Search) -> pd.DataFrame:
    """Rows of ``search.csv``: one a candidate, the best first."""
    rows = found.table.rename(columns={"score": "value"})
    keys = (
        ("series", series_of(found.held)),
        ("model", found.space.model.name),
        ("scenario", _NONE),
        ("basis", found.basis),
        ("score", found.score),
    )
    for place, (name, value) in enumerate(keys):
        rows.insert(place, name, value, allow_duplicates=True)
    return rows


def series_of(found: PastForecasts) -> str:
    """The series in files: the target's column where there is one only, else all."""
    return found.cuts().column if len(found.series) == 1 else "all"


def _texts(stamps: pd.Series, frequency: Frequency) -> np.ndarray:
    """Moments as text, each one made once; an empty text where there is none."""
    codes, unlike = pd.factorize(stamps)
    return np.array([*_iso(list(unlike), frequency), ""], dtype=object)[codes]


def _iso(stamps: Sequence[pd.Timestamp] | pd.Series, frequency: Frequency) -> list[str]:
    texts = pd.DatetimeIndex(list(stamps))
    plain = frequency.unit != "hour" and frequency.zone is None
    words: list[str] = iso_words(texts, timed=not (plain and bool((texts == texts.normalize()).all()))).tolist()
    return words


JUDGED = ("backtest", "compare")

register(
    Entry(
        "backtest",
        of=lambda judged, _: alone(judged.backtest),
        text={"backtest": str},
        figure_for=["backtest"],
        files={
            "backtest": lambda found, _: backtest_rows(found),
            "scores": lambda found, judged: score_rows(found, judged.requested.sums, judged.requested.weights),
        },
        files_for=JUDGED,
        rank=0,
    )
)
register(
    Entry(
        "by-horizon", of=lambda judged, _: alone(judged.backtest.by_horizon(judged.requested.score)), figure_for=JUDGED
    )
)
register(Entry("timeline", of=lambda judged, _: alone(judged.backtest.timeline), figure_for=["backtest"]))
register(
    Entry(
        "calibration",
        of=lambda judged, _: numbered(judged.calibrations),
        files={"calibration": lambda found, judged: calibration_rows(found, judged.backtest)},
        files_for=["backtest"],
        figure_for=["backtest"],
    )
)
register(
    Entry(
        "comparison",
        of=lambda judged, _: alone(judged.comparison),
        text={"compare": str},
        figure_for=["compare"],
        files={
            "comparison": lambda found, _: comparison_rows(found),
            "tests": lambda found, _: accuracy_test_rows(found),
        },
        files_for=["compare"],
        rank=1,
    )
)
register(
    Entry(
        "change",
        of=lambda judged, _: alone(judged.change),
        text={"compare": str},
        figure_for=["compare"],
        files={"change": lambda found, judged: change_rows(found, judged.backtest)},
        files_for=["compare"],
        rank=2,
    )
)
register(
    Entry(
        "term-gain",
        of=lambda judged, _: alone(judged.term_gain),
        text={"compare": str},
        figure_for=["compare"],
        files={"term_gain": lambda found, judged: term_gain_rows(found, judged.backtest)},
        files_for=["compare"],
        rank=3,
    )
)
register(
    Entry(
        "member-weights",
        of=lambda judged, _: by_name({each.name: each for each in judged.weights}, always=True),
        figure_for=["compare"],
    )
)
register(
    Entry(
        "search",
        of=lambda judged, _: alone(judged.search),
        text={"search": str},
        figure_for=["search"],
        files={
            "search": lambda found, _: search_rows(found),
            "coefficients": lambda found, _: pd.concat(map(coefficient_rows, found.fits.values()), ignore_index=True),
            "scores": lambda found, judged: score_rows(found.held, judged.requested.sums, judged.requested.weights),
        },
        files_for=["search"],
    )
)
