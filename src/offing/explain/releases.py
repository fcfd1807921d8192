"""What each release between two dates did to an estimate."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pandas as pd

from offing.calendar import Axis, on_clock_of
from offing.engine import impulse_response
from offing.model import Forecast
from offing.model.fitted import Fitted
from offing.tables import View, released_at
from offing.tables.overlay import Expected


def steps_between(before: Forecast, after: Forecast, *, detailed: bool) -> pd.DataFrame:
    """What was released between two forecasts of the same period, and what each value did."""
    now = start = float(before.mean[-1])
    rows: list[dict[str, object]] = []
    view = before.view
    for instant, reference, ordinal in _released(before, after) if detailed else ():
        axis = Axis(view.frequency(reference), ordinal, 1)
        expected = float(view.known(reference, axis).values[0])
        actual = float(after.fit.view.known(reference, axis).values[0])
        view = _put(view, before, reference, ordinal, actual - expected)
        moved = _mean(before, view)
        rows.append(
            {
                "driver": _name(before.fit, reference),
                "period": axis.labels()[0],
                "released": instant,
                "expected": expected,
                "actual": actual,
                "surprise": actual - expected,
                "weight": (moved - now) / (actual - expected) if actual != expected else np.nan,
                "effect": moved - now,
            }
        )
        now = moved
    rows.append({"driver": REESTIMATED, "effect": float(after.mean[-1]) - (now if detailed else start)})
    return framed(rows)


def _released(before: Forecast, after: Forecast) -> list[tuple[pd.Timestamp, str, int]]:
    """When which values that were expected before were released, in that order."""
    found = []
    for outlook in before.outlooks:
        known = after.fit.view.known(outlook.reference, outlook.axis)
        table = after.fit.view.sources.tables[after.fit.view.sources.find(outlook.reference)[0]]
        released = released_at(table, outlook.axis)
        on_target = on_clock_of(after.axis.frequency, outlook.axis.frequency, released)
        for i in np.flatnonzero(np.isfinite(known.values)).tolist():
            stamp = after.axis.frequency.index(on_target[i : i + 1])[0]
            found.append((int(on_target[i]), stamp, outlook.reference, int(outlook.axis.ordinals[i])))
    return [(stamp, reference, ordinal) for _, stamp, reference, ordinal in sorted(found, key=lambda each: each[0::3])]


def _put(view: View, before: Forecast, reference: str, ordinal: int, surprise: float) -> View:
    """The view with a released value, and what it makes its driver's model expect of later ones."""
    outlook = next(each for each in before.outlooks if each.reference == reference)
    expected = view.change(Expected, view.sources.find(reference))
    if expected is None:
        return view  # nothing was expected of it, so nothing changes
    path = expected.path
    values = path.values.copy()
    at = ordinal - path.first
    values[at:] += surprise * impulse_response(outlook.ahead.fit.lingering, len(values) - at)
    return view.expecting(reference, path.first, values)


def _mean(before: Forecast, view: View) -> float:
    """The forecast of the period with the earlier fit and other values."""
    view = before.fit.walked_on(view, before.axis)
    rows = before.fit.columns(view, before.axis)
    return float(replace(before, view=view, rows=rows, outlooks=()).mean[-1])


def _name(fit: Fitted, reference: str) -> str:
    return next(str(term.name) for term in fit.model.drivers if term.data == reference)


REESTIMATED = "re-estimated"


def framed(rows: list[dict[str, object]]) -> pd.DataFrame:
    """Releases as a table, with all columns even where there is none."""
    columns = ["from", "to", "driver", "period", "released", "expected", "actual", "surprise", "weight", "effect"]
    return pd.DataFrame(rows, columns=columns)
