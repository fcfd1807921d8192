"""Print how often intervals hold what they should, on made-up series whose truth is known.

Run it as ``python benchmarks/coverage.py``; it takes a minute. Slope changes of two bends and of a straight line are
those of the tests, with more to read; the heat study's true effects come from its generator.
"""

import numpy as np
import pandas as pd

import offing as of
from offing.demo import heat
from offing.demo.compared import compare
from offing.demo.heat import school_days
from offing.engine import running

MONTHS = pd.period_range("2014-01", periods=120, freq="M")
TIME = np.arange(120.0)
KINKS = (42, 84)
BENT = 100.0 + 0.5 * TIME + 1.2 * np.maximum(TIME - KINKS[0], 0.0) - 2.0 * np.maximum(TIME - KINKS[1], 0.0)


def related(n: int, phi: float, seed: int) -> np.ndarray:
    """Noise that starts in its stationary distribution."""
    shocks = np.random.default_rng(seed).normal(0.0, 4.0, n)
    shocks[0] /= np.sqrt(1.0 - phi**2)
    return running(shocks, (phi,))


def found(values: np.ndarray) -> of.results.TrendPath:
    """The trend of a series whose bends are to be found."""
    series = pd.Series(values, MONTHS[: len(values)], name="sold")
    return of.trend(of.Model("sold", terms=[of.Trend(knots="found")]).fit(series))


def mean_slope(low: float, high: float) -> float:
    """True mean slope a year between two places."""
    return float(12.0 * (np.interp(high, TIME, BENT) - np.interp(low, TIME, BENT)) / (high - low))


def bends(phi: float) -> None:
    """Two bends, 200 series."""
    held, within, clear = [], [], []
    for seed in range(200):
        path = found(BENT + related(120, phi, seed))
        for bend in path.bends:
            low, high = bend.first - path.axis.first, bend.until - path.axis.first
            true = mean_slope(high, min(high + 9, 119)) - mean_slope(max(low - 9, 0), low)
            held.append(bend.low <= true <= bend.high)
            if any(abs((low + high) / 2 - kink) <= 4.5 for kink in KINKS):
                within.append(held[-1])
                clear.append(path.is_clear(bend))
    print(
        f"two bends, AR {phi}: {np.mean(held):.1%} of windows, {np.mean(within):.1%} around a bend, "
        f"{np.mean(clear):.1%} of these clear"
    )


def straight() -> None:
    """A straight line, 150 series."""
    shown = [bool(found(100.0 + 0.5 * TIME[:108] + related(108, 0.7, seed)).clear) for seed in range(150)]
    print(f"nine years of a straight line, AR 0.7: {np.mean(shown):.1%} of series show a clear bend")


def heat_effects() -> None:
    """The heat study's true effects, eight seeds."""
    inside = []
    for seed in range(1, 9):
        world = heat(seed)
        terms = [
            of.Trend(),
            of.Season("day", across="kind of day", table=world.days),
            of.Season("year", harmonics=2),
            of.Holidays(table=world.days),
            of.Holidays(table=school_days(), pooling="none", name="school holidays"),
            *(of.Driver(name) for name in world.plan.columns),
        ]
        fit = of.Model("load", terms=terms, scale="log", errors="ar").fit(of.read(world.history, stamp="start"))
        inside.append(compare(fit, world.truth).set_index("column")["inside"])
    both = pd.concat(inside)
    rest = both[~both.index.str.contains("kind of day")]
    print(
        f"heat, seeds 1 to 8: {both.sum()} of {len(both)} true effects inside, "
        f"{rest.sum()} of {len(rest)} without those of hours"
    )


def steps() -> None:
    """Year on year steps of a driver and a trend, 300 worlds with related noise."""
    inside = {"fare": 0, "trend": 0}
    months = pd.period_range("2010-01", periods=132, freq="M")
    years = np.arange(132) / 12.0
    for seed in range(300):
        generator = np.random.default_rng(seed)
        fare = 10.0 + np.cumsum(generator.normal(0.0, 0.4, 132))
        noise = running(generator.normal(0.0, 1.0, 120), (0.4,))
        data = pd.DataFrame({"sold": (60.0 - 2.0 * fare + 1.5 * years)[:120] + noise, "fare": fare[:120]}, months[:120])
        fit = of.Model("sold", terms=[of.Trend(), of.Driver("fare")], errors="ar").fit(data)
        ahead = fit.forecast(12, plan=pd.DataFrame({"fare": fare[120:]}, months[120:]))
        found = {step.name: step for step in of.walk(ahead, "last-year").steps}
        for name, true in {"fare": -2.0 * float((fare[120:] - fare[108:120]).sum()), "trend": 18.0}.items():
            inside[name] += bool(abs(found[name].amount[0] - true) <= found[name].half[0])
    print(f"year on year steps of 300 worlds, 285 of which should be inside: {inside}")


def unknown_drivers() -> None:
    """Totals of five days whose two drivers are unknown and whose shocks go together, 120 worlds."""
    inside, days = 0, pd.date_range("2023-01-02", periods=200, freq="D")
    for seed in range(120):
        generator = np.random.default_rng(seed)
        shocks = generator.normal(size=(200, 2)) @ np.linalg.cholesky([[1.0, 0.8], [0.8, 1.0]]).T
        cold, wind = running(shocks, (0.6,)).T
        load = 50.0 + 3.0 * cold + 2.0 * wind + generator.normal(0.0, 0.3, 200)
        data = pd.DataFrame({"load": load, "cold": 10.0 + cold, "wind": 5.0 + wind}, days)
        fit = of.Model("load", terms=[of.Driver("cold"), of.Driver("wind")]).fit(data.iloc[:-5])
        row = of.paths(fit.forecast(5, missing_plans="expected")).totals().iloc[0]
        inside += bool(row["q0.1"] <= load[-5:].sum() <= row["q0.9"])
    print(f"totals with unknown drivers, 80 % intervals of 120 worlds: {inside} inside, 96 should be")


if __name__ == "__main__":
    steps()
    unknown_drivers()
    bends(0.0)
    bends(0.6)
    straight()
    heat_effects()
