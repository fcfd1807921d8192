"""Several forecasts of the same periods and one made of them, with weights that past errors may say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import AHEAD, Entry, Result, alone, register
from offing.base.text import number, rounded, text_table
from offing.calendar import Axis
from offing.evaluation.combination_methods import (
    LEARNT,
    METHODS,
    STATED_WEIGHTS,
    Pooling,
    check_method,
    pooled_quantiles,
    stated_weights,
)
from offing.evaluation.fold_results import PROBABILITIES
from offing.evaluation.origins import Cuts, Origins, at_place, rows_before
from offing.evaluation.refit import Job, known_ahead_by
from offing.evaluation.runner import run_all
from offing.model import Contributions, Forecast, Model
from offing.model.contributions import additive
from offing.model.decomposition import Account
from offing.model.fit import Data
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.model.model import tables_of
from offing.model.rows import SHOWN, contribution_rows, iso, keyed, stamped
from offing.tables import Information, Panel, Sources, Table, split_series

Edge = Literal["expected", "shifted"]


@dataclass(frozen=True)
class Combination(Result, figure="running.draw_combination"):
    """Members' forecasts and one made of them. Made by `offing.combine`.

    Attributes
    ----------
    members
        The forecasts by name.
    pointwise
        The weight (h, m) of each in every period, in the same order.
    errors
        Past errors (origins x periods, m) from which the weights come, outcome less forecast; empty where they do not.
    method
        One of ``mean``, ``median``, ``trimmed mean``, ``past errors``, ``least squares``; or ``stated weights``.
    pooling
        How quantiles are combined.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0], pd.period_range("2024-01", periods=6, freq="M"), name="sold")
    >>> plain, trend = of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")
    >>> of.combine([plain, trend], sold, horizon=1).table.round(2).to_numpy().tolist()
    [[5.0, 7.2, 6.1]]
    """

    members: dict[str, Forecast]
    pointwise: Array
    errors: pd.DataFrame
    method: str
    pooling: Pooling = "quantiles"

    @property
    def contract_rows(self) -> pd.DataFrame:
        """Its rows of ``forecast.csv``."""
        return combined_forecast_rows(self)

    @property
    def fit(self) -> Fitted:
        """The fit of the first member, whose target is that of all."""
        return next(iter(self.members.values())).fit

    @property
    def axis(self) -> Axis:
        """The forecast periods."""
        return next(iter(self.members.values())).axis

    @property
    def weights(self) -> Array:
        """The weight (m,) of each member, over all periods."""
        return np.asarray(self.pointwise.mean(axis=0))

    @property
    def mean(self) -> Array:
        """The weighted mean (h,) of the members' means."""
        return np.asarray((self.pointwise.T * np.array([each.mean for each in self.members.values()])).sum(axis=0))

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period, one column a member, and ``combined``."""
        columns = {name: each.mean for name, each in self.members.items()}
        return pd.DataFrame({**columns, "combined": self.mean}, index=self.axis.index)

    @cached_property
    def quantiles(self) -> pd.DataFrame:
        """The members' quantiles in one, with the same weights.

        With pooling of ``quantiles`` their means at each probability (Vincent 1912); of ``probabilities`` those of the
        mixture of their distributions (Stone 1961), which is wider where members disagree.
        """
        shown = next(iter(self.members.values())).table.drop(columns=["horizon", "forecast"]).columns
        return self.at([float(str(name)[1:]) for name in shown])

    def at(self, probabilities: Sequence[float]) -> pd.DataFrame:
        """Quantiles at some probabilities, one column each such as ``q0.1``."""
        own = np.array([each.quantiles(PROBABILITIES.tolist()).to_numpy() for each in self.members.values()])
        pooled = pooled_quantiles(own, self.pointwise, self.pooling)
        values = np.array([np.interp(probabilities, PROBABILITIES, row) for row in pooled])
        return pd.DataFrame(values, self.axis.index, [f"q{round(p, 10):g}" for p in probabilities])

    @cached_property
    def contributions(self) -> Contributions:
        """What every term contributes to the combined means: the members' contributions, weighted.

        Terms of the same name are one row. `low` and `high` are the members' bounds, weighted, which is as wide as if
        they all erred together.
        """
        each = [member.contributions for member in self.members.values()]
        rows = list(dict.fromkeys(name for one in each for name in one.rows))
        labels = {name: label for one in each for name, label in zip(one.terms, one.labels, strict=True)}
        parts = {key: np.zeros((len(rows), self.axis.n)) for key in ("values", "low", "high")}
        for weights, one in zip(self.pointwise.T, each, strict=True):
            at = [rows.index(name) for name in one.rows]
            for key, whole in parts.items():
                whole[at] += weights * getattr(one, key)
        terms = tuple(rows[1:])
        return replace(
            each[0],
            terms=terms,
            labels=tuple(labels[name] for name in terms),
            mean=self.mean,
            values=parts["values"],
            low=parts["low"],
            high=parts["high"],
        )

    @cached_property
    def account(self) -> Account:
        """The combined means taken apart, in amounts, for `offing.walk`."""
        return additive(self.contributions)

    @property
    def sentence(self) -> str:
        """What the members say, how they are weighted, and the mean."""
        first = next(iter(self.members.values()))
        values = {name: float(each.mean[0]) for name, each in self.members.items()}
        period = self.axis.labels()[0]
        spread = f"from {number(min(values.values()), 4)} to {number(max(values.values()), 4)}"
        unit = f" {first.fit.unit}" if first.fit.unit else ""
        kind = {
            "past errors": "mean by past squared errors",
            "least squares": "mean by least squares",
            STATED_WEIGHTS: "mean by the stated weights",
        }
        noted = (
            f"{len(values)} forecasts of {period} go {spread}{unit}; their {kind.get(self.method, self.method)} is "
            f"{number(float(self.mean[0]), 4)}{unit}."
        )
        if not len(self.errors):
            return noted
        sizes = np.sqrt(np.square(self.errors.to_numpy()).mean(axis=0))
        both = float(np.sqrt(np.square(self.errors.to_numpy() @ self.weights).mean()))
        least = min(zip(sizes.tolist(), self.errors.columns, strict=True))
        origins = len(self.errors.index.unique())
        return (
            f"{noted} Over {origins} past origins the best single one, {least[1]}, has an RMSE "
            f"of {number(least[0])}, these weights one of {number(both)}; they come from the same errors."
        )

    def text_table(self) -> str:
        """The forecasts to read: one row a period, and the weights below."""
        cells, width = rounded(self.table.to_numpy().ravel()), self.table.shape[1]
        columns = [self.axis.labels(), *(cells[j::width] for j in range(width))]
        shares = ["weight", *(f"{100.0 * each:.0f} %" for each in self.weights), ""]
        columns = [[*column, share] for column, share in zip(columns, shares, strict=True)]
        return text_table([self.axis.frequency.unit, *self.table.columns], columns)


def combine(
    models: Sequence[Model],
    data: Data,
    *,
    horizon: int | None = None,
    until: object = None,
    as_of: object = None,
    method: str = "mean",
    unreleased: Sequence[Edge] = ("expected",),
    origins: int = 12,
    pooling: Pooling = "quantiles",
    planned: Sequence[str] = (),
    plan: Mapping[str, Table | Panel] | None = None,
    weights: Mapping[str, float] | None = None,
    missing_plans: Literal["refuse", "expected"] = "refuse",
) -> Combination:
    """Forecast with several models and make one forecast of theirs.

    Parameters
    ----------
    models
        With different names, of the same target of one series.
    horizon, until, as_of
        As for ``Fit.forecast`` and ``Model.fit``; one period where neither horizon nor end is given.
    method
        ``mean``, ``median``, ``trimmed mean`` (a fifth left out at either end); or with weights from `origins` earlier
        moments at the same place within a period of the target, at each of which all is refitted from what was known
        then: ``past errors`` weights each by one over its mean squared error (Bates & Granger 1969), ``least squares``
        by what would have been best, none negative and adding up to one (Granger & Ramanathan 1984).
    unreleased
        Each model is used with each of these methods for values that are not yet released; see ``Fit.forecast``.
    pooling
        ``quantiles`` averages the members' quantiles, ``probabilities`` their distributions; see `Combination`.
    planned
        Columns whose later values were settled beforehand, as in `offing.backtest`.
    plan, missing_plans
        The drivers' plans by table, and what happens without, as for ``Fit.forecast``.
    weights
        Stated weights by the models' names, instead of a `method`; they are made to add up to one, and models without a
        weight are left out.

    Raises
    ------
    InputError
        If there is no model, names repeat, targets differ, or the history is too short for the origins.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 8.0], pd.period_range("2024-01", periods=8, freq="M"))
    >>> plain, trend = of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")
    >>> found = of.combine([plain, trend], sold.rename("sold"), method="past errors", origins=3)
    >>> found.weights.round(2).tolist()
    [0.17, 0.83]
    """
    check_method(method, pooling)
    models = [model for model in models if weights is None or weights.get(model.name, 0.0) > 0.0]
    members = [(model, each) for model in models for each in unreleased]
    names = [model.name if len(unreleased) == 1 else f"{model.name}, {each}" for model, each in members]
    if not names or len(set(names)) < len(names) or len({model.target for model in models}) > 1:
        raise InputError(
            f"found the models {', '.join(names) or 'none'}",
            "Give models of one target, each with a name of its own.",
            key="models",
        )
    series = split_series(tables_of(data), models[0].target)
    if len(series) > 1:
        raise InputError(f"there are {len(series)} series", "Combine one at a time.", key="id")
    tables = next(iter(series.values()))
    horizon = 1 if horizon is None and until is None else horizon
    found = {
        name: model.fit_at(Information(tables, as_of=as_of)).forecast(
            horizon, until=until, unreleased=edge, plan=plan, missing_plans=missing_plans
        )
        for name, (model, edge) in zip(names, members, strict=True)
    }
    errors = np.zeros((0, len(names)))
    first, moments = next(iter(found.values())), np.zeros(0, dtype=np.int64)
    if method in LEARNT and weights is None:
        cuts = _earlier(first, tables, models[0].target, origins)
        known_ahead = known_ahead_by("ex-ante", tables, models[0].target, planned)
        plans = {key: each for key, each in (plan or {}).items() if isinstance(each, Table)}
        jobs = [
            Job(replace(model, name=name), tables, plans, "", cuts, "ex-ante", known_ahead, unreleased=edge)
            for name, (model, edge) in zip(names, members, strict=True)
        ]
        runs = run_all(jobs)
        errors = np.column_stack([-run.error.ravel() for run in runs])
        moments = cuts.moments.repeat(first.axis.n)
    forecasts = np.column_stack([each.mean for each in found.values()])
    index = first.axis.frequency.index(moments).rename("origin")
    if weights is not None:
        pointwise = stated_weights([weights[model.name] / len(unreleased) for model, _ in members], forecasts.shape)
        return Combination(found, pointwise, pd.DataFrame(errors, index=index, columns=names), STATED_WEIGHTS, pooling)
    pointwise = METHODS[method](forecasts, errors)
    return Combination(found, pointwise, pd.DataFrame(errors, index=index, columns=names), method, pooling)


def _earlier(first: Forecast, tables: dict[str, Table], target: str, count: int) -> Cuts:
    """Moments before the origin at the same place within the target's period, whose outcome was known at the origin."""
    frequency, origin = first.axis.frequency, first.fit.view.origin
    now = int(frequency.ordinals(np.array([origin]))[0])
    into = origin - int(frequency.starts(np.array([now]))[0])
    source, column = Sources(tables).find(target)
    table = tables[source]
    # The last period that such a forecast would have been about must be released by now.
    ahead = first.axis.first + first.axis.n - 1 - now
    released = table.known_at()
    known = np.flatnonzero(np.isfinite(table.values(column)))
    last = table.axis.first + int(np.flatnonzero(released <= origin)[-1])
    found = [last - ahead - k for k in range(count)][::-1]
    moments = at_place(frequency, np.array(found, dtype=np.int64), into)
    rows = np.array([rows_before(known, released, moment) for moment in moments.tolist()], dtype=np.intp)
    if found[0] - table.axis.first < first.fit.layout.k + 2 or not rows.all():
        raise InputError(
            f"{count} earlier origins leave too few periods before the first", "Give fewer origins.", key="origins"
        )
    return Cuts(Origins(first.axis.n, count), table, column, int(known[0]), moments, rows)


