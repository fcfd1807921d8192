"""Checks of what the model leaves unexplained from one period to the next."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, Verdict
from offing.engine import lag_one_correlation

#: A correlation of 20 pairs has a standard error of 0.22: of fewer only one of 0.5 could be seen.
_FEWEST = 20


def autocorrelation(residual: NDArray[np.float64], used: NDArray[np.bool_]) -> tuple[Verdict, ...]:
    """A warning if residuals (n,) of neighbouring periods are significantly correlated.

    Two-sided at about 1 %: under independence the correlation of m pairs has a standard deviation near
    m^-1/2 (Bartlett 1946). Beside it Durbin & Watson's (1950) statistic, about 2 less twice the correlation.
    """
    correlation, pairs = lag_one_correlation(residual, used)
    if pairs < _FEWEST:
        return ()
    limit = 2.58 / np.sqrt(pairs)
    both = used[1:] & used[:-1]
    steps = float(np.square(np.diff(residual)[both]).sum()) / float(np.square(residual[used]).sum())
    noted = Finding(
        "autocorrelation",
        "warning",
        f"What the model leaves unexplained in one period is related to the next (correlation {correlation:.2f}).",
        advice="The intervals assume independent noise and are "
        + ("too narrow" if correlation > 0 else "too wide")
        + '; look for a missing driver, lag or bend of the trend, or use errors = "ar".',
        evidence={"correlation": correlation, "pairs": float(pairs), "durbin_watson": steps},
    )
    return (
        Verdict(
            "autocorrelation",
            "correlation of neighbouring periods",
            correlation,
            float(limit),
            findings=(noted,) if abs(correlation) > limit else (),
        ),
        Verdict("autocorrelation", "Durbin-Watson", steps, np.nan),
    )
