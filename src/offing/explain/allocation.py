"""A stated total over a year or quarter, split over its periods by what the calendar says of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import AHEAD, Entry, Result, alone, register
from offing.base.text import in_units, number, rounded, text_table, wrapped
from offing.calendar import Axis
from offing.engine import quantile
from offing.explain.date_spans import Group, groups_named
from offing.explain.partial_prediction import profile
from offing.model import Fit, Forecast
from offing.model.fitted import Fitted
from offing.model.make_forecast import check_known
from offing.model.rows import keyed, stamped
from offing.tables import View
from offing.terms import Term, naming_term


@dataclass(frozen=True)
class Split(Result, figure="totals.draw_split"):
    """Stated totals split over their periods. Made by `offing.allocate`.

    Attributes
    ----------
    axis
        The periods (n,), which need not follow each other without a gap.
    labels
        The name of the total that each period is part of (n,).
    share, value, low, high
        The period's share of its total, and what that makes of it, with a 95 % interval (n,).
    target, unit
        What is split.
    average
        Whether averages were stated instead of totals.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> quarters = pd.period_range("2019Q1", periods=20, freq="Q")
    >>> sold = pd.Series(100.0 * np.tile([0.8, 1.0, 1.4, 0.8], 5) * 1.001 ** np.arange(20), quarters, name="sold")
    >>> fit = of.Model("sold", terms=[of.Trend(), of.Season()], scale="log").fit(sold)
    >>> of.allocate(fit, {"2024": 400.0}).table["value"].round(1).tolist()
    [79.9, 99.9, 140.1, 80.1]
    """

    axis: tuple[Axis, ...]
    labels: tuple[str, ...]
    share: Array
    value: Array
    low: Array
    high: Array
    target: str
    unit: str
    average: bool

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period: ``total, share, value, low, high``; `total` names the year or quarter that was stated."""
        index = pd.DatetimeIndex(np.concatenate([each.index.to_numpy() for each in self.axis]), name="period")
        zone = self.axis[0].frequency.zone
        if zone is not None:
            index = index.tz_localize("UTC").tz_convert(zone)
        columns = {
            "total": list(self.labels),
            "share": self.share,
            "value": self.value,
            "low": self.low,
            "high": self.high,
        }
        return pd.DataFrame(columns, index=index)

    @property
    def sentence(self) -> str:
        """What was split, and how."""
        stated = "; ".join(f"{label}: {number(self._stated(label), 6)}" for label in dict.fromkeys(self.labels))
        kind = "averages" if self.average else "totals"
        return (
            f"{in_units(self.target, self.unit)}: stated {kind} ({stated}) split by trend, season and calendar, "
            "with drivers at their usual values. The intervals are those of a period's outcome if the total comes true."
        )

    def _stated(self, label: str) -> float:
        own = self.value[np.array(self.labels) == label]
        return float(own.mean() if self.average else own.sum())

    def __str__(self) -> str:
        names = [name for each in self.axis for name in each.labels()]
        n = len(names)
        cells = rounded(np.concatenate([self.value, self.low, self.high]))
        columns = [
            names,
            list(self.labels),
            [f"{100.0 * each:.2f} %" for each in self.share],
            cells[:n],
            cells[n : 2 * n],
            cells[2 * n :],
        ]
        heads = [self.axis[0].frequency.unit, "of", "share", "value", "low", "high"]
        return f"{wrapped(self.sentence)}\n\n{text_table(heads, columns)}"


