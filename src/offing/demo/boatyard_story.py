"""``offing demo --story boatyard``: quarterly orders from months and weeks, on three dates of one quarter."""

from __future__ import annotations

from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

from offing.base.text import number, text_table
from offing.demo.boatyard import DATES, boatyard
from offing.demo.compared import compare, inset, shown
from offing.explain import inputs, lag_weights, story
from offing.study import Study, open_study
from offing.study.outputs import StudyOutput
from offing.writers import Bundle, csv_text

Say = Callable[[str], object]


def run_boatyard(folder: Path, say: Say) -> Study:
    """Write the boatyard's study into `folder`, run it in full, and show each step through `say`.

    Raises
    ------
    InputError
        If the folder cannot be written to.
    """
    yard = boatyard()
    made = Bundle()
    made.add("orders.csv", csv_text(yard.orders.reset_index()))
    made.add("bookings.csv", csv_text(yard.bookings.reset_index()))
    made.add("enquiries.csv", csv_text(yard.enquiries.reset_index()))
    made.add("truth.csv", csv_text(yard.truth))
    made.add("study.toml", files("offing.demo").joinpath("boatyard.toml").read_text(encoding="utf-8"))
    made.write(folder)
    say(f"1. Made up {len(yard.orders)} quarters of orders of the Tern Islands' boatyard, and wrote to {folder}:")
    say("     orders.csv     orders in kEUR, counted two weeks after each quarter")
    say("     bookings.csv   an index of charter bookings by month, out three weeks after each month")
    say("     enquiries.csv  enquiries on the web by week, out when the week ends")
    say("     study.toml     what to read, which weights, the dates of the running estimate")
    say("     truth.csv      the effects and weights that the data were made with\n")
    study = open_study(folder / "study.toml")
    fit, forecast = study.fits["weighted"], study.forecasts["weighted"]
    say("2. Fitted trend + season + both indicators, each month and week with a weight of its own:\n")
    say(inset(fit.sentences))
    say("")
    for driver in ("charter bookings", "web enquiries"):
        say(inset(lag_weights(fit, driver).sentences))

    say(
        f"\n3. Estimated the running quarter on {DATES[0]}, {DATES[1]} and {DATES[2]}, from what was published "
        "on each:\n"
    )
    running = study.running["weighted"]
    say(inset(running.sentences))
    say("")
    for ahead in running.forecasts:
        say(inset(inputs(ahead).sentence))

    say("\n4. Split the newest estimate into contributions:\n")
    say(forecast.contributions.text_table())

    say("\n5. Combined it with the plain reference, averages of the quarter's own months and weeks:\n")
    if study.combination is not None:
        say(inset(study.combination.sentence))
        say(f"\n{study.combination.text_table()}")
    say(f"\n   Made up as well, and not in the files: the quarter will come out at {number(yard.outcome, 4)} kEUR.")

    _show_why(study, say)
    say("\n7. Compared the estimates with the truth:\n")
    compared = compare(fit, yard.truth)
    say(text_table(*shown(compared, "kEUR, shapes")))
    say(
        f"\n   {int(compared['inside'].sum())} of {len(compared)} true effects and shapes lie in their 95 % intervals; "
        "about one in twenty should not."
    )
    results = folder / "results"
    written = StudyOutput(study, "explain").bundle().write(results)
    say(f"\n8. Wrote {len(written)} files to {results}. Open first:")
    say("     weights-charter-bookings-*-weighted.png  how much each month counts")
    say("     inputs-weighted.png                      which values enter, and which are not out yet")
    say("     running-weighted.png                     the estimate on three dates, and what moved it")
    say("     walk-1-weighted.png                      why it differs from last year")
    say("     combined.png                             all models and their mean")
    say("\nTry next:")
    say(f"     offing forecast {folder / 'study.toml'} --as-of 2026-05-25")
    say(f"     offing compare {folder / 'study.toml'}   weighted, averaged or both: 25 quarters show")
    return study


def _show_why(study: Study, say: Say) -> None:
    say("\n6. Why it differs from last year, and what if bookings stall?\n")
    say(inset(str(story(study.walks["weighted"][0], brief=True))))
    say("")
    say(inset(study.what_if["weighted"].sentences))
