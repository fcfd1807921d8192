"""``offing demo --story boatyard``: quarterly orders from months and weeks, on three dates of one quarter."""

from __future__ import annotations

from pathlib import Path

from offing.base.text import number
from offing.demo.boatyard import DATES, boatyard
from offing.demo.guide import Guide, Say
from offing.explain import inputs, lag_weights, story
from offing.study import Study

FIGURES = {
    "weights-charter-bookings-*-weighted.png": "how much each month counts",
    "inputs-weighted.png": "which values enter, and which are not published yet",
    "running-weighted.png": "the estimate on three dates, and what moved it",
    "walk-1-weighted.png": "why it differs from last year",
    "combined.png": "all models and their mean",
}


def run_boatyard(folder: Path, say: Say) -> Study:
    """Write the boatyard's study into `folder`, run it in full, and show each step through `say`.

    Raises
    ------
    InputError
        If the folder cannot be written to.
    """
    yard, guide = boatyard(), Guide(folder, say)
    tables = {
        "orders.csv": (yard.orders.reset_index(), "orders in kEUR, counted two weeks after each quarter"),
        "bookings.csv": (
            yard.bookings.reset_index(),
            "an index of charter bookings by month, published three weeks after each month",
        ),
        "enquiries.csv": (yard.enquiries.reset_index(), "enquiries on the web by week, published when the week ends"),
        "truth.csv": (yard.truth, "the effects and weights that the data were made with"),
    }
    study = guide.open(f"{len(yard.orders)} quarters of orders of the Tern Islands' boatyard", "boatyard.toml", tables)
    fit, forecast = study.fits["weighted"], study.forecasts["weighted"]
    weights = [lag_weights(fit, driver).sentences for driver in ("charter bookings", "web enquiries")]
    guide.step(
        "Fitted trend + season + both indicators, each month and week with a weight of its own:",
        fit.sentences,
        "\n".join(weights),
    )
    running = study.running["weighted"]
    guide.step(
        f"Estimated the running quarter on {DATES[0]}, {DATES[1]} and {DATES[2]}, from what was published on each:",
        running.sentences,
        "\n".join(inputs(ahead).sentence for ahead in running.forecasts),
    )
    guide.step("Split the newest estimate into contributions:", table=forecast.contributions.text_table())
    both = study.combination
    guide.step(
        "Combined it with the plain reference, averages of the quarter's own months and weeks:",
        *([] if both is None else [both.sentence]),
        table="" if both is None else both.text_table(),
        note=f"Not in the files: the actual value of the quarter will be {number(yard.outcome, 4)} kEUR.",
    )
    guide.step(
        "Why it differs from last year, and what if bookings stall?",
        str(story(study.walks["weighted"][0], brief=True)),
        study.what_if["weighted"].sentences,
    )
    guide.compare(fit, yard.truth, "kEUR, shapes")
    guide.results(study, FIGURES)
    guide.next(
        {
            "offing forecast {folder}/study.toml --as-of 2026-05-25": "from what was published on that day",
            "offing compare {folder}/study.toml": "weighted, averaged or both: 25 quarters show",
        }
    )
    return study
