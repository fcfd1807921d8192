"""What if: several scenarios of one fit side by side, and how sure their differences are."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, nearest
from offing.base.arrays import Array
from offing.base.results import AHEAD, Entry, Result, alone, register
from offing.base.text import number, percent, rounded, signed, text_table, wrapped
from offing.calendar import Axis
from offing.explain.what_if.paths import Paths, paths
from offing.explain.why.walk import Walk
from offing.explain.why.walk_builder import walk
from offing.model import Fit, Forecast
from offing.model.direct_forecast import DirectForecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.model.rows import contribution_rows, driver_rows, forecast_rows, iso, keyed
from offing.outlook import Scenario
from offing.tables import Panel, Table


@dataclass(frozen=True)
class Scenarios(Result, figure="what_if.draw_scenarios"):
    """Forecasts of one fit under several scenarios. Made by `offing.scenarios`.

    Attributes
    ----------
    forecasts
        The forecasts by the names of their scenarios, the one ``as planned`` first, unless the drivers have no plan.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
    >>> found = of.scenarios(fit, [of.Scenario("dry", {"rain": 0}), of.Scenario("wet", {"rain": 1})], 2)
    >>> found.names, found.totals["total"].round(2).tolist()
    (('dry', 'wet'), [12.13, 8.0])
    """

    forecasts: Mapping[str, Forecast]

    @property
    def names(self) -> tuple[str, ...]:
        """The scenarios."""
        return tuple(self.forecasts)

    @property
    def base(self) -> str:
        """The first of them, against which the others are held."""
        return self.names[0]

    @property
    def axis(self) -> Axis:
        """The forecast periods."""
        return self.forecasts[self.base].axis

    @property
    def fit(self) -> Fitted:
        """The fit that all rest on."""
        return self.forecasts[self.base].fit

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period, one column a scenario: the forecast means."""
        return pd.DataFrame({name: each.mean for name, each in self.forecasts.items()}, index=self.axis.index)

    @cached_property
    def _paths(self) -> dict[str, Paths]:
        return {name: paths(each) for name, each in self.forecasts.items()}

    @cached_property
    def totals(self) -> pd.DataFrame:
        """One row a scenario: its ``total``, and the ``difference`` from the base with a 95 % interval, ``percent``."""
        rows = []
        for name, each in self.forecasts.items():
            total = float(each.mean.sum())
            difference, low, high = self._difference(name, self.base, np.ones((self.axis.n, 1)))
            base = float(self.forecasts[self.base].mean.sum())
            share = 100.0 * difference[0] / base if base > 0.0 else np.nan
            rows.append((total, difference[0], low[0], high[0], share))
        columns = ["total", "difference", "low", "high", "percent"]
        return pd.DataFrame(rows, index=pd.Index(self.names, name="scenario"), columns=columns)

    def differences(self, name: str, base: str | None = None) -> pd.DataFrame:
        """Period by period what one scenario is more than another: ``difference, low, high``.

        The intervals are quantiles of pairs of seeded joint paths, in which noise, coefficients and whatever else both
        share are the same, so that it cancels. Two scenarios that are equal differ by exactly nothing.

        Raises
        ------
        InputError
            If there is no scenario of the name.
        """
        found = self._difference(name, base or self.base, np.eye(self.axis.n))
        return pd.DataFrame(dict(zip(("difference", "low", "high"), found, strict=True)), index=self.axis.index)

    def _difference(self, name: str, base: str, rows: Array) -> tuple[Array, Array, Array]:
        one, other = self.of(name), self.of(base)
        if isinstance(one, DirectForecast):  # equations by horizon have no joint paths
            return (one.mean - other.mean) @ rows, *(np.full(rows.shape[1], np.nan),) * 2
        gap = self._paths[name].values - self._paths[base].values
        low, high = np.quantile(gap @ rows, [0.025, 0.975], axis=0)
        return (one.mean - other.mean) @ rows, np.asarray(low), np.asarray(high)

    def of(self, name: str) -> Forecast:
        """The forecast under a scenario.

        Raises
        ------
        InputError
            If there is none of the name.
        """
        if name not in self.forecasts:
            raise InputError(f"there is no scenario {name!r}", nearest(str(name), self.names), key="scenario")
        return self.forecasts[name]

    def walk(self, end: str, start: str | None = None, **how: object) -> Walk:
        """The step-by-step account from one scenario to another, by default from the first. See `offing.walk`."""
        return walk(self.of(end), self.of(start or self.base), **how)  # type: ignore[arg-type]

    @property
    def findings(self) -> dict[str, tuple[Finding, ...]]:
        """What was noticed of each scenario's future beside the fit: values that history has never seen, say."""
        return {name: tuple(each.findings[len(self.fit.findings) :]) for name, each in self.forecasts.items()}

    @property
    def sentences(self) -> str:
        """Every scenario's total against the base's, what it assumes, and what was never seen."""
        unit = f" {self.fit.sum_unit}" if self.fit.unit else ""
        base, lines = self.totals.iloc[0], []
        head = f"{self.fit.label}, {self.axis.spell()}: {number(float(base['total']), 4)}{unit} '{self.base}'."
        for name, row in self.totals.iloc[1:].iterrows():
            if row["difference"] == 0.0:
                lines.append(f"'{name}': no difference. {self._assumes(str(name))}".rstrip())
                continue
            share = percent(float(row["percent"]) / 100.0) if np.isfinite(row["percent"]) else ""
            known = bool(np.isfinite(row["low"]))
            sure = "; the interval includes zero" if known and row["low"] <= 0.0 <= row["high"] else ""
            inside = [share] if share else []
            inside += [f"95 % between {signed(row['low'])} and {signed(row['high'])}"] if known else []
            noted = f" ({', '.join(inside)})" if inside else ""
            lines.append(
                f"'{name}': {signed(float(row['difference']), 4)}{unit}{noted}{sure}. {self._assumes(str(name))}"
            )
        lines = [f"{head} {self._assumes(self.base)}".strip(), *lines]
        beyond: dict[str, list[str]] = {}
        for name, found in self.findings.items():
            for each in found:
                if each.check == "beyond the range":
                    beyond.setdefault(each.message, []).append(name)
        # What the base does as well is reported with its forecast.
        lines += [
            f"Beyond what history has seen, {' and '.join(map(repr, names))}: {message}"
            for message, names in beyond.items()
            if self.base not in names
        ]
        return "\n".join(lines)

    @property
    def points(self) -> list[str]:
        """Every scenario's difference from the base, without words on what it assumes."""
        unit = f" {self.fit.sum_unit}" if self.fit.unit else ""
        return [
            f"what if '{name}': {signed(float(row['difference']), 4)}{unit} (95 % between {signed(row['low'])} and "
            f"{signed(row['high'])})"
            if row["difference"]
            else f"what if '{name}': no difference"
            for name, row in self.totals.iloc[1:].iterrows()
        ]

    @property
    def assumed(self) -> dict[str, tuple[str, ...]]:
        """What each scenario assumes, driver by driver, in words."""
        return {
            name: tuple(f"'{driver}' {words}" for driver, words in each.assumed.items())
            for name, each in self.forecasts.items()
        }

    def _assumes(self, name: str) -> str:
        noted = self.assumed[name]
        return f"It assumes {'; '.join(noted)}." if noted else ""

    def __str__(self) -> str:
        h, width = self.axis.n, len(self.names)
        cells = rounded(self.table.to_numpy().T.ravel())
        columns = [self.axis.labels(), *(cells[j * h : (j + 1) * h] for j in range(width))]
        return f"{wrapped(self.sentences)}\n\n{text_table([self.axis.frequency.unit, *self.names], columns)}"


