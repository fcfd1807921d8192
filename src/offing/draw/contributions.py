"""Contributions as signed stacked bars around the baseline."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.collections import PolyCollection
from matplotlib.patches import Patch
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.palette import INK, PAPER, TERMS
from offing.base.text import in_units, number
from offing.calendar import Axis, Frequency, coarser_than
from offing.draw.style import HATCHES, Picture, canvas, legend, short, thousands
from offing.model import Contributions

#: More bars than this cannot be separated at the usual width of a figure.
_MOST_BARS = 60
#: Half the width of a bar, of periods.
_HALF = 0.41


@dataclass(frozen=True)
class Stacks:
    """What is drawn: one bar a label (n,), its baseline and total (n,), its parts (J, n)."""

    labels: list[str]
    baseline: Array
    parts: Array
    total: Array
    averaged_by: str = ""


def stacks(contributions: Contributions) -> Stacks:
    """The bars of a figure; a long run of periods is averaged by month, quarter or year, which keeps the sums."""
    axis = contributions.axis
    known = np.isfinite(contributions.mean)
    rows, total = contributions.values[:, known], contributions.mean[known]
    labels = np.array(axis.labels(), dtype=object)[known]
    if len(total) <= _MOST_BARS:
        return Stacks(list(labels), rows[0], rows[1:], total)
    for unit in coarser_than(axis.frequency.unit):
        coarse = Frequency(unit)
        blocks, at = np.unique(coarse.ordinals(axis.middles[known]), return_inverse=True)
        if len(blocks) <= _MOST_BARS or unit == "year":
            break
    sizes = np.bincount(at)
    averaged = np.array([np.bincount(at, row) / sizes for row in (*rows, total)])
    names = [Axis(coarse, int(block), 1).labels()[0] for block in blocks]
    return Stacks(names, averaged[0], averaged[1:-1], averaged[-1], unit)


def draw_contributions(contributions: Contributions) -> Picture:
    """A bar a period: what raises the value above the baseline and what lowers it, the total marked."""
    if not contributions.terms:
        raise InputError("the model has no terms, so there is nothing to stack")
    bars, unit = stacks(contributions), contributions.axis.frequency.unit
    shown = f" Bars are averages of the {unit}s in each {bars.averaged_by}." if bars.averaged_by else ""
    caption = f"{contributions.sentence}{shown} Bars start at the baseline."
    room = 0.15 if max(map(len, bars.labels)) > 10 else 0.115
    picture, axes = canvas(_finding(contributions), caption, right=0.845, above=0.02, below=room)
    places = np.arange(len(bars.total))
    above, below = bars.baseline.copy(), bars.baseline.copy()
    handles = []
    for j, (term, row) in enumerate(zip(contributions.labels, bars.parts, strict=True)):
        look: dict[str, Any] = {
            "facecolor": TERMS[j % len(TERMS)],
            "edgecolor": PAPER,
            "hatch": HATCHES[j // len(TERMS) % len(HATCHES)],
        }
        axes.add_collection(_bars(places, row, np.where(row >= 0, above, below), lw=0.4, **look))
        above, below = above + np.maximum(row, 0), below + np.minimum(row, 0)
        handles.append(Patch(label=short(term, 18), **look))
    level = axes.plot(places, bars.baseline, color=INK, lw=1.1, dashes=(4, 2), label="baseline")
    mark = axes.plot(
        places,
        bars.total,
        color=INK,
        lw=0,
        marker="_",
        mew=2.6,
        label="total",
        ms=max(5.0, min(26.0, 420.0 / len(places))),
    )
    step = -(-len(places) // 14)
    axes.set_xticks(places[::step], bars.labels[::step], rotation=30, ha="right", fontsize=9)
    axes.set_ylabel(in_units(contributions.target, contributions.unit))
    axes.set_xlabel(bars.averaged_by or f"{unit} (start)")
    thousands(axes.yaxis)
    axes.margins(x=0.01)
    spread = max(float(above.max() - below.min()), 1e-12)
    axes.set_ylim(below.min() - 0.05 * spread, above.max() + 0.05 * spread)
    legend(
        axes,
        handles=[*handles, *level, *mark],
        ncols=1,
        loc="upper left",
        bbox_to_anchor=(1.01, 1.0),
        markerscale=0.6,
    )
    return picture


def _bars(places: NDArray[np.intp], heights: Array, bottoms: Array, **look: Any) -> PolyCollection:
    """Bars as one artist, which is added at once; hundreds of single ones take most of a figure's time."""
    left, right, top = places - _HALF, places + _HALF, bottoms + heights
    corners = [(left, bottoms), (right, bottoms), (right, top), (left, top)]
    return PolyCollection(list(np.stack([np.column_stack(each) for each in corners], axis=1)), **look)


def _finding(contributions: Contributions) -> str:
    """Which term moves the values most, over all periods shown."""
    known = np.isfinite(contributions.mean)
    values = contributions.values[1:, known]
    moves = np.abs(values).mean(axis=1)
    j = int(np.argmax(moves))
    unit = f" {contributions.unit}" if contributions.unit else ""
    return (
        f"'{contributions.labels[j]}' moves {contributions.target} most: by {number(float(moves[j]), 4)}{unit} on "
        f"average in {contributions.axis.spell()}"
    )
