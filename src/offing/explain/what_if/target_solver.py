"""Goal seeking: which value of a driver makes the forecast add up to a stated total."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal, get_args

import numpy as np
import pandas as pd
from scipy.optimize import brentq, minimize_scalar

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.base.results import Entry, Result, numbered, register
from offing.base.text import number, signed, wrapped
from offing.explain.date_spans import Span, named_span
from offing.model import Forecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.model.reapply import rerun
from offing.model.rows import keyed
from offing.outlook import Rule, Scenario, Shift, Stated, driver_column

How = Literal["constant", "percent", "amount"]
#: Values between the limits that are tried first: a total that rises and falls again may pass the goal twice.
_TRIED = 33


@dataclass(frozen=True)
class Solution(Result, figure="adjusted.draw_solution"):
    """The value of a driver that reaches a total, or the nearest that can be. Made by `offing.solve_for`.

    Attributes
    ----------
    forecast
        The forecast with the driver there.
    driver, how, value
        Which driver, what is sought of it (a ``constant`` value, a ``percent`` or ``amount`` more than planned), and
        what was found.
    goal, reached
        The total that is asked for, and the one that is reached.
    low, high
        The limits within which it was sought.
    others
        Further values that reach the goal as well.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> fare = 20.0 + np.tile([0.0, 1.0, 3.0], 12)
    >>> sold = pd.DataFrame({"sold": 900.0 - 10.0 * fare + np.tile([1.0, -1.0], 18), "fare": fare}, months)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(sold)
    >>> plan = pd.DataFrame({"fare": 25.0}, pd.period_range("2025-01", periods=3, freq="M"))
    >>> found = of.solve_for(fit.forecast(3, plan=plan), "fare", 2070.0)
    >>> found.met, round(found.value, 3)
    (True, 21.0)
    """

    forecast: Forecast
    driver: str
    how: How
    value: float
    goal: float
    reached: float
    low: float
    high: float
    others: tuple[float, ...]
    unit: str

    @property
    def met(self) -> bool:
        """Whether the goal is reached."""
        return bool(abs(self.reached - self.goal) <= 1e-6 * max(abs(self.goal), 1e-300))

    @property
    def path(self) -> pd.Series:
        """The driver's values over the forecast."""
        rows = self.forecast.drivers
        own = rows[rows["driver"] == self.driver]
        return pd.Series(own["value"].to_numpy(), own["period"], name=self.driver)

    @property
    def sentence(self) -> str:
        """What reaches the goal; or that nothing does, and what comes nearest."""
        target = f" {self.forecast.fit.sum_unit}" if self.forecast.fit.unit else ""
        within = f"between {self._said(self.low)} and {self._said(self.high)}"
        span = self.forecast.axis.spell()
        if not self.met:
            return (
                f"No '{self.driver}' {within} makes the total of {span} {number(self.goal, 4)}{target}: the nearest is "
                f"{self._said(self.value)}, with {number(self.reached, 4)}."
            )
        more = f" So would {' and '.join(self._said(each) for each in self.others)}." if self.others else ""
        return (
            f"'{self.driver}' {self._said(self.value)} makes the total of {span} {number(self.goal, 4)}{target} "
            f"(sought {within}).{more}"
        )

    def _said(self, value: float) -> str:
        if self.how == "percent":
            return f"{signed(value)} %"
        return f"{number(value, 4) if self.how == 'constant' else signed(value, 4)} {self.unit}".strip()

    def __str__(self) -> str:
        return wrapped(self.sentence)

    @property
    def table(self) -> pd.DataFrame:
        """One row a period: the driver's value."""
        return self.path.to_frame()


