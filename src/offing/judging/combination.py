"""Several forecasts of the same periods and their mean, simple or weighted by what their errors have been."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import pandas as pd

from offing.base import InputError, Progress, nearest
from offing.calendar import Axis
from offing.model import Forecast, Model
from offing.model.model import Data, tables_of
from offing.model.words import as_html, number, rounded, text_table, wrapped
from offing.tables import Sources, Table, split_series
from offing.tables.table import Array

Edge = Literal["expected", "shifted"]
#: Weights (m,) of the members from their past errors (origins, m). Others can be added here.
WAYS: dict[str, Callable[[Array], Array]] = {
    "mean": lambda errors: np.full(errors.shape[1], 1.0 / errors.shape[1]),
    "past errors": lambda errors: _inverse(np.square(errors).mean(axis=0)),
}


def _inverse(squares: Array) -> Array:
    weights = 1.0 / np.maximum(squares, 1e-12 * max(float(squares.max()), 1e-300))
    return np.asarray(weights / weights.sum())


@dataclass(frozen=True)
class Combination:
    """Members' forecasts and their weighted mean. Made by `offing.combine`.

    Attributes
    ----------
    members
        The forecasts by name.
    weights
        The weight (m,) of each, in the same order.
    errors
        Past errors (origins, m) from which the weights come, outcome less forecast of the last period asked for; empty
        for a simple mean.
    way
        ``mean`` or ``past errors``.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0], pd.period_range("2024-01", periods=6, freq="M"), name="sold")
    >>> plain, trend = of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")
    >>> of.combine([plain, trend], sold, horizon=1).table.round(2).to_numpy().tolist()
    [[5.0, 7.2, 6.1]]
    """

    members: dict[str, Forecast]
    weights: Array
    errors: pd.DataFrame
    way: str

    @property
    def axis(self) -> Axis:
        """The forecast periods."""
        return next(iter(self.members.values())).axis

    @property
    def mean(self) -> Array:
        """The weighted mean (h,) of the members' means."""
        return np.asarray(self.weights @ np.array([each.mean for each in self.members.values()]))

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period, one column a member, and ``combined``."""
        columns = {name: each.mean for name, each in self.members.items()}
        return pd.DataFrame({**columns, "combined": self.mean}, index=self.axis.index)

    @cached_property
    def quantiles(self) -> pd.DataFrame:
        """The members' quantiles, averaged at each probability with the same weights (Vincent averaging)."""
        own = [each.table.drop(columns=["horizon", "forecast"]) for each in self.members.values()]
        return sum((weight * each for weight, each in zip(self.weights, own, strict=True)), 0.0 * own[0])

    @property
    def sentence(self) -> str:
        """What the members say, how they are weighted, and the mean."""
        first = next(iter(self.members.values()))
        values = {name: float(each.mean[0]) for name, each in self.members.items()}
        period = self.axis.labels()[0]
        spread = f"from {number(min(values.values()), 4)} to {number(max(values.values()), 4)}"
        unit = f" {first.fit.unit}" if first.fit.unit else ""
        kind = "mean" if self.way == "mean" else "mean by past squared errors"
        told = (
            f"{len(values)} forecasts of {period} go {spread}{unit}; their {kind} is "
            f"{number(float(self.mean[0]), 4)}{unit}."
        )
        if not len(self.errors):
            return told
        sizes = np.sqrt(np.square(self.errors.to_numpy()).mean(axis=0))
        both = float(np.sqrt(np.square(self.errors.to_numpy() @ self.weights).mean()))
        least = min(zip(sizes.tolist(), self.errors.columns, strict=True))
        return (
            f"{told} Over {len(self.errors)} past origins the best single one, {least[1]}, was off by "
            f"{number(least[0])} (root mean square), these weights by {number(both)}; they come from the same errors."
        )

    def __str__(self) -> str:
        return f"{wrapped(self.sentence)}\n\n{self.text_table()}"

    def text_table(self) -> str:
        """The forecasts to read: one row a period, and the weights below."""
        cells, width = rounded(self.table.to_numpy().ravel()), self.table.shape[1]
        columns = [self.axis.labels(), *(cells[j::width] for j in range(width))]
        shares = ["weight", *(f"{100.0 * each:.0f} %" for each in self.weights), ""]
        columns = [[*column, share] for column, share in zip(columns, shares, strict=True)]
        return text_table([self.axis.frequency.unit, *self.table.columns], columns)

    def _repr_html_(self) -> str:
        return as_html(self.sentence, self.table)


