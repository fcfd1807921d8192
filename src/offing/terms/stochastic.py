"""A level that wanders: a random walk, whose steps are shrunk towards zero as strongly as the data say."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis

#: Steps of the walk over the fitted periods, and of a forecast beyond them, at most. With steps of several periods the
#: columns stay few, and its path is the same but for what moves within one.
_MOST_STEPS = 60


def stretches(rows: Axis, every: int | None) -> tuple[int, ...]:
    """Ordinals between which the level takes its steps; the last is the last fitted period, where it stands now.

    With at most 60 fitted periods each has a step of its own. With more, a step is spread over several periods.
    """
    apart = every or max(1, -(-(rows.n - 1) // _MOST_STEPS))
    last = rows.first + rows.n - 1
    inner = list(range(last, rows.first, -apart))[::-1]
    return (rows.first, *inner) if inner else ()


def walked(ordinals: Sequence[float] | Array, places: tuple[int, ...]) -> Array:
    """Which part (n, m) of every step is taken at some ordinals (n,): 0 before its stretch, 1 after it.

    A stretch shorter than the others, which is the first, has a smaller step.
    """
    edges = np.array(places, dtype=np.float64)
    lengths = np.diff(edges)
    parts = np.clip((np.asarray(ordinals, dtype=np.float64)[:, None] - edges[:-1]) / lengths, 0.0, 1.0)
    return np.asarray(parts * np.sqrt(lengths / lengths[-1]))


def steps_ahead(axis: Axis, places: tuple[int, ...]) -> Array:
    """Columns (n, m) of the steps that the level takes beyond the last of its `places`.

    The variance of a random walk grows with time. Within a step that stands for several periods a column therefore
    grows with the square root of the time that is over, so that the variance of every period is exact.
    """
    last, stretch = places[-1], places[-1] - places[-2]
    end = axis.first + axis.n - 1
    apart = max(1, -(-(end - last) // _MOST_STEPS))
    starts = np.arange(last, end, apart, dtype=np.float64)
    over = np.clip(axis.ordinals[:, None] - starts, 0.0, float(apart))
    return np.asarray(np.sqrt(over / stretch))
