"""Why will the ferry sell fewer tickets than last summer, and what if the fare rises? The forecast explained.

Run it as ``python examples/why_tickets.py``; it makes up its own data.
"""

import sys

import offing as of
from offing.demo import ferry


def main() -> None:
    """Walk, show, assume, seek and adjust."""
    world = ferry()
    units = {"sold": "tickets", "fare": "EUR"}
    tickets = of.read(world.history.reset_index(), stamp="start", unit=units)
    plan = of.read(world.plan.reset_index(), stamp="start")
    terms = [
        of.Trend(knots=["2024-04-01"]),
        of.Season("year", harmonics=3),
        of.Holidays(table=world.days),
        of.Driver("fare", transform=["log"]),
        of.Driver("sailings", transform=["log"]),
        of.Driver("cruise calls"),
        of.Driver("storm hours", above="estimated"),
        of.Driver("promotion", carry_over="estimated"),
    ]
    model = of.Model("sold", terms, scale="log", errors="ar")
    fit = model.fit(tickets)
    ahead = fit.forecast(13, plan=plan)

    groups = {"price": ["fare", "promotion"], "calendar": ["season", "holidays"]}
    walk = of.walk(ahead, "last-year", groups=groups)
    say("The story", of.story(walk, sensitivity=of.sensitivity(ahead), sure=[of.paths(ahead).sentence]))
    say("By month", of.walk(ahead, "last-year", by="month", groups=groups))

    before = model.fit(of.read(world.history.iloc[:-4].reset_index(), stamp="start", unit=units))
    they = of.read(world.history.iloc[-4:].drop(columns="sold").reset_index(), stamp="start")
    say("From what was forecast to what came", of.walk(fit, before.forecast(4, plan=they)))

    dearer = of.Scenario("dearer", {"fare": of.Shift(percent=5, since="2026-08-03")})
    stormy = of.Scenario("stormy as well", {"storm hours": of.AsIn("worst")}, base=dearer)
    unknown = of.Scenario("weather unknown", {"storm hours": of.Modelled(), "sailings": of.Modelled()})
    say("What if?", of.scenarios(fit, [dearer, stormy, unknown], 13, plan=plan))
    say("Which fare sells 230,000 tickets?", of.solve_for(ahead, "fare", 230_000))

    days = "2026-08-10", "2026-08-17"
    jubilee = of.Adjustment(days, percent=4, reason="the sailing school's jubilee", author="harbour office")
    say("By hand", of.adjust_forecast(ahead, [jubilee]))


def say(head: str, statements: object) -> None:
    """Print a result under its head."""
    sys.stdout.write(f"\n{head}\n{'-' * len(head)}\n{statements}\n")


if __name__ == "__main__":
    main()
