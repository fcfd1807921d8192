"""Back-tests: forecasts from all origins, scores by horizon, candidates, coverage, a search, weights, the folds."""

from __future__ import annotations

from itertools import cycle
from typing import Any

import numpy as np
import pandas as pd
from matplotlib.axes import Axes
from matplotlib.ticker import MaxNLocator

from offing.base import count
from offing.base.palette import FAN, INK, QUIET, TERMS, WARM
from offing.base.text import in_units, number, percent
from offing.draw.style import Picture, canvas, grid, legend, short, thousands
from offing.evaluation import Backtest, ByHorizon, MemberWeights, Search, Timeline
from offing.evaluation.scoring import SCORES

#: There are eight marks that can be separated without colour.
_SHOWN = 8
#: More rows than these cannot be read at the usual height of a figure.
MOST_ROWS = 14
#: Lines of more periods are drawn thin.
_DENSE = 800
_MARKS = "osv^Dp<>"
_DASHES: list[Any] = ["--", ":", "-.", (0, (6, 2, 1, 2)), (0, (1, 3)), (0, (8, 3)), (0, (3, 1, 1, 1))]


def _times(index: pd.DatetimeIndex) -> np.ndarray:
    return np.asarray((index.tz_localize(None) if index.tz is not None else index).to_numpy())


