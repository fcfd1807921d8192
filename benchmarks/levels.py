"""How often the intervals of a stochastic level hold, over series of noise, walks and both, with a season.

Run it as ``python benchmarks/levels.py [SERIES]``. Wanted: 93 to 97 % of outcomes in intervals of 95 %, one and two
seasons ahead.
"""

import sys

import numpy as np
import pandas as pd

import offing as of

#: Months that are fitted, and the spread of the level's steps beside noise of spread 1; no noise beside a walk alone.
MONTHS, AHEAD = 96, 24
WORLDS = {"noise": 0.0, "steps of 0.14": 0.02**0.5, "steps of 0.32": 0.1**0.5, "steps of 1": 1.0, "walk alone": np.inf}


def made(spread: float, generator: np.random.Generator) -> np.ndarray:
    """A level with such steps, a season, and noise."""
    n = MONTHS + AHEAD
    noise, steps = generator.normal(size=n), generator.normal(size=n)
    level = np.cumsum(steps) if np.isinf(spread) else np.cumsum(spread * steps) + noise
    return np.asarray(level + 3.0 * np.sin(2.0 * np.pi * np.arange(n) / 12.0))


def main(series: int) -> None:
    """Print a line for each world."""
    print("world             at 1     at 12    at 24    of 1 to 24")
    index = pd.period_range("2010-01", periods=MONTHS, freq="M")
    model = of.Model("sold", [of.Trend(form="stochastic"), of.Season("year")])
    every = []
    for name, spread in WORLDS.items():
        generator = np.random.default_rng([len(name), 31])
        held = np.zeros((series, AHEAD))
        for row in range(series):
            values = made(spread, generator)
            ahead = model.fit(pd.Series(values[:MONTHS], index, name="sold")).forecast(AHEAD, levels=[0.95]).table
            held[row] = (ahead["q0.025"] <= values[MONTHS:]) & (values[MONTHS:] <= ahead["q0.975"])
        every.append(held)
        shown = [100.0 * held[:, at].mean() for at in (0, 11, 23)]
        print(f"{name:<15}{shown[0]:6.1f} %{shown[1]:7.1f} %{shown[2]:7.1f} %{100.0 * held.mean():7.1f} %", flush=True)
    print(f"all of them: {100.0 * np.mean(every):.1f} %")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1000)
