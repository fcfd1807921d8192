"""Print how soon monitoring finds a change, and how often it gives a false alarm: ``python benchmarks/monitoring.py``.

Each stream is a model fitted to 156 weeks, or 60 months, of made-up sales with a driver, then watched over 52 weeks or
24 months. Nothing changes; or the level steps by two standard deviations of the noise; or the driver's coefficient
changes by three standard errors: of the fit, or of an estimate from the 20 periods in which it is to be found.
"""

import sys

import numpy as np
import pandas as pd

import offing as of

#: Fitted and watched periods.
KINDS = {"weeks": (156, 52, "7D"), "months": (60, 24, "MS")}
#: In which of the watched periods a change begins.
BEGINS = 4


def stream(generator: np.random.Generator, kind: str, change: str, noise: float) -> tuple[of.results.Fit, pd.DataFrame]:
    """A fit, and its rows with those that come after it; noise carries on by a share."""
    fitted, watched, step = KINDS[kind]
    n = fitted + watched
    fare = generator.normal(20.0, 1.0, n)
    shocks = generator.standard_normal(n)
    for t in range(1, n):
        shocks[t] = noise * shocks[t - 1] + np.sqrt(1.0 - noise**2) * shocks[t]
    later = np.arange(n) >= fitted + BEGINS
    sizes = {"fit's": 3.0 / np.sqrt(fitted), "20 periods'": 3.0 / np.sqrt(20.0)}
    sold = 100.0 - 2.0 * fare + shocks + np.where(later, 2.0 if change == "level" else 0.0, 0.0)
    sold += np.where(later, sizes.get(change, 0.0), 0.0) * (fare - 20.0)
    data = pd.DataFrame({"sold": sold, "fare": fare}, pd.date_range("2021-01-04", periods=n, freq=step))
    model = of.Model("sold", [of.Driver("fare")], errors="ar" if noise else None)
    return model.fit(data.iloc[:fitted]), data


def rates(kind: str, change: str, within: int, seeds: range, noise: float = 0.0) -> float:
    """The share of streams with an alarm: of any kind, or of the right kind and soon enough."""
    hits = 0
    for seed in seeds:
        fit, data = stream(np.random.default_rng([seed, len(kind), len(change)]), kind, change, noise)
        found = of.monitor(fit, data)
        if change == "nothing":
            hits += bool(found.alarms)
            continue
        key = "level" if change == "level" else "effects"
        beyond = np.flatnonzero(found.ratios[key] > 1.0)
        hits += bool(len(beyond) and BEGINS <= beyond[0] < BEGINS + within)
    return hits / len(seeds)


def main(count: int = 400, first: int = 0) -> None:
    """Print each rate of `count` streams, from the `first` seed on, beside what is wanted."""
    seeds = range(first, first + count)
    for kind, (_, watched, _) in KINDS.items():
        for noise in (0.0, 0.4):
            rate = rates(kind, "nothing", watched, seeds, noise)
            print(f"false alarms in {watched} {kind}, noise carried by {noise}: {100 * rate:.1f} %, at most 5 %")
        rate = rates(kind, "level", 8, seeds)
        print(f"a step of two noise deviations found within 8 {kind}: {100 * rate:.1f} %, at least 90 %")
        for change in ("fit's", "20 periods'"):
            rate = rates(kind, change, 20, seeds)
            print(f"a change of three of the {change} standard errors found within 20 {kind}: {100 * rate:.1f} %")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:3]))
