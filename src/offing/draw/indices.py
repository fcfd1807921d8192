"""Season indices with intervals."""

from __future__ import annotations

import numpy as np

from offing.calendar import MONTHS
from offing.draw.style import INK, QUIET, TERMS, WARM, Picture, canvas, legend, thousands
from offing.explain import SeasonIndices
from offing.model.words import in_units


def draw_indices(result: SeasonIndices) -> Picture:
    """A bar a position from the average to its index, with its interval; the classical ratio beside it as a dash."""
    centre = 1.0 if result.multiplies else 0.0
    bent = " ".join(finding.message for finding in result.findings)
    kind = "Indices average to 1" if result.multiplies else "Effects sum to 0"
    picture, axes = canvas(
        result.sentence.rstrip("."),
        f"{kind} and are free of trend and drivers. The line spans the 95 % interval. {bent}",
    )
    places = np.arange(len(result.positions))
    axes.bar(places, result.index - centre, 0.6, bottom=centre, color=TERMS[0], alpha=0.85)
    axes.vlines(places, result.low, result.high, color=INK, lw=2.0)
    if result.multiplies and np.isfinite(result.own_year).any():
        size = max(6.0, min(18.0, 600.0 / len(places)))
        axes.plot(places, result.own_year, lw=0, marker="_", ms=size, mew=2.4, color=WARM,
                  label="ratio to the own year's average")  # fmt: skip
        legend(axes)
    axes.axhline(centre, color=QUIET, lw=1)
    short = [name[:3] if name in MONTHS else name for name in result.positions]
    step = -(-len(places) // 26)
    axes.set_xticks(places[::step], short[::step], rotation=30 if max(map(len, short)) > 6 else 0)
    axes.set_ylabel(
        f"index of {result.target}" if result.multiplies else f"effect on {in_units(result.target, result.unit)}"
    )
    axes.set_xlabel(result.cycle)
    axes.margins(x=0.02)
    if not result.multiplies:
        thousands(axes.yaxis)
    return picture
