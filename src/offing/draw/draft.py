"""A draft: history, past forecasts, the forecast beside the best plain reference, and how its intervals held."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from offing.base.palette import FAINT, FAN, INK, QUIET, TERMS, WARM
from offing.base.text import in_units, number
from offing.drafting import Draft
from offing.draw.style import Picture, canvas, legend, stacked, thousands, times_of
from offing.evaluation import Backtest

#: Periods of the history that are shown at least: five years of months, so that the season is seen.
_SHOWN = 60


def draw_draft(draft: Draft) -> Picture:
    """Above the history with the forecast and past ones; below the share of outcomes that each past one's band held."""
    caption = (
        "Ink: the history. Warm: the forecast with the bands that hold 80 and 95 %; thin lines are forecasts from past "
        "origins, with what was known there."
    )
    if draft.backtest is None:
        picture, axes = canvas(_title(draft), f"{caption} No past origin leaves enough to learn from.")
        _ahead(axes, draft)
        axes.set_xlabel(f"{draft.survey.span[0].frequency.unit} (start)")
        legend(axes)
        return picture
    caption += (
        " Below: the share of every past forecast's outcomes that its 80 % band held, and of its 95 % band. Of a few "
        "periods that go together the shares scatter widely."
    )
    picture, above, below = stacked(_title(draft), caption, upper=0.72)
    _ahead(above, draft)
    _past(above, draft.backtest, draft)
    above.tick_params(labelbottom=False)
    _held(below, draft.backtest, draft)
    legend(above, ncols=7, fontsize=9)
    return picture


def _title(draft: Draft) -> str:
    label, found = draft.survey.label, draft.comparison
    if found is None or draft.reference is None:
        return f"{label}: a first forecast of {draft.forecast.axis.spell()}"
    own, theirs = float(found.overall[draft.model.name]), float(found.overall[draft.reference])
    unit = f" {draft.survey.unit}" if draft.survey.unit else ""
    if not own < theirs:
        return f"{label}: past forecasts were no better than the plain reference '{draft.reference}'"
    return (
        f"{label}: past forecasts missed by {number(own)}{unit}, {100.0 * (1.0 - own / theirs):.0f} % less than the "
        f"best plain reference, '{draft.reference}'"
    )


def _shown(draft: Draft) -> int:
    """From which row on the history is shown: the past origins, or a few horizons."""
    n = draft.survey.span[0].n
    least = max(_SHOWN, 4 * draft.horizon)
    if draft.backtest is not None:
        cuts = draft.backtest.cuts()
        least = max(least, n - int(cuts.ends[0] - cuts.first) + draft.horizon)
    return max(n - least, 0)


def _ahead(axes: Axes, draft: Draft) -> None:
    axis, values = draft.survey.span
    start = _shown(draft)
    axes.plot(
        times_of(axis)[start:],
        values[start:],
        color=INK,
        lw=1.6 if axis.n - start <= 400 else 0.8,
        label=draft.survey.label,
    )
    forecast = draft.forecast
    times = times_of(forecast.axis)
    for level, tone in ((0.95, FAN[0]), (0.8, FAN[1])):
        band = forecast.quantiles(((1 - level) / 2, (1 + level) / 2)).to_numpy()
        axes.fill_between(times, band[:, 0], band[:, 1], color=tone, lw=0, label=f"{100 * level:g} % band")
    axes.plot(
        times,
        forecast.mean,
        color=WARM,
        lw=2.2,
        marker="D" if forecast.axis.n <= 60 else "",
        ms=3.5,
        label="draft (mean)",
    )
    if draft.combination is not None:
        axes.plot(times, draft.combination.mean, color=TERMS[0], lw=1.4, dashes=(1, 1.5), label="combination")
    plain = draft.reference_forecast
    if plain is not None:
        axes.plot(times, plain, color=QUIET, lw=1.6, dashes=(5, 2), label=f"reference: {draft.reference}")
    axes.set_ylabel(in_units(draft.survey.label, draft.survey.unit))
    thousands(axes.yaxis)
    axes.margins(x=0.01)


def _past(axes: Axes, backtest: Backtest, draft: Draft) -> None:
    run = next(run for run in backtest.own if run.name == draft.model.name)
    for fold in range(len(run.cuts.ends)):
        label = "from past origins" if fold == 0 else ""
        axes.plot(times_of(run.cuts.axis(fold)), run.mean[fold], color=WARM, lw=1.0, alpha=0.75, label=label)


def _held(axes: Axes, backtest: Backtest, draft: Draft) -> None:
    """Shares of outcomes inside the bands, at every origin."""
    run = next(run for run in backtest.own if run.name == draft.model.name)
    edges = run.at(0.025, 0.1, 0.9, 0.975)
    outcome = run.cuts.outcome[:, :, None]
    known = np.isfinite(run.cuts.outcome)
    times = run.cuts.table.axis.frequency.wall(run.cuts.moments).astype("datetime64[us]")
    for (low, high), level, marker, colour in (((0, 3), 95, "o", FAN[1]), ((1, 2), 80, "D", WARM)):
        inside = (edges[:, :, [low]] <= outcome) & (outcome <= edges[:, :, [high]])
        shares = 100.0 * (inside[:, :, 0] & known).sum(axis=1) / np.maximum(known.sum(axis=1), 1)
        axes.plot(
            times,
            shares,
            lw=0,
            marker=marker,
            ms=7,
            mec=INK,
            mew=0.5,
            color=colour,
            label=f"{level} % band: held {shares.mean():.0f} % on average",
        )
        axes.axhline(level, color=FAINT if level == 95 else QUIET, lw=1, dashes=(3, 2))
    axes.set_ylim(-5, 108)
    axes.set_ylabel("held (%)")
    axes.set_xlabel(f"{draft.survey.span[0].frequency.unit} (start)")
    legend(axes)
