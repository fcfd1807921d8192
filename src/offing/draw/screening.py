"""The error of the best model of every size."""

from __future__ import annotations

import numpy as np
from matplotlib.ticker import MaxNLocator

from offing.base import count
from offing.base.palette import INK, QUIET, TERMS, WARM
from offing.base.text import number, percent
from offing.draw.style import Picture, canvas, legend, short
from offing.evaluation import Screening


def draw_screening(result: Screening) -> Picture:
    """A line of errors with one standard error, the least and the proposed size marked, and what each size adds."""
    size, best = result.size, result.best
    none, chosen = float(result.error[0]), float(result.error[size])
    if size:
        title = f"{count(size, 'driver')} of {len(result.candidates)} {'is' if size == 1 else 'are'} worth keeping: "
        title += f"they change the forecasts' error by {percent(chosen / none - 1.0)}"
    else:
        title = f"None of {len(result.candidates)} candidates improves the forecasts"
    picture, axes = canvas(
        title,
        f"Root mean squared error of forecasts from {len(result.errors)} origins, the whole choice made again before "
        "each; bars are one standard error. Proposed is the smallest size within one standard error of the least.",
    )
    sizes = np.arange(len(result.error))
    axes.axhline(
        float(result.error[best] + result.band[best]),
        color=QUIET,
        lw=1,
        ls=(0, (4, 3)),
        label="least, and one standard error more",
    )
    axes.errorbar(sizes, result.error, result.band, color=INK, lw=1.6, elinewidth=1.2, capsize=3, marker="o", ms=4)
    axes.plot([size], [chosen], "D", ms=10, color=WARM, label="proposed", zorder=5)
    axes.plot([best], [result.error[best]], "s", ms=8, mfc="none", mec=TERMS[0], mew=1.8, label="least error", zorder=6)
    before: tuple[int, ...] = ()
    top = float((result.error + result.band).max())
    for each in sizes.tolist():
        kept = result.chosen[each]
        added = [str(result.candidates[i].name) for i in kept if i not in before]
        if each and added:
            axes.annotate(
                short(f"+ {', '.join(added)}", 44),
                (each, top),
                rotation=90,
                fontsize=8.5,
                color=INK,
                xytext=(0, 6),
                textcoords="offset points",
                annotation_clip=False,
            )
        before = kept
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_ylim(top=top + 0.42 * (top - float((result.error - result.band).min())))
    axes.set_xlabel("drivers in the model")
    scale = result.base.scale.name(result.base.column)
    axes.set_ylabel(f"error of {scale}")
    axes.annotate(f"without any {number(none)}", (0, none), xytext=(8, -14), textcoords="offset points", fontsize=9)
    legend(axes)
    return picture
