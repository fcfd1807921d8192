"""How much each of a faster driver's values before the end of a period counts."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.base.results import Entry, Result, by_name, register, sentence_of
from offing.base.text import number, text_table, wrapped
from offing.engine import quantile
from offing.explain.term_lookup import term_named
from offing.model.fitted import Fitted
from offing.model.rows import keyed
from offing.model.simulated_intervals import drawn_coefficients, needs_draws
from offing.model.weight_tests import WeightTests, weight_tests
from offing.terms import Driver, LagWeights

_TAILS = (0.025, 0.975)


@dataclass(frozen=True)
class LagCurve(Result, figure="lag_weights.draw_lag_weights"):
    """The coefficients of a driver's lags. Made by `offing.lag_weights`.

    Attributes
    ----------
    driver, label, unit, kind
        The term, what people call it, the unit of its periods, and the kind of its weights.
    target, target_unit
        What the coefficients are effects on, and its unit on the level scale.
    lag
        How many of its periods (m,) lie between the end of the target's period and the end of each.
    coefficient, low, high
        What one more of it in that period alone does to what is fitted (m,), with 95 % intervals.
    slope, slope_low, slope_high
        What one more in every period of the span does: their sum, with its interval.
    tests
        Flat weights against these, these against free ones, and the free coefficients.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(1)
    >>> bookings = pd.Series(generator.normal(50.0, 5.0, 126), pd.period_range("2015-01", periods=126, freq="M"))
    >>> b = bookings.to_numpy()
    >>> orders = pd.Series([9.0 + b[i + 2] + 3.0 * b[i + 1] + generator.normal() for i in range(6, 126, 3)],
    ...                    pd.period_range("2015Q3", periods=40, freq="Q"), name="orders")
    >>> tables = {"orders": of.read(orders), "bookings": of.read(bookings.rename("index"))}
    >>> model = of.Model("orders.orders", terms=[of.Driver("bookings.index", weights="free", span=3)])
    >>> found = of.lag_weights(model.fit(tables))
    >>> found.table["coefficient"].round(0).abs().tolist(), round(found.slope)
    ([1.0, 3.0, 0.0], 4)
    """

    driver: str
    label: str
    unit: str
    kind: str
    target: str
    target_unit: str
    lag: Array
    coefficient: Array
    low: Array
    high: Array
    slope: float
    slope_low: float
    slope_high: float
    tests: WeightTests

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a lag: ``lag, coefficient, low, high, weight, free, free_low, free_high``.

        ``weight`` is the share of the slope; the last three are the unrestricted coefficient with its interval.
        """
        weight = self.coefficient / self.slope if self.slope else np.full(len(self.lag), np.nan)
        return pd.DataFrame(
            {
                "lag": self.lag,
                "coefficient": self.coefficient,
                "low": self.low,
                "high": self.high,
                "weight": weight,
                "free": self.tests.free,
                "free_low": self.tests.low,
                "free_high": self.tests.high,
            }
        )

    @property
    def sentence(self) -> str:
        """What one more throughout does, and which part of the span counts most."""
        share = self.coefficient / self.slope if self.slope else np.zeros(len(self.lag))
        whole = (
            f"One more of '{self.label}' in every {self.unit} of the span {'lowers' if self.slope < 0.0 else 'raises'} "
            f"{self.target} by {number(abs(self.slope))}{f' {self.target_unit}' if self.target_unit else ''} (95 %: "
            f"{number(self.slope_low)} to {number(self.slope_high)})"
        )
        if self.kind == "flat":
            return f"{whole}, each {self.unit} alike."
        top = int(np.argmax(share))
        back = int(self.lag[top])
        at = "the newest" if back == 0 else f"that of {count(back, self.unit)} before the newest"
        half = int(np.searchsorted(np.cumsum(np.maximum(share, 0.0)), 0.5 * np.maximum(share, 0.0).sum())) + 1
        return f"{whole}; most counts {at}, and half of it the newest {half} of {len(self.lag)} {self.unit}s."

    @property
    def sentences(self) -> str:
        """The sentence, and what the tests say."""
        lines = [self.sentence]
        if self.tests.timing is not None and self.kind != "flat":
            p = self.tests.timing[2]
            irregular = " The slope is near zero, so that this test is irregular." if self.tests.irregular else ""
            lines.append(f"That timing does not matter has p {_chance(p)}.{irregular}")
        if self.tests.curve is not None:
            lines.append(f"That {self.kind} weights suffice beside free ones has p {_chance(self.tests.curve[2])}.")
        return " ".join(lines)

    def __str__(self) -> str:
        shown = self.table[["coefficient", "low", "high", "weight", "free"]]
        cells = [[f"{lag:.0f}" for lag in self.lag]]
        cells += [[number(v) if np.isfinite(v) else "" for v in shown[name]] for name in shown]
        return f"{wrapped(self.sentences)}\n\n{text_table([f'{self.unit} lag', *shown.columns], cells)}"


