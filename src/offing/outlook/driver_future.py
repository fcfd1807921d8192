"""The periods of a driver that are not known yet, and what is said of them so far."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import Axis, on_clock_of
from offing.calendar.axis import periods_of
from offing.model.driver_forecasts import parts_of
from offing.model.fitted import Fitted
from offing.tables import View
from offing.tables.overlay import ACTUAL, Assumed
from offing.terms import Driver


@dataclass(frozen=True)
class Future:
    """A driver's later periods in one forecast.

    Attributes
    ----------
    name, reference
        What the driver is called, and its column.
    fit, view
        The fit that forecasts, and what it sees of the drivers so far.
    ahead
        The forecast periods of the target.
    axis
        The driver's own periods from the first that is no outcome yet, up to the last that the forecast needs.
    """

    name: str
    reference: str
    fit: Fitted
    view: View
    ahead: Axis
    axis: Axis

    @property
    def values(self) -> Array:
        """What is planned or assumed so far (m,), NaN where nothing is."""
        return self.view.known(self.reference, self.axis).values

    @property
    def unit(self) -> str:
        """The driver's unit."""
        return self.view.sources.unit(self.reference)

    def actual(self, axis: Axis) -> Array:
        """Outcomes (n,) on some periods, NaN where there is none."""
        seen = self.view.known(self.reference, axis)
        return np.where((seen.marks == ACTUAL) & (axis.ordinals < self.axis.first), seen.values, np.nan)

    @property
    def past(self) -> Axis:
        """The driver's periods before."""
        first = self.view.sources.tables[self.view.sources.find(self.reference)[0]].axis.first
        return Axis(self.axis.frequency, first, max(self.axis.first - first, 0))

    def between(self, since: object, until: object) -> NDArray[np.bool_]:
        """Which periods (m,) lie between two dates, both included.

        Raises
        ------
        InputError
            If a date is none, or no period lies there.
        """
        inside = np.ones(self.axis.n, dtype=bool)
        if since is not None:
            inside &= self.axis.ordinals >= self.ordinals(since, "since")[0]
        if until is not None:
            inside &= self.axis.ordinals <= self.ordinals(until, "until")[1]
        if not inside.any():
            span = f"{self.axis.labels()[0]} to {self.axis.labels()[-1]}"
            said = " until ".join(str(each) for each in (since, until) if each is not None)
            raise InputError(
                f"no period of '{self.name}' lies in {said}: the forecast needs {span}",
                "Give dates among them, or forecast farther.",
                key="since",
            )
        return inside

    def ordinals(self, date: object, key: str) -> tuple[int, int]:
        """The ordinals of the first and last period that a date stands for."""
        try:
            return periods_of(date, self.axis.frequency)
        except (ValueError, TypeError) as error:
            raise InputError(f"found {date!r}, which is not a date", "Give such as 2026-08-01.", key=key) from error

    def effect(self, paths: Sequence[tuple[str, Axis, Array]]) -> float:
        """What the terms that look at some columns add up to over the forecast, if these were as the `paths`."""
        view = self.view
        for reference, axis, values in paths:
            view = view.assuming(reference, axis.first, values)
        columns = {reference for reference, *_ in paths}
        places = [i for i, term in enumerate(self.fit.model.terms) if columns & set(term.needs())]
        design = self.fit.columns(self.fit.walk_of_nothing(view, self.ahead), self.ahead)
        found = parts_of(self.fit, self.fit.walk_of_nothing(view, self.ahead), self.ahead, design, places)
        return float(np.nansum(found))

    def beside(self, name: str) -> Future:
        """The same of another driver."""
        return future(self.fit, self.view, self.ahead, name)


def future(fit: Fitted, view: View, ahead: Axis, name: str) -> Future:
    """The later periods of the driver that a term's name or a column calls.

    Raises
    ------
    InputError
        If no driver of the model is called that, or it holds words.
    """
    reference = driver_column(fit, name)
    if not view.numeric(reference):
        raise InputError(
            f"'{name}' holds words, and no number can be assumed of it", "State its words in a plan.", key=name
        )
    axis = _still_ahead(fit, view, ahead, reference)
    if not axis.n:
        raise InputError(f"all values of '{name}' that the forecast needs are known", "Forecast farther.", key=name)
    return Future(name, reference, fit, view, ahead, axis)


def _still_ahead(fit: Fitted, view: View, ahead: Axis, reference: str) -> Axis:
    """A column's own periods from the first that is no outcome yet, up to the last that a forecast needs."""
    own = view.frequency(reference)
    first = view.sources.tables[view.sources.find(reference)[0]].axis.first
    needed = [term.needed(view, ahead, reference) for term in fit.model.terms if reference in term.needs()]
    whole = Axis(own, first, max(max(each.first + each.n for each in needed) - first, 1))
    marks = view.without(Assumed).known(reference, whole).marks
    # Rows after the origin that are called actual are no outcome yet, and may be assumed otherwise.
    ended = on_clock_of(view.rows.frequency, own, whole.ends) <= view.origin
    seen = np.flatnonzero((marks == ACTUAL) & ended)
    start = first + int(seen[-1]) + 1 if len(seen) else first
    return Axis(own, start, max(whole.first + whole.n - start, 0))


def changeable(fit: Fitted, view: View, ahead: Axis) -> dict[str, str]:
    """The columns of `driver_names` of which a forecast needs values that are no outcome yet."""
    return {
        name: reference for name, reference in driver_names(fit).items() if _still_ahead(fit, view, ahead, reference).n
    }


def driver_column(fit: Fitted, name: str) -> str:
    """The column behind a driver's name, or the column itself if some term looks at it.

    Raises
    ------
    InputError
        If there is none.
    """
    drivers = _drivers(fit)
    for term in drivers:
        if term.name == name:
            return term.data
    sources = fit.view.sources
    needed = {sources.find(each): each for term in fit.model.terms for each in term.needs() if each != fit.model.target}
    for place, reference in needed.items():
        if name in (place[1], ".".join(place)):
            return reference
    raise InputError(
        f"the model has no driver {name!r}", nearest(str(name), [str(term.name) for term in drivers]), key="drivers"
    )


def driver_names(fit: Fitted) -> dict[str, str]:
    """Columns of numbers that drivers look at, by the name of the first driver of each."""
    found: dict[tuple[str, str], tuple[str, str]] = {}
    for term in _drivers(fit):
        if fit.view.numeric(term.data):
            found.setdefault(fit.view.sources.find(term.data), (str(term.name), term.data))
    return dict(found.values())


def _drivers(fit: Fitted) -> list[Driver]:
    return list(fit.model.drivers)
