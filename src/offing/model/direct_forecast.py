"""Forecasts by one equation for each horizon, instead of a recursion through the target's own lags."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError, Progress
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.model.contributions import Contributions, additive
from offing.model.decomposition import Account
from offing.model.fitted import Fitted
from offing.model.forecast import Forecast
from offing.model.make_forecast import Assumptions, forecast
from offing.tables import MARKS, Panel, Table, View
from offing.tables.overlay import MODELLED, Expected
from offing.terms import Term

#: Each horizon is a fit of its own.
_MOST = 200


@dataclass(frozen=True)
class DirectForecast(Forecast):
    """A forecast whose every period comes from an equation of its own, in which all lags are known at the origin.

    `parts` are forecasts from these, the i-th up to the i-th period, of which the last one counts. Nothing ties the
    periods together, so that there are no intervals of sums and no joint paths.
    """

    parts: tuple[Forecast, ...] = ()

    @property
    def mean(self) -> Array:
        """Forecast means (h,)."""
        return np.array([part.mean[-1] for part in self.parts])

    def quantiles(self, probabilities: Sequence[float]) -> pd.DataFrame:
        """Values that the outcome stays below with the given probabilities, from each period's own equation."""
        return pd.concat([part.quantiles(probabilities).iloc[[-1]] for part in self.parts])

    @property
    def spread(self) -> Array:
        """Standard error (h,) of η from the coefficients, each of its own equation."""
        return np.array([part.spread[-1] for part in self.parts])

    @property
    def cov_root(self) -> Array:
        """There is none.

        Raises
        ------
        InputError
            Always: separate equations do not say how periods vary together.
        """
        raise InputError(
            "equations by horizon do not say how the periods vary together",
            'Use method = "recursion" for totals and agreement.',
            key="method",
        )

    @cached_property
    def account(self) -> Account:
        """The means taken apart, of which only the amounts are known: each has an equation of its own."""
        return additive(self.contributions)

    @cached_property
    def contributions(self) -> Contributions:
        """What every term contributes to each forecast mean, by that period's equation."""
        each = [part.contributions for part in self.parts]
        values, low, high = (np.array([getattr(c, key)[:, -1] for c in each]).T for key in ("values", "low", "high"))
        return replace(each[-1], axis=self.axis, values=values, low=low, high=high, mean=self.mean)

    @cached_property
    def drivers(self) -> pd.DataFrame:
        """The drivers' values that the forecast rests on; of published lags none is expected."""
        found = super().drivers
        return found[found["mark"] != MARKS[MODELLED]] if not self.parts[-1].outlooks else found

    @property
    def sentence(self) -> str:
        """What the widest band means, in one sentence."""
        return f"{super().sentence[:-1]}, of each horizon's own equation."


def by_horizon(
    fit: Fitted,
    horizon: int | None,
    until: object,
    plan: Table | Panel | pd.DataFrame | Mapping[str, Table | Panel] | None,
    levels: Sequence[float],
    *,
    direct: bool,
    shifted: bool,
    expect: bool = False,
    scenario: Assumptions | None = None,
) -> DirectForecast:
    """A forecast with an equation for each horizon; see ``Fit.forecast``.

    Of a `direct` one the own lags count from the origin; of a `shifted` one drivers of another frequency have the lags
    whose values are published.
    """
    own = fit.model.own_lags
    if direct and own is None:
        raise InputError(
            "equations by horizon differ in the target's own lags, and the model has none",
            "Leave out way, or add own lags.",
            key="method",
        )
    whole = forecast(fit, horizon, until, plan, levels, expect=expect, scenario=scenario)
    if whole.axis.n > _MOST:
        raise InputError(
            f"{whole.axis.n} periods ahead are as many fits", f"Forecast at most {_MOST} directly.", key="method"
        )
    parts: list[Forecast] = []
    with Progress("fitting an equation for each horizon") as progress:
        for h in range(1, whole.axis.n + 1):
            view = whole.view.without(Expected)
            terms = [
                _later(term, view, whole.axis.part(h - 1, h), h, direct=direct, shifted=shifted)
                for term in fit.model.terms
                if not term.from_treatment
            ]
            same = terms == list(fit.model.terms)
            parts.append(
                forecast(fit if same else fit.again(terms), h, None, plan, levels, expect=expect, scenario=scenario)
            )
            progress.update(h / whole.axis.n)
    # Intervals of contributions may be simulated: the rows' names are had without them.
    if len({tuple(row.name for row in part.account.rows) for part in parts}) > 1:
        raise InputError(
            "the equations of some horizons have no level to come back to, those of others have",
            'Use method = "recursion".',
            key="method",
        )
    return DirectForecast(
        whole.fit,
        whole.view,
        whole.axis,
        whole.rows,
        whole.levels,
        scenario=whole.scenario,
        assumed=whole.assumed,
        parts=tuple(parts),
    )


def _later(term: Term, view: View, axis: Axis, h: int, *, direct: bool, shifted: bool) -> Term:
    """The term in the equation for the h-th period, which `axis` is."""
    later = term.at_horizon(h) if direct else term
    return later.with_known_lags(view, axis) if shifted else later
