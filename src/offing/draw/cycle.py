"""The shape of a season: a year around, a week or a day as bars, kinds of day as a heat map."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.ticker import MaxNLocator

from offing.base.palette import FAN, INK, PAPER, QUIET, TERMS, WARM
from offing.base.text import in_units, number, percent
from offing.calendar import MONTHS
from offing.draw.style import Picture, canvas, legend, round_canvas, thousands
from offing.explain import CycleShape
from offing.explain.seasonal_cycle import Course

#: From below the average over the paper to above it: lightness shows how far, hue and the scale which way.
_HEAT = LinearSegmentedColormap.from_list(
    "offing heat", [TERMS[5], TERMS[0], "#a3c3ce", PAPER, FAN[1], WARM, "#6b2411"]
)
_AROUND = ("year", "365.25 days", "365 days", "1 years")


def draw_cycle(result: CycleShape) -> Picture:
    """A year goes around by its months; kinds of day make a heat map; all else is bars or a line."""
    if result.kinds:
        return _heat_map(result)
    if result.unit in _AROUND and len(result.courses[0].value) >= 4:
        return _around(result)
    return _along(result)


def _centre(result: CycleShape) -> float:
    return 1.0 if result.indices.multiplies else 0.0


def _measure(result: CycleShape) -> str:
    found = result.indices
    return f"index of {found.target}" if found.multiplies else f"effect on {in_units(found.target, found.unit)}"


def _caption(result: CycleShape) -> str:
    kind = "Indices average to 1" if result.indices.multiplies else "Effects sum to 0"
    return f"{kind} and are free of trend and drivers."


def _around(result: CycleShape) -> Picture:
    picture, axes = round_canvas(
        result.sentence.rstrip("."),
        f"{_measure(result).capitalize()}, around the year from January at the top. {_caption(result)} The dashed ring "
        "is the average, the band the 95 % interval.",
    )
    for i, course in enumerate(result.courses):
        colour = TERMS[i % len(TERMS)]
        angle, (value, low, high) = _closed(course)
        axes.fill_between(angle, low, high, color=colour, alpha=0.25, lw=0)
        axes.plot(angle, value, color=colour, lw=2.2, dashes=(1, 0) if not i else (4, 1.5), label=course.when)
    ring = np.linspace(0.0, 2.0 * np.pi, 200)
    axes.plot(ring, np.full(200, _centre(result)), color=QUIET, lw=1.2, dashes=(3, 2))
    everything = np.concatenate([np.concatenate([course.low, course.high]) for course in result.courses])
    least, most = float(everything.min()), float(everything.max())
    # The middle of the circle is no zero: it lies as far below the lowest as the season is wide.
    axes.set_ylim(least - 0.6 * (most - least), most + 0.05 * (most - least))
    axes.set_xticks(np.arange(12) * np.pi / 6.0, [month[:3] for month in MONTHS])
    axes.set_rlabel_position(15.0)
    axes.tick_params(axis="y", labelsize=9, labelcolor=QUIET)
    axes.yaxis.set_major_locator(MaxNLocator(4))
    thousands(axes.yaxis)
    if len(result.courses) > 1:
        legend(axes, bbox_to_anchor=(-0.3, 0.0), ncols=1)
    return picture


def _closed(course: Course) -> tuple[np.ndarray, list[np.ndarray]]:
    """Angles and values of a course that comes back to where it started; few positions are drawn as steps."""
    parts = [course.value, course.low, course.high]
    if len(course.value) <= 12:
        # A month or quarter is as wide as its share of the year.
        width = 2.0 * np.pi / len(course.value)
        grid = np.linspace(0.0, width, 20)
        angle = np.concatenate([2.0 * np.pi * phase + grid for phase in course.phase])
        return np.append(angle, angle[0] + 2.0 * np.pi), [np.append(np.repeat(each, 20), each[0]) for each in parts]
    angle = 2.0 * np.pi * course.phase
    return np.append(angle, angle[0] + 2.0 * np.pi), [np.append(each, each[0]) for each in parts]


def _along(result: CycleShape) -> Picture:
    several = len(result.courses) > 1
    picture, axes = canvas(
        result.sentence.rstrip("."),
        f"{_caption(result)} The line spans the 95 % interval.",
        above=0.05 if several else 0.02,
    )
    centre = _centre(result)
    width = 0.8 / len(result.courses)
    for i, course in enumerate(result.courses):
        places = np.arange(len(course.value)) + (i - (len(result.courses) - 1) / 2.0) * width
        colour = TERMS[i % len(TERMS)]
        if len(course.value) > 40:
            axes.fill_between(places, course.low, course.high, color=colour, alpha=0.25, lw=0)
            axes.plot(places, course.value, color=colour, lw=2.2, label=course.when)
            continue
        axes.bar(places, course.value - centre, 0.9 * width, bottom=centre, color=colour, alpha=0.85, label=course.when)
        axes.vlines(places, course.low, course.high, color=INK, lw=2.0)
    axes.axhline(centre, color=QUIET, lw=1)
    _name_places(axes, result.courses[0])
    axes.set_ylabel(_measure(result))
    axes.set_xlabel(result.indices.cycle)
    axes.margins(x=0.02)
    if not result.indices.multiplies:
        thousands(axes.yaxis)
    if several:
        legend(axes)
    return picture


def _name_places(axes: Axes, course: Course) -> None:
    names = [name[:3] if name in MONTHS else name for name in course.positions]
    starts = [i for i in range(len(names)) if not i or names[i] != names[i - 1]]
    kept = starts[:: -(-len(starts) // 26)]
    axes.set_xticks(kept, [names[i] for i in kept], rotation=30 if max(map(len, names)) > 10 else 0)


def _heat_map(result: CycleShape) -> Picture:
    course, kinds = result.courses[-1], result.kinds
    centre = _centre(result)
    half = float(np.median(course.high - course.low)) / 2.0
    noted = percent(half).lstrip("+") if result.indices.multiplies else number(half)
    picture, axes = canvas(
        result.sentence.rstrip("."),
        f"{_measure(result).capitalize()} by {result.indices.cycle}{f', {course.when}' if course.when else ''}. "
        f"{_caption(result)} The 95 % interval of a cell is typically \N{PLUS-MINUS SIGN}{noted}.",
        left=0.11,
        right=0.9,
        above=0.02,
    )
    names = list(dict.fromkeys(_hour_of(each, kinds) for each in course.positions))
    grid = np.full((len(kinds), len(names)), np.nan)
    for position, value in zip(course.positions, course.value, strict=True):
        kind = next(i for i, each in enumerate(kinds) if position.startswith(f"{each} "))
        grid[kind, names.index(_hour_of(position, kinds))] = value
    reach = float(np.nanmax(np.abs(grid - centre)))
    image = axes.imshow(grid, cmap=_HEAT, vmin=centre - reach, vmax=centre + reach, aspect="auto")
    axes.set_yticks(range(len(kinds)), kinds)
    step = -(-len(names) // 24)
    axes.set_xticks(range(0, len(names), step), names[::step], rotation=90 if len(names) > 12 else 0)
    axes.yaxis.grid(visible=False)
    axes.set_xlabel(result.indices.cycle.split(" by ")[0])
    bar = picture.add_axes((0.92, axes.get_position().y0, 0.015, axes.get_position().height))
    picture.colorbar(image, cax=bar)
    thousands(bar.yaxis)
    for row in range(1, len(kinds)):
        axes.axhline(row - 0.5, color=PAPER, lw=2)
    return picture


def _hour_of(position: str, kinds: tuple[str, ...]) -> str:
    kind = max((each for each in kinds if position.startswith(f"{each} ")), key=len)
    return position[len(kind) + 1 :]
