"""What a fit leaves unexplained, a figure a side, each led by what was found there."""

from __future__ import annotations

import numpy as np
from matplotlib.ticker import MaxNLocator

from offing.base.palette import FAN, INK, QUIET, TERMS, WARM
from offing.draw.style import Picture, canvas, legend, stacked, times_of
from offing.explain import ParameterStability, Residuals

#: Beyond this many standard deviations a residual is marked.
_FAR = 3.0


def draw_residuals(result: Residuals) -> Picture:
    """The side that was asked for."""
    return {
        "time": _over_time,
        "season": _by_season,
        "lags": _by_lag,
        "quantiles": _quantiles,
        "influence": _influence,
    }[result.side](result)


def _over_time(result: Residuals) -> Picture:
    picture, axes = canvas(
        result.sentence,
        "Each period's residual in standard deviations, free of what carries on from the period before. About one in "
        "twenty lies outside the shaded band; diamonds mark those beyond three.",
    )
    times = times_of(result.axis)
    axes.axhspan(-1.96, 1.96, color=FAN[0], alpha=0.6, lw=0)
    axes.axhline(0.0, color=QUIET, lw=1)
    dense = len(times) > 400
    axes.vlines(times, 0.0, result.value, color=TERMS[5], lw=0.5 if dense else 1.4)
    far = np.abs(result.value) > _FAR
    axes.plot(times[far], result.value[far], "D", color=WARM, ms=6)
    for time, value in list(zip(times[far], result.value[far], strict=True))[:12]:
        axes.annotate(str(time)[:10], (time, value), xytext=(7, 0), textcoords="offset points", fontsize=9, va="center")
    axes.set_ylabel(f"residual of {result.label} (standard deviations)")
    return picture


def _positions(result: Residuals) -> tuple[np.ndarray, list[str], str]:
    """The part of a cycle of each period, the parts' names, and the cycle."""
    index = result.axis.index
    if result.axis.frequency.unit == "hour":
        return index.hour.to_numpy(), [f"{hour:02d}" for hour in range(24)], "hour of the day"
    if result.axis.frequency.per_day:
        names = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"]
        return index.day_of_week.to_numpy(), names, "day of the week"
    if result.axis.frequency.unit == "quarter":
        return index.quarter.to_numpy() - 1, ["Q1", "Q2", "Q3", "Q4"], "quarter"
    names = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
    return index.month.to_numpy() - 1, names, "month"


def _by_season(result: Residuals) -> Picture:
    place, names, cycle = _positions(result)
    groups = [result.value[(place == i) & result.used] for i in range(len(names))]
    filled = [i for i, group in enumerate(groups) if len(group)]
    means = np.array([groups[i].mean() for i in filled])
    halves = np.array([1.96 / np.sqrt(len(groups[i])) for i in filled])
    off = [names[i] for i, mean, half in zip(filled, means, halves, strict=True) if abs(mean) > 1.6 * half]
    title = f"Left unexplained on one side: {', '.join(off[:6])}" if off else result.sentence
    picture, axes = canvas(
        title,
        f"Residuals by {cycle}: dots are periods, bars span the middle half, and the whisker is the mean with its 95 % "
        "interval if nothing were left. A part named above lies beyond where one in five hundred would by chance.",
    )
    for at, (i, mean, half) in enumerate(zip(filled, means, halves, strict=True)):
        group = groups[i]
        low, high = np.quantile(group, [0.25, 0.75])
        axes.bar(at, high - low, 0.62, bottom=low, color=FAN[1], zorder=1)
        shown = group if len(group) <= 150 else np.quantile(group, np.linspace(0.0, 1.0, 150))
        axes.plot(at + 0.3 * np.linspace(-1.0, 1.0, len(shown)), shown, ".", color=TERMS[5], ms=3, zorder=2)
        axes.errorbar(at, mean, half, color=INK, lw=2, capsize=5, marker="o", ms=5, zorder=3)
    axes.axhline(0.0, color=QUIET, lw=1)
    axes.set_xticks(range(len(filled)), [names[i] for i in filled])
    axes.set_xlabel(cycle)
    axes.set_ylabel(f"residual of {result.label} (standard deviations)")
    return picture


def _by_lag(result: Residuals) -> Picture:
    table = result.lags
    limit = float(table["limit"].iloc[0])
    picture, axes = canvas(
        result.sentence,
        f"Correlation of residuals by how many {result.axis.frequency.unit}s they lie apart. In the shaded band lie "
        f"95 % of those of noise without any memory: of {len(table)} bars about "
        f"{0.05 * len(table):.0f} lie beyond by chance.",
    )
    axes.axhspan(-limit, limit, color=FAN[0], alpha=0.6, lw=0)
    axes.bar(
        table["lag"],
        table["correlation"],
        0.55,
        color=TERMS[0],
    )
    axes.axhline(0.0, color=INK, lw=1)
    top = max(float(table["correlation"].abs().max()) * 1.25, 2.5 * limit)
    axes.set_ylim(-top, top)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel(f"{result.axis.frequency.unit}s apart")
    axes.set_ylabel("correlation")
    return picture


