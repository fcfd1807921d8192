"""Checks of shape parameters: whether the data show them at all."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from offing.base import Finding
from offing.engine import Estimate, quantile


def unidentified_shapes(
    estimate: Estimate,
    names: Sequence[str],
    terms: Sequence[str],
    lower: Sequence[float],
    upper: Sequence[float],
) -> tuple[Finding, ...]:
    """One finding a shape parameter that the data do not show; sequences are (k,), infinite where there is no bound.

    It is not identified where nothing depends on it, where the effect of its term cannot be distinguished from zero
    (Davies 1977), where it lies at a bound, or where its interval holds all that is allowed.
    """
    found = []
    reach = float(quantile(0.975, estimate.dof)) * estimate.standard_errors(np.eye(len(names)))
    bounded = np.isfinite(np.asarray(lower)) & np.isfinite(np.asarray(upper))
    for i in np.flatnonzero(bounded).tolist():
        value, low, high = float(estimate.beta[i]), lower[i], upper[i]
        own = [j for j, term in enumerate(terms) if term == terms[i] and not bounded[j]]
        edge = 1e-6 * (high - low)
        if own and all(abs(estimate.beta[j]) <= reach[j] for j in own):
            noted = "the effect cannot be distinguished from zero, so that its shape means nothing"
        elif not estimate.kept[i] or (value - reach[i] <= low and high <= value + reach[i]):
            noted = "the data do not determine it: any value allowed fits about as well"
        elif value <= low + edge or value >= high - edge:
            noted = f"it lies at the edge of what is allowed, {value:.4g}"
        else:
            continue
        advice = "State it as a number, use a simpler form, or fit more data."
        evidence: dict[str, float | str] = {"value": value, "half_interval": float(reach[i])}
        found.append(Finding("shape", "warning", f"'{names[i]}': {noted}.", terms[i], advice, evidence))
    return tuple(found)