def draw_backtest(result: Backtest) -> Picture:
    """The history in ink, and the first model's forecast of every origin, with its 80 % band, over it."""
    basis, first = result.bases[-1], result.models[0].name
    series = result.series[0]
    run = next(each for each in result.chosen(basis, series) if each.name == first)
    cuts = run.cuts
    cost = "" if result.unknown_drivers_cost is None else " Not knowing the drivers costs nothing here."
    if result.unknown_drivers_cost is not None and result.unknown_drivers_cost > 0.0:
        cost = f" Not knowing the drivers costs {percent(result.unknown_drivers_cost)} (RMSE)."
    several = f" Shown is the first of {len(result.series)} series, {series}." if len(result.series) > 1 else ""
    picture, axes = canvas(
        _verdict(result),
        f"Each warm line is one forecast of '{first}' ({basis}), made at the dot before it from what was known there; "
        f"the band holds 80 %.{cost}{several}",
    )
    axis, values = cuts.table.axis, cuts.table.values(cuts.column)
    start = max(cuts.first, int(cuts.ends[0]) - max(2 * cuts.plan.horizon, len(cuts.ends) * cuts.plan.usual_step // 3))
    stop = min(int(cuts.rows.max()) + 1, axis.n)
    index = axis.index
    bands, dense = run.at(0.1, 0.9), stop - start >= _DENSE
    shown = slice(start, stop)
    axes.plot(_times(index[shown]), values[shown], color=INK, lw=0.6 if dense else 1.6, zorder=3, label=result.label)
    for fold in range(len(cuts.ends)):
        times = _times(cuts.axis(fold).index)
        names = ("forecast", "80 % band", "last known") if fold == 0 else ("", "", "")
        low, high = bands[fold].T
        if len(times) == 1:
            axes.vlines(times, low, high, color=FAN[1], lw=7, label=names[1])
        else:
            axes.fill_between(times, low, high, color=FAN[fold % 2], lw=0, alpha=0.75, label=names[1])
        mark = "D" if len(times) <= 16 else ""
        axes.plot(times, run.mean[fold], color=WARM, lw=0.8 if dense else 1.5, marker=mark, ms=3, label=names[0])
        at = int(cuts.ends[fold]) - 1
        axes.plot(_times(index[at : at + 1]), values[at : at + 1], "o", color=INK, ms=5, label=names[2])
    axes.set_ylabel(in_units(result.label, result.unit))
    axes.set_xlabel(f"{axis.frequency.unit} (start)")
    thousands(axes.yaxis)
    axes.margins(x=0.01)
    legend(axes)
    return picture


def _verdict(result: Backtest) -> str:
    found = result.compared
    if found.best_reference is None:
        return f"'{found.best}' at {len(found.losses)} origins"
    if found.skill > 0.0:
        return (
            f"'{found.best}' beats the best plain reference, '{found.best_reference}', by "
            f"{100 * found.skill:.0f} % ({found.score}, {found.basis})"
        )
    return f"'{found.best}' does not beat the plain reference '{found.best_reference}' ({found.score}, {found.basis})"


def draw_by_horizon(result: ByHorizon) -> Picture:
    """A line a candidate; references are grey and dashed, named at their ends."""
    kinds = {run.name: run.kind for run in result.backtest.runs}
    own = [name for name in result.table.columns if kinds[name] != "reference"]
    others = [name for name in result.table.columns if kinds[name] == "reference"]
    unit = result.backtest.cuts().table.axis.frequency.unit
    best = own[int(np.argmin([result.table[name].mean() for name in own]))]
    origins = len(result.backtest.cuts().ends)
    picture, axes = canvas(
        _by_horizon_title(result, best, others, unit),
        f"{result.basis}; each point is over {count(origins, 'origin')}. Dashed and grey are plain references, which "
        "cost nothing; those far above are cut off.",
        right=0.82,
    )
    top = float(np.nanmax(result.table[own].to_numpy()))
    high = float(np.nanquantile(result.table.to_numpy(), 0.98))
    limit = 1.05 * max(top, min(high, 3.0 * top))
    axes.set_ylim(0.0, limit)
    for name, style in zip(others, cycle(_DASHES), strict=False):
        axes.plot(result.table.index, result.table[name], color=QUIET, lw=1.2, ls=style)
    for i, name in enumerate(own[:_SHOWN]):
        axes.plot(
            result.table.index,
            result.table[name],
            color=WARM if name == best else TERMS[i % len(TERMS)],
            lw=2.2 if name == best else 1.5,
            marker=_MARKS[i] if len(result.table) <= 60 else "",
            ms=5,
            label=name,
        )
    _name_ends(axes, result.table[others], limit)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.margins(x=0.01)
    axes.set_xlabel(f"{unit}s ahead")
    axes.set_ylabel(in_units(result.score, result.unit))
    thousands(axes.yaxis)
    legend(axes, ncols=5)
    return picture


def _by_horizon_title(result: ByHorizon, best: str, others: list[str], unit: str) -> str:
    line = result.table[best].dropna()
    if not others:
        return f"{result.score} of '{best}' by horizon"
    lowest = result.table.loc[line.index, others].min(axis=1)
    won, n = int((line < lowest).sum()), len(line)
    if n == 1:
        return (
            f"'{best}' has {result.score} {number(float(line.iloc[0]))} one {unit} ahead, the best plain reference "
            f"{number(float(lowest.iloc[0]))}"
        )
    where = "every" if won == n else "no" if won == 0 else f"{won} of {n}"
    ahead = f"{unit} ahead" if won in (0, n) else f"{unit}s ahead"
    return f"'{best}' is below all plain references at {where} {ahead} ({result.score})"


def _name_ends(axes: Axes, lines: pd.DataFrame, limit: float) -> None:
    """Names right of the lines' ends, moved apart where they would touch."""
    ends = lines.iloc[-1].clip(upper=limit).dropna().sort_values()
    room, at = 0.042 * limit, -np.inf
    for name, value in ends.items():
        at = max(float(value), at + room)
        axes.annotate(
            str(name),
            (float(lines.index[-1]), at),
            xytext=(8, 0),
            textcoords="offset points",
            fontsize=9,
            color=INK,
            va="center",
            annotation_clip=False,
        )


def draw_search(result: Search) -> Picture:
    """The best candidate of each size, and the winner's score in the search beside its honest one."""
    rows = result.by_size
    picture, (axes, course) = grid(
        f"The winner's honest {result.score} is {number(result.honest)}; in the search it looked like "
        f"{number(result.found)} ({percent(result.optimism)})",
        f"Best {result.score} of all tried candidates with each number of coefficients, over {result.origins} origins. "
        f"Tried: {len(result.tried):,} of {result.space.size:,}. The square is the winner on the "
        f"{result.held_back} newest periods, which the search never saw. Right: the score of each try, and the best "
        "so far.",
        2,
    )
    _course(course, result)
    every = [each for each in result.tried if each.folds == result.origins and np.isfinite(each.score)]
    sizes, reached = [each.columns for each in every], [each.score for each in every]
    axes.plot(sizes, reached, "o", color=QUIET, ms=4, mew=0, alpha=0.55, label="tried")
    axes.plot(rows["columns"], rows["score"], color=INK, lw=1.6, marker="o", ms=4, label="best of its size")
    winner = result.winner
    axes.plot([winner.columns], [winner.score], "D", color=WARM, ms=10, label="winner, in the search", zorder=5)
    axes.plot(
        [winner.columns],
        [result.honest],
        "s",
        mfc="none",
        mec=WARM,
        mew=2.2,
        ms=11,
        label="winner, on what was held back",
        zorder=5,
    )
    axes.plot([winner.columns] * 2, [winner.score, result.honest], color=WARM, lw=1.0, ls=":")
    if result.as_stated is not None:
        axes.axhline(result.as_stated, color=TERMS[0], lw=1.3, ls="--", label="model as stated, on what was held back")
    shown = [*rows["score"], result.honest, *([] if result.as_stated is None else [result.as_stated])]
    low, high = min(shown), max(*shown, float(np.quantile([each.score for each in every], 0.9)))
    axes.set_ylim(low - 0.08 * (high - low), high + 0.15 * (high - low))
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel("coefficients")
    axes.set_ylabel(in_units(result.score, result.held.unit if SCORES[result.score].unit else ""))
    thousands(axes.yaxis)
    legend(axes, ncols=2, fontsize=9)
    return picture


def _course(axes: Axes, result: Search) -> None:
    """The score of every try and the best so far, with what further ones may bring."""
    rows = result.by_try
    axes.plot(rows["try"], rows["score"], lw=0, marker="o", color=QUIET, ms=4, mew=0, alpha=0.55, label="tried")
    axes.plot(rows["try"], rows["best"], color=WARM, lw=2.0, drawstyle="steps-post", label="best so far")
    expected, most = result.gain_of()
    if most > 0.0:
        best, last = float(rows["best"].iloc[-1]), int(rows["try"].iloc[-1])
        axes.fill_between(
            [last, last + 25], [best, best - most], [best, best], color=FAN[0], lw=0, label="25 more (95 %)"
        )
        axes.plot([last, last + 25], [best, best - expected], color=WARM, lw=1.4, dashes=(3, 2))
    if len(rows) > 4:
        low, high = float(rows["best"].iloc[-1]) - most, float(np.quantile(rows["score"], 0.9))
        axes.set_ylim(low - 0.08 * (high - low), high + 0.15 * (high - low))
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel("tries")
    thousands(axes.yaxis)
    legend(axes, ncols=3)


def draw_member_weights(result: MemberWeights) -> Picture:
    """A stack of weights at each origin."""
    table = result.table
    top = str(table.iloc[-1].idxmax())
    picture, axes = canvas(
        f"At the last origin '{top}' has the largest weight in '{result.name}', {100 * table[top].iloc[-1]:.0f} %",
        "Weights of the members, learnt again at each origin from errors that were known there; they add up to one. "
        "Before there are four such origins all count alike.",
    )
    places, floor = np.arange(len(table)), np.zeros(len(table))
    for i, name in enumerate(table.columns):
        values = table[name].to_numpy()
        axes.bar(
            places,
            values,
            bottom=floor,
            color=TERMS[i % len(TERMS)],
            width=0.86,
            label=short(name, 30),
            edgecolor="white",
            lw=0.5,
        )
        floor = floor + values
    step = max(1, len(table) // 12)
    axes.set_xticks(places[::step], [f"{day:%Y-%m-%d}" for day in table.index[::step]], rotation=30, ha="right")
    axes.set_ylim(0.0, 1.0)
    axes.set_ylabel("weight")
    axes.set_xlabel("origin")
    legend(axes, ncols=4)
    return picture


def draw_timeline(result: Timeline) -> Picture:
    """One row an origin: what it learns from in ink, what it forecasts in warm."""
    table = result.table
    cuts = result.backtest.cuts()
    picture, axes = canvas(
        f"{len(table)} origins, each learning from what was known there and forecasting "
        f"{cuts.plan.horizon} {cuts.table.axis.frequency.unit}s",
        "Ink is learnt from, warm is forecast"
        + (", the space between is the gap" if cuts.plan.gap else "")
        + ". Nothing right of an origin's mark is seen by its fit.",
        left=0.13,
    )
    width = np.timedelta64(int(np.diff(cuts.table.axis.edges[:2])[0]), "us")
    spans = {name: _times(pd.DatetimeIndex(table[name])) for name in table.columns}
    for row in range(len(table)):
        y = len(table) - 1 - row
        _bar(axes, y, spans["learnt_from"][row], spans["learnt_to"][row] + width, INK)
        _bar(axes, y, spans["forecast_from"][row], spans["forecast_to"][row] + width, WARM)
    marks = _times(pd.DatetimeIndex(table.index))
    axes.plot(marks, np.arange(len(table))[::-1], "|", color=INK, ms=16, mew=2.0)
    axes.plot([], [], color=INK, lw=7, alpha=0.55, label="learnt from")
    axes.plot([], [], color=WARM, lw=7, label="forecast")
    axes.plot([], [], "|", color=INK, ms=12, mew=2.0, label="origin")
    step = max(1, -(-len(table) // 24))
    axes.set_yticks(np.arange(len(table))[::-1][::step], [f"{day:%Y-%m-%d}" for day in table.index[::step]])
    axes.yaxis.grid(visible=False)
    axes.set_ylabel("origin")
    axes.set_xlabel("time")
    legend(axes)
    return picture


def _bar(axes: Axes, y: float, start: np.datetime64, end: np.datetime64, color: str) -> None:
    axes.plot(
        [start, end],
        [y, y],
        color=color,
        lw=7 if color == WARM else 6,
        solid_capstyle="butt",
        alpha=1.0 if color == WARM else 0.55,
    )
