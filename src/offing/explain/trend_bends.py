"""Changes of a trend's slope, with their intervals."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from offing.base.arrays import Array
from offing.engine import least_squares, place_interval, quantile, two_sided_p
from offing.model.design import lay_out
from offing.model.fitted import Fitted
from offing.terms import Trend
from offing.terms.trend import TrendState

#: Stretches between candidates across which slope changes are reported: the difference of the mean slopes over these on
#: both sides: of a single candidate among many that share a bend, the interval would miss the
#: truth far too often.
WINDOW, BESIDE = 6, 3


@dataclass(frozen=True)
class Bend:
    """A change of the slope, as a rule a year, on the scale of the fit.

    Attributes
    ----------
    first, until
        Ordinals between which it lies: a window of candidates, the interval of a sharp bend's place, or one period.
    place
        The most likely place, for a sharp bend or a stated knot.
    before, after
        Slope on both sides.
    change, std_error, low, high, p
        After less before, with its 95 % interval and the probability of one as large without a bend.
    """

    first: int
    until: int
    place: int | None
    before: float
    after: float
    change: float
    std_error: float
    low: float
    high: float
    p: float


def bends_of(fit: Fitted, term: Trend, state: TrendState) -> tuple[Bend, ...]:
    """The slope changes of a trend, with their intervals."""
    if not state.knots:
        return ()
    slot = next(slot for slot in fit.layout.slots if slot.term == term.name)
    steps = np.zeros((1 + len(state.knots), fit.layout.k))
    steps[np.arange(len(steps)), slot.places] = 1.0
    slopes = np.cumsum(steps, axis=0)
    if term.found and term.at_most is None:
        m = len(slopes)
        beside = max(1, min(BESIDE, m // 4))
        width = max(1, min(WINDOW, m - 2 * beside))
        last = m - width - beside
        return tuple(
            _bend(
                fit,
                slopes[i - beside : i].mean(axis=0),
                slopes[i + width :][:beside].mean(axis=0),
                (state.knots[i - 1], state.knots[i + width - 1], None),
            )
            for i in sorted({*range(beside, last + 1, max(width // 2, 1)), last})
        )
    if not term.found:
        return tuple(_bend(fit, slopes[i], slopes[i + 1], (at, at, at)) for i, at in enumerate(state.knots))
    return tuple(
        _bend(wide, slopes[i], slopes[i + 1], (*_interval(fit, term, state, i), at))
        for wide in (_with_places(fit, term, state),)
        for i, at in enumerate(state.knots)
    )


def _bend(fit: Fitted, before: Array, after: Array, at: tuple[int, int, int | None]) -> Bend:
    estimate = fit.estimate
    more = np.zeros((3, len(estimate.beta)))
    more[:, : len(before)] = before, after, after - before
    low, high, change = (more @ estimate.beta).tolist()
    error = float(estimate.standard_errors(more[2:])[0])
    reach = float(quantile(0.975, estimate.dof)) * error
    p = float(two_sided_p(np.array([change / error if error else np.inf]), estimate.dof)[0])
    return Bend(*at, low, high, change, error, change - reach, change + reach, p)


def _moved(fit: Fitted, term: Trend, state: TrendState, knots: tuple[int, ...]) -> Array:
    """The trend's columns (n, 1 + knots) of the used periods with other knots."""
    states = {**fit.states, str(term.name): replace(state, knots=knots)}
    return lay_out([term], fit.view, fit.axis, states).blocks[0].columns[fit.used]


def _with_places(fit: Fitted, term: Trend, state: TrendState) -> Fitted:
    """The fit with the places of its bends among what is estimated: derivatives by them are further columns."""
    slot = next(slot for slot in fit.layout.slots if slot.term == term.name)
    estimate, m = fit.estimate, len(state.knots)
    years = fit.axis.frequency.periods_a_year
    after = fit.axis.ordinals[fit.used][:, None] > np.array(state.knots)
    sizes = estimate.beta[slot.places[1:]]
    wide = np.column_stack([fit.design[fit.used], np.where(after, -sizes / years, 0.0)])
    aim = (fit.residual + fit.design @ estimate.beta)[fit.used]
    free = np.full(m, np.inf)
    found = least_squares(wide, aim, ratios=np.concatenate([estimate.ratios, free]), chain=estimate.chain)
    return replace(fit, estimate=replace(found, beta=np.concatenate([estimate.beta, np.zeros(m)])))


def _interval(fit: Fitted, term: Trend, state: TrendState, i: int) -> tuple[int, int]:
    """First and last place that the data do not contradict for the i-th bend, the others where they are."""
    estimate, knots = fit.estimate, state.knots
    slot = next(slot for slot in fit.layout.slots if slot.term == term.name)
    low = knots[i - 1] + 1 if i else state.first + 1
    high = knots[i + 1] - 1 if i + 1 < len(knots) else state.last - 1
    places = tuple(range(low, high + 1))
    ramps = _moved(fit, term, state, places)[:, 1:]
    keep = estimate.kept.copy()
    keep[slot.places[1 + i]] = False
    shrunk = np.flatnonzero(np.isfinite(estimate.ratios) & keep)
    ridge = np.zeros((len(shrunk), fit.layout.k))
    ridge[np.arange(len(shrunk)), shrunk] = 1.0 / np.sqrt(estimate.ratios[shrunk])
    zeros = np.zeros((len(shrunk), len(places)))
    others = np.vstack([estimate.chain.whiten(fit.design[fit.used]), ridge])[:, keep]
    aim = estimate.chain.whiten((fit.residual + fit.design @ estimate.beta)[fit.used])
    kept, _ = place_interval(
        others, np.vstack([estimate.chain.whiten(ramps), zeros]), np.concatenate([aim, zeros[:, 0]]), estimate.dof
    )
    return places[int(kept[0])], places[int(kept[-1])]
