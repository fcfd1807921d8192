"""The estimate of an unfinished period as values come in, and what moved it from one date to the next."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Literal

import numpy as np
import pandas as pd

from offing.base import InputError, Progress
from offing.base.results import AHEAD, Entry, Result, alone, register
from offing.base.text import number, rounded, signed, text_table, wrapped
from offing.calendar import Axis
from offing.calendar.axis import instant_of
from offing.explain.releases import REESTIMATED, framed, steps_between
from offing.model import Forecast, Model
from offing.model.fit import Data
from offing.model.forecast import AS_PLANNED
from offing.model.model import tables_of
from offing.model.rows import iso, keyed
from offing.tables import Information, Panel, Sources, Table, split_series

#: Effects below this share of the largest are not put into words.
_LITTLE = 0.02


@dataclass(frozen=True)
class Nowcast(Result, figure="running.draw_running"):
    """Forecasts of one period from a sequence of dates. Made by `offing.nowcast`.

    Attributes
    ----------
    period
        The target's period.
    forecasts
        One a date; the period is the last of each.
    steps
        One row a release between two dates: ``from, to, driver, period, released, expected, actual, surprise, weight,
        effect``, and one for what is left: all was re-estimated. The effects between two dates add up to the change.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(1)
    >>> b = generator.normal(50.0, 5.0, 126)
    >>> orders = pd.Series(b[6:126].reshape(40, 3).sum(axis=1), pd.period_range("2015Q3", periods=40, freq="Q"))
    >>> tables = {"orders": of.read(orders.rename("orders")),
    ...           "bookings": of.read(pd.Series(b, pd.period_range("2015-01", periods=126, freq="M"), name="index"))}
    >>> model = of.Model("orders.orders", terms=[of.Driver("bookings.index", weights="free", span=3)])
    >>> found = of.nowcast(model, tables, ["2025-05-01", "2025-06-01"])
    >>> bool(np.isclose(found.steps["effect"].sum(), found.table["forecast"].diff().iloc[-1])), len(found.steps)
    (True, 2)
    """

    period: str
    target: str
    unit: str
    forecasts: tuple[Forecast, ...]
    dates: tuple[pd.Timestamp, ...]
    steps: pd.DataFrame
    outcome: float

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a date: the forecast of the period and its quantiles, and how many values are still expected."""
        rows = pd.concat([each.table.iloc[[-1]] for each in self.forecasts]).drop(columns="horizon")
        rows.index = pd.DatetimeIndex(self.dates, name="date")
        marks = [each.drivers["mark"] for each in self.forecasts]
        return rows.assign(expected_values=[int((mark == "modelled").sum()) for mark in marks])

    @property
    def sentences(self) -> str:
        """The estimate on each date, and what moved it, in words."""
        lines = []
        low, high = self.table.columns[1], self.table.columns[-2]
        for i, (date, row) in enumerate(self.table.iterrows()):
            unit = f" {self.unit}" if self.unit else ""
            noted = (
                f"{pd.Timestamp(str(date)):%Y-%m-%d}: {self.period} is estimated at {number(row['forecast'], 4)}{unit} "
                f"({low} {number(row[low], 4)}, {high} {number(row[high], 4)})."
            )
            lines.append(noted + (f" {self._moved(i)}" if i else ""))
        if np.isfinite(self.outcome):
            lines.append(f"The actual value is {number(self.outcome, 4)}.")
        return "\n".join(lines)

    def _moved(self, i: int) -> str:
        steps = self.steps[self.steps["to"] == self.dates[i]]
        largest = steps["effect"].abs().max()
        parts = []
        for driver in dict.fromkeys(steps["driver"]):
            own = steps[steps["driver"] == driver]
            together = float(own["effect"].sum())
            if abs(together) < _LITTLE * largest:
                continue
            if driver == REESTIMATED:
                parts.append(f"{REESTIMATED} {signed(together)}")
                continue
            step = own.loc[own["effect"].abs().idxmax()]
            side = "above" if step["surprise"] > 0.0 else "below"
            many = f"by {len(own)} values, most ({signed(step['effect'])}) by" if len(own) > 1 else "by"
            parts.append(
                f"{signed(together)} {many} '{driver}' of {step['period']}, {number(abs(step['surprise']))} {side} "
                f"what was expected, times {number(step['weight'])}"
            )
        change = signed(float(steps["effect"].sum()))
        return f"It moved by {change}: {'; '.join(parts)}." if parts else "No release moved it."

    def __str__(self) -> str:
        shown = self.table.drop(columns="expected_values")
        cells, width = rounded(shown.to_numpy().ravel()), shown.shape[1]
        columns = [[f"{date:%Y-%m-%d}" for date in self.dates], *(cells[j::width] for j in range(width))]
        columns.append([str(each) for each in self.table["expected_values"]])
        return f"{wrapped(self.sentences)}\n\n{text_table(['date', *shown.columns, 'expected'], columns)}"


