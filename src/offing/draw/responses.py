"""What a driver does at each value, with what was seen; and how its effect spreads over later periods."""

from __future__ import annotations

import numpy as np

from offing.base.palette import FAINT, FAN, INK, QUIET, TERMS, WARM
from offing.base.text import in_units
from offing.draw.style import Picture, canvas, legend, thousands
from offing.explain import LagProfile, Response


def draw_response(result: Response) -> Picture:
    """The curve with its band, a rug of the values seen below, and a shade where nothing was seen."""
    picture, axes = canvas(
        result.sentence.rstrip("."),
        "Effect against the driver's mean, other drivers unchanged and lags carried through, with the 95 % interval "
        "from the coefficients. Strokes below are the values of the fitted periods; where it is shaded none was ever "
        "seen.",
        left=0.1,
    )
    scale = 100.0 if result.share else 1.0
    low, high = float(result.seen.min()), float(result.seen.max())
    for edge, beyond in ((result.value[0], low), (high, result.value[-1])):
        if beyond > edge:
            axes.axvspan(edge, beyond, facecolor=FAINT, edgecolor=QUIET, lw=0, hatch="////", alpha=0.45)
    axes.fill_between(result.value, scale * result.low, scale * result.high, color=FAN[0], lw=0, label="95 % interval")
    inside = (result.value >= low) & (result.value <= high)
    axes.plot(result.value, scale * result.effect, color=WARM, lw=1.4, dashes=(4, 2), label="never seen there")
    axes.plot(result.value[inside], scale * result.effect[inside], color=WARM, lw=2.4, label="effect")
    axes.axhline(0.0, color=QUIET, lw=1)
    axes.axvline(float(result.seen.mean()), color=QUIET, lw=1, ls=(0, (2, 2)))
    shown = np.quantile(result.seen, np.linspace(0.0, 1.0, min(len(result.seen), 400)))
    axes.plot(shown, np.full(len(shown), 0.015), "|", color=INK, ms=9, mew=0.7, transform=axes.get_xaxis_transform())
    axes.set_xlim(result.value[0], result.value[-1])
    axes.set_xlabel(in_units(result.label, result.unit))
    unit = "% of its level" if result.share else result.target_unit
    axes.set_ylabel(f"effect on {in_units(result.target, unit)}")
    thousands(axes.yaxis)
    legend(axes)
    return picture


def draw_lag_profile(result: LagProfile) -> Picture:
    """A stem a period with its interval, and the sum so far as a stepped line."""
    picture, axes = canvas(
        result.sentence.rstrip("."),
        "Effect in each period after one usual change of the driver that lasts one period, with the 95 % interval from "
        f"the coefficients, on the scale of {result.target}; the stepped line is the sum so far.",
        left=0.1,
    )
    axes.vlines(result.lag, 0.0, result.effect, color=TERMS[0], lw=7)
    axes.vlines(result.lag, result.low, result.high, color=INK, lw=1.6)
    axes.step(result.lag, np.cumsum(result.effect), where="mid", color=WARM, lw=1.8, label="sum so far")
    axes.plot([], [], color=TERMS[0], lw=7, label="effect in the period")
    axes.axhline(0.0, color=QUIET, lw=1)
    axes.margins(x=0.05)
    axes.set_xlabel(f"{result.period}s after the change of {in_units(result.label, result.unit)}")
    axes.set_ylabel(f"effect on {result.target}")
    legend(axes)
    return picture
