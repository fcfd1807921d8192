"""The curve of weights over a driver's lags, with the unrestricted coefficients behind it."""

from __future__ import annotations

import numpy as np
from matplotlib.ticker import MaxNLocator

from offing.base.text import in_units
from offing.draw.style import FAN, INK, QUIET, WARM, Picture, canvas, legend
from offing.explain import LagCurve


def draw_lag_weights(result: LagCurve) -> Picture:
    """A line with its band over the lags, the newest at the right; free coefficients as whiskers behind."""
    picture, axes = canvas(
        result.sentence.rstrip("."),
        f"What one more of '{result.label}' in a single {result.unit} does, by how long before the end of the target's "
        "period it is, with the 95 % interval. Whiskers behind: coefficients of single lags without any restriction.",
        left=0.1,
    )
    if np.isfinite(result.tests.free).any():
        axes.vlines(result.lag, result.tests.low, result.tests.high, color=QUIET, lw=1.4)
        axes.plot(result.lag, result.tests.free, "_", color=QUIET, ms=13, mew=2.2, label="free coefficient, 95 %")
    axes.fill_between(result.lag, result.low, result.high, color=FAN[0], lw=0, label="95 % interval")
    axes.plot(result.lag, result.coefficient, color=WARM, lw=2.4, marker="s", ms=5, label=f"{result.kind} weights")
    axes.axhline(0.0, color=INK, lw=0.8)
    axes.invert_xaxis()
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel(f"{result.unit}s before the newest ({result.unit} 0 ends with the target's period)")
    axes.set_ylabel(f"effect on {in_units(result.target, result.target_unit)}")
    legend(axes)
    return picture
