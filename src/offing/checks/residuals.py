"""Checks of what the model leaves unexplained."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding
from offing.engine import lag_one_correlation


def autocorrelation(residual: NDArray[np.float64], used: NDArray[np.bool_]) -> tuple[Finding, ...]:
    """A warning if residuals (n,) of neighbouring periods are alike by more than chance explains.

    Two-sided at about 1 %: under independence the correlation of m pairs has a standard deviation near
    m^-1/2 (Bartlett 1946).
    """
    correlation, pairs = lag_one_correlation(residual, used)
    if pairs < 20 or abs(correlation) <= 2.58 / np.sqrt(pairs):
        return ()
    return (
        Finding(
            "autocorrelation",
            "warning",
            f"What the model leaves unexplained in one period is related to the next (correlation {correlation:.2f}).",
            advice="The intervals assume independent noise and are "
            + ("too narrow" if correlation > 0 else "too wide")
            + "; look for a missing driver, lag or bend of the trend.",
            evidence={"correlation": correlation, "pairs": float(pairs)},
        ),
    )
