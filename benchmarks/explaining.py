"""Joint paths and walks of the ferry's demo, against the bare draws and against single fits, measured side by side.

Run it as ``python benchmarks/explaining.py``.
"""

import time
from collections.abc import Callable
from statistics import median

import numpy as np

import offing as of
from offing.demo import ferry

PATHS, WEEKS = 5000, 52


def seconds(call: Callable[[], object], times: int = 7) -> float:
    """Seconds of a call, the middle of several."""
    found = []
    for _ in range(times):
        started = time.perf_counter()
        call()
        found.append(time.perf_counter() - started)
    return median(found)


def main() -> None:
    """Measure and print."""
    world = ferry(planned=WEEKS)
    tickets, plan = of.read(world.history, stamp="start"), of.read(world.plan, stamp="start", frequency="week")
    terms = [
        of.Trend(knots=["2024-04-01"]), of.Season("year", harmonics=3), of.Driver("fare", transform=["log"]),
        of.Driver("sailings", transform=["log"]), of.Driver("cruise calls"),
        of.Driver("storm hours", above="estimated"), of.Driver("promotion", carry_over="estimated"),
    ]  # fmt: skip
    model = of.Model("sold", scale="log", terms=terms, errors="ar")
    fit = model.fit(tickets)
    ahead = fit.forecast(WEEKS, plan=plan)
    joint = seconds(lambda: of.paths(ahead, count=PATHS))
    generator = np.random.default_rng(1)
    root = generator.standard_normal((WEEKS, WEEKS))
    bare = seconds(lambda: np.exp(root @ generator.standard_normal((WEEKS, PATHS))))
    times = f"{joint / bare:.1f} times the bare draws"
    print(f"{PATHS:,} paths x {WEEKS} weeks: {joint:.3f} s, at most 1 s; {times}")
    one = seconds(lambda: model.fit(tickets), 5)
    earlier = of.read(world.history.iloc[:-4], stamp="start")
    their_plan = of.read(world.history.iloc[-4:].drop(columns="sold"), stamp="start", frequency="week")
    last = model.fit(earlier).forecast(4, plan=their_plan)
    steps = seconds(lambda: of.walk(ahead, last, by="period"), 5)
    print(f"revision walk of the same model / one fit: {steps / one:.2f}, at most 3")
    other = of.Model("sold", scale="log", terms=terms[:-1], errors="ar").fit(tickets).forecast(WEEKS, plan=plan)
    steps = seconds(lambda: of.walk(other, last, by="period"), 5)
    print(f"revision walk to another model / one fit: {steps / one:.2f}, at most 3")
    cases = [of.Scenario(f"{p} %", {"fare": of.Shift(percent=float(p))}) for p in range(1, 9)]
    eight = seconds(lambda: of.scenarios(fit, cases, WEEKS, plan=plan), 3)
    print(f"eight scenarios of {WEEKS} weeks / one fit: {eight / one:.2f}, at most 3")
    ranked = seconds(lambda: of.sensitivity(ahead), 3)
    print(f"changes of five drivers, alone and in pairs / one fit: {ranked / one:.2f}, at most 6")


if __name__ == "__main__":
    main()