def allocate(result: Fit | Forecast, totals: Mapping[str, float], *, average: bool = False) -> Split:
    """Split stated totals over their periods in proportion to the calendar's profile: trend, season, holidays, events.

    A period's share is its mean over the sum of all means of the total, with all drivers at their mean over the
    fitted periods, so that no plan is needed. Intervals count the coefficients and the noise of the shares, to first
    order: with shares w and the derivative of ln w, dη − Σ w dη on the log scale.

    Parameters
    ----------
    result
        A fit; or a forecast, where the trend has limits that its plan gives.
    totals
        The numbers by their period's name: ``2026``, ``2026-Q1`` or ``2026-03``; fiscal years as ``2025/26``.
    average
        Whether the numbers are averages of the periods instead of their sums.

    Raises
    ------
    InputError
        If a name is not understood, periods overlap, the profile is not positive, or a holiday table ends before.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> of.allocate(of.Model("sold").fit(sold), {"2024-Q3": 12.0}).table["value"].round(6).tolist()
    [4.0, 4.0, 4.0]
    """
    fit = result.fit if isinstance(result, Forecast) else result
    parts = [
        (group, _shared(fit, result.view, group, stated, average=average))
        for group, stated in groups_named(totals, fit.axis)
    ]
    share, value, low, high = (np.concatenate([found[i] for _, found in parts]) for i in range(4))
    labels = tuple(group.label for group, _ in parts for _ in range(group.axis.n))
    axes = tuple(group.axis for group, _ in parts)
    return Split(axes, labels, share, value, low, high, fit.label, fit.unit if average else fit.sum_unit, average)


def _of_the_calendar(term: Term) -> bool:
    return not (term.is_driver or term.from_treatment)


def _shared(
    fit: Fitted, view: View, group: Group, stated: float, *, average: bool
) -> tuple[Array, Array, Array, Array]:
    """Shares, values and their intervals (n,) of one total."""
    axis, scale = group.axis, fit.scale
    for term in fit.model.terms:
        if _of_the_calendar(term):
            with naming_term(term):
                check_known(view, term, axis)
    found = profile(fit, view, axis, _of_the_calendar)
    factor = scale.factor(view, fit.model.target, axis)
    if not np.isfinite(found.levels + factor).all():
        at = int(np.flatnonzero(~np.isfinite(found.levels + factor))[0])
        raise InputError(
            "the calendar's profile is not known there",
            "Give the limits or factors that it needs.",
            period=axis.part(at, at + 1).labels()[0],
        )
    chain = fit.estimate.chain
    noise = chain.conditional_variances(np.full(axis.n, chain.times[0] - 1)) * fit.estimate.variance
    means = fit.cut(fit.mean_of(found.levels, noise, factor))
    if not (means > 0.0).all():
        at = int(np.flatnonzero(~(means > 0.0))[0])
        raise InputError(
            f"the calendar alone makes {number(float(means[at]))}, of which there is no share",
            'Use scale = "log".',
            period=axis.part(at, at + 1).labels()[0],
        )
    share = means / means.sum()
    total = stated * axis.n if average else stated
    # d ln w = d ln m − Σ w d ln m, with d ln m = dη (m + offset) / m on the log scale and dη / m on the level scale.
    slope = ((means * factor + scale.offset) if scale.log else np.ones(axis.n)) / (means * factor)
    known = found.cov_root(fit) * slope
    common = known.T @ (known @ share) + slope * fit.estimate.variance * chain.related(slope * share)
    own = np.square(known).sum(axis=0) + np.square(slope) * noise
    variance = np.maximum(own - 2.0 * common + share @ common, 0.0)
    spread = float(quantile(0.975, fit.estimate.dof)) * np.sqrt(variance)
    value = total * share
    if scale.log:
        return share, value, value * np.exp(-spread), value * np.exp(spread)
    return share, value, fit.cut(value - np.abs(value) * spread), fit.cut(value + np.abs(value) * spread)


def split_rows(found: Split, fit: Fitted) -> pd.DataFrame:
    """Rows of ``allocated.csv``: one a period of each total."""
    return keyed(stamped(found.table, fit), fit, "")


register(
    Entry(
        "allocated",
        title="A total split up",
        of=lambda study, name: alone(study.splits.get(name)),
        text={"forecast": str},
        figure_for=["explain"],
        files={"allocated": split_rows},
        files_for=AHEAD,
        rank=32,
    )
)
