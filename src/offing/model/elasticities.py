"""Elasticities: by how many percent the target changes with one percent more of a driver."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import percent, text_table
from offing.calendar import Axis
from offing.engine import quantile
from offing.model.driver_effects import in_the_long_run
from offing.model.fit_state import FitState
from offing.tables import View
from offing.terms import Driver

#: A driver is moved by this share up and down: far above rounding, and so small that curves are straight.
_MOVE = 1e-4


@dataclass(frozen=True)
class Elasticities(Result, figure="bars.draw_elasticities"):
    """Elasticities of the drivers. Made by `offing.elasticities`.

    Attributes
    ----------
    drivers, labels
        Names of the drivers (J,) and what people call them.
    overall, low, high
        Elasticity (J,) over all fitted periods, each counted with its fitted mean, with a 95 % interval.
    axis
        The fitted periods.
    by_period
        Elasticity of every driver in every period (J, n), NaN where it is unknown.
    target
        What is forecast.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=60, freq="D")
    >>> fare = np.tile([4.0, 5.0, 6.0], 20)
    >>> sold = 90.0 * fare**-0.5 * np.exp(np.tile([0.01, -0.01], 30))
    >>> data = pd.DataFrame({"sold": sold, "fare": fare}, days)
    >>> fit = of.Model("sold", terms=[of.Driver("fare", transform=["log"])], scale="log").fit(data)
    >>> print(of.elasticities(fit))
      driver  elasticity    low   high  10 % more
      fare         -0.50  -0.52  -0.48     −4.7 %
    """

    drivers: tuple[str, ...]
    labels: tuple[str, ...]
    overall: Array
    low: Array
    high: Array
    axis: Axis
    by_period: Array
    target: str

    @property
    def drawable(self) -> bool:
        """Whether there are drivers."""
        return bool(self.drivers)

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a driver: ``driver, elasticity, low, high``."""
        columns = {"driver": list(self.drivers), "elasticity": self.overall, "low": self.low, "high": self.high}
        return pd.DataFrame(columns)

    @cached_property
    def periods(self) -> pd.DataFrame:
        """One row a period, one column a driver."""
        return pd.DataFrame(self.by_period.T, index=self.axis.index, columns=list(self.drivers))

    @property
    def sentences(self) -> str:
        """What ten percent more of each driver does."""
        return "\n".join(
            f"A 10 % higher '{label}' {_moves(value)} {self.target} by {_ten(value)[1:]} ({_between(low, high)})."
            for label, value, low, high in zip(self.labels, self.overall, self.low, self.high, strict=True)
        )

    def __str__(self) -> str:
        if not self.drivers:
            return "There are no drivers that are positive throughout."
        numbers = [[f"{each:.2f}" for each in values] for values in (self.overall, self.low, self.high)]
        ten = [_ten(value) for value in self.overall]
        return text_table(["driver", "elasticity", "low", "high", "10 % more"], [list(self.labels), *numbers, ten])


def _ten(elasticity: float) -> str:
    """What ten percent more of a driver makes of the target."""
    return percent(float(1.1**elasticity - 1.0))


def _moves(elasticity: float) -> str:
    return "lowers" if elasticity < 0.0 else "raises"


def _between(low: float, high: float) -> str:
    """The 95 % interval in words, from the end that is nearer to zero; signed where it includes zero."""
    if low * high <= 0.0:
        return f"95 % interval {_ten(low)} to {_ten(high)}, which includes zero"
    near, far = sorted((low, high), key=abs)
    return f"95 % interval {_ten(near)[1:]} to {_ten(far)[1:]}"


