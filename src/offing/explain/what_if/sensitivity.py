"""How much the forecast moves with each driver, by moving it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import Entry, Result, alone, register
from offing.base.text import number, percent, rounded, signed, text_table, wrapped
from offing.calendar import Axis
from offing.engine import quantile
from offing.explain.what_if.driver_changes import rules_of_change
from offing.model import Forecast
from offing.model.direct_forecast import DirectForecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.model.reapply import rerun
from offing.model.rows import iso, keyed
from offing.outlook import Modelled, Rule, Scenario, changeable
from offing.terms.driver import is_flag

#: Pairs of more drivers than this are not tried.
_PAIRED = 8
#: From this share of the larger of two effects on, what they do together is worth showing.
_TELLING = 0.02


@dataclass(frozen=True)
class Sensitivity(Result, figure="what_if.draw_sensitivity"):
    """What a change of each driver does to a forecast. Made by `offing.sensitivity`.

    Attributes
    ----------
    drivers, labels, changes
        The drivers (J,), the largest effect first, what people call them, and how each is changed, in words.
    total, low, high
        What that adds to the total of all periods (J,), with a 95 % interval from the coefficients.
    by_period
        The same period by period (J, h).
    before
        The total as it is.
    pairs
        What two changes do together beyond the sum of both (J, J), where it was tried.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> fare = 20.0 + np.tile([0.0, 1.0, 3.0], 12)
    >>> sold = pd.DataFrame({"sold": 900.0 - 10.0 * fare + np.tile([1.0, -1.0], 18), "fare": fare}, months)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(sold)
    >>> plan = pd.DataFrame({"fare": 25.0}, pd.period_range("2025-01", periods=3, freq="M"))
    >>> of.sensitivity(fit.forecast(3, plan=plan)).table[["driver", "change", "total"]].round(1).to_numpy().tolist()
    [['fare', '+10 %', -75.0]]
    """

    drivers: tuple[str, ...]
    labels: tuple[str, ...]
    changes: tuple[str, ...]
    total: Array
    low: Array
    high: Array
    axis: Axis
    by_period: Array
    before: float
    pairs: Array
    target: str
    unit: str

    @property
    def drawable(self) -> bool:
        """Whether there are drivers."""
        return bool(self.drivers)

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a driver, ranked: ``driver, change, total, low, high, percent``."""
        share = 100.0 * self.total / self.before if self.before > 0.0 else np.full(len(self.total), np.nan)
        return pd.DataFrame(
            {
                "driver": list(self.drivers),
                "change": list(self.changes),
                "total": self.total,
                "low": self.low,
                "high": self.high,
                "percent": share,
            }
        )

    @cached_property
    def periods(self) -> pd.DataFrame:
        """One row a period, one column a driver."""
        return pd.DataFrame(self.by_period.T, index=self.axis.index, columns=list(self.drivers))

    @cached_property
    def interactions(self) -> pd.DataFrame:
        """Pairs of changes that do together more or less than the sum of both: ``first, second, sum, together, more``.

        Only where that is 2 % of the larger effect or more, the largest first.
        """
        rows = []
        for i, j in combinations(range(len(self.drivers)), 2):
            more, larger = self.pairs[i, j], max(abs(self.total[i]), abs(self.total[j]))
            if np.isfinite(more) and larger > 0.0 and abs(more) >= _TELLING * larger:
                both = self.total[i] + self.total[j]
                rows.append((self.drivers[i], self.drivers[j], both, both + more, more))
        rows.sort(key=lambda row: -abs(row[-1]))
        return pd.DataFrame(rows, columns=["first", "second", "sum", "together", "more"])

    @property
    def headline(self) -> str:
        """The largest effect, without its interval."""
        return self._moves(0)

    def _moves(self, i: int) -> str:
        """What the `i`-th change does."""
        unit = f" {self.unit}" if self.unit else ""
        share = f", {percent(float(self.total[i]) / self.before)}" if self.before > 0.0 else ""
        where = f" {self.target} of {self.axis.spell()}" if i == 0 else " them"
        return (
            f"'{self.labels[i]}' {self.changes[i]} from here on moves{where} by "
            f"{signed(float(self.total[i]))}{unit}{share}"
        )

    @property
    def sentences(self) -> str:
        """Each change and its effect, the largest first; and which go together."""
        unit = f" {self.unit}" if self.unit else ""
        named = dict(zip(self.drivers, self.labels, strict=True))
        lines = []
        for i in range(len(self.labels)):
            sure = "; the interval includes zero" if self.low[i] < 0.0 < self.high[i] else ""
            inside = f"95 % between {signed(float(self.low[i]))} and {signed(float(self.high[i]))}"
            lines.append(f"{self._moves(i)} ({inside}){sure}.")
        for first, second, _, together, more in self.interactions.itertuples(index=False, name=None):
            beyond = f"{number(abs(more))} {'more' if more > 0.0 else 'less'} than the sum of both"
            lines.append(f"'{named[first]}' and '{named[second]}' together do {signed(together)}{unit}, {beyond}.")
        return "\n".join(lines) or "No driver is there to be changed."

    def __str__(self) -> str:
        numbers = [rounded(each) for each in (self.total, self.low, self.high)]
        shares = [percent(float(each) / self.before) if self.before > 0.0 else "" for each in self.total]
        columns = [list(self.labels), list(self.changes), *numbers, shares]
        return (
            f"{wrapped(self.sentences)}\n\n{text_table(['driver', 'change', 'total', 'from', 'to', 'share'], columns)}"
        )


