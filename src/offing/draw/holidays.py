"""Holidays: what each does on its day and on the days around it."""

from __future__ import annotations

import numpy as np

from offing.base.palette import FAINT, INK, QUIET, TERMS, WARM
from offing.base.text import in_units
from offing.draw.style import Picture, canvas, legend, short, thousands
from offing.explain import HolidayEffects

#: More rows than this cannot be read.
_MOST = 24


def draw_holidays(result: HolidayEffects) -> Picture:
    """A row a holiday, the largest on top: the day as a thick bar, days around it as thin ones, with intervals."""
    names = list(dict.fromkeys(result.names))
    size = {name: max(abs(result.effect[i]) for i in _of(result, name)) for name in names}
    names = sorted(names, key=lambda name: -size[name])[:_MOST]
    left_out = len(set(result.names)) - len(names)
    picture, axes = canvas(
        result.sentence.rstrip("."),
        f"{result.note} Lines span the 95 % interval; grey is a group's average."
        + (f" {left_out} with smaller effects are not drawn." if left_out else ""),
        left=0.23,
        above=0.05,
    )
    scale = 100.0 if result.relative else 1.0
    labelled = set()
    for row, name in enumerate(names):
        own = sorted(_of(result, name), key=lambda i: result.away[i])
        band = 0.8 / len(own)
        for place, i in enumerate(own):
            at = row - 0.4 + band * (place + 0.5)
            away = result.away[i]
            kind = "the day itself" if away == 0 else "days before" if away < 0 else "days after"
            colour = {"the day itself": WARM, "days before": TERMS[1], "days after": TERMS[0]}[kind]
            colour = QUIET if name.startswith("any ") else colour
            axes.barh(
                at,
                scale * result.effect[i],
                0.85 * band,
                color=colour,
                alpha=0.9 if away == 0 else 0.75,
                label="" if kind in labelled or colour == QUIET else kind,
            )
            labelled |= {kind} if colour != QUIET else set()
            axes.hlines(at, scale * result.low[i], scale * result.high[i], color=INK, lw=1.8 if away == 0 else 1.1)
    axes.axvline(0.0, color=QUIET, lw=1)
    axes.set_yticks(range(len(names)), [_label(result, name) for name in names], fontsize=10 if len(names) < 16 else 9)
    axes.invert_yaxis()
    axes.xaxis.grid(visible=True, color=FAINT, linewidth=0.8)
    axes.yaxis.grid(visible=False)
    target = in_units(result.target, "%" if result.relative else result.unit)
    axes.set_xlabel(f"effect on {target}")
    thousands(axes.xaxis)
    axes.margins(x=0.06, y=0.01)
    if len(labelled) > 1:
        legend(axes)
    return picture


def _of(result: HolidayEffects, name: str) -> list[int]:
    return [i for i, each in enumerate(result.names) if each == name]


def _label(result: HolidayEffects, name: str) -> str:
    day = min(_of(result, name), key=lambda i: abs(result.away[i]))
    own = result.own[day]
    seen = f"{result.days[day]:.0f} days" if result.days[day] != 1 else "1 day"
    leaning = f", own {own:.2f}" if np.isfinite(own) else ""
    return f"{short(name, 26)}\n{seen}{leaning}"
