"""``offing demo``: the ferry's weekly tickets, from messy tables to what each driver contributes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.demo.ferry import RIVAL, World, ferry, forecast_only, month_before, weeks_after
from offing.demo.guide import Guide, Say, packaged
from offing.demo.messy import messy_tables
from offing.drafting import Draft
from offing.explain import story
from offing.model import effects
from offing.study import Study, open_study
from offing.study.drafted import Request, drafted
from offing.study.handing_over import export
from offing.study.saved import open_saved, save_study
from offing.study.stories import study_story
from offing.writers import Bundle, csv_text

#: The figures that the story names. All others take three times as long; the study's own command draws them.
FIGURES = {
    "forecast": "history and the forecast's fan",
    "contributions": "why: every week split into contributions",
    "walk-1": "why the forecast differs from last year",
    "scenarios": "what if: scenarios side by side",
    "effects": "what each driver does",
}
#: The forms in which the results are handed over.
FORMS = {
    "page": "all results in one file for any browser, with charts to point at",
    "workbook": "change the plan in it, and the forecast follows",
}
#: What the fit is saved as.
MODEL = "ferry.model.json"
#: The messy tables, the target's first.
RAW = ("sales.csv", "timetable.csv", "weather.csv", "island_days.csv")
#: What the sales' file does not show by itself: whether 1.052 is a thousand or one, and piers are not separated.
SETTINGS = ("sales.decimal=,", "sales.rows=lines")


def run_ferry(folder: Path, say: Say) -> Study:
    """Write the ferry study into `folder`, run it in full, and show each step through `say`.

    Raises
    ------
    InputError
        If the folder cannot be written to.
    """
    world, guide = ferry(), Guide(folder, say)
    tables = {
        "tickets.csv": (
            world.history.reset_index(),
            "tickets sold, with fare, sailings, cruise calls, storm hours and promotions",
        ),
        "plan.csv": (world.plan.reset_index(), f"the drivers' plan for the {len(world.plan)} weeks that follow"),
        "island_days.csv": (world.days, "the islands' holidays; Lantern Night moves"),
        "truth.csv": (world.truth, "the effects that the data were made with"),
    }
    study = guide.open(f"{len(world.history)} weeks of ferry tickets of the Tern Islands", "study.toml", tables)
    for name, frames in (("last-month", month_before(world)), ("next-month", weeks_after(world))):
        _month(world, frames).write(folder / name)
    Bundle(messy_tables(world)).write(folder / "raw")
    say("     last-month       tickets, plan and study as they were four weeks before")
    say("     next-month       the same eight weeks later; a rival's ferry has started in the third of them")
    say("     raw              the same as messy tables: sales by the line, decimal commas, days instead of weeks")
    guide.step(
        "Drafted a forecast from the messy tables, with nothing stated but how they are written:",
        str(draft_messy(folder / "raw")),
    )

    (fit,), (forecast,) = study.fits.values(), study.forecasts.values()
    guide.step(
        "Fitted the study that an expert wrote for the same weeks: trend, season, holidays, drivers:", fit.sentences
    )
    guide.step("Forecast 13 weeks, from the drivers' plan:", forecast.sentences, table=forecast.text_table())
    gap = float(np.abs(forecast.contributions.values.sum(axis=0) / forecast.mean - 1.0).max())
    guide.step(
        "Split every week's forecast into contributions that add up to it:",
        table=forecast.contributions.text_table(),
        note=f"The largest gap between a week's sum and its forecast is {gap:.0e} of it.",
    )
    guide.compare(fit, world.truth)
    guide.step(
        "Forecast from eight past origins, as it would have been done there, against plain references:",
        study.backtest.sentences,
    )
    guide.step("Why it differs from last year:", str(story(study.walks["main"][0], brief=True)))
    guide.step(
        "And from the forecast of a month ago, with what was known then:",
        str(study_story(study, "main", "last-month/study.toml", brief=True)),
    )
    guide.step("Kept the model, and both months' forecasts as they were made:", "\n".join(_kept(study, folder)))
    monitoring = open_study(folder / "next-month" / "study.toml").monitoring["main"]
    guide.step(
        f"Eight weeks later: does the model still hold? A rival took {-np.expm1(RIVAL):.0%} from the third on:",
        monitoring.sentences,
    )
    guide.step(
        "What if the fare rises, and the summer is as stormy as the worst one seen?",
        study.what_if["main"].sentences,
        study.solutions["main"][0].sentence,
    )
    guide.step("Handed it over, to be read and used without Offing:", handed_over(study, folder / "results"))
    guide.results(study, {f"{name}.png": meaning for name, meaning in FIGURES.items()}, list(FIGURES))
    raw = " ".join(str(folder / "raw" / name) for name in RAW)
    strongest = effects(fit).effects[0].driver
    settings = " ".join(f"--set {each}" for each in SETTINGS)
    guide.next(
        {
            "offing explain {folder}/study.toml": "all figures, of every season, holiday and comparison",
            "offing demo heat --story heat": "an hourly study: hours by kind of day, school holidays, clock changes",
            f"offing draft {raw} --to week {settings} --out {{folder}}/draft": "",
            "offing explain {folder}/study.toml --against last-year": "",
            "offing explain {folder}/study.toml --against last-month/study.toml": "",
            "offing explain {folder}/study.toml --against archive": "",
            "offing monitor {folder}/next-month/study.toml": "the model no longer holds: exit status 4",
            f"offing forecast {{folder}}/{MODEL}": "without the data; --data takes newer rows, --plan another plan",
            "offing export {folder}/study.toml --as bundle --out {folder}/handed": "everything in one archive",
            "offing explain {folder}/study.toml --against outcome --as-of 2026-03-30": "",
            "offing compare {folder}/study.toml": "what is each term worth?",
            "offing search {folder}/study.toml --budget 60s": "may other choices be better, honestly?",
            "offing forecast {folder}/study.toml --out {folder}/changed": f"once plan.csv has another '{strongest}'",
        }
    )
    return study


def _month(world: World, frames: tuple[pd.DataFrame, pd.DataFrame]) -> Bundle:
    """The study's files as they are in another month, with the same archive."""
    files = Bundle()
    for name, frame in zip(("tickets.csv", "plan.csv"), frames, strict=True):
        files.add(name, csv_text(frame.reset_index()))
    files.add("island_days.csv", csv_text(world.days))
    files.add("study.toml", forecast_only(packaged("study.toml")).replace('"forecasts', '"../forecasts'))
    return files


def _kept(study: Study, folder: Path) -> list[str]:
    """Last month's forecast and this month's go into the archive, and the fits into a file of their own."""
    open_study(folder / "last-month" / "study.toml").keep()
    study.keep()
    save_study(study, folder / MODEL)
    alone = open_saved(folder / MODEL).forecasts["main"].mean
    same = "is the same, digit by digit" if np.array_equal(alone, study.forecasts["main"].mean) else "differs"
    return [
        "" if study.archive is None else study.archive.sentence,
        f"{MODEL} has the fit with all that it draws on: from this file alone the forecast {same}.",
        study.walk_of("main", "archive").sentence,
    ]


def handed_over(study: Study, folder: Path) -> str:
    """The page and the workbook, or why one of them is left out."""
    said = []
    for form, meaning in FORMS.items():
        try:
            said += [f"{file}: {meaning}" for file in export(study, form, folder)]
        except InputError as error:
            said.append(f"The {form} is left out: {error}")
    return "\n".join(said)


def draft_messy(folder: Path, budget: str | None = None) -> Draft:
    """The draft of the messy tables, brought to weeks."""
    return drafted([folder / name for name in RAW], Request("sales.tickets", "week", SETTINGS, budget=budget))
