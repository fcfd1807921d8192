"""Outliers of a series: values far from what trend, season and neighbours lead to expect, not from a histogram."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.calendar import Axis, cycle_of
from offing.engine import Departures, departures, group_medians, limit_of

#: Pairs of harmonics of the year that are tried at each frequency.
_PAIRS = {"hour": 3, "day": 6, "business day": 6, "week": 8, "month": 6, "quarter": 2, "year": 0}
#: Pairs of harmonics of a season that is smooth.
_SMOOTH_PAIRS = 2
#: Standard deviations beyond which a value stands out from a smooth season in most years.
_SPIKE = 4.0
#: Bends of the trend that are tried at most.
_BENDS = 12
#: A cycle must have been seen so often before each of its positions may have a mean of its own.
_CYCLES_SEEN = 3
#: With fewer values of an hour of the week one outlier moves their median.
_WEEKS_OF_HOURS = 6


@dataclass(frozen=True)
class Judged:
    """What is expected in each period (n,), each value's score (n,), the score beyond which one is far, and its scale.

    Scores are standard normal quantiles, as `offing.engine.outlier_tests` has them.
    """

    usual: Array
    scores: Array
    limit: float
    by_ratio: bool
    steps: tuple[int, ...] = ()

    def beyond(self, threshold: float | None = None) -> NDArray[np.intp]:
        """Periods whose score is beyond a threshold, by default the limit, the earliest first."""
        return np.flatnonzero(np.abs(np.nan_to_num(self.scores)) > (self.limit if threshold is None else threshold))


def judge(axis: Axis, values: Array, explained: Array | None = None, threshold: float | None = None) -> Judged | None:
    """What is expected and how far each value is from it; None where too little is known to show.

    Values that are all positive are judged by ratios if their logarithms vary less: deviations are compared after
    scaling by the geometric mean (Box & Cox 1964).

    Parameters
    ----------
    explained
        Columns (n, k) of what explains the series beside trend and season, such as holidays.
    """
    inner = _without_launch(values)
    known = np.isfinite(inner)
    if known.sum() < 8 or _mostly_one_value(inner[known]):
        return None
    found = _departures(axis, inner, explained, threshold)
    by_ratio = False
    if (inner[known] > 0.0).all():
        ratios = np.log(np.where(known, inner, np.nan))
        logs = _departures(axis, ratios, explained, threshold)
        size = float(np.exp(ratios[known].mean()))
        if logs is not None and found is not None and logs.deviation * size < found.deviation:
            found, by_ratio, inner = logs, True, ratios
    if found is None:
        return None
    limit = limit_of(int(known.sum())) if threshold is None else threshold
    scores = np.where(found.far, found.scores, np.clip(found.scores, -limit, limit))
    scores = _forgiven(axis, inner, found, scores)
    expected = np.exp(found.expected) if by_ratio else found.expected
    return Judged(np.where(known, expected, values), scores, limit, by_ratio, found.steps)


def _without_launch(values: Array) -> Array:
    """The values with zeros before the first sale as unknown: a launch is no outlier, nor is what came before it."""
    known = np.flatnonzero(np.isfinite(values) & (values != 0.0))
    found = values.copy()
    if len(known):
        found[: int(known[0])] = np.nan
    return found


def _mostly_one_value(values: Array) -> bool:
    """Whether most values are the same, so that nothing shows what a usual deviation is."""
    _, counts = np.unique(values, return_counts=True)
    return bool(counts.max() > 0.5 * len(values))


def _departures(axis: Axis, values: Array, explained: Array | None, threshold: float | None) -> Departures | None:
    fixed, pattern = _short_cycles(axis, values)
    if explained is not None:
        fixed = np.column_stack([fixed, np.nan_to_num(explained)])
    found = departures(values - pattern, fixed, _trends(axis), _year(axis), threshold)
    if found is None:
        return None
    return Departures(found.expected + pattern, found.scores, found.far, found.deviation, found.phi, found.steps)


def _short_cycles(axis: Axis, values: Array) -> tuple[Array, Array]:
    """Columns (n, k) of the constant and the cycles within a week; and their pattern (n,) where medians make it."""
    one, nothing = np.ones((axis.n, 1)), np.zeros(axis.n)
    unit = axis.frequency.unit
    if unit not in ("hour", "day", "business day"):
        return one, nothing
    days = cycle_of("week", axis.frequency, "business day" if unit == "business day" else "day").positions(axis)
    if unit == "hour":
        hours = cycle_of("day", axis.frequency).positions(axis)
        if axis.n >= _WEEKS_OF_HOURS * 168:
            positions = (24 * days + hours).astype(np.intp)
            pattern = group_medians(values, positions)[positions]
            return one, pattern - np.nanmean(pattern)
        if axis.n < 2 * 24:
            return one, nothing
        columns = [one, np.eye(24)[hours][:, 1:]]
        return np.hstack([*columns, np.eye(7)[days][:, 1:]] if axis.n >= 2 * 168 else columns), nothing
    size = int(days.max()) + 1
    return (np.hstack([one, np.eye(size)[days][:, 1:]]) if axis.n >= 2 * size else one), nothing


def _trends(axis: Axis) -> list[Array]:
    """A straight line, and one that may bend each year."""
    years = np.arange(axis.n) / axis.frequency.periods_a_year
    line = years[:, None] - years.mean()
    bends = np.arange(1.0, np.floor(years[-1] - 0.5) + 1.0)[:_BENDS]
    if not len(bends):
        return [line]
    return [line, np.column_stack([line, np.maximum(years[:, None] - bends, 0.0)])]


def _year(axis: Axis) -> Array:
    """Pairs of harmonics (n, 2p) of the year, if it is seen twice."""
    frequency = axis.frequency
    cycles = axis.n / frequency.periods_a_year
    most = _PAIRS[frequency.unit]
    if not most or cycles < 2.0:
        return np.empty((axis.n, 0))
    if cycles < _CYCLES_SEEN:
        most = min(most, 4)  # as many positions as values would leave nothing to compare them with
    angles = 2.0 * np.pi * np.outer(cycle_of("year", frequency).phases(axis), np.arange(1, most + 1))
    columns = np.empty((axis.n, 2 * most))
    columns[:, 0::2], columns[:, 1::2] = np.sin(angles), np.cos(angles)
    return columns


def _forgiven(axis: Axis, values: Array, found: Departures, scores: Array) -> Array:
    """The scores with those at their limit that other years had too, a week earlier or later: a moving holiday is none.

    A far value counts as one of every year if each of at least two other years departs as far, in the same direction
    and within a week of its place.
    """
    width = {"week": 1, "day": 7, "business day": 5, "hour": 168}.get(axis.frequency.unit)
    forgiven = scores.copy()
    far = np.flatnonzero(found.far)
    if width is not None and len(far):
        rest = values - found.expected
        year = axis.frequency.periods_a_year
        for t in far.tolist():
            alike = others = 0
            for k in range(-20, 21):
                middle = t + round(k * year)
                if k == 0 or not 0 <= middle < axis.n:
                    continue
                near = rest[max(middle - width, 0) : middle + width + 1]
                others += 1
                alike += bool((np.sign(rest[t]) * np.nan_to_num(near) > 0.5 * abs(rest[t])).any())
            if others >= _CYCLES_SEEN - 1 and alike == others:
                forgiven[t] = 0.0
    # The first values after a launch are its own affair.
    known = np.flatnonzero(np.isfinite(values))
    launched = len(known) and known[0] > 0 and values[known[0]] != 0.0
    t = int(known[0]) if launched else 0
    while launched and t < axis.n and found.far[t]:
        forgiven[t] = 0.0
        t += 1
    return forgiven


def yearly_spike(axis: Axis, values: Array) -> tuple[str, list[int]] | None:
    """A position of the year at which most years stand far above or below a smooth season, and its periods there.

    Such a spike may be a part of the season or an event of its own; only the analyst knows.
    """
    step = {"month": "month", "week": "week"}.get(axis.frequency.unit)  # four quarters leave no smooth season
    years = axis.n / axis.frequency.periods_a_year
    known = np.isfinite(values)
    if step is None or years < _CYCLES_SEEN - 0.5 or known.sum() < 8 or _mostly_one_value(values[known]):
        return None
    design = np.column_stack([np.ones(axis.n), _trends(axis)[0], _year(axis)[:, : 2 * _SMOOTH_PAIRS]])
    cycle = cycle_of("year", axis.frequency, step)
    positions = cycle.positions(axis)
    for position in np.unique(positions[known]).tolist():
        # Spikes of every year would hide each other: what is expected there is what all other positions say.
        others = known & (positions != position)
        beta = np.linalg.lstsq(design[others], values[others], rcond=None)[0]
        rest = values - design @ beta
        deviation = float(np.sqrt(np.square(rest[others]).sum() / max(int(others.sum()) - design.shape[1], 1)))
        here = np.flatnonzero(known & (positions == position))
        far = here[np.abs(rest[here]) > _SPIKE * deviation]
        if len(far) >= max(_CYCLES_SEEN, round(0.6 * years)) and len(set(np.sign(rest[far]).tolist())) == 1:
            return cycle.names[position], far.tolist()
    return None
