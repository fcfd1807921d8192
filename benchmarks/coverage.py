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


def found(values: np.ndarray) -> of.TrendPath:
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
    print(f"two bends, AR {phi}: {np.mean(held):.1%} of windows, {np.mean(within):.1%} around a bend, "
          f"{np.mean(clear):.1%} of these clear")  # fmt: skip


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


if __name__ == "__main__":
    bends(0.0)
    bends(0.6)
    straight()
    heat_effects()
