"""A level and seasons by medians, which wild values cannot bend (after Tukey 1977), and departures from them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.engine.triangle import Array

#: The standard deviation of a normal variable over its median absolute deviation.
_MAD = 1.4826


@dataclass(frozen=True)
class Usual:
    """What is usual: `level` and `season` (n,), `residual` (n,) from their sum, and its robust standard deviation."""

    level: Array
    season: Array
    residual: Array
    deviation: float

    @property
    def fitted(self) -> Array:
        """What is usual in each period (n,)."""
        return self.level + self.season

    @property
    def scores(self) -> Array:
        """Residuals (n,) in standard deviations; zero where nothing varies."""
        if self.deviation == 0.0:
            return np.zeros_like(self.residual)
        return self.residual / self.deviation


def usual(values: Array, cycles: Sequence[NDArray[np.intp]], block: int, rounds: int = 4) -> Usual:
    """Level and seasons of `values` (n,), NaN where unknown, by medians in turn.

    Parameters
    ----------
    cycles
        Position (n,) of every period in each cycle.
    block
        Periods whose median is one point of the level; between the points it runs straight.

    The residuals' deviation counts the medians that were taken: it is the median absolute deviation times 1.4826 and
    (n / (n − k))^½ with k medians.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import usual
    >>> values = np.tile([1.0, 2.0, 3.0, 4.0], 6)
    >>> values[9] = 50.0
    >>> usual(values, [np.arange(24) % 4], 8).fitted[9].round(6)
    np.float64(2.0)
    """
    n = len(values)
    seasons = [np.zeros(n) for _ in cycles]
    level = np.full(n, np.nanmedian(values))
    for _ in range(rounds):
        for j, positions in enumerate(cycles):
            rest = values - level - sum(seasons) + seasons[j]
            seasons[j] = _medians(rest, positions)[positions]
            seasons[j] = seasons[j] - np.mean(seasons[j])
        level = _level(values - sum(seasons, np.zeros(n)), block)
    season = sum(seasons, np.zeros(n))
    residual = values - level - season
    known = int(np.isfinite(residual).sum())
    taken = sum(len(np.unique(positions)) for positions in cycles) + -(-n // block)
    spread = float(np.nanmedian(np.abs(residual))) * _MAD
    return Usual(level, season, residual, spread * float(np.sqrt(known / max(known - taken, 1))))


def _medians(values: Array, groups: NDArray[np.intp]) -> Array:
    """Median of each group, zero where it has no known value."""
    order = np.lexsort((values, groups))  # NaN sorts to the end of its group
    sizes = np.bincount(groups)
    known = np.bincount(groups, np.isfinite(values), len(sizes)).astype(np.intp)
    starts = np.cumsum(sizes) - sizes
    inner = values[order]
    low = np.where(known > 0, inner[np.minimum(starts + np.maximum((known - 1) // 2, 0), len(inner) - 1)], 0.0)
    high = np.where(known > 0, inner[np.minimum(starts + known // 2, len(inner) - 1)], 0.0)
    return np.asarray((low + high) / 2.0)


def _level(values: Array, block: int) -> Array:
    """Medians of blocks at their middles, joined by straight lines and run on at the ends."""
    n = len(values)
    count = max(round(n / block), 1)
    groups = np.minimum(np.arange(n) * count // n, count - 1)
    known = np.bincount(groups, np.isfinite(values), count) > 0
    middles = np.bincount(groups, np.arange(n), count) / np.bincount(groups, minlength=count)
    points = _medians(values, groups)[known]
    at = np.arange(n, dtype=np.float64)
    line = np.interp(at, middles[known], points)
    if len(points) > 1:
        first, last = middles[known][:2], middles[known][-2:]
        line = np.where(
            at < first[0], points[0] + (at - first[0]) * (points[1] - points[0]) / (first[1] - first[0]), line
        )
        slope = (points[-1] - points[-2]) / (last[1] - last[0])
        line = np.where(at > last[1], points[-1] + (at - last[1]) * slope, line)
    return np.asarray(line)
