"""Walks, scenarios, changes of drivers, goals and adjustments as the rows of their files."""

from __future__ import annotations

import pandas as pd

from offing.explain import AdjustedForecast, Scenarios, Sensitivity, Solution, Walk
from offing.model import Forecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.writers.contract import iso, keyed

#: The scenario of a forecast that was adjusted by hand.
BY_HAND = "by hand"


def walk_rows(found: Walk, fit: Fitted, scenario: str = AS_PLANNED) -> pd.DataFrame:
    """Rows of ``walks.csv``: one a span and step, after those of start and end."""
    rows = found.table.copy()
    rows.insert(0, "against", found.from_words)
    ends = [
        pd.DataFrame({"against": found.from_words, "span": found.spans, "phase": "", "step": step, "amount": values})
        for step, values in (("start", found.start), ("end", found.end))
    ]
    return keyed(pd.concat([ends[0], rows, ends[1]], ignore_index=True), fit, scenario)


def driver_rows(ahead: Forecast) -> pd.DataFrame:
    """Rows of ``drivers.csv``: one a driver and period that the forecast rests on, with what each value is."""
    rows = ahead.drivers.copy()
    return keyed(rows.assign(period=iso(rows["period"], ahead.fit)), ahead.fit, ahead.scenario)


def scenario_rows(found: Scenarios) -> pd.DataFrame:
    """Rows of ``scenarios.csv``: one a scenario, its total and how it differs from the first."""
    rows = found.totals.reset_index().assign(assumed=["; ".join(found.assumed[name]) for name in found.names])
    return _by_scenario(rows, found.fit)


def difference_rows(found: Scenarios) -> pd.DataFrame:
    """Rows of ``differences.csv``: one a scenario and period."""
    frames = []
    for name in found.names[1:]:
        rows = found.differences(name)
        rows.insert(0, "period", iso(found.axis.index, found.fit))
        frames.append(rows.reset_index(drop=True).assign(scenario=name))
    whole = pd.concat(frames, ignore_index=True) if frames else pd.DataFrame(
        columns=["period", "difference", "low", "high", "scenario"])  # fmt: skip
    return _by_scenario(whole, found.fit)


def sensitivity_rows(found: Sensitivity, fit: Fitted) -> pd.DataFrame:
    """Rows of ``sensitivity.csv``: one a driver for the total, and one for each period."""
    total = found.table.copy()
    total.insert(2, "period", "total")
    frames = [total.drop(columns="percent")]
    periods = iso(found.axis.index, fit)
    for name, change, effect in zip(found.drivers, found.changes, found.by_period, strict=True):
        frames.append(pd.DataFrame({"driver": name, "change": change, "period": periods, "total": effect}))
    return keyed(pd.concat(frames, ignore_index=True).rename(columns={"total": "effect"}), fit, AS_PLANNED)


def solution_rows(found: list[Solution], fit: Fitted) -> pd.DataFrame:
    """Rows of ``solutions.csv``: one row per goal."""
    rows = [(each.driver, each.how, each.goal, each.value, each.reached, each.met, each.low, each.high)
            for each in found]  # fmt: skip
    return keyed(pd.DataFrame(rows, columns=["driver", "how", "goal", "value", "reached", "met", "low", "high"]), fit,
                 AS_PLANNED)  # fmt: skip


def adjustment_rows(found: AdjustedForecast) -> pd.DataFrame:
    """Rows of ``adjustments.csv``: one row per adjustment and period that it changes."""
    fit, frames = found.forecast.fit, []
    periods = iso(found.axis.index, fit)
    for each, change in zip(found.adjustments, found.changes, strict=True):
        at = change != 0.0
        frames.append(pd.DataFrame({
            "span": each.said, "stated": each.words(fit.unit), "author": each.author, "reason": each.reason,
            "period": [period for period, there in zip(periods, at, strict=True) if there], "change": change[at],
        }))  # fmt: skip
    return keyed(pd.concat(frames, ignore_index=True), fit, BY_HAND)


def adjustment_score_rows(found: pd.DataFrame, fit: Fitted) -> pd.DataFrame:
    """Rows of ``adjustment_scores.csv``: one an adjustment of which the outcome is known."""
    return keyed(found, fit, BY_HAND)


def overridden_rows(found: AdjustedForecast, probabilities: list[float]) -> pd.DataFrame:
    """Rows of ``forecast.csv`` of a forecast that was adjusted by hand."""
    fit = found.forecast.fit
    table = found.forecast.table[["horizon"]].assign(forecast=found.mean).join(found.quantiles(probabilities))
    rows = table.reset_index(drop=True)
    rows.insert(0, "origin", iso([found.forecast.origin], fit)[0])
    rows.insert(1, "period", iso(found.axis.index, fit))
    return keyed(rows, fit, BY_HAND)


def _by_scenario(rows: pd.DataFrame, fit: Fitted) -> pd.DataFrame:
    """The key columns, with the scenario's name from a column of the rows."""
    names = rows["scenario"].tolist()
    return keyed(rows.drop(columns="scenario"), fit, "").assign(scenario=names)
