"""Whether intervals hold what they state, and intervals that past errors have widened or narrowed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
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
from offing.model import Contributions, Forecast
from offing.model.rows import SHOWN

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
class Calibration(Result, figure="judging.draw_calibration"):
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
        So many later origins share outcomes with one.
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
        """Levels that are missed by more than chance, over all horizons, origins that share outcomes counting once."""
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


@dataclass(frozen=True)
class Margins:
    """Where quantiles lie by past errors: so many half widths of the 80 % interval from the median.

    `values` (h, q) at `probabilities` (q,), in their order; NaN where there are too few errors. `pooled` says whether
    all horizons share theirs, `n` how many errors each comes from.
    """

    probabilities: Array
    values: Array
    pooled: bool
    n: int

    def placed(self, median: Array, half: Array) -> Array:
        """Quantiles (h, q) around medians (h,), given half widths (h,)."""
        return np.asarray(median[:, None] + self.values * half[:, None])


def needed(probability: float) -> int:
    """How many errors the quantile of a probability needs at least: 39 for 0.975 (Lei et al. 2018).

    Examples
    --------
    >>> from offing.evaluation.calibration import needed
    >>> needed(0.975), needed(0.1)
    (39, 9)
    """
    tail = max(probability, 1.0 - probability)
    return int(np.ceil(tail / (1.0 - tail) - 1e-9))


def margins(errors: Array, probabilities: Array, method: Method = "conformal", step: float = STEP) -> Margins:
    """What past errors (f, h) of forecasts in their order, in half widths of their intervals, say of each quantile.

    Split-conformal (Vovk et al. 2005; Lei et al. 2018): the ⌈(n + 1) p⌉-th smallest of n errors, below the median the
    ⌊(n + 1) p⌋-th. Horizons stand alone where each has errors enough for all probabilities, else they are pooled. The
    adaptive form (Gibbs & Candès 2021) lets p follow the misses, forecast by forecast: it moves by `step` times what is
    left of p when an outcome has been below the quantile (1) or not (0).
    """
    h = errors.shape[1]
    counts = np.isfinite(errors).sum(axis=0)
    pooled = bool(int(counts.min()) < max(needed(float(p)) for p in probabilities))
    groups = [errors.ravel()] if pooled else list(errors.T)
    rows = [[_margin(group[np.isfinite(group)], float(p), method, step) for p in probabilities] for group in groups]
    # Adapted levels may cross; order statistics of one level each do not.
    values = np.sort(np.array(rows), axis=1) if method == "adaptive" else np.array(rows)
    n = int(counts.sum() if pooled else counts.min())
    return Margins(probabilities, values.repeat(h, axis=0) if pooled else values, pooled, n)


def _margin(errors: Array, probability: float, method: Method, step: float) -> float:
    """The quantile of errors (n,) in their order; NaN where they are too few."""
    n = len(errors)
    if n < needed(probability):
        return float("nan")
    level = probability
    if method == "adaptive":
        for i in range(max(n // 2, needed(probability)), n):
            below = float(errors[i] <= _ranked(errors[:i], level))
            level = min(max(level + step * (probability - below), 1e-9), 1.0 - 1e-9)
    return _ranked(errors, level)


def _ranked(errors: Array, level: float) -> float:
    """The error of a rank on the safe side of the level, the outermost one where that is beyond them."""
    n = len(errors)
    place = (n + 1) * level
    rank = np.ceil(place - 1e-9) if level >= 0.5 else np.floor(place + 1e-9)
    rank = int(min(max(rank, 1), n))
    return float(np.partition(errors, rank - 1)[rank - 1])


def scaled_errors(run: Run) -> Array:
    """Outcomes less medians (f, h), in half widths of the 80 % intervals; NaN where unknown."""
    low, median, high = np.moveaxis(run.at(0.1, 0.5, 0.9), -1, 0)
    half = (high - low) / 2.0
    return np.where(half > 0.0, (run.cuts.outcome - median) / np.where(half > 0.0, half, 1.0), np.nan)


@dataclass(frozen=True)
class CalibratedForecast(Forecast):
    """A forecast whose intervals past errors have widened or narrowed. Made by `offing.recalibrate`.

    `plain` is the forecast itself, `given` what past errors say of its horizons, and `intervals` how that was found.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=120)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2014-01", periods=120, freq="M"), name="sold")
    >>> model = of.Model("sold")
    >>> past = of.backtest(model, sold, horizon=2, origins=20)
    >>> found = of.recalibrate(model.fit(sold).forecast(2, levels=[0.8]), past)
    >>> found.given.n, found.mean.round(2).tolist() == found.plain.mean.round(2).tolist()
    (40, True)
    """

    plain: Forecast | None = None
    given: Margins | None = None
    intervals: Method = "conformal"

    @property
    def bare(self) -> Forecast:
        """The forecast with the model's own intervals."""
        return self if self.plain is None else self.plain

    def quantiles(self, probabilities: Sequence[float]) -> pd.DataFrame:
        """Values that the outcome stays below with the given probabilities, as past errors put them.

        NaN where these are too few for a probability, or where none of the kind was asked for.
        """
        if self.plain is None or self.given is None:
            return super().quantiles(probabilities)
        found = self.plain.quantiles(probabilities)
        low, median, high = self.plain.quantiles([0.1, 0.5, 0.9]).to_numpy().T
        placed = self.given.placed(median, (high - low) / 2.0)
        for place, p in enumerate(probabilities):
            at = np.flatnonzero(np.abs(self.given.probabilities - p) < 1e-9)
            found.iloc[:, place] = self.fit.cut(placed[:, int(at[0])]) if len(at) else np.nan
        return found

    @property
    def mean(self) -> Array:
        """Forecast means (h,), as they are."""
        return super().mean if self.plain is None else self.plain.mean

    @cached_property
    def contributions(self) -> Contributions:
        """What every term contributes to each forecast mean."""
        return super().contributions if self.plain is None else self.plain.contributions

    @property
    def sentence(self) -> str:
        """What the widest band means, and where its width comes from."""
        level, unit = max(self.levels), self.axis.frequency.unit
        n, pooled = (0, True) if self.given is None else (self.given.n, self.given.pooled)
        ahead = "of all horizons together" if pooled else "of each horizon"
        drift = ", following how often they missed" if self.intervals == "adaptive" else ""
        return (
            f"Each {unit}'s outcome lies in the {100 * level:g} % interval if errors are as they were at past origins: "
            f"the model's intervals are moved, widened or narrowed by {n} past errors {ahead}{drift}."
        )


