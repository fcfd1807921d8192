"""The curve of weights over a driver's lags, and below it the coefficients of single lags without a curve."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.ticker import MaxNLocator

from offing.base.palette import FAN, INK, QUIET, WARM
from offing.base.text import in_units
from offing.draw.style import Picture, canvas, legend, stacked
from offing.explain import LagCurve


def draw_lag_weights(result: LagCurve) -> Picture:
    """A line with its band over the lags, the newest at the right; free coefficients in a panel below."""
    title = result.sentence.rstrip(".")
    caption = (
        f"What one more of '{result.label}' in a single {result.unit} does, by how long before the end of the target's "
        "period it is, with the 95 % interval."
    )
    if np.isfinite(result.tests.free).any():
        caption += " Below: coefficients of single lags without any restriction, with theirs."
        picture, axes, lower = stacked(title, caption, 0.6)
        _draw_free(lower, result)
        axes.tick_params(labelbottom=False)
    else:
        picture, axes = canvas(title, caption, left=0.1)
        lower = axes
    axes.fill_between(result.lag, result.low, result.high, color=FAN[0], lw=0, label="95 % interval")
    axes.plot(result.lag, result.coefficient, color=WARM, lw=2.4, marker="s", ms=5, label=f"{result.kind} weights")
    axes.axhline(0.0, color=INK, lw=0.8)
    axes.set_ylabel(f"effect on {in_units(result.target, result.target_unit)}")
    legend(axes)
    lower.invert_xaxis()
    lower.xaxis.set_major_locator(MaxNLocator(integer=True))
    lower.set_xlabel(f"{result.unit}s before the newest ({result.unit} 0 ends with the target's period)")
    return picture


def _draw_free(axes: Axes, result: LagCurve) -> None:
    """Pale steps, one for each lag."""
    axes.fill_between(result.lag, result.tests.low, result.tests.high, color=FAN[0], alpha=0.5, lw=0, step="mid")
    axes.step(result.lag, result.tests.free, where="mid", color=QUIET, lw=1.8)
    axes.axhline(0.0, color=INK, lw=0.8)
    axes.set_ylabel("without a curve")
