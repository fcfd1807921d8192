"""A forecast brought into agreement with stated totals, and what that changed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, get_args

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.base.results import AHEAD, Entry, Result, alone, register
from offing.base.text import as_html, in_units, number, percents, rounded, signed, text_table, wrapped
from offing.calendar import Axis
from offing.engine import quantile
from offing.explain.date_spans import Group, groups_named
from offing.model import Contributions, Forecast
from offing.model.contributions import adjusted
from offing.model.decomposition import Account
from offing.model.fitted import Fitted
from offing.model.joint_simulation import covariance_times, slopes
from offing.model.rows import contribution_rows, iso, keyed, stamped

Method = Literal["proportional", "least change"]
_PROBABILITIES = (0.025, 0.1, 0.25, 0.5, 0.75, 0.9, 0.975)


@dataclass(frozen=True)
class Reconciled(Result, figure="totals.draw_agreed"):
    """A forecast that adds up to stated totals. Made by `offing.reconcile`.

    Attributes
    ----------
    forecast
        The forecast as the model made it.
    method
        How it was changed.
    stated
        The totals by their period's name.
    mean
        The means (h,) that agree.
    deviation
        Standard deviation (h,) of an outcome around them, given the totals.
    reported
        A line for each total: what was known, what the forecast said, and what became of it.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> made = of.reconcile(of.Model("sold").fit(sold).forecast(2), {"2024-Q2": 18.0})
    >>> made.table["after"].tolist()
    [6.0, 6.0]
    """

    forecast: Forecast
    method: Method
    stated: Mapping[str, float]
    mean: Array
    deviation: Array
    statements: tuple[str, ...]

    @property
    def fit(self) -> Fitted:
        """The fit behind the forecast."""
        return self.forecast.fit

    @property
    def axis(self) -> Axis:
        """The forecast periods."""
        return self.forecast.axis

    @property
    def change(self) -> Array:
        """What was added to each mean (h,)."""
        return self.mean - self.forecast.mean

    def quantiles(self, probabilities: tuple[float, ...] = _PROBABILITIES) -> pd.DataFrame:
        """Values that an outcome stays below, given the totals: one column each such as ``q0.1``."""
        fit = self.forecast.fit
        steps = quantile(np.array(probabilities), fit.estimate.dof)
        offset = fit.scale.offset
        if fit.scale.log:
            size = np.maximum(self.mean + offset, 0.0)
            logs = np.sqrt(np.log1p(np.square(self.deviation / np.where(size > 0.0, size, 1.0))))
            # A log-normal variable with this mean and deviation (Aitchison & Brown 1957).
            values = (size * np.exp(-np.square(logs) / 2.0))[:, None] * np.exp(logs[:, None] * steps) - offset
        else:
            values = self.mean[:, None] + self.deviation[:, None] * steps
        names = [f"q{each:g}" for each in probabilities]
        return pd.DataFrame(fit.cut(values), index=self.forecast.axis.index, columns=names)

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period: ``before, after, change, percent, low, high``; `low` and `high` bound 95 %."""
        edges = self.quantiles((0.025, 0.975))
        before = self.forecast.mean
        with np.errstate(divide="ignore", invalid="ignore"):
            share = np.where(before > 0.0, 100.0 * self.change / before, np.nan)
        return pd.DataFrame(
            {
                "before": before,
                "after": self.mean,
                "change": self.change,
                "percent": share,
                "low": edges.iloc[:, 0],
                "high": edges.iloc[:, 1],
            },
            index=self.forecast.axis.index,
        )

    @cached_property
    def contributions(self) -> Contributions:
        """The forecast's contributions with what was changed in their row ``adjustment``."""
        return adjusted(self.forecast.contributions, self.mean)

    @cached_property
    def account(self) -> Account:
        """The means taken apart, for `offing.walk`."""
        return replace(self.forecast.account, mean=self.mean)

    @property
    def sentence(self) -> str:
        """What was done."""
        method = {
            "proportional": "each period of a total changed by the same share",
            "least change": "the periods of which least is known changed most",
        }[self.method]
        name = in_units(self.forecast.fit.label, self.forecast.fit.unit)
        return f"{name}: forecast brought to the stated totals, {method}."

    def __str__(self) -> str:
        table, h = self.table, self.forecast.axis.n
        cells = rounded(np.concatenate([table[name].to_numpy() for name in ("before", "after", "low", "high")]))
        columns = [
            self.forecast.axis.labels(),
            cells[:h],
            cells[h : 2 * h],
            [signed(each) for each in self.change],
            percents(table["percent"] / 100.0),
            cells[2 * h : 3 * h],
            cells[3 * h :],
        ]
        heads = [self.forecast.axis.frequency.unit, "before", "after", "change", "percent", "low", "high"]
        return f"{wrapped(chr(10).join([self.sentence, *self.statements]))}\n\n{text_table(heads, columns)}"

    def _repr_html_(self) -> str:
        return as_html("\n".join([self.sentence, *self.statements]), self.table)


