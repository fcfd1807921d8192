"""History, fitted line and forecast fan."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.dates import AutoDateFormatter

from offing.base.palette import FAN, INK, QUIET, WARM
from offing.base.text import in_units, number, percent
from offing.calendar import Axis
from offing.draw.style import Picture, canvas, date_ticks, legend, thousands, times_of
from offing.model import Forecast
from offing.model.fitted import Fitted

#: Lines of more periods than this are drawn thin.
_DENSE = 200


def draw_fit(fit: Fitted) -> Picture:
    """History in ink, the fitted mean as a thin warm line over it."""
    figures = fit.statistics
    unit = f" {fit.unit}" if fit.unit else ""
    picture, axes = canvas(
        f"The model explains {100 * figures.r_squared:.0f} % of the variation of {fit.label}",
        f"Fitted values miss the outcome by {number(figures.mae)}{unit} on average. "
        f"{figures.rows} of {fit.axis.spell()} were fitted. {fit.source_note}",
    )
    _history(axes, fit, fit.axis)
    axes.plot(times_of(fit.axis), fit.fitted["fitted"], color=WARM, lw=1.2, dashes=(5, 1.5), label="fitted")
    _finish(axes, fit)
    return picture


def draw_forecast(forecast: Forecast) -> Picture:
    """The last part of the history, and the forecast with a graded fan."""
    fit, axis = forecast.fit, forecast.axis
    picture, axes = canvas(_change(forecast), f"{forecast.sentence} {fit.source_note}")
    # A little more than a year where that leaves the fan wide enough to read.
    year = round(1.25 * axis.frequency.periods_a_year)
    shown = min(fit.axis.n, max(3 * axis.n, min(year, 8 * axis.n), 24))
    if axis.n > _DENSE:
        shown = min(fit.axis.n, axis.n)  # of a long history no more can be separated
    _history(axes, fit, fit.axis.part(fit.axis.n - shown, fit.axis.n))
    times = times_of(axis)
    levels = sorted(forecast.levels, reverse=True)
    tones = FAN[-len(levels) :] if len(levels) <= len(FAN) else [FAN[0]] * (len(levels) - 3) + list(FAN)
    for level, tone in zip(levels, tones, strict=True):
        band = forecast.quantiles(((1 - level) / 2, (1 + level) / 2)).to_numpy()
        axes.fill_between(times, band[:, 0], band[:, 1], color=tone, lw=0, label=f"{100 * level:g} % band")
    axes.plot(
        times,
        forecast.mean,
        color=WARM,
        lw=2.2 if axis.n <= _DENSE else 1.1,
        marker="D" if axis.n <= 60 else "",
        ms=3.5,
        label="forecast (mean)",
    )
    axes.axvline(times_of(axis)[0] - np.timedelta64(_half(axis), "us"), color=QUIET, lw=1, dashes=(2, 2))
    axes.annotate(
        "origin",
        (times_of(axis)[0] - np.timedelta64(_half(axis), "us"), 1.0),
        xycoords=("data", "axes fraction"),
        xytext=(-5, -4),
        textcoords="offset points",
        ha="right",
        va="top",
        color=INK,
        fontsize=10,
    )
    _finish(axes, fit)
    return picture


def _history(axes: Axes, fit: Fitted, axis: Axis) -> None:
    values = fit.target[axis.first - fit.axis.first :][: axis.n]
    axes.plot(times_of(axis), values, color=INK, lw=1.8 if len(values) <= 4 * _DENSE else 0.9, label=fit.label)
    treated = np.flatnonzero(fit.treated[axis.first - fit.axis.first :][: axis.n])
    if len(treated):
        # What was excluded has no value any more: it is marked where it was read, what was filled where it is now.
        read = fit.view.actual(fit.model.target, axis)
        at = np.where(np.isfinite(read), read, values)[treated]
        axes.plot(times_of(axis)[treated], at, lw=0, marker="s", ms=7, mfc="none", mec=WARM, mew=1.6, label="treated")


def _finish(axes: Axes, fit: Fitted) -> None:
    axes.set_ylabel(in_units(fit.label, fit.unit))
    axes.set_xlabel(f"{fit.axis.frequency.unit} (start)")
    thousands(axes.yaxis)
    if fit.axis.frequency.unit == "hour" or fit.axis.frequency.per_day:
        # By default days of the month are marked afresh each month, so that the 29th runs into the 1st.
        days = date_ticks(8, multiples=False)
        axes.xaxis.set_major_locator(days)
        axes.xaxis.set_major_formatter(AutoDateFormatter(days))  # type: ignore[no-untyped-call]
    axes.margins(x=0.01)
    legend(axes)


def _change(forecast: Forecast) -> str:
    """What the forecast says, compared with the same periods a year before where they are known."""
    fit, axis = forecast.fit, forecast.axis
    average = float(forecast.mean.mean())
    unit = f" {fit.unit}" if fit.unit else ""
    said = f"{fit.label}: {number(average, 4)}{unit} on average in {axis.spell()}"
    before = fit.axis.n - round(axis.frequency.periods_a_year)
    past = fit.target[max(before, 0) : max(before, 0) + axis.n]
    if before < 0 or len(past) < axis.n or not (past > 0.0).all():
        return said
    return f"{said}, {percent(average / float(past.mean()) - 1.0)} on a year before"


def _half(axis: Axis) -> int:
    return int((axis.edges[1] - axis.edges[0]) // 2)
