"""Covariances that hold where the noise's variance differs, or where neighbours are alike: sandwiches as factors."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular

from offing.base.arrays import Array
from offing.engine.least_squares import Estimate
from offing.engine.qr import triangle

Covariance = Literal["classical", "hc0", "hc1", "hc2", "hc3", "newey-west", "clustered"]


def usual_lags(n: int) -> int:
    """How many lags of neighbours' likeness are counted among n periods: the whole part of 4 (n / 100)^(2/9).

    Examples
    --------
    >>> from offing.engine.robust_covariance import usual_lags
    >>> usual_lags(100), usual_lags(1000)
    (4, 6)
    """
    return int(4.0 * (n / 100.0) ** (2.0 / 9.0))


def sandwiched(
    estimate: Estimate,
    rows: Array,
    residual: Array,
    *,
    times: NDArray[np.int64],
    kind: Covariance,
    lags: int | None = None,
    clusters: NDArray[np.int64] | None = None,
) -> Estimate:
    """The estimate with a covariance of the coefficients that does not trust in noise of one kind.

    The covariance is (R'R)⁻¹ F'F (R'R)⁻¹ with the scores x_t e_t in F. ``hc0`` takes the residuals as they are (White
    1980), ``hc1`` times n / (n − k), ``hc2`` over 1 − leverage and ``hc3`` over its square (MacKinnon & White 1985);
    ``clustered`` lets rows of the same of G `clusters` (n,) be alike in any way and counts these, times
    G / (G − 1) · (n − 1) / (n − k), with G − 1 degrees of freedom (Liang & Zeger 1986; Cameron & Miller 2015);
    ``newey-west`` counts `lags` neighbours with falling weights (Newey & West 1987), times n / (n − k). With Bartlett's
    weights F'F is that of sums of the scores over windows, so that it is never negative.

    Parameters
    ----------
    rows, residual, times
        The design (n, k), what it leaves (n,), and the period (n,) of each row: lags count periods, not rows.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.engine import least_squares
    >>> from offing.engine.robust_covariance import sandwiched
    >>> x, y = np.ones((4, 1)), np.array([1.0, 2.0, 3.0, 6.0])
    >>> plain = least_squares(x, y)
    >>> robust = sandwiched(plain, x, y - 3.0, times=np.arange(4), kind="hc0")
    >>> robust.standard_errors(np.eye(1)).round(6).tolist()                      # (4 + 1 + 0 + 9)^½ / 4
    [0.935414]
    """
    if kind == "classical":
        return estimate
    n, kept = len(rows), rows[:, estimate.kept]
    k = kept.shape[1]
    if kind == "newey-west":
        scores = np.sqrt(n / (n - k)) * kept * residual[:, None]
        factor = _windowed(scores, times, usual_lags(n) if lags is None else lags)
    elif kind == "clustered" and clusters is not None:
        names, place = np.unique(clusters, return_inverse=True)
        g = len(names)
        factor = np.zeros((g, k))
        np.add.at(factor, place, kept * residual[:, None])
        factor *= np.sqrt(g / (g - 1.0) * (n - 1.0) / (n - k))
        return replace(estimate, scores=triangle(factor), dof=float(g - 1))
    else:
        inner = solve_triangular(estimate.root, kept.T, trans="T", check_finite=False)
        remaining = 1.0 - np.minimum(np.square(inner).sum(axis=0), 1.0 - 1e-12)
        scale = {"hc0": 1.0, "hc1": np.sqrt(n / (n - k)), "hc2": 1.0 / np.sqrt(remaining), "hc3": 1.0 / remaining}[kind]
        factor = kept * (residual * scale)[:, None]
    return replace(estimate, scores=triangle(factor))


def _windowed(scores: Array, times: NDArray[np.int64], lags: int) -> Array:
    """Sums (n + lags, k) of the scores over windows of lags + 1 periods, divided by the root of their length."""
    span = int(times[-1] - times[0]) + 1
    padded = np.zeros((span + 2 * lags + 1, scores.shape[1]))
    padded[times - times[0] + lags + 1] = scores
    sums = np.cumsum(padded, axis=0)
    return np.asarray((sums[lags + 1 :] - sums[: -lags - 1]) / np.sqrt(lags + 1.0))
