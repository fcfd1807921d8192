"""Whether the weights over a driver's lags matter, and whether their curve is the right one: against other weights."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import fdtrc

from offing.base import Finding, Verdict
from offing.base.arrays import Array
from offing.engine import Estimate, TooFewRowsError, least_squares, quantile
from offing.model.fit_state import FitState
from offing.terms import Driver, LagWeights

#: Chances at which a finding is made of the timing, and of the curve.
_TELLS_NOTHING, _WRONG = 0.1, 0.001
#: With a smaller t of the flat slope, not significant at about 5 %, the shape of the weights is not identified.
_NEAR_ZERO = 2.0


@dataclass(frozen=True)
class WeightTests:
    """F, degrees of freedom and chance: of flat weights against the fitted ones, and of these against free ones.

    `free` (span,) are the unrestricted coefficients with 95 % limits; NaN, and no test of the curve, where the rows do
    not suffice for them. `slope_t` is that of flat weights.
    """

    timing: tuple[float, int, float] | None
    curve: tuple[float, int, float] | None
    slope_t: float
    free: Array
    low: Array
    high: Array

    @property
    def irregular(self) -> bool:
        """Whether the slope is so near zero that the test of the timing has another distribution than it assumes."""
        return abs(self.slope_t) < _NEAR_ZERO


def weight_tests(fit: FitState, driver: Driver) -> WeightTests:
    """The tests of a driver's weights, beside all other columns of the fit as they are.

    The usual F of nested least squares, on rows freed of the noise's dynamics. Where the slope is zero the shape is not
    identified, and the test of flat weights against a curve is irregular (Davies 1977).
    """
    place = fit.model.terms.index(driver)
    slot, weights = fit.layout.slots[place], LagWeights.of(driver)
    lags = driver.lag_values(fit.view, fit.axis, fit.states[slot.term])[fit.used]
    others = np.delete(fit.design[fit.used], slot.places, axis=1)
    ratios = np.delete(fit.estimate.ratios, slot.places)
    own = fit.design[fit.used][:, slot.places] @ fit.estimate.beta[slot.places]
    aim = fit.residual[fit.used] + others @ np.delete(fit.estimate.beta, slot.places) + own
    # The part of the driver is b w(θ)'x, not its linearisation.
    aim += fit.rows.part(place, fit.estimate.beta).value[fit.used] - own

    def against(columns: Array) -> Estimate | None:
        try:
            return least_squares(
                np.column_stack([others, columns]),
                aim,
                chain=fit.estimate.chain,
                ratios=np.append(ratios, np.full(columns.shape[1], np.inf)),
            )
        except TooFewRowsError:
            return None

    span, taken = weights.span, weights.columns
    flat, free = against(lags.mean(axis=1, keepdims=True)), against(lags)
    drawn = weights.kind == "smooth"
    nothing = np.full(span, np.nan)
    low = high = coefficients = nothing
    if free is not None:
        coefficients = free.beta[-span:]
        functions = np.eye(len(free.beta))[-span:]
        reach = float(quantile(0.975, free.dof)) * free.standard_errors(functions)
        low, high = coefficients - reach, coefficients + reach
    curve = timing = None
    if free is not None and not drawn and weights.kind != "free":
        curve = _f(fit.estimate.rss, free.rss, span - taken, free.dof)
    if flat is not None and free is not None and (drawn or taken in (1, span)):
        timing = _f(flat.rss, free.rss, span - 1, free.dof)
    elif flat is not None and not drawn:
        timing = _f(flat.rss, fit.estimate.rss, taken - 1, fit.estimate.dof)
    slope = 0.0
    if flat is not None:
        function = np.eye(len(flat.beta))[-1:]
        slope = float(flat.beta[-1] / max(flat.standard_errors(function)[0], 1e-300))
    return WeightTests(timing, curve, slope, coefficients, low, high)


def _f(restricted: float, whole: float, count: int, dof: float) -> tuple[float, int, float] | None:
    if count <= 0 or whole <= 0.0:
        return None
    value = max(restricted - whole, 0.0) / count / (whole / dof)
    return value, count, float(fdtrc(count, dof, value))


def weights_examined(fit: FitState) -> tuple[Verdict, ...]:
    """Findings where the timing of a driver's values shows nothing, or where its curve is not what the data want."""
    found: list[Verdict] = []
    for term in fit.model.drivers:
        if term.weights is None or term.span == 1:
            continue
        tests, name, unit = weight_tests(fit, term), str(term.name), fit.view.frequency(term.data).unit
        if tests.timing is not None:
            value, count, p = tests.timing
            irregular = (
                " Its slope is near zero, so that the weights have nothing to hold on to and this test is irregular."
                if tests.irregular
                else ""
            )
            noted = Finding(
                "timing",
                "note",
                f"Which {unit} of '{name}' counts cannot be determined: flat weights fit about as well (p {p:.2f})."
                f"{irregular}",
                name,
                'weights = "flat" says the same with fewer coefficients.',
                {"F": value, "p": p},
            )
            says = p > _TELLS_NOTHING and term.weights != "flat"
            found.append(
                Verdict(
                    "timing", f"F of flat weights of '{name}', {count} more", value, np.nan, p, (noted,) if says else ()
                )
            )
        if tests.curve is not None:
            value, count, p = tests.curve
            noted = Finding(
                "weights",
                "warning",
                f"The data want other weights of '{name}' than {term.weights} ones: free ones fit significantly "
                f"better (p {'below 0.001' if p < 0.001 else f'{p:.3f}'}).",
                name,
                "Look at of.lag_weights, and try other weights or a longer span.",
                {"F": value, "p": p},
            )
            found.append(
                Verdict(
                    "weights",
                    f"F of free weights of '{name}', {count} more",
                    value,
                    np.nan,
                    p,
                    (noted,) if p < _WRONG else (),
                )
            )
    return tuple(found)
