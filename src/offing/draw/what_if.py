"""What if: scenarios over the history, changes of drivers by what they do, and a year of days."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.patches import Patch

from offing.base.palette import FAINT, FAN, INK, PAPER, QUIET, TERMS, WARM
from offing.base.text import in_units, number, signed
from offing.draw.style import Picture, canvas, legend, short, stacked, thousands, times_of
from offing.explain import Scenarios, Sensitivity, YearOfDays

#: So much history stands before the scenarios, in lengths of the forecast.
_BEFORE, _LEAST = 2, 12
#: Few periods have marks, and many thin lines without dashes.
_FEW, _DENSE = 30, 120
#: Line styles separate scenarios in grey print.
_DASHES: tuple[tuple[float, ...], ...] = ((), (5, 2), (1.5, 1.5), (7, 2, 1.5, 2), (3, 1), (9, 3))
#: From what takes away most over nothing to what adds most, readable in grey by its lightness on either side.
_SIGNED = LinearSegmentedColormap.from_list("signed", [TERMS[5], "#a9b8cf", PAPER, FAN[1], WARM])


def draw_scenarios(result: Scenarios) -> Picture:
    """A line a scenario, labelled at its end, over the fan of the first."""
    fit, axis = result.fit, result.axis
    first = result.totals.iloc[0]
    rows = result.totals.iloc[1:]
    unit = f" {fit.sum_unit}" if fit.unit else ""
    noted = [f"'{name}' {signed(float(row['difference']), 3)}{unit}" for name, row in rows.iterrows()]
    title = f"{fit.label}, {axis.spell()}: {number(float(first['total']), 4)}{unit} '{result.base}'; {', '.join(noted)}"
    picture, axes, below = stacked(
        title,
        f"Above, each line is a scenario's mean, over the fan of 50, 80 and 95 % of outcomes '{result.base}'. "
        f"Below, how far each lies from '{result.base}', with the 95 % interval of paired joint paths, in which common "
        "noise cancels.",
        right=0.83,
    )
    shown = min(max(_BEFORE * axis.n, _LEAST), fit.axis.n)
    past = fit.axis.part(fit.axis.n - shown, fit.axis.n)
    axes.plot(times_of(past), fit.target[-shown:], color=INK, lw=1.4)
    times = times_of(axis)
    base, few = result.forecasts[result.base], axis.n <= _FEW
    look: dict[str, Any] = {"marker": "D", "ms": 3.5} if few else {}
    for i, (colour, level) in enumerate(zip(FAN, (0.95, 0.8, 0.5), strict=True)):
        band = base.quantiles([(1.0 - level) / 2.0, (1.0 + level) / 2.0]).to_numpy()
        if axis.n == 1:
            axes.vlines(times, band[:, 0], band[:, 1], color=colour, lw=10 + 4 * i)
        axes.fill_between(times, band[:, 0], band[:, 1], color=colour, lw=0)
    ends: dict[Axes, list[tuple[float, str, str]]] = {axes: [], below: []}
    for i, (name, each) in enumerate(result.forecasts.items()):
        colour = WARM if i == 0 else TERMS[(i - 1) % len(TERMS)]
        dashes: Any = _DASHES[i % len(_DASHES)] if axis.n <= _DENSE else ()
        width = 1.8 if axis.n <= _DENSE else 1.0
        axes.plot(times, each.mean, color=colour, lw=width, dashes=dashes or (None, None), **look)
        ends[axes].append((float(each.mean[-1]), name, colour))
        if i:
            gap = result.differences(name)
            below.fill_between(times, gap["low"], gap["high"], color=colour, alpha=0.16, lw=0)
            if axis.n == 1:
                below.vlines(times, gap["low"], gap["high"], color=colour, lw=1.2)
            below.plot(times, gap["difference"], color=colour, lw=width, dashes=dashes or (None, None), **look)
            ends[below].append((float(gap["difference"].iloc[-1]), name, colour))
    below.axhline(0.0, color=WARM, lw=1.4)
    for part, found in ends.items():
        _label_ends(part, times, found)
        thousands(part.yaxis)
        part.margins(x=0.005)
    axes.set_ylabel(in_units(fit.label, fit.unit))
    below.set_ylabel(f"against '{result.base}'")
    below.set_xlabel(f"{axis.frequency.unit} (start)")
    axes.tick_params(labelbottom=False)
    return picture


def _label_ends(axes: Axes, times: np.ndarray, ends: list[tuple[float, str, str]]) -> None:
    """Names at the ends of lines, apart from each other."""
    low, high = axes.get_ylim()
    height = axes.get_position().height
    room, last = 0.038 / height * (high - low), -np.inf
    for value, name, colour in sorted(ends):
        last = max(value, last + room)
        axes.annotate(
            short(name, 20),
            (times[-1], value),
            xytext=(1.035, (last - low) / (high - low)),
            textcoords="axes fraction",
            color=colour,
            va="center",
            fontsize=10,
            arrowprops={"arrowstyle": "-", "color": colour, "lw": 0.7},
        )
    axes.set_ylim(low, high)


def draw_sensitivity(result: Sensitivity) -> Picture:
    """A bar a driver, the largest effect on top, with its interval."""
    more = " ".join(result.sentences.splitlines()[len(result.drivers) :])
    picture, axes = canvas(
        result.headline,
        "The model is run again with each driver changed from here on, the others as they are. Lines "
        f"are 95 % intervals from the coefficients. {more}".strip(),
        left=0.2,
        above=0.02,
    )
    places = np.arange(len(result.drivers))[::-1]
    surely = (result.low > 0.0) | (result.high < 0.0)
    for place, value, sure in zip(places, result.total, surely, strict=True):
        colour = TERMS[0] if value > 0.0 else TERMS[1]
        axes.barh(
            place,
            value,
            0.6,
            facecolor=colour if sure else PAPER,
            edgecolor=PAPER if sure else colour,
            lw=0.6 if sure else 1.2,
            hatch="" if value > 0.0 or not sure else "//",
        )
    axes.hlines(places, result.low, result.high, color=INK, lw=1.3)
    axes.axvline(0.0, color=INK, lw=1.0)
    right = max(float(result.high.max()), 0.0)
    left = min(float(result.low.min()), 0.0)
    room = max(right - left, 1e-12)
    for place, high, value in zip(places, result.high, result.total, strict=True):
        edge = max(float(high), 0.0)
        axes.annotate(signed(float(value)), (edge, place), xytext=(6, 0), textcoords="offset points", va="center")
    names = [f"{short(label, 26)}\n{change}" for label, change in zip(result.labels, result.changes, strict=True)]
    axes.set_yticks(places, names, fontsize=10)
    axes.set_xlim(left - 0.04 * room, right + 0.12 * room)
    axes.set_ylim(-0.6, len(places) - 0.4)
    axes.yaxis.grid(visible=False)
    axes.xaxis.grid(visible=True, color=FAINT, lw=0.8)
    axes.set_xlabel(f"effect on the total of {in_units(result.target, result.unit)}")
    thousands(axes.xaxis)
    keys = [
        Patch(facecolor=TERMS[0], label="raises"),
        Patch(facecolor=TERMS[1], hatch="//", edgecolor=PAPER, label="lowers"),
        Patch(facecolor=PAPER, edgecolor=QUIET, label="interval includes zero"),
    ]
    legend(axes, handles=keys, loc="lower right", bbox_to_anchor=(1.0, 1.0))
    return picture


def draw_year_of_days(result: YearOfDays) -> Picture:
    """A row a month and a cell a day, its colour by what is added or taken away."""
    picture, axes = canvas(
        result.sentence.rstrip("."),
        "A cell a day: warm where it adds to the baseline, cool where it takes away; empty where nothing is known. "
        "Small marks are Sundays.",
        left=0.085,
        right=0.9,
        above=0.02,
    )
    days = result.table.index
    cells = np.full((12, 31), np.nan)
    cells[days.month - 1, days.day - 1] = result.values  # type: ignore[attr-defined]
    most = max(float(np.nanmax(np.abs(cells))), 1e-12)
    drawn = axes.imshow(cells, cmap=_SIGNED, vmin=-most, vmax=most, aspect="auto")
    sunday = days.day_of_week == 6  # type: ignore[attr-defined]
    axes.plot(days.day[sunday] - 1, days.month[sunday] - 0.62, ".", color=INK, ms=2.6)  # type: ignore[attr-defined]
    axes.set_xticks(np.arange(31), [str(i) for i in range(1, 32)], fontsize=9)
    names = [f"{result.table.index[0].year}-{month:02d}" for month in range(1, 13)]
    axes.set_yticks(np.arange(12), names)
    axes.set_xticks(np.arange(-0.5, 31), minor=True)
    axes.set_yticks(np.arange(-0.5, 12), minor=True)
    axes.yaxis.grid(visible=False)
    axes.grid(which="minor", color=PAPER, lw=1.5)
    axes.tick_params(which="minor", length=0)
    axes.set_xlabel("day of the month")
    bar = picture.colorbar(drawn, ax=axes, fraction=0.03, pad=0.02)
    bar.set_label(f"contribution to {in_units(result.target, result.unit)}, a day")
    thousands(bar.ax.yaxis)
    return picture
