"""Forecasts whose intervals are as wide as past errors say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.evaluation.calibration import METHODS, STEP, Method
from offing.evaluation.fold_results import Basis, Run
from offing.evaluation.past_forecasts import PastForecasts
from offing.model import Contributions, Forecast
from offing.model.rows import SHOWN


@dataclass(frozen=True)
class Margins:
    """Where quantiles lie by past errors: in half widths of the 80 % interval from the median.

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
    >>> from offing.evaluation.recalibration import needed
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
