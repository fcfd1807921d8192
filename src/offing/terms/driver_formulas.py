"""What a driver adds to a forecast, as expressions of its own values: one step after another."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, holding, inside, newest_ended
from offing.engine.expressions import Expression, Facts, Weighted
from offing.tables import View
from offing.terms.driver_options import StatedDriver
from offing.terms.formulas import Rows
from offing.terms.frequency_conversion import base_series
from offing.terms.lag_weights import LagWeights
from offing.terms.response_forms import Form, Slopes
from offing.terms.transform_step import Series, Step, input_of
from offing.terms.transforms import evaluate, reach

#: Of a slower driver this number of periods before and after those of the forecast serves what is drawn between them.
_AROUND = 3


def looked_back(driver: StatedDriver, steps: Sequence[Step], frequency: Frequency) -> int:
    """How many of the target's periods before its own a value needs."""
    if driver.weights is not None:
        return 0
    return max(*driver.lags, 0) + reach(steps, frequency)[-1] + (driver.carry_over is not None)


def own_periods(driver: StatedDriver, view: View, whole: Axis) -> Axis | None:
    """The periods of another frequency that the periods `whole` draw on; None where it is the same."""
    frequency = view.frequency(driver.data)
    if frequency == whole.frequency:
        return None
    if driver.weights is not None:
        needed = LagWeights.of(driver).needed(frequency, whole)
        back = reach(driver.steps, frequency)[-1]
        return Axis(frequency, needed.first - back, needed.n + back)
    if driver.combine is not None:
        return inside(frequency, whole)[0]
    at = holding(frequency, whole) - driver.skip
    known = view.reach(driver.data)
    first = max(int(at[0]) - _AROUND, known.first)
    after = min(int(at[-1]) + _AROUND + 1, known.first + known.n)
    return Axis(frequency, first, max(after - first, 1))


def brought_over(driver: StatedDriver, view: View, rows: Rows, base: Series) -> Expression:
    """Its values by the target's periods, before any transformation."""
    own = input_of(view, driver.data)
    frequency = view.frequency(driver.data)
    if frequency == rows.axis.frequency or driver.weights is not None:
        return own
    table, axis = rows.others[frequency]
    if driver.combine is not None:
        first, weights = _combined(driver, frequency, rows.whole, axis)
        return Weighted(table, own, first, weights)
    one = Weighted(table, own, np.zeros(0, np.int64), ())
    return _between(driver, view, rows, base, one=one, axis=axis)


def _combined(
    driver: StatedDriver, frequency: Frequency, whole: Axis, axis: Axis
) -> tuple[np.ndarray, tuple[Array, ...]]:
    """From where on, and with which weights, the faster values of each period count."""
    own, place = inside(frequency, whole)
    counts = np.bincount(place, minlength=whole.n)
    first = own.first - axis.first + np.concatenate([[0], np.cumsum(counts)[:-1]])
    if driver.combine == "last":
        return first + np.maximum(counts - 1, 0), tuple(np.ones(min(count, 1)) for count in counts.tolist())
    shared = {count: np.full(count, 1.0 if driver.combine == "sum" else 1.0 / max(count, 1)) for count in set(counts)}
    return first, tuple(shared[count] for count in counts)


def _between(driver: StatedDriver, view: View, rows: Rows, base: Series, *, one: Weighted, axis: Axis) -> Expression:
    """What is drawn between slower values: a weighted sum of these, whose weights show as each is 1 by itself."""
    whole = rows.whole
    values = view.known(driver.data, axis).values
    known = np.flatnonzero(np.isfinite(values))
    matrix = np.zeros((whole.n, axis.n))
    bare = view.scaling(driver.data, 0.0)
    for i in known.tolist():
        alone = np.full(axis.n, np.nan)
        alone[known], alone[i] = 0.0, 1.0
        matrix[:, i] = base_series(driver, bare.assuming(driver.data, axis.first, alone))(whole)
    rest = base(whole) - matrix[:, known] @ values[known]
    found = []
    for row in np.nan_to_num(matrix):
        there = np.flatnonzero(row)
        at, end = (int(there[0]), int(there[-1]) + 1) if len(there) else (0, 0)
        found.append((at, row[at:end]))
    first = np.array([at for at, _ in found], dtype=np.int64)
    summed: Expression = Weighted(one.table, one.of, first, tuple(row for _, row in found))
    size = float(np.nanmax(np.abs(values), initial=1.0))
    if (np.abs(np.nan_to_num(rest)) > 1e-12 * size).any():
        summed = summed + Facts(f"{driver.name}, from other periods", rest)
    return summed


def transformed_formula(x: Expression, steps: Sequence[Step], base: Series, view: View, axis: Axis) -> Expression:
    """Values after all transformations."""
    for i, step in enumerate(steps):
        inner = steps[:i]

        def so_far(each: Axis, inner: Sequence[Step] = inner) -> Array:
            return evaluate(base, inner, view, each)

        x = step.formula(x, so_far, view, axis)
    return x


def formed(
    x: Expression, forms: Sequence[Form], theta: Sequence[float | None], values: Array, lead: int
) -> tuple[Expression, list[Expression]]:
    """What forms make of transformed values, of which those before the forecast (m,) are `values`; and its slopes.

    The slopes are the derivatives by those of the shapes `theta` that are estimated.
    """
    count = sum(own is not None for own in theta)
    slopes: Slopes = [None] * count
    numbers, place = np.zeros((len(values), count)), 0
    for form, own in zip(forms, theta, strict=True):
        values, numbers = form.apply(values, numbers, own, place)
        known = np.column_stack([values, numbers])[max(len(values) - lead, 0) :]
        before = np.vstack([np.full((lead - len(known), 1 + count), np.nan), known])
        slopes = form.slope_formulas(x, slopes, own, place, before)
        x = form.formula(x, own, before[:, 0])
        place += own is not None
    return x, [each for each in slopes if each is not None]


def weighted_formula(
    driver: StatedDriver, view: View, rows: Rows, steps: Sequence[Step], base: Series, *, beta: Array
) -> Expression:
    """The sum of its values before the end of each period, each with its weight and its effect."""
    frequency, weights = view.frequency(driver.data), LagWeights.of(driver)
    table, axis = rows.others.get(frequency, ("", rows.whole))
    x = transformed_formula(input_of(view, driver.data), steps, base, view, axis)
    newest = newest_ended(frequency, rows.axis) - weights.skip
    first = np.concatenate([np.zeros(rows.lead, np.int64), newest - weights.span + 1 - axis.first])
    oldest_first = weights.coefficients(beta)[::-1].copy()
    none = np.zeros(0)
    return Weighted(table, x, first, (*[none] * rows.lead, *[oldest_first] * rows.axis.n))
