"""Forecasts that were changed or asked further: adjustments by hand, joint paths, a driver that reaches a target."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from offing.base.palette import FAN, INK, QUIET, WARM
from offing.base.text import in_units, number, percent
from offing.calendar import Axis
from offing.draw.style import Picture, canvas, legend, thousands, times_of
from offing.explain import AdjustedForecast, Paths, Solution
from offing.model.fitted import Fitted

#: Joint paths that are drawn as thin lines; more of them become an area.
_SAMPLE = 30


def draw_adjusted(found: AdjustedForecast) -> Picture:
    """The model's forecast, and above it the adjusted one with its interval."""
    fit, table = found.fit, found.table
    total, before = float(table["after"].sum()), float(table["before"].sum())
    unit = f" {fit.sum_unit}" if fit.unit else ""
    by = f" ({percent(total / before - 1.0)})" if before > 0.0 else ""
    picture, axes = canvas(
        f"{fit.label}, {found.axis.spell()}: {number(total, 4)}{unit} by hand, {number(before, 4)} by the model{by}",
        f"{found.sentences} The band holds 95 % of outcomes around the adjusted means; it counts the model's noise, "
        "not the judgement's.",
    )
    _tail(axes, fit, found.axis)
    times = times_of(found.axis)
    axes.fill_between(times, table["low"], table["high"], color=FAN[0], lw=0, label="95 % band")
    axes.plot(times, table["before"], color=QUIET, lw=1.6, dashes=(4, 2), label="by the model")
    axes.plot(times, table["after"], color=WARM, lw=2.2, marker="D", ms=3.5, label="by hand")
    return _finished(picture, axes, fit)


def draw_paths(found: Paths) -> Picture:
    """Some of the joint paths over the quantiles of all."""
    fit = found.forecast.fit
    picture, axes = canvas(
        found.sentence,
        f"Thin lines are {_SAMPLE} of {len(found.values):,} joint paths of outcomes; the bands hold "
        "50, 80 and 95 % of all. A path's periods move together as the noise and the coefficients do.",
    )
    times = times_of(found.axis)
    for tone, level in zip(FAN, (0.95, 0.8, 0.5), strict=True):
        low, high = np.quantile(found.values, [(1.0 - level) / 2.0, (1.0 + level) / 2.0], axis=0)
        axes.fill_between(times, low, high, color=tone, lw=0, label=f"{100 * level:g} % band")
    axes.plot(times, found.values[:_SAMPLE].T, color=INK, lw=0.5, alpha=0.5)
    axes.plot(times, found.mean, color=WARM, lw=2.2, marker="D", ms=3.5, label="forecast (mean)")
    return _finished(picture, axes, fit)


def draw_solution(found: Solution) -> Picture:
    """The driver as it was, and as it would have to be."""
    fit, path = found.forecast.fit, found.path
    picture, axes = canvas(
        found.sentence,
        "The driver's values in the past, and those that "
        f"{'reach the total' if found.met else f'come nearest to it: {number(found.reached, 4)}'}.",
    )
    axis = found.forecast.axis
    own = fit.axis.part(max(fit.axis.n - max(3 * axis.n, 24), 0), fit.axis.n)
    term = next(each for each in fit.model.terms if str(each.name) == found.driver)
    past = fit.view.actual(term.needs()[0], own)
    axes.plot(times_of(own), past, color=INK, lw=1.8, label="actual")
    axes.plot(times_of(axis), path.to_numpy()[-axis.n :], color=WARM, lw=2.2, marker="D", ms=3.5, label="solution")
    axes.set_ylabel(in_units(found.driver, found.unit if found.how != "percent" else ""))
    axes.set_xlabel(f"{axis.frequency.unit} (start)")
    thousands(axes.yaxis)
    legend(axes)
    return picture


def _tail(axes: Axes, fit: Fitted, axis: Axis) -> None:
    shown = min(fit.axis.n, max(3 * axis.n, 24))
    past = fit.axis.part(fit.axis.n - shown, fit.axis.n)
    axes.plot(times_of(past), fit.target[-shown:], color=INK, lw=1.8, label=fit.label)


def _finished(picture: Picture, axes: Axes, fit: Fitted) -> Picture:
    axes.set_ylabel(in_units(fit.label, fit.unit))
    axes.set_xlabel(f"{fit.axis.frequency.unit} (start)")
    thousands(axes.yaxis)
    axes.margins(x=0.01)
    legend(axes)
    return picture
