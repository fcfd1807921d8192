"""One period's estimate as values come in, the values behind it, and several models' forecasts with their mean."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.dates import ConciseDateFormatter
from matplotlib.patches import Patch

from offing.base.palette import FAINT, FAN, INK, QUIET, TERMS, WARM
from offing.base.text import in_units, number, signed
from offing.draw.style import HATCHES, Picture, canvas, date_ticks, legend, short, stacked, thousands, times_of
from offing.evaluation import Combination
from offing.evaluation.combination_methods import STATED_WEIGHTS
from offing.explain import REESTIMATED, Inputs, Nowcast

#: Periods of the history at least: three years of quarters, so that the season is seen.
_HISTORY = 12
#: The release dates of more values would overlap.
_LABELLED = 3


def draw_running(result: Nowcast) -> Picture:
    """The estimate with its narrowing interval over the dates; below, what each release did to it."""
    first, last = result.table.iloc[0], result.table.iloc[-1]
    low, high = result.table.columns[1], result.table.columns[-2]
    unit = f" {result.unit}" if result.unit else ""
    picture, above, below = stacked(
        f"{result.period}: estimated at {number(first['forecast'], 4)}{unit} on {result.dates[0]:%d %B}, at "
        f"{number(last['forecast'], 4)} on {result.dates[-1]:%d %B}",
        f"Above: the estimate on each date with bands from {low} to {high}; all is refitted on each. Below: what "
        "moved it since the date before, a release by its surprise times its weight; the rest is that all was "
        "re-estimated.",
        upper=0.58,
    )
    dates = [np.datetime64(each.tz_localize(None)) for each in result.dates]
    pairs = (len(result.table.columns) - 3) // 2
    for i in range(pairs):
        tone = FAN[min(i, len(FAN) - 1)]
        edges = result.table.iloc[:, [1 + i, len(result.table.columns) - 2 - i]].to_numpy()
        above.fill_between(
            dates,
            edges[:, 0],
            edges[:, 1],
            color=tone,
            lw=0,
            label=f"{result.table.columns[1 + i]} to {result.table.columns[-2 - i]}",
        )
    above.plot(dates, result.table["forecast"], color=WARM, lw=2.2, marker="D", ms=6, label="estimate (mean)")
    for date, value in zip(dates, result.table["forecast"], strict=True):
        above.annotate(number(value, 4), (date, value), xytext=(0, 9), textcoords="offset points", ha="center")
    above.tick_params(labelbottom=False)
    above.margins(x=0.06)
    if np.isfinite(result.outcome):
        above.axhline(result.outcome, color=INK, lw=1.6, dashes=(5, 2), label="outcome")
    above.set_ylabel(in_units(result.target, result.unit))
    thousands(above.yaxis)
    legend(above)
    _steps(below, result, dates)
    return picture


def _steps(axes: Axes, result: Nowcast, dates: Sequence[Any]) -> None:
    """Signed stacks at each date but the first."""
    names = [name for name in dict.fromkeys(result.steps["driver"]) if name != REESTIMATED]
    looks = {name: (TERMS[i % len(TERMS)], HATCHES[i // len(TERMS)]) for i, name in enumerate(names)}
    looks[REESTIMATED] = (QUIET, "////")
    hours = min((int((b - a) / np.timedelta64(1, "h")) for a, b in pairwise(dates)), default=24)
    width = np.timedelta64(max(int(0.35 * hours), 1), "h")
    for date, stamp in zip(dates[1:], result.dates[1:], strict=True):
        up = down = 0.0
        steps = result.steps[result.steps["to"] == stamp]
        for _, step in steps.iterrows():
            size = float(step["effect"])
            colour, hatch = looks[step["driver"]]
            base = up if size >= 0.0 else down
            axes.bar(date, size, width, bottom=base, color=colour, hatch=hatch, edgecolor="white", lw=0.6)
            up, down = (up + size, down) if size >= 0.0 else (up, down + size)
        total = float(steps["effect"].sum())
        axes.annotate(signed(total), (date, up), xytext=(0, 4), textcoords="offset points", ha="center")
    axes.axhline(0.0, color=INK, lw=0.9)
    axes.margins(y=0.22)
    axes.set_ylabel(f"moved by\n({result.unit})" if result.unit else "moved by")
    locator = date_ticks(9)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    handles = [
        Patch(facecolor=colour, hatch=hatch, edgecolor="white", label=name) for name, (colour, hatch) in looks.items()
    ]
    legend(axes, handles=handles)


def draw_inputs(result: Inputs) -> Picture:
    """A time line a driver: each value as wide as its period and as high as its weight; open where not published."""
    drivers = list(dict.fromkeys(result.table["driver"]))
    picture, axes = canvas(
        result.sentence.rstrip("."),
        f"Each bar is one value that enters the forecast of {result.period}: as wide as its period, as high as its "
        "coefficient. Filled: published by the dashed day; hatched: expected by the driver's own model, with the day "
        "on which it is released.",
        left=0.16,
    )
    axes.axvspan(_stamp(result.start), _stamp(result.end), color=FAINT, alpha=0.6, lw=0)
    axes.annotate(
        result.period,
        (_stamp(result.start), 1.0),
        xycoords=("data", "axes fraction"),
        xytext=(5, -5),
        textcoords="offset points",
        va="top",
        fontsize=11,
    )
    for row, driver in enumerate(drivers):
        own = result.table[result.table["driver"] == driver]
        top = max(float(own["coefficient"].abs().max()), 1e-300)
        base = len(drivers) - 1 - row
        for _, value in own.iterrows():
            start, end = _stamp(value["start"]), _stamp(value["end"])
            size = 0.72 * float(value["coefficient"]) / top
            out = value["mark"] != "modelled"
            colour = TERMS[row % len(TERMS)]
            axes.bar(
                start,
                size,
                end - start,
                bottom=base,
                align="edge",
                color=colour if out else "none",
                edgecolor="white" if out else colour,
                hatch="" if out else "////",
                lw=0.8,
            )
            if not out and (own["mark"] == "modelled").sum() <= _LABELLED:
                axes.annotate(
                    f"due {value['released']:%d %b}",
                    (start, base),
                    xytext=(2, -12),
                    textcoords="offset points",
                    fontsize=8.5,
                    color=INK,
                )
        axes.axhline(base, color=QUIET, lw=0.8)
    axes.axvline(_stamp(result.origin), color=WARM, lw=1.6, dashes=(4, 2))
    axes.annotate(
        "origin",
        (_stamp(result.origin), 1.0),
        xycoords=("data", "axes fraction"),
        xytext=(4, -5),
        textcoords="offset points",
        va="top",
        color=WARM,
    )
    axes.set_yticks([len(drivers) - 1 - row + 0.36 for row in range(len(drivers))], [short(d, 16) for d in drivers])
    axes.set_ylim(-0.25, len(drivers))
    axes.yaxis.grid(visible=False)
    axes.set_xlabel("time (each bar from its period's start to its end)")
    patches = [
        Patch(facecolor=TERMS[0], label="published"),
        Patch(facecolor="none", edgecolor=TERMS[0], hatch="////", label="expected, not published"),
    ]
    legend(axes, handles=patches)
    return picture


def _stamp(moment: Any) -> Any:
    """A moment on the wall clock, as Matplotlib takes it."""
    stamp = pd.Timestamp(moment)
    return np.datetime64(stamp.tz_localize(None) if stamp.tz is not None else stamp)


#: How the members of a combination count, by its way.
_WEIGHTED = {
    "mean": "All count alike.",
    "median": "The middle one counts, or both in the middle.",
    "trimmed mean": "All but the highest and the lowest ones count alike.",
    "past errors": "Weights go with one over past squared errors.",
    "least squares": "Weights are those that would have been best in the past, none of them negative.",
    STATED_WEIGHTS: "Weights are as stated.",
}


def draw_combination(result: Combination) -> Picture:
    """Every member's forecast after the history, and their mean with its band."""
    first = next(iter(result.members.values()))
    picture, axes = canvas(
        result.sentence.split(". Over")[0].rstrip("."),
        (
            "Each mark is one model's forecast, with its weight; the wide one is their mean. "
            + (_WEIGHTED[result.method])
        )
        + f" {first.fit.source_note}",
    )
    fit, axis = first.fit, first.axis
    shown = min(fit.axis.n, max(_HISTORY, 2 * axis.n))
    past = fit.axis.part(fit.axis.n - shown, fit.axis.n)
    axes.plot(
        times_of(past),
        fit.target[-shown:],
        color=INK,
        lw=1.8,
        marker="o" if shown <= 24 else "",
        ms=3.5,
        label=fit.label,
    )
    step = times_of(axis)[0] - times_of(past)[-1]
    for i, (name, member) in enumerate(result.members.items()):
        aside = step * (i - (len(result.members) - 1) / 2.0) * (0.5 / max(len(result.members), 1))
        marks = "sv^<>pPX*h"
        axes.plot(
            times_of(axis) + aside,
            member.mean,
            color=TERMS[i % len(TERMS)],
            lw=1.0 if axis.n > 1 else 0.0,
            marker=marks[i % len(marks)],
            ms=8,
            label=f"{name} ({100.0 * result.weights[i]:.0f} %)",
        )
    quantiles = result.quantiles
    half = np.full(axis.n, step / 2)
    edges = quantiles.iloc[:, [0, -1]].to_numpy()
    for time, width, (low, high), mean in zip(times_of(axis), half, edges, result.mean, strict=True):
        axes.fill_between([time - width, time + width], low, high, color=FAN[0], lw=0, zorder=0)
        axes.plot([time - width, time + width], [mean, mean], color=WARM, lw=2.6)
    axes.plot([], [], color=WARM, lw=2.6, label="combined")
    axes.fill_between([], [], [], color=FAN[0], label=f"{quantiles.columns[0]} to {quantiles.columns[-1]}")
    axes.set_ylabel(in_units(fit.label, fit.unit))
    axes.set_xlabel(f"{axis.frequency.unit} (start)")
    thousands(axes.yaxis)
    axes.margins(x=0.02)
    legend(axes, ncols=4)
    return picture
