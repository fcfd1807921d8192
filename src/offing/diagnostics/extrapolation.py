"""Checks of future drivers against the past."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, count


def beyond_range(
    driver: str, past: NDArray[np.float64], future: NDArray[np.float64], unit: str, period: str
) -> tuple[Finding, ...]:
    """A warning if `future` values (m,) of a driver lie outside those of the fit's rows `past` (n,); NaN is unknown."""
    past, future = past[np.isfinite(past)], future[np.isfinite(future)]
    if not len(past) or not len(future):
        return ()
    low, high = float(past.min()), float(past.max())
    outside = int(((future < low) | (future > high)).sum())
    if not outside:
        return ()
    worst = future[int(np.argmax(np.maximum(low - future, future - high)))]
    unit = f" {unit}" if unit else ""
    return (
        Finding(
            "beyond the range",
            "warning",
            f"In {count(outside, period)} of the forecast '{driver}' lies outside what was fitted "
            f"({'down' if worst < low else 'up'} to {worst:g}{unit}; fitted {low:g} to {high:g}{unit}).",
            driver,
            "It varies in no fitted period, so that the forecast cannot count what another value does."
            if low == high
            else "There the model extrapolates.",
            {"periods": float(outside), "low": low, "high": high, "worst": float(worst)},
        ),
    )


#: A forecast that lies this many times the target's whole range beyond it has left all experience.
_FAR = 3.0
#: On the log scale a standard error from here on means that factors of four either way are likely.
_LOG_ERROR = 0.7


def beyond_target(
    past: NDArray[np.float64],
    mean: NDArray[np.float64],
    labels: Sequence[str],
    shown: Sequence[float],
    extremes: tuple[float, float],
) -> tuple[Finding, ...]:
    """A serious finding if means (h,) lie far outside the fitted target (n,), both on the scale that is fitted.

    `shown` (h,) are the means to name, with their `labels`, and `extremes` the lowest and highest target, in its unit.
    """
    past = past[np.isfinite(past)]
    span = max(float(np.ptp(past)), 1e-12 * float(np.abs(past).max()), 1e-300)
    far = np.maximum(mean - past.max(), past.min() - mean) / span
    worst = int(np.argmax(far))
    if not far[worst] > _FAR:
        return ()
    return (
        Finding(
            "far beyond the target",
            "serious",
            f"The forecast of {labels[worst]}, {shown[worst]:.3g}, lies far outside what the target ever was "
            f"({extremes[0]:.4g} to {extremes[1]:.4g}).",
            advice="Do not use it: look for a driver outside its fitted range, an effect that the data hardly show, or "
            "a trend that cannot go on.",
            evidence={"ranges_beyond": float(far[worst]), "forecast": float(shown[worst])},
        ),
    )


def wide_on_log_scale(errors: NDArray[np.float64], labels: Sequence[str]) -> tuple[Finding, ...]:
    """A serious finding if standard errors (h,) on the log scale are so large that the mean says little."""
    worst = int(np.argmax(errors))
    if not errors[worst] >= _LOG_ERROR:
        return ()
    factor = float(np.exp(min(1.96 * errors[worst], 700.0)))
    return (
        Finding(
            "wide on the log scale",
            "serious",
            f"The forecast of {labels[worst]} is known to within a factor of {factor:.3g} only (standard error "
            f"{errors[worst]:.2g} on the log scale), and its mean is far above the middle of what is likely.",
            advice='Leave out effects that the data hardly show, or use scale = "level".',
            evidence={"std_error": float(errors[worst])},
        ),
    )
