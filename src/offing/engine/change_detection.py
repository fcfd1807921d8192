"""Whether a regression still holds as new rows come: sequential tests of its recursive residuals."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.engine.least_squares import Estimate

#: How the chance of a false alarm over the whole time is shared out among level, coefficients and spread: 4 % together,
#: so that what no simulation counts, such as a dynamic that is learnt a little too weak, keeps it below 5 %.
LEVEL_SHARE, COEFFICIENT_SHARE, SPREAD_SHARE = 0.02, 0.012, 0.008
#: Paths from which bounds are read, fewer of many periods: a chance of 2 % has a standard error of 0.1 or 0.2 %.
_PATHS, _FEWER, _MANY = 10_000, 4_000, 100
#: Every length up to this is looked at; longer stretches overlap so much that each is 5 % longer than the last.
_EVERY, _LONGER = 64, 1.05
_SEED = 20_261_129
#: A stretch of one residual is an outlier, and no change.
_LEAST = 2
#: Variances of fewer residuals are not looked at: they vary by half.
_SHORTEST = 6


def recursive_residuals(estimate: Estimate, rows: Array) -> Array:
    """Residuals (m,) of whitened rows [x | z] (m, k + 1), each from the estimate before it (Brown et al. 1975).

    Each is divided by the standard deviation that it has where the coefficients have not changed, so that they are
    independent and alike. The old rows stand in the triangle of the estimate; each new one is joined in turn.
    """
    kept = estimate.kept
    inverse = np.linalg.inv(estimate.root)
    spread, beta = inverse @ inverse.T, estimate.beta[kept].copy()
    found = np.empty(len(rows))
    for i, row in enumerate(rows):
        x = row[:-1][kept]
        gain = spread @ x
        size = 1.0 + float(x @ gain)
        error = float(row[-1] - x @ beta)
        found[i] = error / np.sqrt(size * estimate.variance)
        beta += gain * (error / size)
        spread -= np.outer(gain, gain) / size
    return found


@dataclass(frozen=True)
class Scan:
    """The most striking stretch of residuals up to each of m: its statistic (m,), and where it begins (m,)."""

    statistic: Array
    start: NDArray[np.intp]

    def alarm(self, bound: float) -> tuple[int, int] | None:
        """Where the most striking stretch of all begins, and where a bound was passed since; None if it never was."""
        peak = int(np.argmax(self.statistic)) if len(self.statistic) else 0
        if not len(self.statistic) or self.statistic[peak] <= bound:
            return None
        start = int(self.start[peak])
        return start, start + int(np.flatnonzero(self.statistic[start:] > bound)[0])


def _lengths(m: int, least: int = _LEAST) -> list[int]:
    """The lengths of stretches that are looked at among m residuals."""
    found = list(range(least, min(m, _EVERY) + 1))
    while found and found[-1] < m:
        found.append(min(int(np.ceil(found[-1] * _LONGER)), m))
    return found


def scan_sums(residuals: Array, weights: Array | None = None) -> Scan:
    """Sums of residuals times weights (m,) over all stretches that end at each place, in standard deviations.

    With weights 1 it is the likelihood ratio of a step of the level (Siegmund & Venkatraman 1995); with a column's
    values, less their mean over the stretch, that of a change of its coefficient.
    """
    m = len(residuals)
    best, start = np.zeros(m), np.zeros(m, dtype=np.intp)
    sums = np.concatenate([[0.0], np.cumsum(residuals)])
    if weights is not None:
        first = np.concatenate([[0.0], np.cumsum(weights)])
        squares = np.concatenate([[0.0], np.cumsum(np.square(weights))])
        products = np.concatenate([[0.0], np.cumsum(weights * residuals)])
    for length in _lengths(m):
        own = sums[length:] - sums[:-length]
        if weights is None:
            value = np.abs(own) / np.sqrt(length)
        else:
            total = first[length:] - first[:-length]
            size = squares[length:] - squares[:-length] - np.square(total) / length
            part = products[length:] - products[:-length] - own * total / length
            # A column that hardly moves in a stretch says nothing of its coefficient there.
            moves = size > 1e-9 * max(float(squares[-1]), 1e-300)
            value = np.where(moves, np.abs(part) / np.sqrt(np.where(moves, size, 1.0)), 0.0)
        places = np.arange(length - 1, m)
        better = value > best[places]
        best[places[better]] = value[better]
        start[places[better]] = places[better] - length + 1
    return Scan(best, start)


def scan_spread(residuals: Array) -> Scan:
    """The root of the likelihood ratio of another variance of all stretches of six or more that end at each place.

    It is the variance around the stretch's own mean: a step of the level is none of the spread.
    """
    m = len(residuals)
    best, start = np.zeros(m), np.zeros(m, dtype=np.intp)
    sums = np.concatenate([[0.0], np.cumsum(residuals)])
    squares = np.concatenate([[0.0], np.cumsum(np.square(residuals))])
    for length in _lengths(m, _SHORTEST):
        value = _wild(sums, squares, length)
        places = np.arange(length - 1, m)
        better = value > best[places]
        best[places[better]] = value[better]
        start[places[better]] = places[better] - length + 1
    return Scan(best, start)


def _wild(sums: Array, squares: Array, length: int) -> Array:
    """The root of the likelihood ratio of another variance, for all stretches of a length, from sums (…, m + 1)."""
    total = sums[..., length:] - sums[..., :-length]
    variance = (squares[..., length:] - squares[..., :-length] - np.square(total) / length) / (length - 1)
    variance = np.maximum(variance, 1e-12)
    return np.asarray(np.sqrt((length - 1) * (variance - 1.0 - np.log(variance))))


@dataclass(frozen=True)
class Bounds:
    """What the statistics pass by chance in the stated share of cases, at any time up to the end."""

    level: float
    coefficient: float
    spread: float


@lru_cache(maxsize=32)
def bounds(periods: int, dof: float, coefficients: int, doubt: float = 0.0) -> Bounds:
    """Bounds of the scans over a number of periods, with a variance of the noise that has `dof` degrees of freedom.

    Read from seeded simulations, which count that all stretches are looked at, and that the noise's variance and its
    dynamics are known as well as they are: with a standard error of these, the `doubt`, residuals are a little alike.
    Several `coefficients` share their part alike.
    """
    generator, count = np.random.default_rng(_SEED), _PATHS if periods <= _MANY else _FEWER
    noise = generator.standard_normal((count, periods))
    if doubt:
        share = np.clip(doubt * generator.standard_normal(count), -0.9, 0.9)
        for t in range(1, periods):
            noise[:, t] += share * noise[:, t - 1]
    noise *= np.sqrt(dof / generator.chisquare(dof, count))[:, None]
    largest, wildest = np.zeros(count), np.zeros(count)
    sums = np.concatenate([np.zeros((count, 1)), np.cumsum(noise, axis=1)], axis=1)
    squares = np.concatenate([np.zeros((count, 1)), np.cumsum(np.square(noise), axis=1)], axis=1)
    for length in _lengths(periods):
        own = np.abs(sums[:, length:] - sums[:, :-length]).max(axis=1) / np.sqrt(length)
        largest = np.maximum(largest, own)
        if length >= _SHORTEST:
            wildest = np.maximum(wildest, _wild(sums, squares, length).max(axis=1))
    return Bounds(
        float(np.quantile(largest, 1.0 - LEVEL_SHARE)),
        float(np.quantile(largest, 1.0 - COEFFICIENT_SHARE / max(coefficients, 1))),
        float(np.quantile(wildest, 1.0 - SPREAD_SHARE)),
    )
