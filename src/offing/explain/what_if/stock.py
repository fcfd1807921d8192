"""How much must be there: the total over a lead time that a service level asks for, from joint paths."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.results import Entry, Result, alone, register, sentence_of
from offing.base.text import in_units, number
from offing.explain.what_if.paths import Paths, paths
from offing.model import Forecast
from offing.model.rows import keyed


@dataclass(frozen=True)
class Stock(Result, figure="stock.draw_stock"):
    """Totals of the first periods of a forecast that are enough with stated probabilities. Made by `offing.stock`.

    Attributes
    ----------
    paths
        The joint paths that the totals come from.
    service
        The probabilities.
    longest
        The longest lead time, in periods.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=60)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2019-01", periods=60, freq="M"), name="sold")
    >>> found = of.stock(of.Model("sold").fit(sold).forecast(4), service=[0.9])
    >>> found.table.round(0)["0.9"].tolist()
    [101.0, 202.0, 302.0, 402.0]
    """

    paths: Paths
    service: tuple[float, ...]
    longest: int

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a lead time in periods: ``mean``, and a column for each service level."""
        sums = np.cumsum(self.paths.values[:, : self.longest], axis=1)
        values = np.quantile(sums, self.service, axis=0)
        index = pd.RangeIndex(1, self.longest + 1, name="lead_time")
        columns = {"mean": np.cumsum(self.paths.forecast.mean[: self.longest])}
        columns |= {f"{level:g}": each for level, each in zip(self.service, values, strict=True)}
        return pd.DataFrame(columns, index=index)

    @property
    def sentence(self) -> str:
        """What the highest service level asks for, over the middle lead time."""
        fit, unit = self.paths.forecast.fit, self.paths.axis.frequency.unit
        at, level = (self.longest + 1) // 2, max(self.service)
        enough, mean = (float(self.table[name].iloc[at - 1]) for name in (f"{level:g}", "mean"))
        more = enough - mean
        return (
            f"{number(enough, 4)} of {in_units(fit.label, fit.sum_unit)} are enough for the next "
            f"{count(at, unit)} with {100.0 * level:g} % probability: {number(more, 3)} more than expected."
        )


def stock(
    forecast: Forecast | Paths, *, service: Sequence[float] = (0.8, 0.9, 0.95, 0.99), longest: int | None = None
) -> Stock:
    """How much is enough for a lead time, with stated probabilities: totals of the first periods of a forecast.

    The sum of single periods' quantiles would be too much, as not all of them are high at once; totals of joint paths
    count how periods vary together.

    Parameters
    ----------
    forecast
        A forecast, or joint paths of one.
    service
        Service levels: probabilities that the total is not exceeded.
    longest
        The longest lead time in periods; by default all of the forecast.

    Raises
    ------
    InputError
        If a service level is not between 0 and 1, or the lead time longer than the forecast; or as `offing.paths`.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> noise = np.random.default_rng(4).normal(size=60)
    >>> sold = pd.Series(100.0 + noise, pd.period_range("2019-01", periods=60, freq="M"), name="sold")
    >>> of.stock(of.Model("sold").fit(sold).forecast(3)).table.index.tolist()
    [1, 2, 3]
    """
    found = forecast if isinstance(forecast, Paths) else paths(forecast)
    levels = tuple(sorted(float(each) for each in service))
    if not levels or not all(0.0 < each < 1.0 for each in levels):
        raise InputError(f"found {list(service)!r}", "Give probabilities between 0 and 1.", key="service")
    most = found.axis.n if longest is None else longest
    if isinstance(most, bool) or not 1 <= most <= found.axis.n:
        raise InputError(
            f"found {longest!r}", f"Give a whole number of periods from 1 to {found.axis.n}.", key="longest"
        )
    return Stock(found, levels, int(most))


def stock_rows(found: Stock) -> pd.DataFrame:
    """``stock.csv``: ``lead_time, service, total``."""
    table = found.table.drop(columns="mean")
    long = table.melt(ignore_index=False, var_name="service", value_name="total").reset_index()
    long["service"] = long["service"].astype(float)
    return keyed(long, found.paths.forecast.fit, found.paths.forecast.scenario)


register(
    Entry(
        "stock",
        title="How much is enough",
        of=lambda study, name: alone(
            stock(study.paths(name), **study.options("stock")) if study.states("stock") else None
        ),
        text={"forecast": sentence_of, "explain": sentence_of},
        figure_for=["forecast", "explain"],
        files={"stock": lambda found, fit: stock_rows(found)},
        files_for=["forecast", "explain"],
        rank=62,
        options=stock,
    )
)
