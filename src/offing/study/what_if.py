"""What a study asks of its forecasts: scenarios, changes of drivers, goals, adjustments by hand."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from offing.evaluation import recalibrate
from offing.explain import (
    Overridden,
    Override,
    Scenarios,
    Sensitivity,
    Sought,
    override,
    scenarios,
    seek,
    sensitivity,
)
from offing.explain.date_spans import named_span
from offing.model.direct_forecast import DirectForecast
from offing.model.fitted import Fitted
from offing.outlook import driver_names
from offing.study.forecasts import ForecastStudy


@dataclass(frozen=True)
class AskedStudy(ForecastStudy):
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
                way = self.spec.forecast.intervals
                if way != "model":
                    with self.placing(("forecast", "intervals")):
                        each = {key: recalibrate(ahead, self.backtest, way=way)
                                for key, ahead in found[name].forecasts.items()}  # fmt: skip
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
            asked = self.spec.changes
            with self.placing(("changes",)):
                changes = None if asked is None else {driver: rule for driver, rule in asked.items() if driver in own}
                found[name] = sensitivity(ahead, changes)
        return found

    @cached_property
    def goals(self) -> dict[str, list[Sought]]:
        """What reaches the totals of ``[[goals]]``, by the names of their fits."""
        found: dict[str, list[Sought]] = {name: [] for name in self.forecasts}
        for i, asked in enumerate(self.spec.goals):
            for name, ahead in self.forecasts.items():
                if asked.driver in {str(term.name) for term in ahead.fit.model.terms}:
                    with self.placing(("goals", i)):
                        limits = None if asked.limits is None else (asked.limits[0], asked.limits[1])
                        span = tuple(asked.span) if isinstance(asked.span, list) else asked.span
                        found[name].append(
                            seek(ahead, asked.driver, asked.total, how=asked.how, limits=limits, span=span)
                        )
        return found

    @cached_property
    def overridden(self) -> dict[str, Overridden]:
        """The forecasts with the overrides of periods that are still ahead, if there are any."""
        found = {}
        for name, ahead in self.forecasts.items():
            own = [each for each in self.overrides if not is_over(each, ahead.fit)]
            if own:
                with self.placing(("overrides",)):
                    found[name] = override(ahead, own)
        return found

    @property
    def overrides(self) -> list[Override]:
        """The overrides that the file states."""
        return [Override(**each.model_dump()) for each in self.spec.overrides]


def is_over(each: Override, fit: Fitted) -> bool:
    """Whether all periods of an override are past."""
    return _last_ordinal(each.span, fit) < fit.axis.first + fit.axis.n


def _last_ordinal(span: object, fit: Fitted) -> int:
    own = named_span(span, fit.axis)
    return own.first + own.n - 1


def last_of(span: object, fit: Fitted) -> Any:
    """The start of the last period of a span, as an override names it."""
    at = _last_ordinal(span, fit)
    return dataclasses.replace(fit.axis, first=at, n=1).index[0]
