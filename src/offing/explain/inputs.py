"""Which values of faster drivers enter one period's forecast, with which weight, and which are not published yet."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.results import Entry, Result, alone, register
from offing.base.text import number, text_table, wrapped
from offing.explain.lag_weights import lag_weights, weighted_drivers
from offing.explain.period_groups import period_of
from offing.model import Forecast
from offing.model.direct_forecast import DirectForecast
from offing.tables import MARKS, released_at
from offing.terms import LagWeights


@dataclass(frozen=True)
class Inputs(Result, figure="running.draw_inputs"):
    """The values behind the forecast of one period. Made by `offing.inputs`.

    Attributes
    ----------
    period
        The target's period.
    start, end, origin
        When it starts and ends, and the moment of the forecast.
    table
        One row a value: ``driver, period, start, end, released, coefficient, value, mark`` (actual, plan or modelled).

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(1)
    >>> bookings = pd.Series(generator.normal(50.0, 5.0, 124), pd.period_range("2015-01", periods=124, freq="M"))
    >>> orders = pd.Series(generator.normal(9.0, 1.0, 39), pd.period_range("2015Q3", periods=39, freq="Q"))
    >>> tables = {"orders": of.read(orders.rename("orders")), "bookings": of.read(bookings.rename("index"))}
    >>> model = of.Model("orders.orders", terms=[of.Driver("bookings.index", weights="flat", span=3)])
    >>> of.inputs(model.fit(tables).forecast(1)).table[["period", "mark"]].to_numpy().tolist()
    [['2025-04', 'actual'], ['2025-05', 'modelled'], ['2025-06', 'modelled']]
    """

    period: str
    start: pd.Timestamp
    end: pd.Timestamp
    origin: pd.Timestamp
    target: str
    table: pd.DataFrame

    @cached_property
    def share_out(self) -> float:
        """Share of all weight, by its size, whose values are published."""
        size = self.table["coefficient"].abs()
        return float(size[self.table["mark"] != "modelled"].sum() / size.sum()) if size.sum() else 1.0

    @property
    def sentence(self) -> str:
        """How much of the weight is published, in words."""
        waiting = int((self.table["mark"] == "modelled").sum())
        later = f"{count(waiting, 'value')} still expected" if waiting else "nothing still expected"
        return (
            f"On {self.origin:%Y-%m-%d} values with {100.0 * self.share_out:.0f} % of the weight for {self.period} are "
            f"published, {later}."
        )

    def __str__(self) -> str:
        shown = self.table
        columns = [
            shown["driver"].tolist(),
            shown["period"].tolist(),
            [f"{each:%Y-%m-%d}" for each in shown["released"]],
            *([number(v) for v in shown[name]] for name in ("coefficient", "value")),
            shown["mark"].tolist(),
        ]
        heads = ["driver", "period", "released", "coefficient", "value", "mark"]
        return f"{self.sentence}\n\n{text_table(heads, columns)}"


def inputs(ahead: Forecast, period: object = None) -> Inputs:
    """The values of drivers with weights that enter the forecast of one period, by default the first.

    Raises
    ------
    InputError
        If the forecast does not hold the period, or no driver has weights over its lags.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(1)
    >>> bookings = pd.Series(generator.normal(50.0, 5.0, 126), pd.period_range("2015-01", periods=126, freq="M"))
    >>> orders = pd.Series(generator.normal(9.0, 1.0, 40), pd.period_range("2015Q3", periods=40, freq="Q"))
    >>> tables = {"orders": of.read(orders.rename("orders")), "bookings": of.read(bookings.rename("index"))}
    >>> model = of.Model("orders.orders", terms=[of.Driver("bookings.index", weights="flat", span=3)])
    >>> of.inputs(model.fit(tables).forecast(2), "2025-08-01").share_out
    0.0
    """
    place = period_of(ahead.axis, period)
    axis = ahead.axis.part(place, place + 1)
    part = ahead.parts[place] if isinstance(ahead, DirectForecast) else ahead
    fit, frames = part.fit, []
    for term in fit.model.drivers:
        if term.weights is None:
            continue
        weights, own = LagWeights.of(term), fit.view.frequency(term.data)
        needed = weights.needed(own, axis)
        known = part.view.known(term.data, needed)
        table = fit.view.sources.tables[fit.view.sources.find(term.data)[0]]
        curve = lag_weights(fit, str(term.name)).coefficient[::-1]
        released = released_at(table, needed)
        index = [own.index(each) for each in (needed.starts, needed.ends, released)]
        frames.append(
            pd.DataFrame(
                {
                    "driver": str(term.name),
                    "period": needed.labels(),
                    "start": index[0],
                    "end": index[1],
                    "released": index[2],
                    "coefficient": curve,
                    "value": known.values,
                    "mark": [MARKS[mark] for mark in known.marks],
                }
            )
        )
    if not frames:
        raise InputError("no driver has weights over its lags", 'State weights = "beta" and a span, say.', key="driver")
    edges = axis.frequency.index(np.array([axis.starts[0], axis.ends[0]]))
    return Inputs(axis.labels()[0], edges[0], edges[1], ahead.origin, fit.label, pd.concat(frames, ignore_index=True))


register(
    Entry(
        "inputs",
        title="Which values enter",
        of=lambda study, name: alone(inputs(study.forecasts[name]) if weighted_drivers(study.fits[name]) else None),
        text={"explain": lambda found: wrapped(found.sentence)},
        joined=True,
        figure_for=["explain"],
        rank=15,
    )
)