def combine(
    models: Sequence[Model], data: Data, *, horizon: int = 1, as_of: object = None,
    way: Literal["mean", "past errors"] = "mean", edges: Sequence[Edge] = ("expected",), origins: int = 12,
) -> Combination:  # fmt: skip
    """Forecast with several models and take the mean.

    Parameters
    ----------
    models
        With different names, of the same target of one series.
    horizon, as_of
        As for ``Fit.forecast`` and ``Model.fit``.
    way
        ``mean``; or ``past errors``, which weights each by one over its mean squared error (Bates & Granger 1969) of
        the last period asked for, from `origins` earlier moments at the same place within a period of the target. At
        each of these all is fitted anew from what was known then.
    edges
        Each model is used with each of these ways at the ragged edge; see ``Fit.forecast``.

    Raises
    ------
    InputError
        If there is no model, names repeat, targets differ, or the history is too short for the origins.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 8.0], pd.period_range("2024-01", periods=8, freq="M"))
    >>> plain, trend = of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")
    >>> found = of.combine([plain, trend], sold.rename("sold"), way="past errors", origins=3)
    >>> found.weights.round(2).tolist()
    [0.17, 0.83]
    """
    if way not in WAYS:
        raise InputError(f"found {way!r}", nearest(str(way), WAYS), key="way")
    members = [(model, edge) for model in models for edge in edges]
    names = [model.name if len(edges) == 1 else f"{model.name}, {edge}" for model, edge in members]
    if not names or len(set(names)) < len(names) or len({model.target for model in models}) > 1:
        raise InputError(f"found the models {', '.join(names) or 'none'}",
                         "Give models of one target, each with a name of its own.", key="models")  # fmt: skip
    series = split_series(tables_of(data), models[0].target)
    if len(series) > 1:
        raise InputError(f"there are {len(series)} series", "Combine one at a time.", key="id")
    tables = next(iter(series.values()))

    def ahead(model: Model, edge: Edge, moment: object) -> Forecast:
        return model.fit_series(dict(tables), "", as_of=moment).forecast(horizon, edge=edge)

    found = {name: ahead(model, edge, as_of) for name, (model, edge) in zip(names, members, strict=True)}
    errors = np.zeros((0, len(names)))
    moments: list[int] = []
    if way != "mean":
        moments = _earlier(next(iter(found.values())), tables, models[0].target, origins)
        rows = []
        with Progress("fitting at past origins") as progress:
            for i, moment in enumerate(moments):
                rows.append([_error(ahead(model, edge, moment), tables) for model, edge in members])
                progress.update((i + 1) / len(moments))
        errors = np.array(rows)
    first = next(iter(found.values()))
    index = first.axis.frequency.index(np.array(moments, dtype=np.int64)).rename("origin")
    return Combination(found, WAYS[way](errors), pd.DataFrame(errors, index=index, columns=names), way)


def _earlier(first: Forecast, tables: dict[str, Table], target: str, count: int) -> list[int]:
    """Moments before the origin at the same place within the target's period, whose outcome was known at the origin."""
    frequency, origin = first.axis.frequency, first.fit.view.origin
    now = int(frequency.ordinals(np.array([origin]))[0])
    into = origin - int(frequency.starts(np.array([now]))[0])
    table = tables[Sources(tables).find(target)[0]]
    # The last period that such a forecast would have been about must be out by now.
    ahead = first.axis.first + first.axis.n - 1 - now
    released = table.known_at()
    last = table.axis.first + int(np.flatnonzero(released <= origin)[-1])
    found = [last - ahead - k for k in range(count)][::-1]
    starts = frequency.starts(np.array(found, dtype=np.int64))
    ends = frequency.starts(np.array(found, dtype=np.int64) + 1)
    moments = np.minimum(starts + into, ends - 1)
    if found[0] - table.axis.first < first.fit.layout.k + 2:
        raise InputError(f"{count} earlier origins leave too few periods before the first", "Give fewer origins.",
                         key="origins")  # fmt: skip
    return [int(each) for each in moments]


def _error(ahead: Forecast, tables: dict[str, Table]) -> float:
    """Outcome less forecast of the last period."""
    source, column = Sources(tables).find(ahead.fit.model.target)
    table = tables[source]
    at = ahead.axis.first + ahead.axis.n - 1 - table.axis.first
    return float(table.values(column)[at] - ahead.mean[-1])
