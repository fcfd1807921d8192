"""How close a fit comes to its own target."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array


@dataclass(frozen=True)
class FitStatistics:
    """Figures of a fit, over the rows used.

    `r_squared`, `adjusted_r_squared` and `residual_deviation` are on the working scale (the logarithm with
    a log scale); `mae` and `mape` are on the target's own scale. `mape` is NaN where a target is zero.
    """

    rows: int
    columns: int
    r_squared: float
    adjusted_r_squared: float
    residual_deviation: float
    mae: float
    mape: float


def fit_figures(
    transformed: Array, target: Array, fitted: Array, *, rss: float, columns: int, dof: float
) -> FitStatistics:
    """Figures from the `transformed` target (n,) with its `rss`, and `target` and `fitted` (n,) on their own scale.

    `columns` counts the estimated columns, the constant included, `dof` the degrees of freedom that they left. The
    adjusted R² divides each sum of squares by its degrees of freedom (Theil 1961).
    """
    n = len(transformed)
    total = float(np.square(transformed - transformed.mean()).sum())
    # What rounding alone leaves of a constant is no variation.
    varies = total > n * np.square(1e-14 * np.abs(transformed).max())
    unexplained = rss / total if varies else float("nan")
    error = np.abs(target - fitted)
    return FitStatistics(
        rows=n,
        columns=columns,
        r_squared=1.0 - unexplained,
        adjusted_r_squared=1.0 - unexplained * (n - 1) / dof,
        residual_deviation=float(np.sqrt(rss / dof)),
        mae=float(error.mean()),
        mape=float((error / np.abs(target)).mean()) if np.all(target != 0.0) else float("nan"),
    )


def lag_one_correlation(residual: Array, used: NDArray[np.bool_]) -> tuple[float, int]:
    """Correlation of residuals (n,) of neighbouring periods, over pairs whose both periods were `used`.

    Returns the correlation and the number of pairs: without autocorrelation it is about normal with
    variance one over that number (Bartlett 1946).
    """
    pairs = used[1:] & used[:-1]
    squares = np.square(residual[used]).mean() if used.any() else 0.0
    if not pairs.any() or squares == 0.0:
        return 0.0, int(pairs.sum())
    product = (residual[1:] * residual[:-1])[pairs].mean()
    return float(product / squares), int(pairs.sum())


def autocorrelations(values: Array, lags: int) -> Array:
    """Correlations (lags,) of `values` (n,), zero where unknown, with themselves 1, 2, … periods later.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import autocorrelations
    >>> autocorrelations(np.array([1.0, -1.0, 1.0, -1.0]), 2).tolist()
    [-0.75, 0.5]
    """
    whole = float(values @ values)
    return np.array([float(values[lag:] @ values[:-lag]) / whole for lag in range(1, lags + 1)])
