"""Where the drivers' values end before a forecast does: models of their own say what is expected of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, on_clock_of
from offing.engine import running
from offing.model.design import Design
from offing.model.fitted import Fitted
from offing.model.forecast import Forecast, Outlook
from offing.model.joint_simulation import shock_root
from offing.model.options import DriverOptions
from offing.tables import Information, View
from offing.tables.overlay import ACTUAL, Unplanned
from offing.terms import OwnLags, Season, Term, Trend

#: Seasons of the drivers' own models, by the unit of their periods.
_SEASONS: dict[str, tuple[tuple[str, int], ...]] = {
    "hour": (("day", 4), ("week", 3)),
    "day": (("week", 3), ("year", 3)),
    "business day": (("week", 2), ("year", 3)),
    "week": (("year", 3),),
    "month": (("year", 3),),
    "quarter": (("year", 2),),
    "year": (),
}
#: A step by which values are moved to see what they do, in their standard deviations.
_MOVE = 1e-3
#: From fewer periods nothing is said of how drivers go together.
_FEWEST = 20


def own_model(frequency: Frequency, n: int) -> list[Term]:
    """The terms of a driver's own model of `n` periods: trend, seasons with enough cycles, and the period before."""
    seasons = [
        (cycle, harmonics)
        for cycle, harmonics in _SEASONS[frequency.unit]
        if cycle != "year" or n >= 2 * frequency.periods_a_year
    ]
    names = {cycle: "season" if len(seasons) == 1 else f"season of the {cycle}" for cycle, _ in seasons}
    return [Trend(), *(Season(cycle, harmonics=h, name=names[cycle]) for cycle, h in seasons), OwnLags([1])]


#: Forecasts of drivers' own models, by what they depend on; and what makes one of a fit and a number of periods.
Made = dict[tuple[object, ...], Forecast]
Onward = Callable[[Fitted, int], Forecast]


def looked_ahead(
    fit: Fitted, view: View, axis: Axis, onward: Onward, *, every: bool, made: Made | None = None
) -> tuple[View, tuple[Outlook, ...]]:
    """The view with the values that drivers of another frequency, or `every` one, lack on `axis`, and their models.

    `onward` forecasts a driver's own model by a number of periods. Forecasts `made` of the same tables serve again.
    """
    found: list[tuple[str, Forecast]] = []
    for reference, ordinal in _last_needed(fit, view, axis, every=every).items():
        own = view.frequency(reference)
        first = view.sources.tables[view.sources.find(reference)[0]].axis.first
        whole = Axis(own, first, max(ordinal - first + 1, 1))
        seen = view.known(reference, whole)
        values, known = seen.values, np.flatnonzero(np.isfinite(seen.values))
        actual = np.flatnonzero(np.isfinite(values) & (seen.marks == ACTUAL))
        later = values[actual[-1] + 1 :] if len(actual) else values
        if len(known) and np.isfinite(later).all():
            continue
        if len(known) and np.ptp(values[known]) == 0.0:  # what never varied is expected to stay
            view = view.expecting(reference, whole.first, np.full(whole.n, values[known[-1]]))
            continue
        key = (
            view.sources.find(reference),
            view.origin,
            whole,
            fit.model.treatments,
            fit.series,
            view.change(Unplanned, view.sources.find(reference)),
        )
        ahead = _ahead(fit, view, reference, whole, onward) if made is None or key not in made else made[key]
        if made is not None:
            made[key] = ahead
        view = view.expecting(reference, ahead.axis.first, ahead.mean)
        found.append((reference, ahead))
    if not found:
        return view, ()
    design = fit.columns(fit.walk_of_nothing(view, axis), axis)
    return view, tuple(
        Outlook(reference, ahead, root, _lean(fit, view, axis, design, (reference, ahead.axis)))
        for (reference, ahead), root in zip(found, _roots(found), strict=True)
    )


def _last_needed(fit: Fitted, view: View, axis: Axis, *, every: bool) -> dict[str, int]:
    """The ordinal of the last period whose value `axis` needs, of each column that can have a model of its own."""
    last: dict[str, int] = {}
    for term in fit.model.drivers:
        for reference in filter(view.numeric, term.needs()):
            requested = every or view.change(Unplanned, view.sources.find(reference)) is not None
            if requested or (reference == term.data and view.frequency(reference) != axis.frequency):
                needed = term.needed(view, axis, reference)
                last[reference] = max(needed.first + needed.n - 1, last.get(reference, -(2**62)))
    return last


def driver_model(fit: Fitted, view: View, reference: str, terms: Sequence[Term]) -> DriverOptions:
    """A driver's own model of some terms, treated as the driver is and no lower than zero where it never was."""
    source, column = place = view.sources.find(reference)
    axis = view.sources.tables[source].axis
    values = view.known(reference, axis).values
    lower = 0.0 if np.isfinite(values).any() and np.nanmin(values) >= 0.0 else None
    treatments = [each for each in fit.model.treatments if view.sources.find(each.data) == place]
    return DriverOptions(f"{source}.{column}", terms, name=column, lower_limit=lower, treatments=treatments)


