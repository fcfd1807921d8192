"""Candidates compared, and how often their intervals held."""

from __future__ import annotations

import numpy as np
from matplotlib.ticker import MaxNLocator

from offing.base import count
from offing.base.palette import FAINT, FAN, INK, QUIET, TERMS, WARM
from offing.base.text import in_units
from offing.draw.judging import MOST_ROWS
from offing.draw.style import Picture, canvas, grid, legend, short, thousands
from offing.evaluation import Calibration, Comparison
from offing.evaluation.scoring import SCORES


def draw_comparison(result: Comparison) -> Picture:
    """One row a candidate, one dot an origin; the bar is the score over all."""
    table = result.table
    names = table["model"].tolist()[::-1][-MOST_ROWS:]
    more = f" Not shown: {count(len(table) - MOST_ROWS, 'worse one')}." if len(table) > MOST_ROWS else ""
    ahead, best = result.best_reference, result.best
    title = _skill(result)
    unit = result.backtest.unit if SCORES[result.score].unit else ""
    picture, axes = canvas(
        title,
        f"One dot an origin ({result.basis}), the bar is over all {len(result.losses)}; the line joins the origins of "
        f"the best candidate with those of the best reference. Bold: in the set that holds the best with 95 % "
        f"probability.{more}",
        left=0.26,
    )
    among = set(table.loc[table["among_best"], "model"])
    jitter = np.linspace(-0.22, 0.22, max(len(result.by_origin), 2))[: len(result.by_origin)]
    for row, name in enumerate(names):
        color = WARM if name == best else QUIET if name in result.references else TERMS[row % len(TERMS)]
        axes.plot(result.by_origin[name], row + jitter, "o", color=color, ms=5, alpha=0.8, mew=0)
        axes.plot([result.overall[name]] * 2, [row - 0.34, row + 0.34], color=INK, lw=2.4)
    if ahead in names and best in names:
        rows = [names.index(best), names.index(ahead)]
        for i, shift in enumerate(jitter.tolist()):
            axes.plot(
                [result.by_origin[best].iloc[i], result.by_origin[ahead].iloc[i]],
                [rows[0] + shift, rows[1] + shift],
                color=FAINT,
                lw=0.9,
                zorder=0,
            )
    axes.set_yticks(range(len(names)), [short(name, 30) for name in names])
    for label, name in zip(axes.get_yticklabels(), names, strict=True):
        label.set_fontweight("bold" if name in among else "normal")
    axes.xaxis.grid(visible=True, color=FAINT, linewidth=0.8)
    axes.yaxis.grid(visible=False)
    axes.set_xlim(left=0.0)
    axes.set_xlabel(in_units(result.score, unit))
    thousands(axes.xaxis)
    return picture


def _skill(result: Comparison) -> str:
    if result.best_reference is None:
        return f"'{result.best}' is the best candidate"
    if not result.skill > 0.0:
        return f"No candidate beats the plain reference '{result.best_reference}'"
    won = int((result.by_origin[result.best] < result.by_origin[result.best_reference]).sum())
    return (
        f"'{result.best}' beats '{result.best_reference}' by {100 * result.skill:.0f} %, at {won} of "
        f"{len(result.by_origin)} origins"
    )


def draw_calibration(result: Calibration) -> Picture:
    """Reached against stated coverage by horizon, with a band of confidence, and where outcomes lay."""
    picture, (left, right) = grid(result.sentence.split(". ")[0] + ".", _held(result), 2)
    table = result.table[result.table["horizon"] != "all"]
    for i, (level, tone) in enumerate(((0.8, TERMS[0]), (0.95, WARM))):
        rows = table[table["level"] == level]
        at = rows["horizon"].astype(int)
        left.fill_between(at, rows["low"], rows["high"], color=tone, alpha=0.13, lw=0)
        left.plot(
            at,
            rows["reached"],
            color=tone,
            lw=1.6,
            marker="os"[i] if len(rows) <= 60 else "",
            ms=5,
            label=f"{100 * level:g} % interval",
        )
        left.axhline(100 * level, color=tone, lw=1.2, ls="--")
    left.set_ylim(0.0, 102.0)
    left.xaxis.set_major_locator(MaxNLocator(integer=True))
    left.set_xlabel(f"{result.unit}s ahead")
    left.set_ylabel("outcomes held (%)")
    legend(left, loc="lower left", bbox_to_anchor=(0.0, 0.0), ncols=1)
    edges, counts = result.histogram
    right.bar(edges[:-1], counts, width=np.diff(edges), align="edge", color=FAN[1], edgecolor=INK, lw=0.8)
    right.axhline(counts.sum() / len(counts), color=INK, lw=1.2, ls="--")
    right.yaxis.set_major_locator(MaxNLocator(integer=True))
    right.set_xlabel("probability that the forecast put below the outcome")
    right.set_ylabel("outcomes")
    return picture


def _held(result: Calibration) -> str:
    return (
        "Left: the share of outcomes in the stated intervals, dashed what was stated, shaded where the share may lie "
        "(95 %, as if forecasts were independent). Right: even bars mean that the whole distribution is right; high "
        "ends that intervals are too narrow, a high middle that they are too wide, a slope that forecasts lean."
    )
