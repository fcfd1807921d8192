"""What is noticed about a fit: checks, each of which speaks only where it has evidence."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from offing.base import Finding, Verdict
from offing.checks import (
    after_choice,
    autocorrelation,
    bent,
    bounds_met,
    copies,
    crooked,
    crowded,
    drifting,
    entangled,
    influential,
    jumps,
    lagged_noise,
    lasting,
    left_out,
    surprises,
    tied,
    uneven,
    untold_shapes,
)
from offing.model.weight_tests import weights_examined
from offing.model.words import number, percent
from offing.tables.table import Array
from offing.terms import STATED, Driver
from offing.terms.transforms import season_of

if TYPE_CHECKING:
    from offing.model.fit import Fit


def remarks(fit: Fit) -> tuple[Finding, ...]:
    """All findings after the estimate."""
    estimate, layout = fit.estimate, fit.layout
    found = list(left_out(estimate, layout.names, layout.owners, constant=layout.constant))
    if _exact(fit):
        return tuple(found)
    found += after_choice(fit.model.chosen)
    lower, upper = fit.rows.bounds
    linear = np.arange(layout.k) < layout.linear
    shapes = (np.where(linear, wide, each).tolist() for wide, each in ((-np.inf, lower), (np.inf, upper)))
    found += untold_shapes(estimate, layout.names, layout.owners, *shapes)
    found += bounds_met(estimate, layout.names, layout.owners, lower.tolist(), upper.tolist())
    if layout.wishes is not None:
        stated = [fit.ratios.get(STATED) is not None and group == STATED for group in layout.drawn]
        spread = np.where(stated, layout.wishes.scales, np.nan).tolist()
        found += surprises(estimate, layout.names, layout.owners, layout.wishes.towards, spread)
    found += known_late(fit)
    found += [finding for verdict in fit.verdicts for finding in verdict.findings]
    return tuple(found)


def _exact(fit: Fit) -> bool:
    """Whether the fit leaves only rounding, which is no noise."""
    return fit.estimate.rss <= 1e-20 * float(np.square(fit.working[fit.used]).sum())


def examined(fit: Fit) -> tuple[Verdict, ...]:
    """What every check of the columns and of the noise measured."""
    if _exact(fit):
        return ()
    estimate, layout, used = fit.estimate, fit.layout, fit.used
    drivers = [str(term.name) for term in fit.model.terms if isinstance(term, Driver)]
    rows, left = fit.design[used], fit.left[used]
    white, noise = estimate.chain.whiten(rows), estimate.chain.whiten(left)
    kept = [i for i, each in enumerate(estimate.kept.tolist()) if each]
    residual, design = np.zeros(fit.axis.n), np.zeros_like(fit.design)
    residual[used], design[used] = noise, white
    at = np.flatnonzero(used)

    def start(row: int) -> str:
        return fit.start_of(int(at[row]))

    jumped = jumps(residual, design, used, estimate, words=lambda size: _jump_words(fit, size), label=fit.start_of)
    # A single value far out is told as such, and makes no noise crooked by itself.
    far = any(verdict.findings for verdict in jumped if verdict.check == "unexplained pulse")
    return (
        *copies(rows, fit.working[used], layout.owners, drivers),
        *crowded(estimate.rows, round(estimate.taken)),
        *entangled(estimate, white, layout.names, layout.owners, drivers),
        *tied(estimate, [layout.names[i] for i in kept], [layout.owners[i] for i in kept], drivers),
        *_neighbours(fit, residual, design),
        *weights_examined(fit),
        *drifting(noise, start),
        *_bent(fit, rows, noise),
        *influential(estimate, white, noise, start),
        *(uneven(fit.explained[used], noise, log=fit.scale.log) if fit.model.covariance == "classical" else ()),
        *crooked(np.delete(noise, int(np.argmax(np.abs(noise)))) if far else noise),
        *jumped,
    )


def _neighbours(fit: Fit, residual: Array, design: Array) -> tuple[Verdict, ...]:
    """Whether whitened residuals (n,), zero where not used, are related; with own lags beside the rows (n, k)."""
    used = fit.used
    # Over many lags the statistic outgrows its distribution where many columns were estimated.
    season = 1 if fit.axis.frequency.unit == "year" else season_of(fit.axis.frequency)
    lags = min(max(10, min(season, 24)), int(used.sum()) // 10)
    if fit.own:
        return lagged_noise(design, residual, used, min(lags, 4))
    learnt = 0 if fit.dynamics is None else fit.dynamics.dynamics.count
    next_to = autocorrelation(residual, used)
    later = lasting(residual, used, lags, learnt)
    if any(verdict.findings for verdict in next_to):  # said once is enough
        later = tuple(replace(verdict, findings=()) for verdict in later)
    return (*next_to, *later)


def _bent(fit: Fit, rows: Array, noise: Array) -> tuple[Verdict, ...]:
    """Whether the drivers that act along straight lines are bent."""
    if not fit.estimate.chain.independent or fit.model.loss != "squares":
        return ()
    straight = {
        str(term.name): fit.rows.blocks[place].columns[fit.used][:, 0]
        for place, term in enumerate(fit.model.terms)
        if isinstance(term, Driver) and term.curve is None and not any(term.chains) and len(term.lags) == 1
    }
    return bent(fit.estimate, rows, noise, straight)


def _jump_words(fit: Fit, size: float) -> str:
    """A size on the working scale, as words before "what the model explains"."""
    side = "above" if size > 0.0 else "below"
    if fit.scale.log and fit.scale.plain:
        return f"{percent(abs(np.expm1(size))).lstrip('+')} {side}"
    unit = f" {fit.unit}" if fit.unit and fit.scale.plain else ""
    return f"{number(abs(size))}{unit} {side}"


def known_late(fit: Fit) -> tuple[Finding, ...]:
    """A warning for each driver whose values come out only after the target's own of the same period."""
    found = []
    goal = fit.view.sources.tables[fit.source].delay
    part = fit.axis.part(0, 1)
    for term in fit.model.terms:
        if not isinstance(term, Driver) or min(term.lags) > 0 or fit.view.frequency(term.data) != part.frequency:
            continue  # what another frequency lacks at the origin is forecast
        source, column = fit.view.sources.find(term.data)
        table = fit.view.sources.tables[source]
        if table.later_rows is None and table.delay.after(part)[0] > goal.after(part)[0]:
            message = f"'{term.name}' becomes known only after the target of the same {fit.axis.frequency.unit}."
            advice = "Use it with a lag, or give a plan of it: a forecast can have no more than that."
            found.append(Finding("known late", "warning", message, str(term.name), advice, {"column": column}))
    return tuple(found)
