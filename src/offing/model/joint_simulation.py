"""A forecast's periods together: how they vary with each other, and joint paths of outcomes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np

from offing.base.arrays import Array
from offing.engine import SEED, growth_paths, running
from offing.model.forecast import Forecast, widened

_BATCH, _BATCHES = 250, 16
#: Batches of the 5,000 paths on which sentences rest.
PATH_BATCHES = 20

#: Where the noise of joint paths comes from.
Noise = Literal["normal", "resampled"]


def slopes(forecast: Forecast) -> Array:
    """Derivative (h,) of the mean on the target's own scale by η."""
    path, scale = forecast.path, forecast.fit.scale
    return np.asarray((path.mean * path.factor + scale.offset if scale.log else 1.0) / path.factor)


def covariance_times(forecast: Forecast, columns: Array) -> Array:
    """Σ @ `columns` (h, q), with Σ (h, h) the covariance of outcomes on the target's scale, to first order for logs.

    Σ is never made: noise is a filter of independent shocks, which runs forwards and backwards.
    """
    slope = slopes(forecast)[:, None]
    moved = slope * columns
    known = forecast.cov_root.T @ (forecast.cov_root @ moved)
    h, reach = len(moved), _reach(forecast)
    padded = np.zeros((reach, moved.shape[1]))
    padded[reach - h :] = moved
    # The filter L is lower triangular and alike along its diagonals, so that its transpose is L run backwards.
    noise = _filtered(forecast, _filtered(forecast, padded[::-1])[::-1])[reach - h :]
    fit = forecast.fit
    return np.asarray(slope * fit.model.widen_intervals**2 * (known + fit.estimate.variance * noise))


def outcome_paths(
    forecast: Forecast, batches: int = _BATCHES, seed: int = SEED, noise: Noise = "normal", *, mirrored: bool = False
) -> Iterator[Array]:
    """Seeded joint paths of outcomes on the target's scale, in batches (250, h), by default 4,000.

    Coefficients and noise vary together by Student's t, as in the quantiles of single periods. With `mirrored` each
    draw has its mirror image in the same batch (Hammersley & Morton 1956), so that means come out exactly. Noise that
    is ``resampled`` comes in blocks of the fit's own residuals (Künsch 1989), scaled to the same variance, and so keeps
    their tails and what is left of likeness between neighbours.
    """
    fit, path = forecast.fit, forecast.path
    estimate, h = fit.estimate, forecast.axis.n
    if fit.scale.growth:
        z = forecast.transformed
        whole = growth_paths(forecast.start, z, forecast.moves, estimate, fit.lingering)
        whole = widened(whole, np.median(whole, axis=0), fit.model.widen_intervals) / path.factor
        yield from (fit.cut(whole[i : i + _BATCH]) for i in range(0, len(whole), _BATCH))
        return
    # Coefficients, noise and the drivers' own doubt have a stream each, so that forecasts of one fit that differ in
    # their drivers are drawn as pairs: what they share is the same in both.
    streams = [np.random.default_rng(each) for each in np.random.SeedSequence(seed).spawn(3)]
    count, reach = _BATCH // 2 if mirrored else _BATCH, _reach(forecast)
    own = len(estimate.cov_root(np.zeros((1, fit.layout.k))))
    for _ in range(batches):
        swell = np.sqrt(estimate.dof / streams[0].chisquare(estimate.dof, count))
        known = forecast.cov_root[:own].T @ streams[0].standard_normal((own, count))
        known += forecast.cov_root[own:].T @ streams[2].standard_normal((len(forecast.cov_root) - own, count))
        shocks = _shocks(forecast, reach, count, streams[1], noise)
        moved = (known + _filtered(forecast, shocks)[-h:]) * swell * fit.model.widen_intervals
        levels = path.levels[:, None] + (np.concatenate([moved, -moved], axis=1) if mirrored else moved)
        values = np.exp(levels) - fit.scale.offset if fit.scale.log else levels
        yield fit.cut((values / path.factor[:, None]).T)


def shock_root(forecast: Forecast) -> Array:
    """G (reach, h): what one standard deviation of shock in each period, from the last used one on, does to v."""
    reach = _reach(forecast)
    size = np.sqrt(forecast.fit.estimate.variance)
    return np.asarray(size * _filtered(forecast, np.eye(reach))[reach - forecast.axis.n :].T)


def _shocks(forecast: Forecast, reach: int, count: int, generator: np.random.Generator, noise: Noise) -> Array:
    """Shocks (reach, count) of single periods: normal, or blocks of residuals."""
    size = np.sqrt(forecast.fit.estimate.variance)
    if noise == "normal":
        return np.asarray(generator.standard_normal((reach, count)) * size)
    fit = forecast.fit
    residual = (fit.residual - fit.ar_prediction)[fit.used]
    residual = residual - residual.mean()
    residual = residual * size / max(float(np.sqrt(np.square(residual).mean())), 1e-300)
    # The usual length of blocks grows with the cube root of the rows (Künsch 1989).
    length = max(round(len(residual) ** (1.0 / 3.0)), 1)
    starts = generator.integers(len(residual), size=(-(-reach // length), count))
    places = (starts[:, None, :] + np.arange(length)[:, None]).reshape(-1, count)[:reach] % len(residual)
    return np.asarray(residual[places])


def _reach(forecast: Forecast) -> int:
    """Periods from the last used one to the last forecast one: the noise of those before the origin is unknown too."""
    return int(forecast.axis.first + forecast.axis.n - 1 - forecast.fit.estimate.chain.times[-1])


def _filtered(forecast: Forecast, shocks: Array) -> Array:
    """What shocks (n, q) to single periods make of v in their and all later periods."""
    scale = forecast.fit.scale
    return scale.spread(running(shocks, forecast.fit.lingering), np.full(len(shocks), 1.0 / scale.gain))
