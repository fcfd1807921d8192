"""Draw what a search says of its winner, what the periods held back say, and what the future then brings.

Run it as ``python docs/honest_winner.py PICTURE.png``; it makes up 200 worlds, searches in each, and takes a minute.
"""

import sys

import numpy as np
import pandas as pd

import offing as of
from offing.base.palette import INK, QUIET, TERMS, WARM
from offing.draw.style import canvas, legend, styled

WORLDS, PAST, FUTURE, COLUMNS = 200, 120, 400, 8


def world(seed: int) -> pd.DataFrame:
    """A target of which the first column knows a little, and seven know nothing."""
    generator = np.random.default_rng(seed)
    n = PAST + FUTURE
    names = [f"x{i}" for i in range(COLUMNS)]
    data = pd.DataFrame(generator.normal(size=(n, COLUMNS)), pd.date_range("2024-01-01", periods=n, freq="D"), names)
    return data.assign(sold=10.0 + 0.3 * data["x0"] + generator.normal(size=n))


def searched(seed: int) -> tuple[float, float, float]:
    """The winner's score in the search, on what was held back, and in the future."""
    data = world(seed)
    names = [f"x{i}" for i in range(COLUMNS)]
    model = of.Model("sold", [of.Driver(name) for name in names])
    past = data.iloc[:PAST]
    found = of.search(model, past, optional=names, horizon=4, basis="ex-post", origins=6, held_back=40, score="MAE")
    ahead = found.model.fit(past).forecast(FUTURE, plan=data.iloc[PAST:].drop(columns="sold"))
    return found.found, found.honest, float(np.abs(ahead.mean - data["sold"].iloc[PAST:]).mean())


def main(target: str) -> None:
    """Search in all worlds, and draw."""
    scores = np.array([searched(seed) for seed in range(WORLDS)])
    gaps = scores[:, :2] - scores[:, 2:]
    means, errors = gaps.mean(axis=0), 1.96 * gaps.std(axis=0, ddof=1) / np.sqrt(WORLDS)
    future = scores[:, 2].mean()
    for name, mean, error in zip(("search", "held back"), means, errors, strict=True):
        sys.stdout.write(f"{name}: {mean:+.3f} ± {error:.3f} of {future:.3f}, which the future brings\n")
    with styled():
        picture, axes = canvas(
            f"The winner's score in the search is {100 * -means[0] / future:.0f} % too good, that on what was held "
            f"back is right",
            f"{WORLDS} made-up worlds, in each the best of 256 models by six past origins. One dot a world: the score "
            "less the error that the winner then makes over 400 later days. Bars are means with their 95 % interval.",
            left=0.2,
        )
        jitter = np.random.default_rng(1).uniform(-0.3, 0.3, WORLDS)
        for row, (gap, tone, mark) in enumerate(zip(gaps.T, (TERMS[0], WARM), "os", strict=True)):
            axes.plot(gap, 1 - row + jitter, mark, color=tone, ms=4, alpha=0.45, mew=0)
            axes.errorbar(
                [means[row]],
                [1 - row],
                xerr=[errors[row]],
                color=INK,
                lw=0,
                elinewidth=3.0,
                capsize=9,
                capthick=2.0,
                marker="|",
                ms=36,
                mew=2.5,
            )
        axes.axvline(0.0, color=QUIET, lw=1.2, ls="--", label="the error that comes")
        axes.set_yticks([1, 0], ["in the search", "on what was held back"])
        axes.set_xlabel("score less later error (mean absolute error)")
        axes.yaxis.grid(visible=False)
        legend(axes)
    picture.savefig(target, dpi=100)


if __name__ == "__main__":
    main(sys.argv[1])
