"""Joint paths and walks of the ferry's demo, against the bare draws and against single fits, measured side by side.

Run it as ``python benchmarks/explaining.py``.
"""

from functools import partial

import numpy as np
from ratios import call_ratio

import offing as of
from offing.demo import ferry

PATHS, WEEKS = 5000, 52


def main() -> None:
    """Measure and print."""
    world = ferry(planned=WEEKS)
    tickets, plan = of.read(world.history, stamp="start"), of.read(world.plan, stamp="start", frequency="week")
    terms = [
        of.Trend(knots=["2024-04-01"]),
        of.Season("year", harmonics=3),
        of.Driver("fare", transform=["log"]),
        of.Driver("sailings", transform=["log"]),
        of.Driver("cruise calls"),
        of.Driver("storm hours", above="estimated"),
        of.Driver("promotion", carry_over="estimated"),
    ]
    model = of.Model("sold", scale="log", terms=terms, errors="ar")
    fit = model.fit(tickets)
    ahead = fit.forecast(WEEKS, plan=plan)
    generator = np.random.default_rng(1)
    root = generator.standard_normal((WEEKS, WEEKS))
    joint, _, times = call_ratio(
        lambda: of.paths(ahead, count=PATHS), lambda: np.exp(root @ generator.standard_normal((WEEKS, PATHS))), 20
    )
    print(f"{PATHS:,} paths x {WEEKS} weeks: {joint:.3f} s, at most 1 s; {times:.1f} times the bare draws")
    earlier = of.read(world.history.iloc[:-4], stamp="start")
    their_plan = of.read(world.history.iloc[-4:].drop(columns="sold"), stamp="start", frequency="week")
    last = model.fit(earlier).forecast(4, plan=their_plan)
    other = of.Model("sold", scale="log", terms=terms[:-1], errors="ar").fit(tickets).forecast(WEEKS, plan=plan)
    cases = [of.Scenario(f"{p} %", {"fare": of.Shift(percent=float(p))}) for p in range(1, 9)]
    for what, limit, ours in (
        ("revision walk of the same model", 3, partial(of.walk, ahead, last, by="period")),
        ("revision walk to another model", 3, partial(of.walk, other, last, by="period")),
        (f"eight scenarios of {WEEKS} weeks", 3, lambda: of.scenarios(fit, cases, WEEKS, plan=plan)),
        ("changes of five drivers, alone and in pairs", 6, partial(of.sensitivity, ahead)),
    ):
        _, _, times = call_ratio(ours, partial(model.fit, tickets), 20)
        print(f"{what} / one fit: {times:.2f}, at most {limit}")


if __name__ == "__main__":
    main()
