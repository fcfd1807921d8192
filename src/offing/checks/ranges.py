"""Checks of future drivers against the past."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, count


def beyond_range(
    driver: str, past: NDArray[np.float64], future: NDArray[np.float64], unit: str, period: str
) -> tuple[Finding, ...]:
    """A warning if `future` values (m,) of a driver lie outside those of the fit's rows `past` (n,)."""
    low, high = float(np.nanmin(past)), float(np.nanmax(past))
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
            f"(up to {worst:g}{unit}; fitted {low:g} to {high:g}{unit}).",
            driver,
            "There the forecast prolongs the effect beyond experience.",
            {"periods": float(outside), "low": low, "high": high, "worst": float(worst)},
        ),
    )