def elasticities(fit: FitState) -> Elasticities:
    """Elasticity of the target to each driver whose values are positive throughout, computed by running the model.

    The driver is moved a little up and down in all periods, so that transformations, lags, carry-over and bases are
    carried through. On the log scale a logged driver's elasticity is its coefficients' sum; elsewhere it differs from
    period to period, and the one over all periods weights each with its mean. Intervals count the coefficients, with
    the means held.

    Raises
    ------
    InputError
        If the model is one of changes.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=60, freq="D")
    >>> fare = np.tile([4.0, 5.0, 6.0], 20)
    >>> data = pd.DataFrame({"sold": 90.0 - 5.0 * fare + np.tile([0.1, -0.1], 30), "fare": fare}, days)
    >>> of.elasticities(of.Model("sold", terms=[of.Driver("fare")]).fit(data)).table["elasticity"].round(3).tolist()
    [-0.385]
    """
    if not fit.scale.plain:
        raise InputError(
            f"the model is one of {fit.scale.name(fit.column)}, whose shares are none of the target's",
            "Fit the target itself.",
            key="transform",
        )
    drivers = [term for term in fit.model.drivers if _positive(fit, term)]
    found = [_elasticity(fit, driver) for driver in drivers]
    overall, low, high = (np.array([each[i] for each in found]) for i in range(3))
    by_period = np.array([each[3] for each in found]).reshape(len(found), fit.axis.n)
    labels = tuple(fit.label_of(driver) for driver in drivers)
    names = tuple(str(driver.name) for driver in drivers)
    return Elasticities(names, labels, overall, low, high, fit.axis, by_period, fit.label)


def _positive(fit: FitState, driver: Driver) -> bool:
    if any(step.is_change for step in driver.steps):
        return False  # a percentage more throughout is no change
    known = fit.seen(driver.data)
    return len(known) > 0 and bool((known > 0.0).all())


def _elasticity(fit: FitState, driver: Driver) -> tuple[float, float, float, Array]:
    """Elasticity over all periods with its interval, and that of each period (n,)."""
    # Only the terms that look at the driver add something else.
    places = [place for place, term in enumerate(fit.model.terms) if driver.data in term.needs()]
    moved = [
        _parts(fit, fit.view.scaling(driver.data, factor), places) for factor in (1.0 + _MOVE, 1.0 / (1.0 + _MOVE))
    ]
    span = 2.0 * np.log1p(_MOVE)
    change = (moved[0][0] - moved[1][0]) / span
    means = fit.mean_of(fit.explained, fit.noise, fit.factor)
    worth = ((means * fit.factor + fit.scale.offset) if fit.scale.log else np.ones(fit.axis.n)) / (means * fit.factor)
    by_period = change * worth
    used = fit.used & np.isfinite(by_period)
    weights = means[used] / means[used].sum()
    weight = np.zeros(fit.axis.n)
    weight[used] = weights * worth[used] / span
    gradient = np.zeros(fit.layout.k)
    for (at, slope), (_, other) in zip(moved[0][1], moved[1][1], strict=True):
        gradient[at] += weight[used] @ (slope - other)[used]
    overall = float(weights @ by_period[used])
    longer, gradient = in_the_long_run(fit, overall, gradient[None, :])
    half = float(quantile(0.975, fit.estimate.dof) * fit.estimate.standard_errors(gradient)[0])
    by_period, overall = by_period * (longer / overall if overall else 1.0), longer
    return overall, overall - half, overall + half, by_period


def _parts(fit: FitState, view: View, places: list[int]) -> tuple[Array, list[tuple[np.ndarray, Array]]]:
    """What the terms at `places` add together (n,), and the derivatives (n, m) by the coefficients at some places."""
    blocks = list(fit.rows.blocks)
    for place in places:
        term = fit.model.terms[place]
        blocks[place] = term.block(view, fit.axis, fit.states[str(term.name)])
    design = replace(fit.rows, blocks=tuple(blocks))
    total, slopes = np.zeros(fit.axis.n), []
    for place in places:
        part = design.part(place, fit.estimate.beta)
        total = total + part.value
        own = fit.layout.slots[place].places
        slopes.append((own, part.own) if part.whole is None else (np.arange(fit.layout.k), part.whole))
    return total, slopes
