"""How a forecast is brought to totals: in proportion, or with the least change."""

from __future__ import annotations

import numpy as np

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.explain.date_spans import Group
from offing.model import Forecast
from offing.model.joint_simulation import covariance_times, slopes


def periods_of_totals(forecast: Forecast, group: Group) -> tuple[Array, float]:
    """Which forecast periods (h,) are part of a total, and what the known ones add to it."""
    fit, ahead, own = forecast.fit, forecast.axis, group.axis
    flags = ((ahead.ordinals >= own.first) & (ahead.ordinals < own.first + own.n)).astype(np.float64)
    past = (fit.axis.ordinals >= own.first) & (fit.axis.ordinals < own.first + own.n)
    if not flags.any():
        raise InputError(f"no forecast period lies in {group.label}", "Forecast farther.", key="totals")
    lacking = own.n - int(flags.sum()) - int((past & np.isfinite(fit.target)).sum())
    if lacking:
        unit = ahead.frequency.unit
        raise InputError(
            f"{count(lacking, unit)} of {group.label} {'is' if lacking == 1 else 'are'} neither known nor forecast",
            f"Forecast until {own.part(own.n - 1, own.n).labels()[0]}, or fill gaps.",
            key="totals",
        )
    return flags, float(fit.target[past].sum())


def in_proportion(forecast: Forecast, rows: Array, wanted: Array) -> tuple[Array, Array]:
    """Means (h,) with the `wanted` totals (g,) of the `rows` (h, g), each in proportion, and their variances."""
    mean = forecast.mean
    sums = rows.T @ mean
    for i, (total, own) in enumerate(zip(wanted.tolist(), sums.tolist(), strict=True)):
        part = mean[rows[:, i] > 0.0]
        if own == 0.0 or total / own < 0.0 or (part.min() < 0.0 < part.max()):
            raise InputError(
                "a forecast of zero or of both signs has no proportions", 'Use method = "least change".', key="method"
            )
    ratios = np.where(rows.any(axis=1), rows @ (wanted / sums), 1.0)
    after = forecast.fit.cut(mean * ratios)
    if np.abs(rows.T @ after - wanted).max() > 1e-9 * np.abs(wanted).max():
        raise InputError(
            "the total cannot be reached within the target's limits", 'Use method = "least change".', key="totals"
        )
    if forecast.fit.scale.growth:
        deviation = _own_variance(forecast)
        return after, deviation * np.square(ratios)
    times = covariance_times(forecast, rows)
    # y r / Σ y: its derivative is r (dy − y Σ dy / Σ y).
    share = rows * mean[:, None] / sums
    variance = _own_variance(forecast) - 2.0 * (share * times).sum(axis=1)
    variance += (np.square(share) * (rows * times).sum(axis=0)).sum(axis=1)
    return after, np.square(ratios) * variance


def least_change(forecast: Forecast, rows: Array, wanted: Array) -> tuple[Array, Array]:
    """The same with the least change in the metric of its covariance (Stone, Champernowne & Meade 1942)."""
    fit, mean = forecast.fit, forecast.mean
    low = fit.model.lower_limit if fit.model.lower_limit is not None else 0.0 if fit.scale.log else -np.inf
    high = np.inf if fit.model.upper_limit is None else fit.model.upper_limit
    for i, total in enumerate(wanted.tolist()):
        members = int(rows[:, i].sum())
        if not low * members <= total <= high * members:
            raise InputError("the total cannot be reached within the target's limits", key="totals")
    held: dict[int, float] = {}
    for _ in range(forecast.axis.n + 1):
        conditions = np.column_stack([rows, *(np.eye(1, len(mean), at)[0] for at in held)])
        aims = np.concatenate([wanted, list(held.values())])
        # A total says nothing of periods outside all totals: they stay, though the model would let them follow.
        times = covariance_times(forecast, conditions) * np.asarray(rows.any(axis=1))[:, None]
        inner = np.linalg.pinv(conditions.T @ times, hermitian=True)
        after = mean + times @ (inner @ (aims - conditions.T @ mean))
        slack = 1e-9 * np.abs(mean).max()
        beyond = [i for i in np.flatnonzero((after < low - slack) | (after > high + slack)).tolist() if i not in held]
        if not beyond:
            if np.abs(rows.T @ after - wanted).max() > 1e-6 * np.abs(mean).max():
                break
            variance = _own_variance(forecast) - np.einsum("ij,jk,ik->i", times, inner, times)
            return np.clip(after, low, high), variance
        held |= {i: low if after[i] < low else high for i in beyond}
    raise InputError("the total cannot be reached within the target's limits", key="totals")


def _own_variance(forecast: Forecast) -> Array:
    """Variance (h,) of each period's outcome on the target's scale, of first order on a log scale."""
    variances = forecast.path.variances + np.square(forecast.spread)
    return np.asarray(np.square(slopes(forecast) * forecast.fit.model.widen_intervals) * variances)