def reconcile(
    forecast: Forecast, totals: Mapping[str, float], *, method: Method = "proportional", average: bool = False
) -> Reconciled:
    """Change a forecast so that it adds up to stated totals.

    ``proportional`` multiplies all forecast periods of a total by the same number. ``least change`` takes the
    means that are nearest to the forecast in the metric of its covariance (Stone, Champernowne & Meade 1942): periods
    of which less is known change more, and neighbours that err together change together. Outcomes that are known count
    into their total and stay, as do periods outside all totals. Limits of the target are respected. Intervals are
    those of outcomes given the totals.

    Parameters
    ----------
    totals
        The numbers by their period's name: ``2026``, ``2026-Q1`` or ``2026-03``; fiscal years as ``2025/26``.
    average
        Whether the numbers are averages of the periods instead of their sums.

    Raises
    ------
    InputError
        If a total has periods that are neither known nor forecast, or no forecast one; if the forecast cannot reach it
        within the target's limits; or for least change of growth on the year before.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> ahead = of.Model("sold", terms=[of.Trend()]).fit(sold).forecast(2)
    >>> of.reconcile(ahead, {"2024-Q2": 21.0}, method="least change").table["change"].round(2).tolist()
    [0.53, 0.67]
    """
    if method not in get_args(Method):
        raise InputError(f"found {method!r}", f"Allowed: {', '.join(get_args(Method))}.", key="method")
    if method == "least change" and forecast.fit.scale.growth:
        raise InputError(
            "growth on the year before has no covariance in closed form", 'Use method = "proportional".', key="method"
        )
    groups = groups_named(totals, forecast.axis)
    rows = np.zeros((forecast.axis.n, len(groups)))
    wanted, statements = np.zeros(len(groups)), []
    for i, (group, stated) in enumerate(groups):
        rows[:, i], actual = _periods(forecast, group)
        whole = stated * group.axis.n if average else stated
        wanted[i] = whole - actual
        own = float(rows[:, i] @ forecast.mean)
        known = f", {number(actual, 5)} of it known" if actual else ""
        statements.append(
            f"{group.label}: {number(whole, 6)} stated{known}; the forecast's {number(own, 5)} became "
            f"{number(float(wanted[i]), 5)} ({signed(float(wanted[i]) - own)})."
        )
    mean, variance = (
        _proportional(forecast, rows, wanted) if method == "proportional" else _least(forecast, rows, wanted)
    )
    return Reconciled(forecast, method, dict(totals), mean, np.sqrt(np.maximum(variance, 0.0)), tuple(statements))


def _periods(forecast: Forecast, group: Group) -> tuple[Array, float]:
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


def _proportional(forecast: Forecast, rows: Array, wanted: Array) -> tuple[Array, Array]:
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


def _least(forecast: Forecast, rows: Array, wanted: Array) -> tuple[Array, Array]:
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


#: The scenario of a forecast that was brought to stated totals.
RECONCILED = "reconciled"


def reconciled_rows(reconciled: Reconciled) -> pd.DataFrame:
    """Rows of ``forecast.csv`` of a forecast that was brought to stated totals."""
    forecast = reconciled.forecast
    table = pd.DataFrame({"horizon": forecast.table["horizon"], "forecast": reconciled.mean}).join(
        reconciled.quantiles()
    )
    rows = stamped(table, forecast.fit)
    rows.insert(0, "origin", iso([forecast.origin], forecast.fit)[0])
    return keyed(rows, forecast.fit, RECONCILED)


register(
    Entry(
        "reconciled",
        of=lambda study, name: alone(study.reconciled.get(name)),
        text={"forecast": str},
        figure_for=["explain"],
        files={
            "forecast": lambda found, _: reconciled_rows(found),
            "contributions": lambda found, fit: contribution_rows(
                found.contributions, fit, of_forecast=True, scenario=RECONCILED
            ),
        },
        files_for=AHEAD,
        rank=31,
    )
)