def recalibrate(
    forecast: Forecast, backtest: PastForecasts, *, method: Method = "conformal", basis: Basis | None = None
) -> CalibratedForecast:
    """A forecast whose intervals are as wide as past errors of the same model say.

    Parameters
    ----------
    forecast
        A forecast, no farther than the back-test's horizon where horizons stand alone.
    backtest
        Forecasts of the same model from past origins.
    method
        ``conformal``, or ``adaptive`` for series whose errors drift; see `offing.evaluation.calibration.margins`.
    basis
        ``ex-ante`` by default where there is one.

    Raises
    ------
    InputError
        If the back-test does not hold the model, or has too few errors for the forecast's levels.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=120)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2014-01", periods=120, freq="M"), name="sold")
    >>> model = of.Model("sold")
    >>> past = of.backtest(model, sold, horizon=2, origins=20)
    >>> of.recalibrate(model.fit(sold).forecast(2, levels=[0.8]), past).table["q0.9"].round(2).tolist()
    [101.18, 101.18]
    """
    if method not in METHODS:
        raise InputError(f"found {method!r}", nearest(str(method), METHODS), key="intervals")
    basis = basis or backtest.bases[-1]
    name, series = forecast.fit.model.name, forecast.fit.series
    run = next((each for each in backtest.chosen(basis) if each.name == name and each.series == series), None)
    if run is None or run.quantiles is None:
        raise InputError(f"the back-test has no forecasts of '{name}' that are {basis}", key="intervals")
    wanted = sorted({round(p, 10) for level in forecast.levels for p in ((1 - level) / 2, (1 + level) / 2)} | {0.5})
    n = int(np.isfinite(run.error).sum())
    short = next((p for p in wanted if needed(p) > n), None)
    if short is not None:
        raise InputError(
            f"{n} past errors are too few for the quantile {short:g}, which needs {needed(short)}",
            "Give more origins, or lower levels.",
            key="levels",
        )
    kept = sorted({*wanted, *(p for p in SHOWN if needed(p) <= n)})
    given = margins(scaled_errors(run), np.array(kept), method)
    periods = forecast.axis.n
    if given.pooled:
        given = replace(given, values=given.values[:1].repeat(periods, axis=0))
    elif run.cuts.plan.gap or periods > len(given.values):
        raise InputError(
            f"the back-test knows {len(given.values)} horizons, the forecast has {periods}",
            "Back-test as far as the forecast goes, without a gap.",
            key="horizon",
        )
    given = replace(given, values=given.values[:periods])
    return CalibratedForecast(
        forecast.fit,
        forecast.view,
        forecast.axis,
        forecast.rows,
        forecast.levels,
        forecast.outlooks,
        forecast.scenario,
        forecast.assumed,
        forecast,
        given,
        method,
    )