def _chance(p: float) -> str:
    return "below 0.001" if p < 0.001 else f"{p:.3f}"


def lag_weights(fit: Fitted, driver: str | None = None) -> LagCurve:
    """How much each value of a driver with weights over its lags counts, with intervals and tests of the weights.

    Of curves with shape parameters the intervals come from the derivative by slope and shapes, or from 1,000 seeded
    draws where a shape lies at a bound or is badly known. Timing is tested by flat weights against these, the curve by
    free ones (F); where the slope is near zero the first is irregular (Davies 1977).

    Parameters
    ----------
    driver
        Name of the term; may be left out where there is one driver only.

    Raises
    ------
    InputError
        If there is no such driver, or it has no weights.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(2)
    >>> bookings = pd.Series(generator.normal(50.0, 5.0, 126), pd.period_range("2015-01", periods=126, freq="M"))
    >>> orders = pd.Series(generator.normal(9.0, 1.0, 40), pd.period_range("2015Q3", periods=40, freq="Q"))
    >>> tables = {"orders": of.read(orders.rename("orders")), "bookings": of.read(bookings.rename("index"))}
    >>> model = of.Model("orders.orders", terms=[of.Driver("bookings.index", weights="beta", span=4)])
    >>> of.lag_weights(model.fit(tables)).tests.irregular
    True
    """
    weighted = [str(each.name) for each in fit.model.drivers if each.weights is not None]
    term = term_named(fit, Driver, weighted[0] if driver is None and len(weighted) == 1 else driver, "driver")
    if term.weights is None:
        raise InputError(f"'{term.name}' has no weights over its lags", "Ask of.lag_profile.", key="driver")
    place = [slot.term for slot in fit.layout.slots].index(str(term.name))
    places, weights = fit.layout.slots[place].places, LagWeights.of(term)
    value, functions = _coefficients(weights, fit.estimate.beta[places])
    wide = np.zeros((weights.span + 1, fit.layout.k))
    wide[:, places] = np.vstack([functions, functions.sum(axis=0)])
    noted = np.append(value, value.sum())
    if needs_draws(fit, place) and weights.curve is not None:
        drawn = np.array([_coefficients(weights, beta)[0] for beta in drawn_coefficients(fit)[places].T])
        low, high = np.quantile(np.column_stack([drawn, drawn.sum(axis=1)]), _TAILS, axis=0)
    else:
        reach = float(quantile(0.975, fit.estimate.dof)) * fit.estimate.standard_errors(wide)
        low, high = noted - reach, noted + reach
    return LagCurve(
        str(term.name),
        fit.label_of(term),
        fit.view.frequency(term.data).unit,
        str(term.weights),
        fit.scale.name(fit.label),
        fit.unit if fit.scale.plain and not fit.scale.log else "",
        weights.skip + np.arange(weights.span, dtype=np.float64),
        value,
        low[:-1],
        high[:-1],
        float(noted[-1]),
        float(low[-1]),
        float(high[-1]),
        weight_tests(fit, term),
    )


def _coefficients(weights: LagWeights, beta: Array) -> tuple[Array, Array]:
    """The lags' coefficients (span,) from those of the term (m,), and their derivatives (span, m)."""
    found = weights.coefficients(beta)
    if weights.curve is None:
        return found, weights.basis
    own = weights.curve.weights(beta[None, 1:])[0]
    return found, np.column_stack([own, beta[0] * weights.curve.slopes(beta[1:])])


def weight_rows(found: LagCurve, fit: Fitted) -> pd.DataFrame:
    """Rows of ``weights.csv``: one a lag of a driver."""
    rows = found.table.copy()
    rows.insert(0, "term", found.driver)
    return keyed(rows, fit, "")


def _weights(study: Any, name: str) -> dict[str, Any]:
    fit = study.fits[name]
    return by_name({each: lag_weights(fit, each) for each in weighted_drivers(fit)}, always=True)


def weighted_drivers(fit: Fitted) -> list[str]:
    """Names of the drivers with weights over their lags."""
    return [str(term.name) for term in fit.model.drivers if term.weights is not None]


register(
    Entry(
        "weights",
        title="Weights over lags",
        of=_weights,
        text={"explain": sentence_of},
        joined=True,
        figure_for=["explain"],
        files={"weights": weight_rows},
        files_for=["explain"],
        rank=14,
    )
)
