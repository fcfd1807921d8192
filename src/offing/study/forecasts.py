"""A study judged and forecast: its back-test, forecasts, combination, totals and probabilities."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any

from offing.base import InputError
from offing.evaluation import (
    Backtest,
    Combination,
    backtest,
    combine,
    external_forecast,
    recalibrate,
    without_each,
)
from offing.explain import (
    Exceedance,
    Nowcast,
    Paths,
    Reconciled,
    Split,
    Totals,
    allocate,
    nowcast,
    paths,
    reconcile,
    totals,
)
from offing.explain.what_if.probabilities import chance
from offing.model import Fit, Forecast
from offing.model.joint_simulation import Noise
from offing.study.schema import TotalSpec
from offing.study.study_data import StudyData

#: What the combination with stated weights is called.
COMBINATION = "combination"


@dataclass(frozen=True)
class ForecastStudy(StudyData):
    """A study with its back-test and forecasts."""

    @cached_property
    def backtest(self) -> Backtest:
        """The models' forecasts from past origins, as ``[backtest]`` asks for them.

        Raises
        ------
        InputError
            If the study does not say how far, or as `offing.backtest` does.
        """
        with self.placing(("backtest",)):
            return self._past(without=False)

    @cached_property
    def unknown_drivers_cost(self) -> str:
        """What not knowing the drivers costs, as the back-test has it; an empty text unless the study asks for it."""
        return self.backtest.cost_sentence if self.spec.forecast.unknown_drivers_cost else ""

    @cached_property
    def apart(self) -> Backtest:
        """The back-test with the first model without each of its terms, if the study asks for that."""
        if not self.spec.backtest.without:
            return self.backtest
        with self.placing(("backtest",)):
            return self._past(without=True)

    def _past(self, *, without: bool) -> Backtest:
        """The models from past origins with their combinations, and the first one `without` each of its terms."""
        requested = self.spec.backtest
        models = list(self.models)
        if without and requested.without:
            models = [*models, *without_each(models[0])[1:]]
        horizon = self._far()
        elsewhere = [
            external_forecast(self.path.parent / each.file, each.name, role=each.role) for each in requested.external
        ]
        found = backtest(
            models,
            self.tables,
            horizon=horizon,
            origins=requested.origins,
            first_origin=requested.first_origin,
            every=requested.every,
            gap=requested.gap,
            window=requested.window,
            basis=requested.basis,
            planned=requested.planned,
            plans=self.plans,
            external=elsewhere,
            repeats=requested.repeats,
            method=self.spec.forecast.method,
            unreleased=self.spec.forecast.unreleased,
        )
        own = [model.name for model in self.models] + [each.name for each in elsewhere if each.role == "candidate"]
        together = self.spec.combination
        pooling = "quantiles" if together is None else together.pooling
        if together is not None and together.weights and not without:
            found = found.combined(weights=together.weights, pooling=pooling, name=COMBINATION)
        for method in requested.combinations:
            found = found.combined(method=method, members=own, pooling=pooling)
        return found

    def _far(self) -> int:
        horizon = self.spec.backtest.horizon or self.spec.forecast.horizon
        if horizon is None:
            raise InputError(
                "the study does not say how far its back-test forecasts",
                "State horizon in [backtest].",
                file=self.path.name,
                key="horizon",
            )
        return horizon

    @cached_property
    def forecasts(self) -> dict[str, Forecast]:
        """The forecasts, by the names of their fits.

        Raises
        ------
        InputError
            If the study does not say how far to forecast, or as ``Fit.forecast`` does.
        """
        requested = self.spec.forecast
        if requested.horizon is None and requested.until is None:
            raise InputError(
                "the study does not say how far to forecast",
                "Add [forecast] with horizon = 13, say.",
                file=self.path.name,
            )
        fits = self.fits
        with self.placing():
            found = {name: forecast for name, fit in list(fits.items()) if (forecast := self._forecast(name, fit))}
            if not found:
                raise next(iter(fits.left_out.values()))
        if requested.intervals == "model":
            return found
        past = self.backtest
        with self.placing(("forecast", "intervals")):
            return {name: recalibrate(each, past, method=requested.intervals) for name, each in found.items()}

    def _forecast(self, name: str, fit: Fit) -> Forecast | None:
        """A fit's forecast; of a series that has none, the reason is kept, and the others go on."""
        try:
            return fit.forecast(**self.how)
        except InputError as error:
            if not fit.series:
                raise
            error.found = f"series {fit.series!r}: {error.found}"
            self.fits.leave_out(name, error)
            return None

    @property
    def how(self) -> dict[str, Any]:
        """What ``Fit.forecast`` is asked."""
        requested = self.spec.forecast
        return {
            "horizon": requested.horizon,
            "until": requested.until,
            "plan": self.plans,
            "levels": requested.levels,
            "method": requested.method,
            "unreleased": requested.unreleased,
            "missing_plans": requested.missing_plans,
        }

    @cached_property
    def running(self) -> dict[str, Nowcast]:
        """The estimate of the running period on the study's dates up to its origin, by the names of the models."""
        requested = self.spec.forecast
        # Dates are compared as ISO 8601 text; what is none is reported where it is read.
        dates = [each for each in requested.dates if self.origin is None or str(each) <= str(self.origin)]
        if not dates:
            return {}
        with self.placing(("forecast", "dates")):
            return {
                model.name: nowcast(
                    model, self.tables, dates, unreleased=requested.unreleased, levels=requested.levels, plan=self.plans
                )
                for model in self.reported
            }

    @cached_property
    def combination(self) -> Combination | None:
        """The models' forecasts and their mean, if the study asks for it."""
        requested, ahead = self.spec.combination, self.spec.forecast
        if requested is None:
            return None
        with self.placing(("combination",)):
            return combine(
                self.models,
                self.tables,
                horizon=ahead.horizon,
                until=ahead.until,
                as_of=self.origin,
                method=requested.method,
                unreleased=requested.unreleased,
                origins=requested.origins,
                pooling=requested.pooling,
                weights=requested.weights or None,
                missing_plans=ahead.missing_plans,
                planned=self.spec.backtest.planned,
                plan=self.plans,
            )

    @cached_property
    def totals(self) -> dict[str, list[Totals]]:
        """Sums and averages of the forecasts' years, or what else the study asks for, by the names of their fits."""
        requested = self.spec.forecast
        found = {}
        with self.placing(("forecast",)):
            for name, each in self.forecasts.items():
                apart = requested.method == "direct" or requested.unreleased == "shifted"
                usual = [] if each.axis.frequency.unit == "year" or apart else ["year"]
                sums = [totals(each, by) for by in (usual if requested.sums is None else requested.sums)]
                found[name] = [*sums, *(totals(each, by, average=True) for by in requested.averages)]
        return found

    @cached_property
    def reconciled(self) -> dict[str, Reconciled]:
        """The forecasts brought to the totals that the study states, if any."""
        found = {}
        for i, spec in self._stated("reconcile"):
            with self.placing(("totals", i)):
                for name, each in self.forecasts.items():
                    found[name] = reconcile(
                        each, spec.stated, method=spec.method or "proportional", average=spec.total is None
                    )
        return found

    @cached_property
    def splits(self) -> dict[str, Split]:
        """The stated totals split over their periods, if any."""
        found = {}
        for i, spec in self._stated("allocate"):
            with self.placing(("totals", i)):
                for name, each in self.forecasts.items():
                    found[name] = allocate(each, spec.stated, average=spec.total is None)
        return found

    @cached_property
    def _drawn(self) -> dict[tuple[str, Noise], Paths]:
        return {}

    def paths(self, name: str, noise: Noise = "normal") -> Paths:
        """Joint paths of one forecast, by the name of its fit; they are drawn once."""
        if (name, noise) not in self._drawn:
            self._drawn[name, noise] = paths(self.forecasts[name], noise=noise)
        return self._drawn[name, noise]

    @cached_property
    def chances(self) -> dict[str, list[Exceedance]]:
        """How likely the forecasts pass the thresholds that the study states, by the names of their fits."""
        found: dict[str, list[Exceedance]] = {name: [] for name in self.forecasts}
        for i, requested in enumerate(self.requests("chances")):
            with self.placing(("chances", i)):
                for name in self.forecasts:
                    found[name].append(chance(partial(self.paths, name), **requested))
        return found

    def _stated(self, kind: str) -> list[tuple[int, TotalSpec]]:
        return [(i, each) for i, each in enumerate(self.spec.totals) if each.type == kind]