def combined_rows(found: Combination) -> pd.DataFrame:
    """Rows of ``combined.csv``: one a period and member, and one for the mean of all."""
    fit = next(iter(found.members.values())).fit
    weights = {**dict(zip(found.members, found.pointwise.T, strict=True)), "combined": 1.0}
    parts = [
        pd.DataFrame(
            {
                "period": iso(found.axis.index, fit),
                "member": name,
                "weight": weights[name],
                "forecast": found.table[name].to_numpy(),
            }
        )
        for name in found.table.columns
    ]
    rows = keyed(pd.concat(parts, ignore_index=True), fit, AS_PLANNED)
    return rows.assign(model="all")


def combined_forecast_rows(found: Combination) -> pd.DataFrame:
    """Rows of ``forecast.csv`` of a combination, whose model is called ``all``."""
    first = next(iter(found.members.values()))
    table = pd.DataFrame({"horizon": first.table["horizon"], "forecast": found.mean}).join(found.at(SHOWN))
    rows = stamped(table, first.fit)
    rows.insert(0, "origin", iso([first.origin], first.fit)[0])
    return keyed(rows, first.fit, AS_PLANNED).assign(model="all")


def combined_contribution_rows(found: Combination) -> pd.DataFrame:
    """Rows of ``contributions.csv`` of a combination, whose model is called ``all``."""
    first = next(iter(found.members.values()))
    return contribution_rows(found.contributions, first.fit, of_forecast=True).assign(model="all")


register(
    Entry(
        "combined",
        title="All models together",
        of=lambda study, _: alone(study.combination),
        text=dict.fromkeys(AHEAD, str),
        figure_for=AHEAD,
        files={
            "combined": lambda found, _: combined_rows(found),
            "forecast": lambda found, _: combined_forecast_rows(found),
            "contributions": lambda found, _: combined_contribution_rows(found),
        },
        files_for=AHEAD,
        rank=35,
        heading="All models together",
    )
)