def solve_for(
    forecast: Forecast,
    driver: str,
    total: float,
    *,
    how: How = "constant",
    limits: tuple[float, float] | None = None,
    span: Span | None = None,
) -> Solution:
    """Seek the value of a driver with which a forecast adds up to a total.

    Parameters
    ----------
    forecast, driver
        Of what, and which driver by its name.
    total
        What the forecast means are to add up to.
    how
        A ``constant`` value throughout; or a ``percent`` or an ``amount`` more than is planned, which
        keeps the plan's shape.
    limits
        Between which it is sought. By default the values seen in the past, or half and double of what is planned; an
        amount as far as the values seen lie apart.
    span
        The periods that are summed and in which the driver is changed, as for `offing.walk`; by default all.

    Returns
    -------
    Sought
        The value nearest to what is planned, where several reach the goal; where none does, the nearest within the
        limits, and ``met`` is false.

    Raises
    ------
    InputError
        For numbers that mean nothing, an unknown driver, or one that does not move the forecast at all.

    Notes
    -----
    The model is run at 33 values between the limits, and where the total passes the goal between two of them the place
    is found by Brent's method (Brent 1973); where it turns back in between, the turn is looked for first.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> fare = 20.0 + np.tile([0.0, 1.0, 3.0], 12)
    >>> sold = pd.DataFrame({"sold": 900.0 - 10.0 * fare + np.tile([1.0, -1.0], 18), "fare": fare}, months)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(sold)
    >>> plan = pd.DataFrame({"fare": 25.0}, pd.period_range("2025-01", periods=3, freq="M"))
    >>> print(of.solve_for(fit.forecast(3, plan=plan), "fare", 9000.0, how="percent"))
    No 'fare' between −50 % and +100 % makes the total of 3 months from 2025-01 to 2025-03 9,000: the nearest is −50 %,
      with 2,325.
    """
    fit = forecast.fit
    if how not in get_args(How):
        raise InputError(f"found {how!r}", nearest(str(how), get_args(How)), key="how")
    if isinstance(total, bool) or not isinstance(total, (int, float, np.number)) or not np.isfinite(total):
        raise InputError(f"found {total!r}", "Give a number.", key="total")
    reference = driver_column(fit, driver)
    seen = fit.seen(reference)
    usual = {
        "constant": (float(seen.min()), float(seen.max())),
        "percent": (-50.0, 100.0),
        "amount": (-float(np.ptp(seen)), float(np.ptp(seen))),
    }[how]
    low, high = (float(each) for each in (limits or usual))
    if not (np.isfinite(low) and np.isfinite(high) and low < high):
        raise InputError(f"found {limits!r}", "Give two numbers, the lower one first.", key="limits")
    axis = forecast.axis
    inside = np.ones(axis.n, dtype=bool)
    dates: dict[str, object] = {}
    if span is not None:
        own = named_span(span, axis)
        inside = (axis.ordinals >= own.first) & (axis.ordinals < own.first + own.n)
        if not inside.any():
            raise InputError(f"no period of {axis.spell()} lies in {span}", "Give a span among them.", key="span")
        dates = {"since": own.index[0], "until": own.index[-1]}

    def rule(value: float) -> Rule:
        return Stated(value, **dates) if how == "constant" else Shift(**{how: value}, **dates)  # type: ignore[arg-type]

    def run(value: float) -> Forecast:
        return rerun(forecast, Scenario("sought", {driver: rule(value)}).on(fit, forecast.view, axis)[0])

    def gap(value: float) -> float:
        return float(run(value).mean[inside].sum()) - float(total)

    grid = np.linspace(low, high, _TRIED)
    gaps = np.array([gap(value) for value in grid.tolist()])
    if np.ptp(gaps) <= 1e-12 * max(abs(float(total)), 1e-300):
        raise InputError(
            f"'{driver}' does not move the forecast in these periods", "Ask for another driver.", key="driver"
        )
    found = _roots(gap, grid, gaps)
    planned = float(np.nanmean(forecast.view.known(reference, forecast.view.native(reference, axis)).values))
    found.sort(key=lambda value: abs(value - (planned if how == "constant" else 0.0)))
    best = found[0] if found else float(grid[int(np.argmin(np.abs(gaps)))])
    ahead = run(best)
    unit = fit.view.sources.unit(reference)
    return Solution(
        ahead, driver, how, best, float(total), float(ahead.mean[inside].sum()), low, high, tuple(found[1:]), unit
    )


def _roots(gap: Callable[[float], float], grid: Array, gaps: Array) -> list[float]:
    """Where the gap is nothing: between values where it changes sign, and beside a turn that may pass it in between."""
    places, values = grid.tolist(), gaps.tolist()
    for i, value in enumerate(gaps.tolist()):
        beside = [j for j in (i - 1, i + 1) if 0 <= j < len(grid)]
        if value and all(gaps[j] * value > 0.0 and abs(gaps[j]) >= abs(value) for j in beside):
            edges = float(grid[max(i - 1, 0)]), float(grid[min(i + 1, len(grid) - 1)])
            sign = float(np.sign(value))
            turn = minimize_scalar(lambda x, sign=sign: sign * gap(x), bounds=edges, method="bounded")
            at = [j for j, other in enumerate(places) if other < turn.x]
            places.insert(len(at), float(turn.x))
            values.insert(len(at), sign * float(turn.fun))
    near = 1e-12 * max(float(np.abs(grid).max()), 1e-12)
    found = [place for place, value in zip(places, values, strict=True) if value == 0.0]
    for (low, before), (high, after) in pairwise(zip(places, values, strict=True)):
        if before * after < 0.0:
            found.append(float(brentq(gap, low, high, xtol=near, rtol=1e-14)))
    return found


def solution_rows(found: list[Solution], fit: Fitted) -> pd.DataFrame:
    """Rows of ``solutions.csv``: one row per goal."""
    rows = [
        (each.driver, each.how, each.goal, each.value, each.reached, each.met, each.low, each.high) for each in found
    ]
    return keyed(
        pd.DataFrame(rows, columns=["driver", "how", "goal", "value", "reached", "met", "low", "high"]), fit, AS_PLANNED
    )


register(
    Entry(
        "solution",
        title="What would reach a total",
        of=lambda study, name: numbered(study.solutions[name]),
        text={"explain": str},
        figure_for=["explain"],
        files={"solutions": lambda found, fit: solution_rows([found], fit)},
        files_for=["explain"],
        rank=46,
        options=solve_for,
        requests="solve",
    )
)
