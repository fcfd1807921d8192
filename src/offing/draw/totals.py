"""Years and their totals, and stated totals met by a split or a changed forecast."""

from __future__ import annotations

import numpy as np
from matplotlib.patches import Patch

from offing.base.palette import FAN, INK, QUIET, TERMS, WARM
from offing.base.text import in_units, number, percent
from offing.draw.style import Picture, canvas, legend, thousands, times_of
from offing.explain import Exceedance, Reconciled, Split, Totals


def draw_totals(result: Totals) -> Picture:
    """A bar a year: what is known in ink, what is forecast in warm on top, with the interval of the whole."""
    note = f" {result.note}" if result.note else ""
    picture, axes = canvas(
        result.sentence.rstrip("."),
        f"{'Averages' if result.average else 'Totals'} by {result.axis.frequency.unit}: the line spans the joint 95 % "
        f"interval of the whole. Pale bars lack periods.{note}",
    )
    places, whole = np.arange(result.axis.n), result.complete
    for flags, alpha in ((whole, 1.0), (~whole, 0.35)):
        at = np.flatnonzero(flags)
        axes.bar(
            at,
            result.actual[at],
            0.62,
            color=INK,
            alpha=0.85 * alpha,
        )
        ahead = at[result.ahead[at] > 0]
        axes.bar(
            ahead,
            result.forecast[ahead],
            0.62,
            bottom=result.actual[ahead],
            color=FAN[1],
            hatch="//",
            edgecolor=WARM,
            lw=0,
            alpha=alpha,
        )
    future = places[result.ahead > 0]
    axes.vlines(future, result.low[future], result.high[future], color=WARM, lw=2.4)
    top = np.maximum(result.high, result.total)
    if len(places) <= 24:
        for i in places.tolist():
            change = f"\n{percent(float(result.change[i]))}" if np.isfinite(result.change[i]) else ""
            axes.annotate(
                f"{number(float(result.total[i]), 4)}{change}",
                (i, top[i]),
                xytext=(0, 5),
                textcoords="offset points",
                ha="center",
                va="bottom",
                fontsize=10,
            )
    labels = result.axis.labels()
    step = -(-len(places) * (len(labels[0]) + 2) // 120)
    axes.set_xticks(places[::step], labels[::step])
    axes.set_ylabel(in_units(result.target, result.unit))
    axes.set_ylim(min(0.0, float(np.nanmin(result.low))), 1.12 * float(np.nanmax(top)))
    thousands(axes.yaxis)
    known, forecast = Patch(color=INK, alpha=0.85), Patch(facecolor=FAN[1], hatch="//", edgecolor=WARM, lw=0)
    legend(axes, handles=[known, forecast], labels=["actual", "forecast"])
    return picture


def draw_split(result: Split) -> Picture:
    """A bar a period with its interval."""
    picture, axes = canvas(result.sentence.split(":")[0] + ": stated totals split over their periods", result.sentence)
    places = np.arange(len(result.value))
    labels = [name for axis in result.axis for name in axis.labels()]
    if len(places) <= 120:
        axes.bar(places, result.value, 0.7, color=FAN[1])
        axes.vlines(places, result.low, result.high, color=WARM, lw=2.0)
    else:
        axes.fill_between(places, result.low, result.high, color=FAN[0], lw=0)
        axes.plot(places, result.value, color=WARM, lw=1.6)
    step = -(-len(places) // 14)
    axes.set_xticks(places[::step], labels[::step])
    axes.set_ylabel(in_units(result.target, result.unit))
    thousands(axes.yaxis)
    return picture


def draw_agreed(result: Reconciled) -> Picture:
    """The forecast before and after, with the interval that the totals leave."""
    forecast = result.forecast
    caption = [result.sentence, *result.statements[1:], "The band spans 95 % of outcomes given the totals."]
    picture, axes = canvas(result.statements[0].rstrip("."), " ".join(caption))
    times, band = times_of(forecast.axis), result.table
    axes.fill_between(times, band["low"], band["high"], color=FAN[0], lw=0, label="95 % band, agreed")
    marker = "D" if forecast.axis.n <= 60 else ""
    axes.plot(times, result.mean, color=WARM, lw=2.2, marker=marker, ms=3.5, label="reconciled")
    axes.plot(times, forecast.mean, color=TERMS[0], lw=1.6, dashes=(4, 2), label="forecast before")
    axes.axhline(0.0, color=QUIET, lw=1) if (band["low"] < 0.0).any() else None
    axes.set_ylabel(in_units(forecast.fit.label, forecast.fit.unit))
    axes.set_xlabel(f"{forecast.axis.frequency.unit} (start)")
    thousands(axes.yaxis)
    axes.margins(x=0.01)
    legend(axes)
    return picture


def draw_reach(result: Exceedance) -> Picture:
    """The distribution of the total with its threshold; or the chance in each period, and that of being the first."""
    paths = result.paths
    fit = paths.forecast.fit
    picture, axes = canvas(result.sentence.split(";")[0].rstrip("."), _reach_note(result))
    if not result.total:
        times = times_of(paths.axis)
        axes.plot(times, 100.0 * result.by_period, color=WARM, lw=2.2, marker="o", ms=4, label="in the period")
        axes.plot(times, 100.0 * result.first.cumsum(), color=INK, lw=1.6, ls="--", label="by the period")
        axes.set_ylim(0.0, 102.0)
        axes.set_ylabel("chance (%)")
        axes.set_xlabel(f"{paths.axis.frequency.unit} (start)")
        legend(axes)
        return picture
    sums = paths.values.sum(axis=1)
    edges = np.linspace(sums.min(), sums.max(), 61)
    heights = 100.0 * np.histogram(sums, edges)[0] / len(sums)
    middles, width = (edges[1:] + edges[:-1]) / 2.0, edges[1] - edges[0]
    beyond = middles > result.threshold if result.side == "above" else middles < result.threshold
    axes.bar(middles[~beyond], heights[~beyond], width, color=FAN[0], edgecolor=QUIET, lw=0.5)
    axes.bar(
        middles[beyond],
        heights[beyond],
        width,
        color=FAN[2],
        edgecolor=WARM,
        lw=0.5,
        hatch="//",
        label=f"{result.side} the threshold" if beyond.any() else None,
    )
    axes.axvline(result.threshold, color=INK, lw=1.8, label=f"threshold {number(result.threshold, 4)}")
    mean = float(paths.mean.sum())
    axes.axvline(mean, color=QUIET, lw=1.4, ls="--", label=f"mean {number(mean, 4)}")
    axes.set_xlabel(in_units(f"total of {fit.label}", fit.unit))
    axes.set_ylabel("paths (%)")
    thousands(axes.xaxis)
    legend(axes)
    return picture


def _reach_note(result: Exceedance) -> str:
    kind = "normal noise" if result.paths.noise == "normal" else "noise resampled from the residuals"
    return (
        f"{len(result.paths.values):,} joint paths with {kind}, the doubt about coefficients and about what the "
        f"drivers will be."
    )