def scenarios(
    fit: Fit,
    every: Sequence[Scenario] | Mapping[str, Scenario],
    horizon: int | None = None,
    *,
    until: object = None,
    plan: Table | Panel | pd.DataFrame | Mapping[str, Table | Panel] | None = None,
    **how: object,
) -> Scenarios:
    """Forecast under several scenarios at once, and as planned where the drivers have a plan.

    Parameters
    ----------
    fit
        What all rest on.
    every
        The scenarios.
    horizon, until, plan
        As for ``Fit.forecast``, which takes further words as well.

    Raises
    ------
    InputError
        As ``Fit.forecast`` does, naming the scenario; for two of one name, or none.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
    >>> plan = pd.DataFrame({"rain": [0, 1]}, pd.date_range("2024-01-07", periods=2, freq="D"))
    >>> found = of.scenarios(fit, [of.Scenario("dry", {"rain": 0})], 2, plan=plan)
    >>> found.differences("dry")["difference"].round(2).tolist()
    [0.0, 2.07]
    """
    listed = list(every.values()) if isinstance(every, Mapping) else list(every)
    names = [each.name for each in listed]
    for name in names:
        if names.count(name) > 1:
            raise InputError(f"two scenarios are called {name!r}", "Rename one of them.", key="scenarios")
    if not listed:
        raise InputError("there is no scenario", "Give one or more.", key="scenarios")
    forecasts: dict[str, Forecast] = {}
    if plan is not None or not any(term.needs() for term in fit.model.terms):
        forecasts[AS_PLANNED] = fit.forecast(horizon, until=until, plan=plan, **how)  # type: ignore[arg-type]
    for each in listed:
        try:
            forecasts[each.name] = fit.forecast(horizon, until=until, plan=plan, scenario=each, **how)  # type: ignore[arg-type]
        except InputError as error:
            error.found = f"scenario '{each.name}': {error.found}"
            raise
    return Scenarios(forecasts)


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
    whole = (
        pd.concat(frames, ignore_index=True)
        if frames
        else pd.DataFrame(columns=["period", "difference", "low", "high", "scenario"])
    )
    return _by_scenario(whole, found.fit)


def _by_scenario(rows: pd.DataFrame, fit: Fitted) -> pd.DataFrame:
    """The key columns, with the scenario's name from a column of the rows."""
    names = rows["scenario"].tolist()
    return keyed(rows.drop(columns="scenario"), fit, "").assign(scenario=names)


def _of_each(found: Scenarios, rows: Callable[[Forecast], pd.DataFrame]) -> pd.DataFrame | None:
    """The rows of every scenario's forecast but the first, which is the forecast itself."""
    made = [rows(found.of(name)) for name in found.names[1:]]
    return pd.concat(made, ignore_index=True) if made else None


register(
    Entry(
        "scenarios",
        title="Scenarios",
        of=lambda study, name: alone(study.what_if.get(name)),
        text=dict.fromkeys(AHEAD, str),
        figure_for=AHEAD,
        files={
            "scenarios": lambda found, _: scenario_rows(found),
            "differences": lambda found, _: difference_rows(found),
            "drivers": lambda found, _: _of_each(found, driver_rows),
            "forecast": lambda found, _: _of_each(found, forecast_rows),
            "contributions": lambda found, _: _of_each(
                found,
                lambda ahead: contribution_rows(
                    ahead.contributions, ahead.fit, of_forecast=True, scenario=ahead.scenario
                ),
            ),
        },
        files_for=AHEAD,
        rank=40,
    )
)
