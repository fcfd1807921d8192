"""Losses that large residuals cannot bend: weights for least squares, and what the estimate is then worth."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from offing.base.arrays import Array
from offing.engine.least_squares import Estimate
from offing.engine.qr import triangle

Loss = Literal["squares", "huber", "tukey"]

#: In standard deviations; 95 % as efficient as squares where noise is normal (Huber 1964; Beaton & Tukey 1974).
_HUBER, _TUKEY = 1.345, 4.685
#: The standard deviation of a normal variable over its median absolute deviation.
_MAD = 1.4826


@dataclass(frozen=True)
class Robust:
    """What a loss makes of residuals (n,) in units of their robust standard `deviation`: `weights` (n,), and ψ and ψ'.

    `effective_dof` are the degrees of freedom that the columns took. Tukey's loss has several minima: it starts from
    where Huber's came to rest, and keeps its deviation.
    """

    weights: Array
    influence: Array
    slope: Array
    deviation: float
    effective_dof: float
    loss: Loss
    settled: bool

    @classmethod
    def of(cls, residual: Array, effective_dof: float, loss: Loss, before: Robust | None) -> Robust:
        """The weights for the next round; `before` are those of the last."""
        now: Loss = "huber"
        deviation = _MAD * float(np.median(np.abs(residual)))
        still = before is not None and abs(deviation - before.deviation) <= 1e-10 * deviation
        if loss == "tukey" and before is not None and (before.loss == "tukey" or still):
            now, deviation, still = "tukey", before.deviation, before.loss == "tukey"
        deviation = max(deviation, 1e-300)
        z = np.abs(residual) / deviation
        if now == "huber":
            weights = np.minimum(1.0, _HUBER / np.maximum(z, 1e-300))
            slope = (z <= _HUBER).astype(np.float64)
        else:
            inside = np.maximum(1.0 - np.square(z / _TUKEY), 0.0)
            weights, slope = np.square(inside), inside * (1.0 - 5.0 * np.square(z / _TUKEY))
        return cls(weights, weights * residual / deviation, slope, deviation, effective_dof, now, bool(still))

    def judged(self, estimate: Estimate, rows: Array) -> Estimate:
        """The estimate with the covariance of a robust one (Huber 1981, section 7.6) on the `rows` (n, k)."""
        n, p = len(self.weights), self.effective_dof
        share = float(self.slope.mean())
        spread = float(np.square(self.influence).sum()) / (n - p)
        # His correction for few rows, with the variance of the slopes.
        grown = 1.0 + p / n * float(self.slope.var()) / share**2
        scale = self.deviation * grown * np.sqrt(spread) / share
        kept, pulls = rows[:, estimate.kept], estimate.pulls
        # What draws coefficients are rows of normal noise, with the variance beside which their strength was learnt.
        root = triangle(np.vstack([kept, pulls / np.sqrt(share)]))
        scores = triangle(np.vstack([scale * kept, np.sqrt(estimate.variance) / share * pulls]))
        return replace(estimate, root=root, scores=scores, variance=self.deviation**2)
