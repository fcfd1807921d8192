"""Figures of what is in the data."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.dates import AutoDateFormatter

from offing.base import InputError, count
from offing.base.palette import FAINT, INK, PAPER, QUIET, TERMS, WARM
from offing.base.text import in_units, number, signed
from offing.calendar import MONTHS, Axis
from offing.draw.style import Picture, canvas, columns_of, date_ticks, grid, legend, short, thousands
from offing.inspection import Coverage, History, LeadLags, Scatter, Seasons, Survey, Years

#: Panels of one figure; more cannot be read.
_MOST_PANELS = 12
#: More dots than these hide each other and what is drawn with them.
_DENSE = 2000


def draw_history(view: History) -> Picture:
    """The series as a fine line, its coarser means as steps, outliers ringed."""
    known = view.values[np.isfinite(view.values)]
    unit = f" {view.unit}" if view.unit else ""
    low, high = (number(float(each), 4) for each in (known.min(), known.max()))
    coarse = view.coarse
    steps = "" if coarse is None else f" Steps are means by {coarse.frequency.unit}."
    far = f" {count(len(view.outliers), 'value')} far from what is expected, ringed."
    picture, axes = canvas(
        f"{view.label}: {low} to {high}{unit} in {view.axis.spell()}",
        f"Each {view.axis.frequency.unit}'s value.{steps}{far if len(view.outliers) else ''}",
    )
    times = _times(view.axis)
    dense = len(times) > _DENSE
    axes.plot(
        times,
        view.values,
        color=QUIET,
        lw=0.5 if dense else 1.1,
        alpha=0.6 if dense else 1.0,
        label=f"by {view.axis.frequency.unit}",
    )
    if coarse is not None:
        edges = coarse.frequency.wall(coarse.edges).astype("datetime64[us]")
        steps_look: Any = {"baseline": None, "color": INK, "lw": 2.2, "zorder": 3}
        axes.stairs(view.means, _numbers(edges), label=f"mean by {coarse.frequency.unit}", **steps_look)
    if len(view.outliers):
        ring: Any = {"lw": 0, "marker": "o", "ms": 9, "mfc": "none", "mec": WARM, "mew": 1.8}
        axes.plot(times[view.outliers], view.values[view.outliers], label="outlier", **ring)
    axes.set_ylabel(in_units(view.label, view.unit))
    axes.set_xlabel(f"{view.axis.frequency.unit} (start)")
    thousands(axes.yaxis)
    axes.margins(x=0.01)
    legend(axes)
    return picture


def draw_years(view: Years) -> Picture:
    """One line a year, later ones darker, the last one warm."""
    longest = max(len(values) for _, _, values in view.years)
    means = {y: float(np.nanmean(v)) for y, _, v in view.years if np.isfinite(v).sum() >= 0.95 * longest}
    title = f"{view.label} by time of year"
    if len(means) > 1:
        low, high = min(means, key=means.__getitem__), max(means, key=means.__getitem__)
        title = f"{view.label}: of the whole years {high} was highest on average, {low} lowest"
    picture, axes = canvas(title, f"Each line is a calendar year, by {view.frequency}; older years are paler.")
    for i, (year, shares, values) in enumerate(view.years):
        last = i == len(view.years) - 1
        tone = (i + 1) / len(view.years)
        line: Any = {"color": WARM, "lw": 2.4} if last else {"color": INK, "lw": 1.3, "alpha": 0.2 + 0.6 * tone}
        axes.plot(shares, values, label=str(year), dashes=(None, None) if i % 2 == 0 or last else (6, 1.5), **line)
    starts = [0, 31, 59, 90, 120, 151, 181, 212, 243, 273, 304, 334]
    axes.set_xticks([day / 365 for day in starts], [month[:3] for month in MONTHS], ha="left")
    axes.set_xlim(0.0, 1.0)
    axes.set_ylabel(in_units(view.label, view.unit))
    axes.set_xlabel("time of year")
    thousands(axes.yaxis)
    legend(axes, ncols=10)
    return picture


def draw_seasons(view: Seasons) -> Picture:
    """At each position every value as a dot, the middle half as a bar, the median as a line; outliers ringed."""
    scale = 100.0 if view.by_ratio else 1.0
    values = (view.values - 1.0) * scale if view.by_ratio else view.values
    held = [i for i in range(len(view.positions)) if np.isfinite(values[view.at == i]).any()]
    medians = {i: float(np.nanmedian(values[view.at == i])) for i in held}
    top, low = max(medians, key=medians.__getitem__), min(medians, key=medians.__getitem__)
    unit = " %" if view.by_ratio else f" {view.unit}" if view.unit else ""
    picture, axes = canvas(
        f"{view.label}: {view.positions[top]} lies {signed(medians[top])}{unit} from the trend, "
        f"{view.positions[low]} {signed(medians[low])}{unit}",
        f"Values by {view.cycle}, as differences from a trend that may bend each year"
        f"{', in percent of it' if view.by_ratio else ''}. The bar holds the middle half, the line is the median; "
        "rings are far from what is usual.",
    )
    for place, i in enumerate(held):
        own, far = values[view.at == i], view.far[view.at == i]
        known = own[np.isfinite(own)]
        q1, q3 = np.quantile(known, (0.25, 0.75))
        axes.bar(place, q3 - q1, 0.62, bottom=q1, color=TERMS[0], alpha=0.32, lw=0, zorder=3)
        axes.plot([place - 0.31, place + 0.31], [medians[i]] * 2, color=INK, lw=2.4, zorder=4)
        spread = place + 0.22 * np.sin(np.arange(len(own)) * 2.4)  # dots side by side, the same at each drawing
        dots: Any = {"ms": 3.5, "alpha": 0.8} if len(values) < _DENSE else {"ms": 1.5, "alpha": 0.25, "mew": 0}
        axes.plot(spread[~far], own[~far], lw=0, marker="o", color=QUIET, **dots)
        axes.plot(spread[far], own[far], lw=0, marker="o", ms=8, mfc="none", mec=WARM, mew=1.8)
    axes.axhline(0.0, color=QUIET, lw=1)
    names = [view.positions[i] for i in held]
    names = [name[:3] if name in MONTHS else name for name in names]
    axes.set_xticks(range(len(held)), names)
    axes.set_ylabel(f"{view.label} less trend ({unit.strip()})" if unit else f"{view.label} less trend")
    axes.set_xlabel(view.cycle)
    thousands(axes.yaxis)
    return picture


def draw_scatter(view: Scatter) -> Picture:
    """A panel a driver: the target against it."""
    shown = view.drivers[:_MOST_PANELS]
    top = max(shown, key=lambda each: abs(each[3]))
    picture, panels = grid(
        f"{view.label} goes most closely with '{top[0]}' (correlation {top[3]:+.2f})".replace("-", "\N{MINUS SIGN}"),
        "Each dot is a period. Season and trend are in both, so that a driver may only seem to matter; see the "
        "correlation over leads and lags." + _more(len(view.drivers)),
        len(shown),
    )
    for axes, (label, unit, values, r) in zip(panels, shown, strict=True):
        dots: Any = {"ms": 3.2, "alpha": 0.55} if len(values) < _DENSE else {"ms": 2.0, "alpha": 0.12, "mew": 0}
        axes.plot(values, view.target, lw=0, marker="o", color=TERMS[0], **dots)
        axes.set_title(f"r = {r:+.2f}".replace("-", "\N{MINUS SIGN}"), fontsize=10, loc="left")
        axes.set_xlabel(in_units(short(label, 24), unit), fontsize=9)
        axes.tick_params(labelsize=9)
        thousands(axes.yaxis)
        thousands(axes.xaxis)
    for axes in panels[:: columns_of(len(shown))]:
        axes.set_ylabel(in_units(short(view.label, 20), view.unit), fontsize=9)
    return picture


def draw_lead_lags(view: LeadLags) -> Picture:
    """A panel a driver: correlation at each lead and lag, bars beyond the band in full colour."""
    shown = view.drivers[:_MOST_PANELS]
    best = max(shown, key=lambda each: float(np.abs(each[2]).max()))
    at = int(best[1][int(np.argmax(np.abs(best[2])))])
    when = "at once" if at == 0 else f"{count(abs(at), view.period)} {'later' if at > 0 else 'earlier'}"
    picture, panels = grid(
        f"{view.label} answers '{best[0]}' most clearly: {when}",
        f"Correlation without trend and season. To the right of 0 the driver comes first, by that number of "
        f"{view.period}s. Beyond the grey band it is significant at 1 %, but it may come from another driver."
        + _more(len(view.drivers)),
        len(shown),
    )
    for axes, (label, lags, r, band) in zip(panels, shown, strict=True):
        axes.axhspan(-band, band, color=FAINT, lw=0)
        beyond = np.abs(r) > band
        axes.bar(lags[~beyond], r[~beyond], 0.62, color=QUIET)
        axes.bar(lags[beyond], r[beyond], 0.62, color=TERMS[0])
        axes.axhline(0.0, color=INK, lw=0.8)
        axes.axvline(0.0, color=INK, lw=0.8, dashes=(2, 2))
        axes.set_title(short(label, 30), fontsize=10, loc="left")
        axes.set_ylim(-1.0, 1.0)
        axes.tick_params(labelsize=9)
    for axes in panels[:: columns_of(len(shown))]:
        axes.set_ylabel("correlation", fontsize=9)
    for axes in panels[-columns_of(len(shown)) :]:
        axes.set_xlabel(f"lag ({view.period}s)", fontsize=9)
    return picture


def draw_coverage(view: Coverage) -> Picture:
    """A bar for each column while it is known."""
    bars = [bar for bar in view.bars if bar[3]]
    if not bars:
        raise InputError("no column holds numbers, so there is nothing to draw")
    first, last = max(bar[3][0][0] for bar in bars), min(bar[3][-1][1] for bar in bars)
    stamps = [str(np.datetime64(each, "us").astype("datetime64[D]")) for each in (first, last)]
    said = (
        f"All columns are known from {stamps[0]} to {stamps[1]}" if last > first else "At no time all columns are known"
    )
    sources = list(dict.fromkeys(bar[0] for bar in bars))
    planned = " Hatched: planned values." if any(bar[4] for bar in bars) else ""
    picture, axes = canvas(
        said,
        "Each bar spans the time for which a column is known; a gap in it is a run of missing values. "
        f"Colours separate the sources.{planned}",
        left=0.24,
    )
    for place, (source, _, _, runs, plan) in enumerate(reversed(bars)):
        look = TERMS[sources.index(source) % len(TERMS)]
        for low, high in runs:
            edges = _numbers(np.array([low, high]).astype("datetime64[us]"))
            axes.barh(place, edges[1] - edges[0], 0.62, left=edges[0], color=look, lw=0)
        for low, high in plan:
            edges = _numbers(np.array([low, high]).astype("datetime64[us]"))
            axes.barh(place, edges[1] - edges[0], 0.62, left=edges[0], fc=PAPER, ec=look, hatch="////", lw=0.8)
    names = [f"{short(f'{source}: {column}', 34)} ({unit})" for source, column, unit, _, _ in reversed(bars)]
    axes.set_yticks(range(len(bars)), names, fontsize=10 if len(bars) <= 20 else 7)
    locator = date_ticks(10)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(AutoDateFormatter(locator))  # type: ignore[no-untyped-call]
    axes.xaxis.grid(visible=True, color=FAINT, linewidth=0.8)
    axes.yaxis.grid(visible=False)
    axes.margins(x=0.01)
    axes.set_xlabel("time")
    return picture


def _more(drivers: int) -> str:
    return f" {drivers - _MOST_PANELS} more drivers are not shown." if drivers > _MOST_PANELS else ""


def _times(axis: Axis) -> np.ndarray:
    return axis.frequency.wall(axis.starts).astype("datetime64[us]")


def _numbers(times: np.ndarray) -> np.ndarray:
    """Matplotlib's numbers of dates: days since 1970."""
    return np.asarray(times.astype("datetime64[us]").astype(np.int64) / 86_400_000_000)


def draw_survey(survey: Survey) -> Picture:
    """The history of the target."""
    return draw_history(survey.history)
