"""What a study asks of its forecasts: scenarios, changes of drivers, goals, adjustments by hand."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from offing.evaluation import recalibrate
from offing.explain import (
    AdjustedForecast,
    Adjustment,
    Scenarios,
    Sensitivity,
    Solution,
    adjust_forecast,
    scenarios,
    sensitivity,
    solve_for,
)
from offing.explain.date_spans import named_span
from offing.model.direct_forecast import DirectForecast
from offing.model.fitted import Fitted
from offing.outlook import driver_names
from offing.study.forecasts import ForecastStudy


@dataclass(frozen=True)
class WhatIfStudy(ForecastStudy):
    """A study with what it asks of its forecasts."""

    @cached_property
    def what_if(self) -> dict[str, Scenarios]:
        """The scenarios side by side, by the names of the fits; empty where the study has none."""
        if not self.scenarios:
            return {}
        found = {}
        for name, fit in self.fits.items():
            drivers = {str(term.name) for term in fit.model.terms} | {
                each for t in fit.model.terms for each in t.needs()
            }
            own = [each for each in self.scenarios.values() if all(driver in drivers for driver, _ in each.rules)]
            if own:
                with self.placing(("scenarios",)):
                    found[name] = scenarios(fit, own, **self.how)
                method = self.spec.forecast.intervals
                if method != "model":
                    with self.placing(("forecast", "intervals")):
                        each = {
                            key: recalibrate(ahead, self.backtest, method=method)
                            for key, ahead in found[name].forecasts.items()
                        }
                    found[name] = dataclasses.replace(found[name], forecasts=each)
        return found

    @cached_property
    def sensitivities(self) -> dict[str, Sensitivity]:
        """What moving each driver does, by the names of the fits that have drivers and one equation."""
        found = {}
        for name, ahead in self.forecasts.items():
            own = driver_names(ahead.fit)
            if not own or isinstance(ahead, DirectForecast):
                continue
            requested = self.spec.changes
            with self.placing(("changes",)):
                changes = (
                    None if requested is None else {driver: rule for driver, rule in requested.items() if driver in own}
                )
                found[name] = sensitivity(ahead, changes)
        return found

    @cached_property
    def solutions(self) -> dict[str, list[Solution]]:
        """What reaches the totals of ``[[solve]]``, by the names of their fits."""
        found: dict[str, list[Solution]] = {name: [] for name in self.forecasts}
        for i, requested in enumerate(self.requests("solution")):
            for name, ahead in self.forecasts.items():
                if requested["driver"] in {str(term.name) for term in ahead.fit.model.terms}:
                    with self.placing(("solve", i)):
                        found[name].append(solve_for(ahead, **requested))
        return found

    @cached_property
    def adjusted(self) -> dict[str, AdjustedForecast]:
        """The forecasts with the adjustments of periods that are still ahead, if there are any."""
        found = {}
        for name, ahead in self.forecasts.items():
            own = [each for each in self.adjustments if not is_over(each, ahead.fit)]
            if own:
                with self.placing(("adjustments",)):
                    found[name] = adjust_forecast(ahead, own)
        return found

    @property
    def adjustments(self) -> list[Adjustment]:
        """The adjustments that the file states."""
        return [Adjustment(**each) for each in self.requests("adjusted")]


def is_over(each: Adjustment, fit: Fitted) -> bool:
    """Whether all periods of an adjustment are past."""
    return _last_ordinal(each.span, fit) < fit.axis.first + fit.axis.n


def _last_ordinal(span: object, fit: Fitted) -> int:
    own = named_span(span, fit.axis)
    return own.first + own.n - 1


def last_of(span: object, fit: Fitted) -> Any:
    """The start of the last period of a span, as an adjustment names it."""
    at = _last_ordinal(span, fit)
    return dataclasses.replace(fit.axis, first=at, n=1).index[0]