def _quantiles(result: Residuals) -> Picture:
    table = result.quantiles
    picture, axes = canvas(
        result.sentence,
        "Residuals in order of size against those that normal noise would have. On the line they are alike; steeper at "
        "the ends means more values far out, a bow means that one side reaches further.",
    )
    normal, inner = table["normal"].to_numpy(), table["residual"].to_numpy()
    edge = float(np.abs(normal).max())
    axes.plot([-edge, edge], [-edge, edge], color=QUIET, lw=1.4, label="normal noise")
    rank = (np.arange(len(inner)) + 0.5) / len(inner)
    density = np.exp(-np.square(normal) / 2.0) / np.sqrt(2.0 * np.pi)
    half = 1.96 * np.sqrt(rank * (1.0 - rank) / len(inner)) / density
    axes.fill_between(normal, normal - half, normal + half, color=FAN[0], alpha=0.7, lw=0, label="where 95 % would lie")
    axes.plot(normal, inner, "o", color=TERMS[5], ms=4, label="residuals")
    axes.set_xlabel("quantile of normal noise (standard deviations)")
    axes.set_ylabel(f"residual of {result.label} (standard deviations)")
    legend(axes)
    return picture


def _influence(result: Residuals) -> Picture:
    picture, axes = canvas(
        result.sentence,
        "How unusual a period's drivers and calendar are (leverage) against how far it lies from the fit. A period "
        "moves the coefficients when it is far out on both; the dashed lines are Cook's distance 0.5 and 1.",
    )
    used = result.used
    leverage, value = result.leverage[used], result.value[used]
    inner = value / np.sqrt(1.0 - leverage)
    axes.plot(leverage, inner, "o", color=TERMS[0], ms=4, alpha=0.8)
    reach = max(float(leverage.max()) * 1.08, 0.05)
    count = max(float(np.nansum(leverage)), 1.0)
    grid = np.linspace(1e-3, min(reach, 0.999), 200)
    for level in (0.5, 1.0):
        line = np.sqrt(level * count * (1.0 - grid) / grid)
        for sign in (1.0, -1.0):
            axes.plot(grid, sign * line, color=QUIET, lw=1, ls=(0, (4, 3)))
    names = [str(each.date()) for each in result.axis.index[used]]
    for i in np.argsort(-result.distance[used], kind="stable")[:4].tolist():
        axes.annotate(names[i], (leverage[i], inner[i]), xytext=(7, 3), textcoords="offset points", fontsize=9)
    far = max(float(np.abs(inner).max()) * 1.2, 3.5)
    axes.set_ylim(-far, far)
    axes.set_xlim(0.0, reach)
    axes.axhline(0.0, color=QUIET, lw=1)
    axes.set_xlabel("leverage (0 to 1)")
    axes.set_ylabel("residual (standard deviations of its own)")
    return picture


def draw_stability(result: ParameterStability) -> Picture:
    """Coefficients from ever more periods, each in its own last standard errors; and CUSUM below."""
    picture, upper, lower = stacked(
        result.sentence,
        "Above: each driver's coefficient from ever more periods, less its last value and in its last standard errors, "
        "so that all can be drawn together. Below: sums of recursive residuals (CUSUM); an unchanged model "
        "leaves the shaded room once in twenty.",
    )
    dates = result.date.to_numpy()
    for i, name in enumerate(result.columns):
        last = result.error[-1, i] if result.error[-1, i] > 0.0 else 1.0
        moved = (result.estimate[:, i] - result.estimate[-1, i]) / last
        upper.plot(dates, moved, color=TERMS[i % len(TERMS)], lw=1.8, ls=["-", "--", ":", "-."][i // 2 % 4], label=name)
    upper.axhspan(-2.0, 2.0, color=FAN[0], alpha=0.5, lw=0)
    upper.axhline(0.0, color=QUIET, lw=1)
    if result.estimate.shape[1]:
        moved = (result.estimate - result.estimate[-1]) / np.where(result.error[-1] > 0.0, result.error[-1], 1.0)
        reach = float(np.nanquantile(np.abs(moved), 0.98)) * 1.2
        upper.set_ylim(-max(reach, 3.0), max(reach, 3.0))
        legend(upper, ncols=4, fontsize=9)
    upper.set_ylabel("from its last value\n(standard errors)")
    upper.tick_params(labelbottom=False)
    lower.fill_between(dates, -result.limit, result.limit, color=FAN[0], alpha=0.6, lw=0)
    lower.plot(dates, result.cusum, color=INK, lw=1.8)
    lower.axhline(0.0, color=QUIET, lw=1)
    lower.set_ylabel("CUSUM")
    return picture
