"""What the views of a survey show, computed from its tables."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, coarser_than, cycle_of
from offing.engine import cross_correlation
from offing.inspection.seasonality import CYCLES, cycle_columns, flat, seen_cycles, trend_columns
from offing.inspection.views import Coverage, History, LeadLags, Runs, Scatter, Seasons, Years
from offing.tables import Panel, Table
from offing.tables.outliers import Judged


def history(label: str, unit: str, axis: Axis, values: Array, judged: Judged | None) -> History:
    """The view of a series through time, its outliers as `judged`."""
    far = np.array([], dtype=np.intp) if judged is None else judged.beyond()
    coarser = coarser_than(axis.frequency.unit)
    years_seen = axis.n / axis.frequency.periods_a_year
    unit_shown = next((each for each in coarser if Frequency(each).periods_a_year * years_seen <= _STEPS), None)
    if unit_shown is None:
        return History(label, unit, axis, values, None, np.array([]), far)
    frequency = Frequency(unit_shown, zone=axis.frequency.zone)
    owners = frequency.ordinals((axis.starts + axis.ends) // 2)
    coarse = Axis(frequency, int(owners[0]), int(owners[-1] - owners[0]) + 1)
    known = np.isfinite(values)
    sums = np.bincount((owners - coarse.first)[known], values[known], coarse.n)
    counts = np.bincount((owners - coarse.first)[known], minlength=coarse.n)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = sums / counts
    return History(label, unit, axis, values, coarse, means, far)


def years(label: str, unit: str, axis: Axis, values: Array) -> Years | None:
    """The view of years over each other; None for years themselves."""
    if axis.frequency.unit == "year":
        return None
    share = cycle_of("year", axis.frequency).phases(axis)
    civil = axis.middles.astype("datetime64[us]").astype("datetime64[Y]").astype(np.int64) + 1970
    return Years(
        label,
        unit,
        axis.frequency.unit,
        tuple((int(year), share[civil == year], values[civil == year]) for year in np.unique(civil)),
    )


def seasons(label: str, unit: str, axis: Axis, values: Array, judged: Judged | None) -> Seasons | None:
    """The view by position in the longest cycle that can be separated; None where none is seen twice."""
    seen = seen_cycles(axis)
    choices = [("year", "month"), ("year", "quarter"), ("week", "day"), ("day", "hour")]
    order = [choice for choice in choices if seen.get(choice[0], 0.0) >= 2.0]
    step = next((each for each in order if not (each == ("year", "month") and axis.frequency.unit == "quarter")), None)
    if step is None:
        return None
    cycle = cycle_of(step[0], axis.frequency, step[1])
    by_ratio = judged is not None and judged.by_ratio
    level = _level(axis, np.log(values) if by_ratio else values)
    shown = values / np.exp(level) if by_ratio else values - level
    far = np.zeros(axis.n, dtype=bool)
    if judged is not None:
        far[judged.beyond()] = True
    return Seasons(label, unit, f"{step[1]} of the {step[0]}", cycle.names, cycle.positions(axis), shown, far, by_ratio)


def scatter(label: str, unit: str, target: Array, drivers: Mapping[str, tuple[str, str, Array]]) -> Scatter:
    """The view of the target against each driver."""
    shown = []
    for name, driver_unit, values in drivers.values():
        known = np.isfinite(target) & np.isfinite(values)
        varies = known.sum() > 2 and np.ptp(values[known]) > 0.0 and np.ptp(target[known]) > 0.0
        r = float(np.corrcoef(target[known], values[known])[0, 1]) if varies else 0.0
        shown.append((name, driver_unit, values, r))
    return Scatter(label, unit, target, tuple(shown))


def lead_lags(label: str, axis: Axis, target: Array, drivers: Mapping[str, tuple[str, str, Array]]) -> LeadLags:
    """The view of leads and lags."""
    most = max(
        min(
            {"hour": 48, "day": 28, "business day": 20, "week": 13, "month": 12}.get(axis.frequency.unit, 8),
            axis.n // 5,
        ),
        1,
    )
    y = without_calendar(axis, target)
    found = []
    for name, _, values in drivers.values():
        lags, r, band = cross_correlation(y, without_calendar(axis, values), most)
        found.append((name, lags, r, band))
    return LeadLags(label, axis.frequency.unit, tuple(found))


def coverage(tables: Mapping[str, Table | Panel], plans: Mapping[str, Table | Panel], end: int) -> Coverage:
    """The view of all sources on one time line; rows after the target's `end` are a plan where they say so."""
    bars = []
    for source, series, table in flat(tables):
        plan = plans.get(source)
        if isinstance(plan, Panel):
            plan = plan.tables.get(series)
        for column, values in table.columns.items():
            known = np.isfinite(values)
            later = (table.axis.starts >= end) & (table.later_rows == "plan")
            planned = _runs(table.axis, known & later)
            if plan is not None and column in plan.columns:
                planned += _runs(plan.axis, np.isfinite(plan.columns[column]))
            actual = _runs(table.axis, known & ~later)
            bars.append((source, f"{column} {series}".strip(), table.axis.frequency.unit, actual, planned))
    return Coverage(tuple(bars[:40]))


def _runs(axis: Axis, known: NDArray[np.bool_]) -> Runs:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], known, [False]]).astype(np.int8)))
    return tuple((int(axis.edges[a]), int(axis.edges[b])) for a, b in edges.reshape(-1, 2))


def without_calendar(axis: Axis, values: Array) -> Array:
    """What is left of `values` (n,) after a trend that may bend each year and the cycles seen twice."""
    seen = seen_cycles(axis)
    parts = [np.ones((axis.n, 1)), trend_columns(axis)]
    parts += [cycle_columns(axis, c, min(most, 4)) for c, most in CYCLES[axis.frequency.unit] if seen[c] >= 2.0]
    design, known = np.hstack(parts), np.isfinite(values)
    if known.sum() <= design.shape[1] + 2:
        return values - np.nanmean(values)
    beta = np.linalg.lstsq(design[known], values[known], rcond=None)[0]
    return np.asarray(values - design @ beta)


def _level(axis: Axis, values: Array) -> Array:
    """The trend (n,) of a series: a line that may bend each year, fitted beside the year's cycle."""
    design = np.column_stack([np.ones(axis.n), trend_columns(axis)])
    cycle = cycle_columns(axis, "year", 4) if seen_cycles(axis).get("year", 0.0) >= 2.0 else np.empty((axis.n, 0))
    known = np.isfinite(values)
    both = np.hstack([design, cycle])
    beta = np.linalg.lstsq(both[known], values[known], rcond=None)[0]
    return np.asarray(design @ beta[: design.shape[1]])


#: More steps of a coarser frequency than these cannot be separated in a figure.
_STEPS = 60
