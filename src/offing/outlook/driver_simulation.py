"""Joint paths of drivers that have models of their own."""

from __future__ import annotations

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.engine import SEED
from offing.model import Forecast


def simulated_drivers(forecast: Forecast, count: int = 1000, seed: int = SEED) -> dict[str, pd.DataFrame]:
    """Joint paths of the drivers that are modelled: one row a path, one column a period, by driver.

    Shocks of drivers of one frequency go together as the residuals of their models did, so that a cold week stays a
    windy one; the same doubt enters the forecast's intervals.

    Parameters
    ----------
    forecast
        A forecast with drivers that are `Modelled`, or expected for want of a plan.
    count, seed
        How many, and of which draws.

    Raises
    ------
    InputError
        If no driver is modelled, or the number means nothing.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> rain = np.random.default_rng(1).normal(5.0, 1.0, 40)
    >>> data = pd.DataFrame({"sold": 9.0 - rain + np.tile([0.1, -0.1], 20), "rain": rain},
    ...                     pd.date_range("2024-01-01", periods=40, freq="D"))
    >>> ahead = of.Model("sold", terms=[of.Driver("rain")]).fit(data).forecast(3, missing_plans="expected")
    >>> of.simulated_drivers(ahead, 500)["rain"].shape
    (500, 3)
    """
    if not forecast.outlooks:
        advice = 'Forecast with a scenario of Modelled(), or missing_plans = "expected".'
        raise InputError("no driver of the forecast is modelled", advice, key="scenario")
    if isinstance(count, bool) or not isinstance(count, (int, np.integer)) or not 1 <= count <= 1_000_000:
        raise InputError(f"found {count!r}", "Give a whole number from 1 to a million.", key="count")
    sources = np.random.default_rng(seed).standard_normal((int(count), len(forecast.outlooks[0].root)))
    found = {}
    for each in forecast.outlooks:
        values = each.ahead.fit.cut(each.ahead.mean + sources @ each.root)
        found[each.ahead.fit.column] = pd.DataFrame(values, columns=each.axis.index)
    return found
