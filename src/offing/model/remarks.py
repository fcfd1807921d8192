"""What is noticed about a fit: one list of checks, each of which speaks only where it has evidence."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from offing.base import Finding
from offing.checks import (
    after_choice,
    autocorrelation,
    bounds_met,
    copies,
    crowded,
    entangled,
    influential,
    jumps,
    left_out,
    surprises,
    uneven,
    untold_shapes,
)
from offing.terms import STATED, Driver

if TYPE_CHECKING:
    from offing.model.fit import Fit


def remarks(fit: Fit) -> tuple[Finding, ...]:
    """All findings after the estimate."""
    estimate, layout, used = fit.estimate, fit.layout, fit.used
    found = list(left_out(estimate, layout.names, layout.owners, constant=layout.constant))
    if estimate.rss <= 1e-20 * float(np.square(fit.working[used]).sum()):
        return tuple(found)  # an exact fit leaves only rounding, which is no noise
    found += after_choice(fit.model.chosen)
    drivers = [str(term.name) for term in fit.model.terms if isinstance(term, Driver)]
    rows, left = fit.design[used], fit.left[used]
    found += copies(rows, fit.working[used], layout.owners, drivers)
    found += crowded(estimate.rows, round(estimate.taken))
    lower, upper = fit.rows.bounds
    linear = np.arange(layout.k) < layout.linear
    shapes = (np.where(linear, wide, each).tolist() for wide, each in ((-np.inf, lower), (np.inf, upper)))
    found += untold_shapes(estimate, layout.names, layout.owners, *shapes)
    found += bounds_met(estimate, layout.names, layout.owners, lower.tolist(), upper.tolist())
    if layout.wishes is not None:
        stated = [fit.ratios.get(STATED) is not None and group == STATED for group in layout.drawn]
        spread = np.where(stated, layout.wishes.scales, np.nan).tolist()
        found += surprises(estimate, layout.names, layout.owners, layout.wishes.towards, spread)
    white, noise = estimate.chain.whiten(rows), estimate.chain.whiten(left)
    found += entangled(estimate, white, layout.names, layout.owners, drivers)
    residual, design = np.zeros(fit.axis.n), np.zeros_like(fit.design)
    residual[used], design[used] = noise, white
    found += autocorrelation(residual, used)
    at = np.flatnonzero(used)
    found += influential(estimate, white, noise, lambda row: fit.start_of(int(at[row])))
    if fit.model.covariance == "classical":
        found += uneven(fit.explained[used], noise, log=fit.scale.log)
    found += jumps(residual, design, used, estimate, words=fit.jump_words, label=fit.start_of)
    return tuple(found)
