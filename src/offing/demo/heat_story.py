"""``offing demo --story heat``: the hourly study of the islands' district heat."""

from __future__ import annotations

from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

import pandas as pd

from offing.base.text import text_table
from offing.calendar.iso import iso_words
from offing.demo.compared import compare, inset, shown
from offing.demo.heat import heat, school_days
from offing.explain import story
from offing.study import Study, open_study
from offing.study.outputs import StudyOutput
from offing.writers import Bundle, csv_text

Say = Callable[[str], object]

#: The figures that the demo names; the study's own command draws the others.
DRAWN = ["contributions", "cycle", "holidays", "scenarios", "walk-1", "year-of-days"]


def run_heat(folder: Path, say: Say) -> Study:
    """Write the heat study into `folder`, run it in full, and show each step through `say`.

    Raises
    ------
    InputError
        If the folder cannot be written to.
    """
    world = heat()
    made = Bundle()
    made.add("heat.csv", csv_text(_stamped(world.history)))
    made.add("plan.csv", csv_text(_stamped(world.plan)))
    made.add("island_days.csv", csv_text(world.days))
    made.add("school_days.csv", csv_text(school_days()))
    made.add("truth.csv", csv_text(world.truth))
    made.add("study.toml", files("offing.demo").joinpath("heat.toml").read_text(encoding="utf-8"))
    made.write(folder)
    say(f"1. Made up {len(world.history):,} hours of the Tern Islands' district heat, and wrote to {folder}:")
    say("     heat.csv         load of the network, with outside temperature, wind, sun and beds occupied")
    say(f"     plan.csv         the drivers' plan for the {len(world.plan)} hours that follow; clocks change in them")
    say("     island_days.csv  the islands' holidays")
    say("     school_days.csv  their school holidays, as ranges of days")
    say("     study.toml       what to read, which terms, how far to forecast")
    say("     truth.csv        the effects that the data were made with\n")
    say("2. Fitting trend + hour by kind of day + season + holidays + drivers, with related noise ...\n")
    study = open_study(folder / "study.toml")
    (fit,), (forecast,) = study.fits.values(), study.forecasts.values()
    say(inset(fit.sentences))

    say("\n3. What the calendar does:\n")
    for kind in ("trend", "cycle", "holidays"):
        for each in study.answers["main"].get(kind, {}).values():
            say(inset(each.sentence))

    say("\n4. Forecast and its months:\n")
    say(inset(forecast.sentence))
    for each in study.totals["main"]:
        say(inset(each.sentence))

    say("\n5. Why it differs from last year, and what if it turns cold?\n")
    say(inset(str(story(study.walks["main"][0], brief=True))))
    say("")
    say(inset(study.what_if["main"].sentences))

    say("\n6. Compared the estimates with the truth:\n")
    compared = compare(fit, world.truth)
    hours = compared["column"].str.contains("by kind of day")
    say(text_table(*shown(compared[~hours])))
    say(
        f"\n   {int(compared['inside'].sum())} of all {len(compared)} true effects, {int(hours.sum())} of them hours "
        "on a kind of day, lie in their\n   95 % intervals; about one in twenty should not."
    )

    results = folder / "results"
    written = StudyOutput(study, "explain").bundle(DRAWN).write(results)
    say(f"\n7. Wrote {len(written)} files to {results}. Open first:")
    say("     cycle-season-in-day-by-kind-of-day-*.png  every hour on every kind of day, as a heat map")
    say("     cycle-season.png                          the year around")
    say("     holidays-*.png                            the islands' and the schools' holidays")
    say("     walk-1.png, scenarios.png                 against last year, and what if")
    say("     year-of-days.png                          what the terms add on every day of a year")
    say("     contributions.png                         why: every day split into contributions")
    say("\nTry next:")
    say(f"     offing backtest {folder / 'study.toml'}   a week ahead, with the weather and without; a minute")
    return study


def _stamped(frame: pd.DataFrame) -> pd.DataFrame:
    """The hours as a first column of text with their offset, which shows both hours of a night when clocks go back."""
    rows = frame.reset_index()
    rows[rows.columns[0]] = iso_words(pd.DatetimeIndex(rows.iloc[:, 0]), timed=True)
    return rows