def _ahead(fit: Fitted, view: View, reference: str, whole: Axis, onward: Onward) -> Forecast:
    """The forecast of a driver's own model up to the last of its periods `whole`."""
    source, column = view.sources.find(reference)
    table = view.sources.tables[source]
    frequency = table.axis.frequency
    origin = int(on_clock_of(frequency, fit.axis.frequency, np.array([view.origin]))[0])
    chosen = view.change(Unplanned, (source, column))
    terms = chosen.terms if chosen and isinstance(chosen.terms, tuple) else own_model(frequency, whole.n)
    try:
        past = None if view.known_ahead is None else frozenset[tuple[str, str]]()
        model = driver_model(fit, view, reference, terms)
        inner = fit.fitter(model, Information({source: table}, as_of=origin, known_ahead=past))
        return onward(inner, whole.first + whole.n - (inner.axis.first + inner.axis.n))
    except InputError as error:
        error.found = f"the model of the driver's own later values: {error.found}"
        raise


def _lean(fit: Fitted, view: View, axis: Axis, design: Design, driver: tuple[str, Axis]) -> Array:
    """What one more of a driver in each of its periods (m,) does to what is fitted on `axis` (m, h)."""
    reference, periods = driver
    # Only the terms that look at the driver add something else, its interactions among them.
    places = [place for place, term in enumerate(fit.model.terms) if reference in term.needs()]
    step = _MOVE * max(float(np.std(fit.seen(reference))), 1e-12)
    before = parts_of(fit, view, axis, design, places)
    slope = np.zeros((periods.n, axis.n))
    for row, ordinal in enumerate(periods.ordinals.tolist()):
        slope[row] = (parts_of(fit, view.bumped(reference, ordinal, step), axis, design, places) - before) / step
    return np.asarray(running(slope.T, fit.own).T)


def _roots(found: Sequence[tuple[str, Forecast]]) -> list[Array]:
    """Roots (R, m) of what is not known of each driver's values, with R the same sources for all of them.

    Every driver has its own doubt about its coefficients. Shocks of one period, though, come to all drivers of a
    frequency together, and are related as the residuals of their models were.
    """
    owns = [ahead.cov_root for _, ahead in found]
    shocks = [shock_root(ahead) for _, ahead in found]
    frequencies = [ahead.axis.frequency for _, ahead in found]
    roots: list[list[Array]] = [[] for _ in found]

    def add(rows: Mapping[int, Array], height: int) -> None:
        for i, (_, ahead) in enumerate(found):
            roots[i].append(rows.get(i, np.zeros((height, ahead.axis.n))))

    for i, own in enumerate(owns):
        add({i: own}, len(own))
    for frequency in dict.fromkeys(frequencies):
        group = [i for i, each in enumerate(frequencies) if each == frequency]
        mixing = _mixing([found[i][1].fit for i in group])
        firsts = [int(found[i][1].fit.estimate.chain.times[-1]) + 1 for i in group]
        lasts = [first + len(shocks[i]) for first, i in zip(firsts, group, strict=True)]
        low, height = min(firsts), max(lasts) - min(firsts)
        whole = {}
        for at, i in enumerate(group):
            whole[i] = np.zeros((height, found[i][1].axis.n))
            whole[i][firsts[at] - low : lasts[at] - low] = shocks[i]
        for source in range(len(group)):
            add({i: mixing[at, source] * whole[i] for at, i in enumerate(group) if mixing[at, source]}, height)
    return [np.vstack(rows) for rows in roots]


def _mixing(fits: Sequence[Fitted]) -> Array:
    """Lower triangle C (q, q) with C C' the correlation of the residuals of several models in their common periods."""
    if len(fits) == 1:
        return np.ones((1, 1))
    low = max(fit.axis.first for fit in fits)
    high = min(fit.axis.first + fit.axis.n for fit in fits)
    rows = [(fit.residual - fit.ar_prediction)[low - fit.axis.first : high - fit.axis.first] for fit in fits]
    both = np.array(rows)[:, np.isfinite(rows).all(axis=0)] if high > low else np.zeros((len(fits), 0))
    if both.shape[1] < _FEWEST:
        return np.eye(len(fits))
    found = np.corrcoef(both)
    # Residuals of two models may be the same to rounding, which leaves no root without a little of its own each.
    return np.asarray(np.linalg.cholesky(found + 1e-10 * np.eye(len(fits))))


def parts_of(fit: Fitted, view: View, axis: Axis, design: Design, places: list[int]) -> Array:
    """What some terms add (h,) to what is fitted, the others being those of the `design`."""
    blocks = list(design.blocks)
    for place in places:
        term = fit.model.terms[place]
        blocks[place] = term.block(view, axis, fit.states[str(term.name)])
    design = replace(design, blocks=tuple(blocks))
    return np.asarray(sum((design.part(place, fit.estimate.beta).value for place in places), np.zeros(axis.n)))
