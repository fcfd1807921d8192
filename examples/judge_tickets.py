"""Is the ferry's model any good? Forecasts from past days, another model, a search with an honest winner.

Run it as ``python examples/judge_tickets.py``; it makes up its own data and needs half a minute.
"""

import sys

import pandas as pd

import offing as of
from offing.demo import ferry


def models(days: pd.DataFrame) -> list[of.Model]:
    """One with drivers, one of the calendar alone."""
    calendar = [of.Trend(), of.Season("year", harmonics=3), of.Holidays(table=days, pooling="none")]
    drivers = [
        of.Driver("fare", transform=["log"]),
        of.Driver("sailings", transform=["log"]),
        of.Driver("storm hours"),
        of.Driver("promotion"),
    ]
    return [
        of.Model("sold", [*calendar, *drivers], scale="log", name="drivers"),
        of.Model("sold", calendar, scale="log", name="calendar"),
    ]


def main() -> None:
    """Judge, compare, search, and forecast with intervals of past errors."""
    world = ferry()
    tickets = of.read(world.history.reset_index(), stamp="start", unit={"sold": "tickets"})
    settled = ["fare", "sailings", "promotion"]  # the storms are not known beforehand
    whole, calendar = models(world.days)

    past = of.backtest([whole, calendar], tickets, horizon=13, planned=settled)
    say("Forecasts from past days", past)
    compared = past.compare()
    say("Which is better?", compared)
    say("Origin by origin", of.change(compared, "calendar", "drivers"))
    parts = of.backtest(of.without_each(whole), tickets, horizon=13, planned=settled, basis="ex-ante")
    say("What is each term worth?", of.term_gain(parts.compare()))

    found = of.search(
        whole,
        tickets,
        {"season.harmonics": [2, 3, 4], "fare.lags": [[0], [0, 1]], "scale": ["level", "log"]},
        optional=["promotion", "storm hours"],
        horizon=13,
        planned=settled,
        basis="ex-post",
        budget=10.0,
    )
    say("May other choices be better?", found)

    both = past.combined(method="past errors")
    say("Both in one", both.scores(score="RMSE").round(0).to_string())
    plan = of.read(world.plan.reset_index(), stamp="start")
    ahead = whole.fit(tickets).forecast(13, plan=plan, levels=[0.5, 0.8])
    say("The forecast, with intervals of past errors", of.recalibrate(ahead, past))


def say(head: str, result: object) -> None:
    """Print a result under a heading."""
    sys.stdout.write(f"\n{head}\n{'-' * len(head)}\n{result}\n")


if __name__ == "__main__":
    main()
