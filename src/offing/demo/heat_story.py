"""``offing demo --story heat``: the hourly study of the islands' district heat."""

from __future__ import annotations

from pathlib import Path

import pandas as pd

from offing.base.results import ENTRIES
from offing.calendar.iso import iso_words
from offing.demo.guide import Guide, Say
from offing.demo.heat import heat, school_days
from offing.explain import story
from offing.study import Study

#: The figures that the story names; the study's own command draws the others.
FIGURES = {
    "cycle": ("cycle-*.png", "every hour on every kind of day as a heat map, and the year around"),
    "holidays": ("holidays-*.png", "the islands' and the schools' holidays"),
    "walk-1": ("walk-1.png", "against last year"),
    "scenarios": ("scenarios.png", "what if"),
    "year-of-days": ("year-of-days.png", "what the terms add on every day of a year"),
    "contributions": ("contributions.png", "why: every day split into contributions"),
}


def run_heat(folder: Path, say: Say) -> Study:
    """Write the heat study into `folder`, run it in full, and show each step through `say`.

    Raises
    ------
    InputError
        If the folder cannot be written to.
    """
    world, guide = heat(), Guide(folder, say)
    tables = {
        "heat.csv": (
            _stamped(world.history),
            "load of the network, with outside temperature, wind, sun and beds occupied",
        ),
        "plan.csv": (
            _stamped(world.plan),
            f"the drivers' plan for the {len(world.plan)} hours that follow; clocks change in them",
        ),
        "island_days.csv": (world.days, "the islands' holidays"),
        "school_days.csv": (school_days(), "their school holidays, as ranges of days"),
        "truth.csv": (world.truth, "the effects that the data were made with"),
    }
    study = guide.open(f"{len(world.history):,} hours of the Tern Islands' district heat", "heat.toml", tables)
    (fit,), (forecast,) = study.fits.values(), study.forecasts.values()
    guide.step("Fitted trend + hour by kind of day + season + holidays + drivers, with related noise:", fit.sentences)
    calendar = [
        each.sentence for kind in ("trend", "cycle", "holidays") for each in ENTRIES[kind].of(study, "main").values()
    ]
    guide.step("What the calendar does:", "\n".join(calendar))
    guide.step(
        "Forecast and its months:", "\n".join([forecast.sentence, *(each.sentence for each in study.totals["main"])])
    )
    guide.step(
        "Why it differs from last year, and what if it turns cold?",
        str(story(study.walks["main"][0], brief=True)),
        study.what_if["main"].sentences,
    )
    guide.compare(fit, world.truth, hidden="by kind of day")
    guide.results(study, dict(FIGURES.values()), list(FIGURES))
    guide.next({"offing backtest {folder}/study.toml": "a week ahead, with the weather and without; a minute"})
    return study


def _stamped(frame: pd.DataFrame) -> pd.DataFrame:
    """The hours as a first column of text with their offset, which shows both hours of a night when clocks go back."""
    rows = frame.reset_index()
    rows[rows.columns[0]] = iso_words(pd.DatetimeIndex(rows.iloc[:, 0]), timed=True)
    return rows
