"""The trend with its band, and how its slope changed."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes

from offing.base.palette import FAINT, FAN, INK, PAPER, QUIET, TERMS, WARM
from offing.base.text import in_units
from offing.draw.style import Picture, canvas, legend, stacked, thousands, times_of
from offing.explain import TrendPath


def draw_trend(result: TrendPath) -> Picture:
    """The path above; below, each slope change as a bar over its window or place, with its interval."""
    caption = "What the trend alone makes of the target, all else at its reference, with a 95 % band. "
    if not result.bends:
        picture, axes = canvas(result.sentence.rstrip("."), caption)
        _path(axes, result)
        axes.set_xlabel(f"{result.axis.frequency.unit} (start)")
        return picture
    if result.windows:
        caption += (
            "Below: how much the slope changed within overlapping windows; lines span 95 % intervals, and changes "
            "that are clear (a straight line would show any once in twenty series) are warm. Beyond the origin the "
            "band counts bends to come."
        )
    else:
        caption += "Below: how much the slope changed at each bend, with its 95 % interval and that of the place."
    picture, above, below = stacked(result.sentence.rstrip("."), caption)
    _path(above, result)
    above.tick_params(labelbottom=False)
    _changes(below, result)
    for bend in result.clear:
        if bend.place is not None:
            # On the line itself, so that the eye reads level and place at once.
            at = bend.place - result.axis.first
            above.plot([times_of(result.axis)[at]], [result.value[at]], lw=0, marker="D", ms=9, mfc=WARM, mec=PAPER)
        if bend.first < bend.until:
            above.axvspan(_time(result, bend.first), _time(result, bend.until), color=FAINT, alpha=0.6, lw=0)
    below.set_xlabel(f"{result.axis.frequency.unit} (start)")
    return picture


def _path(axes: Axes, result: TrendPath) -> None:
    times, n = times_of(result.axis), result.fitted
    for part, colour, tone, label in (
        (slice(0, n), INK, FAINT, "trend, fitted periods"),
        (slice(n - 1, None), WARM, FAN[0], "trend, forecast"),
    ):
        if len(times[part]) < 2:
            continue
        axes.fill_between(times[part], result.low[part], result.high[part], color=tone, lw=0)
        axes.plot(times[part], result.value[part], color=colour, lw=2.2, label=label)
    at = [knot - result.axis.first for knot in result.knots]
    axes.plot(times[at], result.value[at], lw=0, marker="o", ms=4.5, mfc=PAPER, mec=INK, label="knot" if at else "")
    axes.set_ylabel(in_units(result.target, result.unit))
    thousands(axes.yaxis)
    axes.margins(x=0.01)
    legend(axes)


def _changes(axes: Axes, result: TrendPath) -> None:
    share = 100.0 if result.multiplies else 1.0
    clear = set(result.clear)
    for bend in result.bends:
        change, low, high = (
            100.0 * np.expm1(each) if result.multiplies else each for each in (bend.change, bend.low, bend.high)
        )
        middle = _time(result, bend.place if bend.place is not None else (bend.first + bend.until) // 2)
        left, right = _time(result, bend.first), _time(result, bend.until)
        noted = bend in clear
        colour = WARM if noted else TERMS[0]
        if left < right:
            axes.hlines(change, left, right, color=colour, lw=2.0 if noted else 1.2)
        axes.vlines(middle, low, high, color=colour, lw=2.4 if noted else 1.4)
        axes.plot([middle], [change], lw=0, marker="D", ms=7 if noted else 5, color=colour)
    axes.axhline(0.0, color=QUIET, lw=1)
    unit = "%-points a year" if share != 1.0 else f"{result.unit or result.target} a year"
    axes.set_ylabel(f"slope change\n({unit})")
    thousands(axes.yaxis)


def _time(result: TrendPath, ordinal: int) -> Any:
    frequency = result.axis.frequency
    return frequency.wall(frequency.starts(np.array([ordinal]))).astype("datetime64[us]")[0]