def nowcast(
    model: Model,
    data: Data,
    dates: Sequence[object],
    *,
    period: object = None,
    unreleased: Literal["expected", "shifted"] = "expected",
    levels: Sequence[float] = (0.5, 0.8, 0.95),
    plan: Mapping[str, Table | Panel] | None = None,
) -> Nowcast:
    """Estimate one period of the target from what was known on each of some dates, and show what moved the estimate.

    On each date all is refitted. From one date to the next each released value is put in its place, in the
    order of release and with the coefficients of the earlier date: its surprise is what it differs from what its
    driver's own model expected, the weight is what one more of it does, through what it makes the model expect of
    later values too. What is left is that all was re-estimated.

    Parameters
    ----------
    model, data
        As for ``Model.fit``; of one series.
    dates
        In their order.
    period
        A date in the period; by default the one that the first of the dates lies in.
    unreleased
        As for ``Fit.forecast``. With ``shifted`` equations differ from date to date, and no step has a weight.
    plan
        The drivers' plans by table, as for ``Fit.forecast``; on every date they count as they stood then, if they say
        when they were made, else as they are.

    Raises
    ------
    InputError
        For dates that are none or out of order, or a period whose value is published on one of them.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(1)
    >>> b = generator.normal(50.0, 5.0, 126)
    >>> orders = pd.Series(b[6:126].reshape(40, 3).sum(axis=1), pd.period_range("2015Q3", periods=40, freq="Q"))
    >>> tables = {"orders": of.read(orders.rename("orders")),
    ...           "bookings": of.read(pd.Series(b, pd.period_range("2015-01", periods=126, freq="M"), name="index"))}
    >>> model = of.Model("orders.orders", terms=[of.Driver("bookings.index", weights="free", span=3)])
    >>> found = of.nowcast(model, tables, ["2025-04-01", "2025-05-01", "2025-06-01"], unreleased="shifted")
    >>> found.period, found.table["expected_values"].tolist()
    ('2025-Q2', [0, 0, 0])
    """
    tables = _one_series(model, data)
    source, column = Sources(tables).find(model.target)
    target = tables[source]
    frequency = target.axis.frequency
    moments = [_moment(each, target.axis) for each in dates]
    if not moments or any(late <= early for early, late in pairwise(moments)):
        raise InputError(
            "the dates are not in their order, or there is none", "Give each once, the earliest first.", key="dates"
        )
    within = np.array(moments[:1]) if period is None else instant_of(period, frequency)
    wanted = int(frequency.ordinals(within)[0])
    forecasts, steps = [], []
    with Progress("estimating on each date") as progress:
        for i, moment in enumerate(moments):
            fit = model.fit_at(Information(tables, as_of=moment))
            horizon = wanted - (fit.axis.first + fit.axis.n) + 1
            if horizon < 1:
                label = Axis(frequency, wanted, 1).labels()[0]
                raise InputError(
                    f"{label} is published on {dates[i]}, so there is nothing to estimate",
                    "Give earlier dates.",
                    key="dates",
                )
            forecasts.append(fit.forecast(horizon, unreleased=unreleased, levels=levels, plan=plan))
            progress.update((i + 1) / len(moments))
    index = frequency.index(np.array(moments))
    for i in range(1, len(moments)):
        noted = steps_between(forecasts[i - 1], forecasts[i], detailed=unreleased == "expected")
        steps.append(noted.assign(**{"from": index[i - 1], "to": index[i]}))
    at = wanted - target.axis.first
    outcome = float(target.values(column)[at]) if 0 <= at < target.axis.n else np.nan
    return Nowcast(
        Axis(frequency, wanted, 1).labels()[0],
        forecasts[0].fit.label,
        forecasts[0].fit.unit,
        tuple(forecasts),
        tuple(index),
        pd.concat(steps, ignore_index=True) if steps else framed([]),
        outcome,
    )


def _one_series(model: Model, data: Data) -> dict[str, Table]:
    series = split_series(tables_of(data), model.target)
    if len(series) > 1:
        raise InputError(f"there are {len(series)} series", "Ask for one of them at a time.", key="id")
    return dict(next(iter(series.values())))


def _moment(date: object, axis: Axis) -> int:
    try:
        return int(instant_of(date, axis.frequency)[0])
    except (ValueError, TypeError) as error:
        raise InputError(f"found {date!r}, which is not a date", "Give such as 2026-05-21.", key="dates") from error


def running_rows(found: Nowcast) -> pd.DataFrame:
    """Rows of ``running.csv``: one a date."""
    fit = found.forecasts[-1].fit
    rows = found.table.reset_index(names="origin").assign(period=iso(found.forecasts[-1].axis.index[-1:], fit)[0])
    rows["origin"] = iso(rows["origin"], fit)
    head = ["origin", "period"]
    return keyed(rows[[*head, *(name for name in rows.columns if name not in head)]], fit, AS_PLANNED)


def release_rows(found: Nowcast) -> pd.DataFrame:
    """Rows of ``releases.csv``: what moved the estimate from one date to the next."""
    fit = found.forecasts[-1].fit
    rows = found.steps.copy()
    for column in ("from", "to", "released"):
        rows[column] = ["" if pd.isna(each) else iso([each], fit)[0] for each in rows[column]]
    return keyed(rows, fit, AS_PLANNED)


register(
    Entry(
        "running",
        title="The period under way",
        of=lambda study, name: alone(study.running.get(study.fits[name].model.name)),
        text={"forecast": str},
        figure_for=AHEAD,
        files={"running": lambda found, _: running_rows(found), "releases": lambda found, _: release_rows(found)},
        files_for=AHEAD,
        rank=34,
    )
)
