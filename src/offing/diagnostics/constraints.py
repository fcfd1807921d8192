"""Checks of what was asked of coefficients beforehand: expected signs, bounds and values against what the data say."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from offing.base import Finding
from offing.engine import Estimate, quantile

#: Standard errors between the data and an expectation from which on they contradict each other (p 0.003).
_FAR = 3.0


def after_choice(chosen: Sequence[str]) -> tuple[Finding, ...]:
    """A note that nothing is tested of terms that were chosen on the same data."""
    if not chosen:
        return ()
    names = ", ".join(f"'{name}'" for name in chosen[:6]) + (" …" if len(chosen) > 6 else "")
    message = f"{names}: selected on these data; no p value is given, and the intervals are too narrow."
    advice = "Judge them by the errors of forecasts in the screening."
    return (Finding("chosen", "note", message, advice=advice, evidence={"terms": float(len(chosen))}),)


def bounds_met(
    estimate: Estimate, names: Sequence[str], terms: Sequence[str], lower: Sequence[float], upper: Sequence[float]
) -> tuple[Finding, ...]:
    """One finding a coefficient that a bound holds; sequences are (k,), infinite where there is no bound."""
    found = []
    at = np.flatnonzero(estimate.active)
    errors = estimate.standard_errors(np.eye(len(names)))
    for i in at.tolist():
        reach = float(quantile(0.975, estimate.dof)) * float(errors[i])
        unconstrained = float(estimate.unconstrained[i])
        limit = lower[i] if unconstrained < lower[i] else upper[i]
        low, high = unconstrained - reach, unconstrained + reach
        evidence: dict[str, float | str] = {"without": unconstrained, "low": low, "high": high, "bound": limit}
        without = f"without it the data would say {unconstrained:.3g} (95 %: {low:.3g} to {high:.3g})"
        if high < lower[i] or low > upper[i]:
            message = f"The data contradict the constraint on '{names[i]}': {without}. It is held at {limit:g}."
            advice = (
                "Look for what is missing or moves together with it, such as a driver left out or one that reacts to "
                "the target; a forced sign hides that, and other effects take up what it cannot."
            )
            found.append(Finding("sign", "warning", message, terms[i], advice, evidence))
        else:
            message = f"'{names[i]}' is held at its bound of {limit:g}; {without}, which does not contradict it."
            found.append(
                Finding("sign", "note", message, terms[i], "Its effect is too small to be significant.", evidence)
            )
    return tuple(found)


def contradictions(
    estimate: Estimate, names: Sequence[str], terms: Sequence[str], towards: Sequence[float], spread: Sequence[float]
) -> tuple[Finding, ...]:
    """One finding a coefficient whose stated expectation the data contradict.

    `spread` (k,) is the stated standard deviation around `towards` (k,), NaN where nothing is stated. Precisions add
    up, so that what the data alone say is what is left of the estimate without the expectation.
    """
    found = []
    errors = estimate.standard_errors(np.eye(len(names)))
    for i in np.flatnonzero(np.isfinite(np.asarray(spread))).tolist():
        own = 1.0 / float(errors[i]) ** 2 - 1.0 / spread[i] ** 2
        if own <= 1e-9 / spread[i] ** 2:
            continue
        alone = (float(estimate.beta[i]) / float(errors[i]) ** 2 - towards[i] / spread[i] ** 2) / own
        apart = (alone - towards[i]) / np.hypot(1.0 / np.sqrt(own), spread[i])
        if abs(apart) > _FAR:
            message = (
                f"The data and what is expected of '{names[i]}' are far apart: alone they say {alone:.3g}, expected "
                f"was {towards[i]:.3g}, give or take {spread[i]:.3g}."
            )
            advice = "Check the driver's units and where the expectation comes from; the estimate lies in between."
            evidence: dict[str, float | str] = {"data_alone": alone, "standard_errors_apart": float(apart)}
            found.append(Finding("expectation", "warning", message, terms[i], advice, evidence))
    return tuple(found)
