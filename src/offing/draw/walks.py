"""Walks: a waterfall from start to end, or a stack a period of what lies between."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.patches import Patch

from offing.base import InputError
from offing.base.palette import INK, PAPER, QUIET, TERMS
from offing.base.text import in_units, number, signed
from offing.draw.style import HATCHES, Picture, canvas, legend, short, thousands
from offing.explain import Story, Walk
from offing.explain.why.walk import SMALL, Step

#: More steps than these are reported together, so that labels can be read.
_MOST = 14
RAISES, LOWERS = TERMS[0], TERMS[1]


def draw_walk(walk: Walk) -> Picture:
    """A waterfall; of several spans a signed stack each."""
    if not walk.moved:
        raise InputError("nothing differs, so there is no step to draw", "Walk to something else.", key="walk")
    return _waterfall(walk) if len(walk.spans) == 1 else _stacks(walk)


def _waterfall(walk: Walk) -> Picture:
    steps = _shown(walk)
    order = " Steps are done in this order, from top to bottom." if walk.phases else ""
    picture, axes = canvas(
        walk.headline.rstrip("."),
        f"{walk.from_words[:1].upper()}{walk.from_words[1:]} and {walk.to_words}, {walk.spans[0]}, and what lies "
        f"between; steps add up exactly.{order} Thin lines are 95 % intervals from the coefficients, where they are "
        "known. The axis does not start at zero.",
        left=0.25,
        above=0.02,
    )
    amounts = np.array([float(step.amount[0]) for step in steps])
    before = float(walk.start[0]) + np.concatenate([[0.0], np.cumsum(amounts)])
    places = np.arange(len(steps) + 2)[::-1]
    low, high = _edges(before, steps)
    for place, value in ((places[0], float(walk.start[0])), (places[-1], float(walk.end[0]))):
        axes.barh(place, value - low, 0.62, left=low, color=INK, alpha=0.85)
        axes.annotate(number(value, 5), (value, place), xytext=(6, 0), textcoords="offset points", va="center")
    for i, (step, amount) in enumerate(zip(steps, amounts.tolist(), strict=True)):
        place, colour = places[i + 1], RAISES if amount > 0.0 else LOWERS
        axes.barh(
            place,
            amount,
            0.62,
            left=before[i],
            color=colour,
            hatch="" if amount > 0.0 else "//",
            edgecolor=PAPER,
            lw=0.4,
        )
        axes.plot([before[i]] * 2, [place + 0.31, places[i] - 0.31], color=QUIET, lw=0.9)
        half = float(step.half[0])
        edge = max(before[i], before[i + 1])
        if np.isfinite(half) and half > 0.0:
            axes.hlines(place, before[i + 1] - half, before[i + 1] + half, color=INK, lw=1.1)
            edge = max(edge, before[i + 1] + half)
        axes.annotate(signed(amount), (edge, place), xytext=(6, 0), textcoords="offset points", va="center")
    axes.plot([before[-1]] * 2, [places[-1] + 0.31, places[-2] - 0.31], color=QUIET, lw=0.9)
    names = [short(walk.from_words, 34), *(short(_name(step), 34) for step in steps), short(walk.to_words, 34)]
    axes.set_yticks(places, names, fontsize=10)
    axes.set_xlim(low, high + 0.09 * (high - low))
    axes.set_ylim(-0.7, len(names) - 0.3)
    axes.yaxis.grid(visible=False)
    axes.xaxis.grid(visible=True, color="#dfe3e8", lw=0.8)
    axes.set_xlabel(in_units(walk.target, walk.unit))
    thousands(axes.xaxis)
    _key(axes)
    return picture


def _stacks(walk: Walk) -> Picture:
    """A stack a span: what raises it above the start and what lowers it."""
    found = [step for step in walk.moved if not step.phase] or list(walk.moved)
    kept, rest = found[: _MOST - 1], found[_MOST - 1 :]
    room = 0.15 if max(map(len, walk.spans)) > 9 else 0.115
    picture, axes = canvas(
        walk.headline.rstrip("."),
        f"What raises each value above {walk.from_words} and what lowers it; marks are the whole change, to which the "
        "parts add up exactly.",
        right=0.845,
        above=0.02,
        below=room,
    )
    places, above, below = np.arange(len(walk.spans)), np.zeros(len(walk.spans)), np.zeros(len(walk.spans))
    handles = []
    parts = [(_name(step), step.amount) for step in kept]
    if rest:
        parts.append((f"{len(rest)} more", np.sum([step.amount for step in rest], axis=0)))
    for j, (name, amount) in enumerate(parts):
        colour, hatch = TERMS[j % len(TERMS)], HATCHES[j // len(TERMS) % len(HATCHES)]
        axes.bar(
            places,
            amount,
            0.82,
            bottom=np.where(amount >= 0.0, above, below),
            facecolor=colour,
            hatch=hatch,
            edgecolor=PAPER,
            lw=0.4,
        )
        above, below = above + np.maximum(amount, 0.0), below + np.minimum(amount, 0.0)
        handles.append(Patch(facecolor=colour, hatch=hatch, edgecolor=PAPER, label=short(name, 18)))
    axes.axhline(0.0, color=INK, lw=1.0)
    mark = axes.plot(
        places,
        walk.change,
        color=INK,
        lw=0,
        marker="_",
        mew=2.6,
        label="whole change",
        ms=max(5.0, min(26.0, 420.0 / len(places))),
    )
    step = -(-len(places) // 14)
    axes.set_xticks(places[::step], list(walk.spans)[::step], rotation=30, ha="right", fontsize=9)
    axes.set_ylabel(f"change of {in_units(walk.target, walk.unit)}")
    thousands(axes.yaxis)
    axes.margins(x=0.01)
    legend(axes, handles=[*handles, *mark], ncols=1, loc="upper left", bbox_to_anchor=(1.01, 1.0), markerscale=0.6)
    return picture


def _shown(walk: Walk) -> list[Step]:
    """The steps of a waterfall, the smallest of them as one."""
    steps = list(walk.moved)
    limit = SMALL * abs(float(walk.start[0]))
    kept = [step for step in steps if abs(float(step.amount[0])) >= limit] or steps
    kept = sorted(kept, key=lambda step: -abs(float(step.amount[0])))[:_MOST]
    rest = [step for step in steps if step not in kept]
    if len(rest) < 2:
        return steps
    amount = np.sum([step.amount for step in rest], axis=0)
    small = Step("small", f"{len(rest)} smaller steps", "", amount, np.full(1, np.nan))
    return [*(step for step in steps if step in kept), small]


def _name(step: Step) -> str:
    return f"{step.phase}: {step.label}" if step.phase else step.label


def _edges(before: np.ndarray, steps: list[Step]) -> tuple[float, float]:
    halves = np.array([float(step.half[0]) for step in steps])
    reach = np.where(np.isfinite(halves), halves, 0.0)
    low = float(min(before.min(), (before[1:] - reach).min()))
    high = float(max(before.max(), (before[1:] + reach).max()))
    room = max(high - low, 1e-12)
    return low - 0.12 * room, high + 0.06 * room


def _key(axes: Axes) -> None:
    handles = [
        Patch(facecolor=RAISES, label="raises"),
        Patch(facecolor=LOWERS, hatch="//", edgecolor=PAPER, label="lowers"),
    ]
    legend(axes, handles=handles, loc="lower right", bbox_to_anchor=(1.0, 1.0))


def draw_story(page: Story) -> Picture:
    """The walk that the page is about."""
    return draw_walk(page.walk)