def sensitivity(forecast: Forecast, changes: Mapping[str, float | str | Rule] | None = None) -> Sensitivity:
    """Move each driver over the forecast, run the model again, and show what became of it.

    Parameters
    ----------
    forecast
        A forecast by recursion. What is known of its drivers stays, so that of faster drivers only the values that
        are not out yet are changed.
    changes
        A change for each driver of interest: percents as numbers, or a rule such as ``Shift(amount=2.0)``. By default
        all drivers are 10 % higher; those that fall below zero by one standard deviation of what was seen. A flag of 0
        and 1 is on in every period, against off in every one.

    Raises
    ------
    InputError
        If there is no such driver, or equations by horizon leave nothing to run.

    Notes
    -----
    A change of two drivers at once is tried for all pairs of up to eight: on the log scale effects multiply, and
    interactions and shared shapes may do more.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> fare = 20.0 + np.tile([0.0, 1.0, 3.0], 12)
    >>> sold = pd.DataFrame({"sold": 900.0 - 10.0 * fare + np.tile([1.0, -1.0], 18), "fare": fare}, months)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(sold)
    >>> plan = pd.DataFrame({"fare": 25.0}, pd.period_range("2025-01", periods=3, freq="M"))
    >>> found = of.sensitivity(fit.forecast(3, plan=plan), {"fare": of.Shift(amount=1.0)})
    >>> found.total.round(2).tolist(), found.changes
    ([-30.0], ('+1',))
    """
    fit = forecast.fit
    if isinstance(forecast, DirectForecast):
        raise InputError(
            "equations by horizon cannot be run with other drivers", 'Use method = "recursion".', key="method"
        )
    every = changeable(fit, forecast.view, forecast.axis)
    rules = rules_of_change(forecast, every, changes)
    scenarios = {name: Scenario("changed", {name: rule}) for name, rule in rules.items()}
    for name, each in scenarios.items():
        if isinstance(each.drivers[name], Modelled):
            raise InputError(
                f"a model of its own is no change of '{name}'", "Forecast with a scenario of it.", key="changes"
            )
    assumed = {name: each.on(fit, forecast.view, forecast.axis) for name, each in scenarios.items()}
    moved = {name: rerun(forecast, view) for name, (view, _) in assumed.items()}
    said = {name: words[name] for name, (_, words) in assumed.items()}
    # A flag is compared on with off, whatever was planned.
    flags = [name for name in every if changes is None and is_flag(fit.seen(every[name]))]
    off = {
        name: rerun(forecast, Scenario("off", {name: 0.0}).on(fit, forecast.view, forecast.axis)[0]) for name in flags
    }
    said |= dict.fromkeys(flags, "on against off")
    by_period = {name: ahead.mean - off.get(name, forecast).mean for name, ahead in moved.items()}
    order = sorted(moved, key=lambda name: -abs(float(by_period[name].sum())))
    total = np.array([float(by_period[name].sum()) for name in order])
    half = _half(fit, [(moved[name], off.get(name, forecast)) for name in order])
    pairs = np.full((len(order), len(order)), np.nan)
    if len(order) <= _PAIRED:
        for i, j in combinations(range(len(order)), 2):
            if {order[i], order[j]} & off.keys():
                continue  # what a flag adds to another change is not what it adds to the plan
            if _apart(fit, every[order[i]], every[order[j]]):
                together = _joined(forecast, moved[order[i]], moved[order[j]])
            else:
                view, _ = scenarios[order[j]].on(fit, moved[order[i]].view, forecast.axis)
                together = rerun(forecast, view).mean
            both = float(together.sum() - forecast.mean.sum())
            pairs[i, j] = pairs[j, i] = both - total[i] - total[j]
    labels = {str(term.name): fit.label_of(term) for term in fit.model.terms}
    return Sensitivity(
        tuple(order),
        tuple(labels.get(name, name) for name in order),
        tuple(said[name] for name in order),
        total,
        total - half,
        total + half,
        forecast.axis,
        np.array([by_period[name] for name in order]).reshape(len(order), forecast.axis.n),
        float(forecast.mean.sum()),
        pairs,
        fit.label,
        fit.sum_unit,
    )


