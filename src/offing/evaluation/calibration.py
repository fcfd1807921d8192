"""Whether intervals hold what they state, and intervals that past errors have widened or narrowed."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, count, nearest
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import text_table, wrapped
from offing.engine import binomial_limits, binomial_p, position_in, two_sided_p
from offing.evaluation.fold_results import PROBABILITIES, Basis, Run
from offing.evaluation.past_forecasts import PastForecasts
from offing.evaluation.score_parts import LEVELS

Method = Literal["conformal", "adaptive"]
METHODS: tuple[Method, ...] = ("conformal", "adaptive")
#: By how much of each miss the adaptive form moves its level (Gibbs & Candès 2021 use 0.005 to 0.05 for long series).
STEP = 0.05
#: A finding speaks where chance would explain a coverage this far off in fewer than one case in forty, so that the two
#: levels together seldom speak in vain.
_RARE = 0.025
#: Of fewer independent origins nothing is said.
_FEWEST = 6


@dataclass(frozen=True)
class Calibration(Result, figure="comparison.draw_calibration"):
    """How often outcomes lay in intervals that past forecasts stated. Made by `Backtest.calibration`.

    Attributes
    ----------
    model, basis
        Whose forecasts.
    positions
        Where each outcome lay (f, h): the probability that its forecast put below it; NaN where unknown.
    horizons
        The periods ahead (h,).
    overlap
        How many later origins share outcomes with one.
    unit
        The name of a period.
    series
        How many series there are; each has its own origins.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=120)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2014-01", periods=120, freq="M"), name="sold")
    >>> found = of.backtest(of.Model("sold"), sold, horizon=3, origins=20).calibration()
    >>> found.table.query("horizon == 'all' and level == 0.8")[["stated", "reached"]].round(1).to_numpy().tolist()
    [[80.0, 81.7]]
    """

    model: str
    basis: Basis
    positions: Array
    horizons: NDArray[np.intp]
    overlap: int
    unit: str
    series: int = 1

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a level and horizon, and one of all: ``level, horizon, n, stated, reached, low, high`` in per cent.

        `low` and `high` bound where the reached share lies with 95 % confidence (Clopper & Pearson 1934), as if all
        forecasts were independent; of all horizons together each origin then counts once.
        """
        rows = []
        for level in LEVELS:
            inside = self._inside(level)
            for place, horizon in enumerate(self.horizons.tolist()):
                own = inside[:, place]
                own = own[np.isfinite(own)]
                if len(own):
                    rows.append((level, str(horizon), *_share(float(own.sum()), len(own)), 100.0 * level))
            shares = np.array([row[np.isfinite(row)].mean() for row in inside if np.isfinite(row).any()])
            if len(shares):
                rows.append((level, "all", *_share(float(shares.sum()), len(shares)), 100.0 * level))
        frame = pd.DataFrame(rows, columns=["level", "horizon", "n", "reached", "low", "high", "stated"])
        return frame[["level", "horizon", "n", "stated", "reached", "low", "high"]]

    def _inside(self, level: float) -> Array:
        tail = (1.0 - level) / 2.0
        inside = (self.positions >= tail) & (self.positions <= 1.0 - tail)
        return np.where(np.isfinite(self.positions), inside.astype(float), np.nan)

    @property
    def histogram(self) -> tuple[Array, NDArray[np.intp]]:
        """Edges (11,), counts (10,) of the probability integral transform: even where intervals hold (Dawid 1984)."""
        edges = np.linspace(0.0, 1.0, 11)
        known = self.positions[np.isfinite(self.positions)]
        return edges, np.histogram(known, edges)[0].astype(np.intp)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """Levels that are missed significantly, over all horizons, origins that share outcomes counting once."""
        found = []
        for level in (0.8, 0.95):
            inside = self._inside(level)
            shares = [row[np.isfinite(row)].mean() for row in inside if np.isfinite(row).any()]
            n = max(len(shares) // (self.overlap + 1), 1) if shares else 0
            if n < _FEWEST:
                continue
            reached = float(np.mean(shares))
            p = _chance(np.array(shares), n, level)
            if p < _RARE:
                side, more = ("narrow", "widen") if reached < level else ("wide", "narrow")
                found.append(
                    Finding(
                        "calibration",
                        "warning",
                        f"The {100 * level:g} % intervals of '{self.model}' held {100 * reached:.0f} % of the "
                        f"outcomes: they are too {side}.",
                        advice=f'State intervals = "conformal": past errors {more} them. Or find what is missing.',
                        evidence={"stated": level, "reached": reached, "origins": float(len(shares)), "p": p},
                    )
                )
        return tuple(found)

    @property
    def sentence(self) -> str:
        """What the intervals held, in one sentence."""
        rows = self.table[self.table["horizon"] == "all"].set_index("level")
        noted = ", ".join(f"{row['reached']:.0f} % (nominal {100 * level:g} %)" for level, row in rows.iterrows())  # type: ignore[operator]
        n = int(rows["n"].iloc[0]) if len(rows) else 0
        end = " ".join(each.message for each in self.findings) or f"No difference is significant at {100 * _RARE:g} %."
        several = f" of {self.series} series" if self.series > 1 else ""
        return f"Coverage of '{self.model}' at {count(n, 'origin')}{several} ({self.basis}): {noted}. {end}"

    def __str__(self) -> str:
        rows = self.table[self.table["level"] == 0.8]
        cells = [[f"{value:.0f}" for value in rows[name]] for name in ("n", "reached", "low", "high")]
        heads = [f"{self.unit}s ahead", "origins", "80 % held", "from", "to"]
        return f"{wrapped(self.sentence)}\n\n{text_table(heads, [rows['horizon'].tolist(), *cells])}"


def _chance(shares: Array, n: int, level: float) -> float:
    """With which p shares held at origins, of which `n` count as independent, go with a level.

    Horizons of one origin err together, so that what counts is how shares differ between origins: Student's t; where
    each origin has one forecast, or all shares are the same, the binomial test.
    """
    reached, spread = float(shares.mean()), float(shares.std(ddof=1)) if len(shares) > 1 else 0.0
    if spread == 0.0 or np.isin(shares, [0.0, 1.0]).all():
        return binomial_p(round(reached * n), n, level)
    return float(two_sided_p(np.array((reached - level) / (spread / np.sqrt(n))), n - 1))


def _share(held: float, n: int) -> tuple[int, float, float, float]:
    """How many, the share held in per cent, and its 95 % confidence interval (Clopper & Pearson 1934)."""
    low, high = binomial_limits(held, n)
    return n, 100.0 * held / n, 100.0 * low, 100.0 * high


def calibration(backtest: PastForecasts, model: str | None = None, *, basis: Basis | None = None) -> Calibration:
    """How often outcomes lay in a candidate's intervals; see `Backtest.calibration`."""
    basis = basis or backtest.bases[-1]
    name = model or backtest.own[0].name
    runs = [run for run in backtest.chosen(basis) if run.name == name]
    if not runs:
        raise InputError(
            f"there is no forecast {name!r} that is {basis}",
            nearest(name, [run.name for run in backtest.runs]),
            key="model",
        )
    if any(run.quantiles is None for run in runs):
        raise InputError(f"'{name}' has no intervals", "Choose a model.", key="model")
    positions = np.vstack([positions_of(run) for run in runs])
    cuts = runs[0].cuts
    unit = cuts.table.axis.frequency.unit
    return Calibration(name, basis, positions, cuts.horizons, cuts.overlap, unit, len(runs))


def positions_of(run: Run) -> Array:
    """The probability (f, h) that each forecast put below its outcome."""
    outcome, quantiles = run.cuts.outcome, run.quantiles
    if quantiles is None:
        return np.full(outcome.shape, np.nan)
    found = position_in(outcome.ravel(), quantiles.reshape(-1, len(PROBABILITIES)), PROBABILITIES).reshape(
        outcome.shape
    )
    return np.where(np.isfinite(outcome) & np.isfinite(quantiles[:, :, 0]), found, np.nan)
