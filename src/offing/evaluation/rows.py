"""Back-tests, comparisons and searches as the rows of the contract's files."""

from __future__ import annotations

import numpy as np
import pandas as pd

from offing.base.results import Entry, alone, by_name, numbered, register
from offing.evaluation.backtest import Backtest
from offing.evaluation.calibration import Calibration
from offing.evaluation.comparison import Comparison
from offing.evaluation.past_forecasts import PastForecasts, rows_of
from offing.evaluation.score_rows import AS_IT_IS, iso_of, score_rows, texts_of
from offing.evaluation.search_result import Search
from offing.evaluation.term_gain import Change, TermGain
from offing.model.rows import coefficient_rows


def backtest_rows(found: Backtest) -> pd.DataFrame:
    """Rows of ``backtest.csv``: one a forecast, those of the references as well."""
    runs = [run for run in found.runs if not run.why]
    rows = rows_of(runs)
    frequency = found.cuts().table.axis.frequency
    for column in ("origin", "period"):
        rows[column] = texts_of(rows[column], frequency)
    sizes = [run.mean.size for run in runs]
    names = np.array([run.series or run.cuts.column for run in runs], dtype=object)
    # What looks at no driver has no basis.
    bases = np.array(["" if run.kind in ("reference", "external") else run.basis for run in runs], dtype=object)
    rows["series"], rows["basis"] = np.repeat(names, sizes), np.repeat(bases, sizes)
    rows.insert(2, "scenario", AS_IT_IS)
    return rows


def change_rows(found: Change, backtest: Backtest) -> pd.DataFrame:
    """Rows of ``change.csv``: one an origin, then one a horizon."""
    frequency = backtest.cuts().table.axis.frequency
    origins = found.by_origin.assign(origin=iso_of(list(found.by_origin.index), frequency), horizon="")
    horizons = found.by_horizon.assign(origin="", horizon=found.by_horizon.index.astype(str))
    rows = pd.concat([origins, horizons], ignore_index=True)
    keys = {
        "series": series_of(backtest),
        "model": found.after,
        "scenario": AS_IT_IS,
        "against": found.before,
        "score": found.score,
    }
    head = pd.DataFrame(keys, index=rows.index)
    return pd.concat([head, rows[["origin", "horizon", "before", "after", "change"]]], axis=1)


def comparison_rows(found: Comparison) -> pd.DataFrame:
    """Rows of ``comparison.csv``: one a candidate or reference, the best first."""
    rows = found.table.rename(columns={found.score: "value"})
    rows.insert(0, "series", series_of(found.backtest))
    rows.insert(2, "scenario", AS_IT_IS)
    rows.insert(3, "basis", found.basis)
    rows.insert(5, "score", found.score)
    return rows


def accuracy_test_rows(found: Comparison) -> pd.DataFrame:
    """Rows of ``tests.csv``: candidates against the best one and against the best reference."""
    rows = found.tests.copy()
    rows.insert(0, "series", series_of(found.backtest))
    rows.insert(2, "scenario", AS_IT_IS)
    rows.insert(3, "basis", found.basis)
    return rows


def calibration_rows(found: Calibration, backtest: Backtest) -> pd.DataFrame:
    """Rows of ``calibration.csv``: one a level and horizon."""
    rows = found.table.copy()
    for place, (name, value) in enumerate(
        (("series", series_of(backtest)), ("model", found.model), ("scenario", AS_IT_IS), ("basis", found.basis))
    ):
        rows.insert(place, name, value)
    return rows


def term_gain_rows(found: TermGain, backtest: Backtest) -> pd.DataFrame:
    """Rows of ``term_gain.csv``: one a term."""
    rows = found.table.rename(columns={"score": "value"})
    for place, (name, value) in enumerate(
        (("series", series_of(backtest)), ("model", found.model), ("scenario", AS_IT_IS))
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
        ("scenario", AS_IT_IS),
        ("basis", found.basis),
        ("score", found.score),
    )
    for place, (name, value) in enumerate(keys):
        rows.insert(place, name, value, allow_duplicates=True)
    return rows


def series_of(found: PastForecasts) -> str:
    """The series in files: the target's column where there is one only, else all."""
    return found.cuts().column if len(found.series) == 1 else "all"


JUDGED = ("backtest", "compare")

register(
    Entry(
        "backtest",
        title="How good past forecasts were",
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
        "by-horizon",
        title="Errors by horizon",
        of=lambda judged, _: alone(judged.backtest.by_horizon(judged.requested.score)),
        figure_for=JUDGED,
    )
)
register(
    Entry(
        "timeline",
        title="When forecasts were made",
        of=lambda judged, _: alone(judged.backtest.timeline),
        figure_for=["backtest"],
    )
)
register(
    Entry(
        "calibration",
        title="How often intervals held",
        of=lambda judged, _: numbered(judged.calibrations),
        files={"calibration": lambda found, judged: calibration_rows(found, judged.backtest)},
        files_for=["backtest"],
        figure_for=["backtest"],
    )
)
register(
    Entry(
        "comparison",
        title="Models compared",
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
        title="Weights of the combination",
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