def _half(fit: Fitted, pairs: Sequence[tuple[Forecast, Forecast]]) -> Array:
    """How far the 95 % intervals (J,) of the differences of several pairs of totals reach, from the coefficients."""
    if not pairs:
        return np.zeros(0)
    known, ahead = (
        np.array([end.mean_gradient[i].sum(axis=0) - start.mean_gradient[i].sum(axis=0) for end, start in pairs])
        for i in (0, 1)
    )
    errors = np.hypot(fit.estimate.standard_errors(known), np.linalg.norm(ahead, axis=1))
    return np.asarray(quantile(0.975, fit.estimate.dof) * errors)


def _apart(fit: Fitted, one: str, other: str) -> bool:
    """Whether the changes of two columns add on the working scale: no term looks at both, none is a factor."""
    find = fit.view.sources.find
    columns = [{find(each) for each in term.needs()} for term in fit.model.terms]
    limited = fit.model.lower_limit is not None or fit.model.upper_limit is not None
    factors = any(slot.factor for slot in fit.layout.slots)
    shared = any({find(one), find(other)} <= each for each in columns)
    return fit.scale.plain and not (limited or factors or shared)


def _joined(forecast: Forecast, one: Forecast, other: Forecast) -> Array:
    """The means (h,) with both changes, where these add on the working scale: on the log scale they multiply."""
    scale, factor = forecast.fit.scale, forecast.path.factor
    if not scale.log:
        return np.asarray(one.mean + other.mean - forecast.mean)
    base, first, second = (each.mean * factor + scale.offset for each in (forecast, one, other))
    return np.asarray((first * second / base - scale.offset) / factor)


def sensitivity_rows(found: Sensitivity, fit: Fitted) -> pd.DataFrame:
    """Rows of ``sensitivity.csv``: one a driver for the total, and one for each period."""
    total = found.table.copy()
    total.insert(2, "period", "total")
    frames = [total.drop(columns="percent")]
    periods = iso(found.axis.index, fit)
    for name, change, effect in zip(found.drivers, found.changes, found.by_period, strict=True):
        frames.append(pd.DataFrame({"driver": name, "change": change, "period": periods, "total": effect}))
    return keyed(pd.concat(frames, ignore_index=True).rename(columns={"total": "effect"}), fit, AS_PLANNED)


register(
    Entry(
        "sensitivity",
        title="What moves the forecast most",
        of=lambda study, name: alone(study.sensitivities.get(name)),
        text={"explain": str},
        figure_for=["explain"],
        files={"sensitivity": sensitivity_rows},
        files_for=["explain"],
        rank=45,
    )
)
