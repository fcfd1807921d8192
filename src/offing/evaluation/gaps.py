"""Drivers' missing values after an origin of an ex-post back-test: treated, or else their periods are not scored."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.calendar import Axis, on_clock_of
from offing.model.fitted import Fitted
from offing.tables import MISSING, Information, Patch, View


def bridged(fit: Fitted, information: Information, periods: int) -> tuple[Fitted, NDArray[np.bool_]]:
    """The fit with a view in which no driver lacks a value in the periods ahead, and which of these (h,) do not count.

    First the model's treatments fill gaps after the origin as they do before it. What is still missing is put at the
    last value before, only so that the other periods can be forecast; where the target's own past or changes feed later
    periods, these do not count either.
    """
    axis = fit.axis.after(periods)
    gone = _unknown(fit, fit.view, axis)
    if not gone.any():
        return fit, gone
    view = _treated(fit, information, axis)
    gone = _unknown(fit, view, axis)
    for reference in dict.fromkeys(reference for term in fit.model.terms for reference in term.needs()):
        if gone.any() and reference != fit.model.target and view.numeric(reference):
            view = _filled(view, reference)
    if gone.any() and (fit.own or not fit.scale.plain):
        gone[int(np.argmax(gone)) :] = True
    return replace(fit, view=view), gone


def _unknown(fit: Fitted, view: View, axis: Axis) -> NDArray[np.bool_]:
    """In which periods (h,) a driver lacks a value."""
    terms = [term for term in fit.model.terms if not term.recursive]
    gone = np.zeros(axis.n, dtype=bool)
    for term in terms:
        if term.first_unknown(view, axis) is not None:
            gone |= [term.first_unknown(view, axis.part(at, at + 1)) is not None for at in range(axis.n)]
    return gone


def _treated(fit: Fitted, information: Information, axis: Axis) -> View:
    """The view with what the treatments of drivers make of all their values, as these are known today."""
    today = max(int(table.known_at()[-1]) for table in information.tables.values())
    later = information.at(today, known_ahead=frozenset()).view(today, axis, fit.model.goal)
    patches = dict(fit.view.patches)
    target = fit.view.sources.find(fit.model.target)
    for each in fit.model.treatments:
        place = fit.view.sources.find(each.data)
        if place != target:
            patches[place] = _after(patches[place], each.learn(later), _first_later(fit, place[0]))
    return replace(fit.view, patches=patches)


def _first_later(fit: Fitted, source: str) -> int:
    """The ordinal of a source's first period that ends after the last fitted one."""
    own = fit.view.sources.tables[source].axis.frequency
    end = on_clock_of(own, fit.axis.frequency, fit.axis.ends[-1:])
    return int(own.ordinals(end)[0])


def _after(past: Patch, later: Patch, first: int) -> Patch:
    """A patch with another one's values from an ordinal on."""
    old, new = past.ordinals < first, later.ordinals >= first
    return replace(
        past,
        ordinals=np.concatenate([past.ordinals[old], later.ordinals[new]]),
        values=np.concatenate([past.values[old], later.values[new]]),
    )


def _filled(view: View, reference: str) -> View:
    """The view with each missing value of a column at the last one known before it."""
    reach = view.reach(reference)
    known = view.known(reference, reach)
    return view.expecting(reference, reach.first, _carried(known.values, known.marks == MISSING))


def _carried(values: Array, missing: NDArray[np.bool_]) -> Array:
    at = np.maximum.accumulate(np.where(missing, 0, np.arange(len(values))))
    filled = values[at]
    known = filled[np.isfinite(filled)]
    return np.where(np.isfinite(filled), filled, known[0] if len(known) else 0.0)
