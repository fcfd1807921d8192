"""Outliers of a series: values far from what is usual for its level and season, not from its histogram."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.calendar import Axis, cycle_of
from offing.engine import Usual, usual
from offing.tables.table import Array

#: Under normal noise one value in 150,000 lies beyond 4.5 standard deviations, or its season has moved.
THRESHOLD = 4.5
#: A cycle must have been seen so often before its medians mean anything.
_CYCLES_SEEN = 3


@dataclass(frozen=True)
class Judged:
    """What is usual in each period (n,), each value's score (n,), and whether both are judged by ratios."""

    usual: Array
    scores: Array
    by_ratio: bool

    def beyond(self, threshold: float) -> NDArray[np.intp]:
        """Periods whose score is beyond a threshold, the earliest first."""
        return np.flatnonzero(np.abs(np.nan_to_num(self.scores)) > threshold)


def cycles_seen(axis: Axis) -> list[tuple[str, NDArray[np.intp]]]:
    """Cycles that `axis` holds at least three times, by name, with each period's position (n,)."""
    frequency = axis.frequency
    steps = {"hour": [("week", "hour")], "day": [("week", "day"), ("year", "week")], "week": [("year", "week")],
             "month": [("year", "month")], "quarter": [("year", "quarter")], "year": []}[frequency.unit]  # fmt: skip
    found: list[tuple[str, NDArray[np.intp]]] = []
    lengths = {"week": {"hour": 168, "day": 7}}
    for cycle, step in steps:
        length = lengths.get(cycle, {}).get(frequency.unit, frequency.periods_a_year)
        if axis.n < _CYCLES_SEEN * length:
            continue
        if (cycle, step) == ("week", "hour"):
            days = cycle_of("week", frequency, "day").positions(axis)
            found.append(("hour of the week", (24 * days + cycle_of("day", frequency).positions(axis)).astype(np.intp)))
        else:
            found.append((f"{step} of the {cycle}", cycle_of(cycle, frequency, step).positions(axis)))
    return found


def judge(axis: Axis, values: Array) -> Judged | None:
    """What is usual and how far each value is from it; None where too little is known to tell.

    Values that are all positive are judged by ratios if their logarithms vary less: spreads are compared after
    scaling by the geometric mean (Box & Cox 1964).
    """
    known = np.isfinite(values)
    if known.sum() < 8:
        return None
    block = max(int(axis.frequency.periods_a_year / 4), 7)
    cycles = [positions for _, positions in cycles_seen(axis)]
    plain = usual(values, cycles, block)
    if (values[known] > 0.0).all():
        ratios = np.log(np.where(known, values, np.nan))
        logs = usual(ratios, cycles, block)
        if _spread(logs) * float(np.exp(ratios[known].mean())) < _spread(plain):
            forgiving = _moved(axis, logs, ratios)
            return Judged(np.exp(forgiving.fitted), _scores(forgiving), by_ratio=True)
    forgiving = _moved(axis, plain, values)
    return Judged(forgiving.fitted, _scores(forgiving), by_ratio=False)


def _spread(told: Usual) -> float:
    """Standard deviation of the residuals, each counted as at most four robust ones.

    It feels, as a median of absolute residuals would not, that high seasons vary more than low ones.
    """
    reach = 4.0 * told.deviation
    return float(np.sqrt(np.nanmean(np.square(np.clip(told.residual, -reach, reach)))))


def _moved(axis: Axis, told: Usual, values: Array) -> Usual:
    """What is usual, with peaks of a year forgiven that other years had a week earlier or later.

    Holidays move through the weeks of the year. A value far from the season is held against that value of each other
    year, within a week of the same place, which is nearest to it; their median is what is usual there.
    """
    width = {"week": 1, "day": 7}.get(axis.frequency.unit)
    if width is None or told.deviation == 0.0:
        return told
    rest, season, residual = values - told.level, told.season.copy(), told.residual.copy()
    for t in np.flatnonzero(np.abs(np.nan_to_num(told.scores)) > THRESHOLD / 2.0).tolist():
        nearest = []
        for year in range(-20, 21):
            middle = t + round(year * axis.frequency.periods_a_year)
            if year == 0 or middle < 0 or middle >= axis.n:
                continue
            near = rest[max(middle - width, 0) : middle + width + 1]
            near = near[np.isfinite(near)]
            if len(near):
                nearest.append(near[np.argmin(np.abs(near - rest[t]))])
        forgiven = len(nearest) >= _CYCLES_SEEN - 1 and abs(rest[t] - np.median(nearest)) <= THRESHOLD * told.deviation
        if forgiven:
            season[t] = np.median(nearest)
            residual[t] = rest[t] - season[t]
    return Usual(told.level, season, residual, told.deviation)


def _scores(told: Usual) -> Array:
    # Where more than half of the values are exactly as usual, deviations are measured by the other half.
    if told.deviation > 1e-9 * max(float(np.nanmax(np.abs(told.fitted))), 1e-300):
        return told.scores
    return np.zeros_like(told.residual)
