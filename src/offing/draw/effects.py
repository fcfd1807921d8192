"""Effects of the drivers with intervals."""

from __future__ import annotations

import numpy as np

from offing.base import InputError
from offing.base.text import percent, signed
from offing.draw.style import FAINT, INK, QUIET, TERMS, Picture, canvas, short, thousands
from offing.model import Effects
from offing.model.driver_effects import Effect


def draw_effects(effects: Effects) -> Picture:
    """A bar a driver from zero to its effect, with its interval; the largest on top."""
    if not effects.effects:
        raise InputError("the model has no drivers, so there are no effects to draw")
    rows, unit = effects.effects, f" {effects.unit}" if effects.unit else ""
    top = rows[0]
    picture, axes = canvas(
        f"'{top.label}' changes {effects.target} most: {signed(top.change)}{unit}{_share(top)} in each "
        f"{effects.period}",
        "Each driver goes from its usual low to its usual high (the 10 % and 90 % points of the fitted periods, "
        "or no to yes for a flag), the rest held. The line spans the 95 % interval from the coefficients' uncertainty.",
        left=0.2,
        above=0.02,
    )
    places = np.arange(len(rows))[::-1]
    axes.barh(places, [row.change for row in rows], 0.46, color=TERMS[7])
    for place, row in zip(places, rows, strict=True):
        axes.plot([row.low, row.high], [place, place], color=INK, lw=2.2, solid_capstyle="butt")
        for end in (row.low, row.high):
            axes.plot([end, end], [place - 0.09, place + 0.09], color=INK, lw=2.2)
        outward = 1 if row.change >= 0 else -1
        axes.annotate(
            f"{signed(row.change)}{_share(row)}",
            (row.high if outward > 0 else row.low, place),
            xytext=(8 * outward, 0),
            textcoords="offset points",
            va="center",
            ha="left" if outward > 0 else "right",
            fontsize=10,
        )
    axes.axvline(0.0, color=QUIET, lw=1)
    labels = [f"{short(row.label, 26)}\n{row.span}" for row in rows]
    axes.set_yticks(places, labels)
    axes.xaxis.grid(visible=True, color=FAINT, linewidth=0.8)
    axes.yaxis.grid(visible=False)
    axes.set_xlabel(
        f"change of {effects.target} in each {effects.period}{f' ({effects.unit})' if effects.unit else ''}"
    )
    thousands(axes.xaxis)
    axes.margins(x=0.22)
    return picture


def _share(effect: Effect) -> str:
    return f" ({percent(effect.share)})" if np.isfinite(effect.share) else ""
