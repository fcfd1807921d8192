"""The guided run: write the made-up study, run it, compare it with the truth, say what to do next."""

from __future__ import annotations

from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

import numpy as np

from offing.base.text import text_table
from offing.demo.compared import compare, inset, shown
from offing.demo.ferry import ferry, forecast_only, month_before
from offing.demo.messy import messy_tables
from offing.drafting import Draft
from offing.explain import story
from offing.model import effects
from offing.study import Study, open_study
from offing.study.drafted import Request, drafted
from offing.study.outputs import StudyOutput
from offing.study.stories import study_story
from offing.writers import Bundle, csv_text

Say = Callable[[str], object]


def run_demo(folder: Path, say: Say) -> Study:
    """Write the ferry study into `folder`, run it in full, and show each step through `say`.

    Raises
    ------
    InputError
        If the folder cannot be written to.
    """
    world = ferry()
    study_text = files("offing.demo").joinpath("study.toml").read_text(encoding="utf-8")
    made = Bundle()
    made.add("tickets.csv", csv_text(world.history.reset_index()))
    made.add("plan.csv", csv_text(world.plan.reset_index()))
    made.add("island_days.csv", csv_text(world.days))
    made.add("truth.csv", csv_text(world.truth))
    made.add("study.toml", study_text)
    made.write(folder)
    before = Bundle()
    for name, frame in zip(("tickets.csv", "plan.csv"), month_before(world), strict=True):
        before.add(name, csv_text(frame.reset_index()))
    before.add("island_days.csv", csv_text(world.days))
    before.add("study.toml", forecast_only(study_text))
    before.write(folder / "last-month")
    raw = Bundle(messy_tables(world))
    raw.write(folder / "raw")
    say(f"1. Made up {len(world.history)} weeks of ferry tickets of the Tern Islands, and wrote to {folder}:")
    say("     tickets.csv      tickets sold, with fare, sailings, cruise calls, storm hours and promotions")
    say(f"     plan.csv         the drivers' plan for the {len(world.plan)} weeks that follow")
    say("     island_days.csv  the islands' holidays; Lantern Night moves")
    say("     study.toml       what to read, which terms, how far to forecast")
    say("     truth.csv        the effects that the data were made with")
    say("     last-month       tickets, plan and study as they were four weeks before")
    say("     raw              the same as messy tables: sales by the line, decimal commas, days instead of weeks\n")

    say("2. Drafted a forecast from the messy tables, with nothing stated but how they are written:\n")
    say(inset(str(draft_messy(folder / "raw"))))

    study = open_study(folder / "study.toml")
    (fit,), (forecast,) = study.fits.values(), study.forecasts.values()
    say("\n3. Fitted the study that an expert wrote for the same weeks: trend, season, holidays, drivers:\n")
    say(inset(fit.sentences))

    say("\n4. Forecast 13 weeks, from the drivers' plan:\n")
    say(inset(forecast.sentences))
    say("")
    say(forecast.text_table())

    say("\n5. Split every week's forecast into contributions that add up to it:\n")
    say(forecast.contributions.text_table())
    gap = float(np.abs(forecast.contributions.values.sum(axis=0) / forecast.mean - 1.0).max())
    say(f"\n   The largest gap between a week's sum and its forecast is {gap:.0e} of it.")

    say("\n6. Compared the estimates with the truth:\n")
    compared = compare(fit, world.truth)
    say(text_table(*shown(compared)))
    say(
        f"\n   {int(compared['inside'].sum())} of {len(compared)} true effects lie in their 95 % intervals; "
        "about one in twenty should not."
    )

    say("\n7. Forecast from eight past origins, as it would have been done there, against plain references:\n")
    say(inset(study.backtest.sentences))

    _show_why(study, say)
    _show_files(study, folder, say)
    _show_next(folder, effects(fit).effects[0].driver, say)
    return study


def _show_why(study: Study, say: Say) -> None:
    say("\n8. Why it differs from last year:\n")
    say(inset(str(story(study.walks["main"][0], brief=True))))
    say("\n   And from the forecast of a month ago, with what was known then:\n")
    say(inset(str(study_story(study, "main", "last-month/study.toml", brief=True))))
    say("\n9. What if the fare rises, and the summer is as stormy as the worst one seen?\n")
    say(inset(study.what_if["main"].sentences))
    say("")
    say(inset(study.solutions["main"][0].sentence))


def _show_files(study: Study, folder: Path, say: Say) -> None:
    results = folder / "results"
    written = StudyOutput(study, "explain").bundle(DRAWN).write(results)
    say(f"\n10. Wrote {len(written)} files to {results}. Open first:")
    say("     forecast.png       history and the forecast's fan")
    say("     contributions.png  why: every week split into contributions")
    say("     walk-1.png         why the forecast differs from last year")
    say("     scenarios.png      what if: scenarios side by side")
    say("     effects.png        what each driver does")
    say("     forecast.csv, contributions.csv, coefficients.csv ... the same as tables")
    say(f"     more figures, of every season, holiday and comparison: offing explain {folder / 'study.toml'}")


def _show_next(folder: Path, driver: str, say: Say) -> None:
    say("\nTry next:")
    say("     offing demo heat --story heat     an hourly study: hours by kind of day, school holidays, clock changes")
    say(f"     offing draft {' '.join(str(folder / 'raw' / name) for name in RAW)}")
    say(f"         --to week {' '.join(f'--set {each}' for each in SETTINGS)} --out {folder / 'draft'}")
    say(f"     offing explain {folder / 'study.toml'} --against last-year")
    say(f"     offing explain {folder / 'study.toml'} --against last-month/study.toml")
    say(f"     offing explain {folder / 'study.toml'} --against outcome --as-of 2026-03-30")
    say(f"     offing compare {folder / 'study.toml'}                  what is each term worth?")
    say(f"     offing search {folder / 'study.toml'} --budget 60s      may other choices be better, honestly?")
    say(f"     change '{driver}' in plan.csv (the driver with the largest effect), then")
    say(f"     offing forecast {folder / 'study.toml'} --out {folder / 'changed'}")


#: The figures that the demo names; a third of its time would go into the others, which the study's own command draws.
DRAWN = ["forecast", "contributions", "walk-1", "scenarios", "effects"]
#: The messy tables, the target's first.
RAW = ("sales.csv", "timetable.csv", "weather.csv", "island_days.csv")
#: What the sales' file does not show by itself: whether 1.052 is a thousand or one, and piers are not separated.
SETTINGS = ("sales.decimal=,", "sales.rows=lines")


def draft_messy(folder: Path, budget: str | None = None) -> Draft:
    """The draft of the messy tables, brought to weeks."""
    return drafted([folder / name for name in RAW], Request("sales.tickets", "week", SETTINGS, budget=budget))
