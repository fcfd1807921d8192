"""A forecast brought into agreement with stated totals, and what that changed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal, get_args

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import AHEAD, Entry, Result, alone, register
from offing.base.text import as_html, in_units, number, percents, rounded, signed, text_table, wrapped
from offing.calendar import Axis
from offing.engine import quantile
from offing.explain.date_spans import groups_named
from offing.explain.reconcile_methods import in_proportion, least_change, periods_of_totals
from offing.model import Contributions, Forecast
from offing.model.contributions import adjusted
from offing.model.decomposition import Account
from offing.model.fitted import Fitted
from offing.model.rows import SHOWN, contribution_rows, iso, keyed, stamped

Method = Literal["proportional", "least change"]


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

    def quantiles(self, probabilities: tuple[float, ...] = SHOWN) -> pd.DataFrame:
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
        rows[:, i], actual = periods_of_totals(forecast, group)
        whole = stated * group.axis.n if average else stated
        wanted[i] = whole - actual
        own = float(rows[:, i] @ forecast.mean)
        known = f", {number(actual, 5)} of it known" if actual else ""
        statements.append(
            f"{group.label}: {number(whole, 6)} stated{known}; the forecast's {number(own, 5)} became "
            f"{number(float(wanted[i]), 5)} ({signed(float(wanted[i]) - own)})."
        )
    mean, variance = (
        in_proportion(forecast, rows, wanted) if method == "proportional" else least_change(forecast, rows, wanted)
    )
    return Reconciled(forecast, method, dict(totals), mean, np.sqrt(np.maximum(variance, 0.0)), tuple(statements))


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
        title="Agreement with totals",
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
