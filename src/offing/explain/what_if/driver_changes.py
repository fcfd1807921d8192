"""By how much each driver is moved, where nothing is stated."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from offing.base import InputError, nearest
from offing.model import Forecast
from offing.outlook import Rule, Shift
from offing.terms.driver import is_flag


def rules_of_change(
    forecast: Forecast, every: Mapping[str, str], changes: Mapping[str, float | str | Rule] | None
) -> dict[str, Rule | str | float]:
    """The rule by which each driver is moved."""
    if changes is None:
        found: dict[str, Rule | str | float] = {}
        for name, reference in every.items():
            seen = forecast.fit.seen(reference)
            if is_flag(seen):
                found[name] = 1.0
                continue
            below = len(seen) and (seen.min() < 0.0 or not seen.any())
            # A driver that is nothing in all the periods ahead would be nothing with ten percent more of it.
            ahead = forecast.view.known(reference, forecast.view.native(reference, forecast.axis)).values
            if below or not np.nan_to_num(ahead).any():
                found[name] = Shift(amount=float(np.std(seen)))
            else:
                found[name] = Shift(percent=_USUAL)
        return found
    for name in changes:
        if name not in every:
            raise InputError(f"the model has no driver {name!r}", nearest(str(name), every), key="changes")
    return {
        name: Shift(percent=float(each)) if isinstance(each, (int, float)) else each for name, each in changes.items()
    }


#: What is changed where nothing is said, in percent.
_USUAL = 10.0
