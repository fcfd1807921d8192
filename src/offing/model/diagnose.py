"""What is noticed about a fit: checks, each of which speaks only where it has evidence."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from offing.base import Finding, Verdict
from offing.base.arrays import Array
from offing.base.text import number, percent
from offing.diagnostics import (
    after_choice,
    autocorrelation,
    bounds_met,
    collinear,
    contradictions,
    drifting,
    exact,
    heteroscedastic,
    identities,
    influential,
    jumps,
    lagged_noise,
    left_out,
    long_lag_autocorrelation,
    multicollinear,
    non_normal,
    nonlinear,
    over_parameterised,
    unidentified_shapes,
    uninformative,
)
from offing.model.elasticities import elasticities
from offing.model.fit_state import FitState
from offing.model.weight_tests import weights_examined
from offing.terms import STATED
from offing.terms.change_transforms import season_of


def remarks(fit: FitState, verdicts: Callable[[], Sequence[Verdict]]) -> tuple[Finding, ...]:
    """All findings after the estimate; `verdicts` are looked at unless the fit is exact."""
    estimate, layout = fit.estimate, fit.layout
    drivers = _drivers(fit)
    identity = [finding for verdict in _identity(fit) for finding in verdict.findings]
    found = [*identity, *left_out(estimate, layout.names, layout.owners, drivers, constant=layout.constant)]
    if _exact(fit):
        return (*found, *(exact(drivers) if not identity and _varies(fit) else ()))
    found += _uninformative(fit)
    found += after_choice(fit.model.chosen)
    lower, upper = fit.rows.bounds
    linear = np.arange(layout.k) < layout.linear
    shapes = (np.where(linear, wide, each).tolist() for wide, each in ((-np.inf, lower), (np.inf, upper)))
    found += unidentified_shapes(estimate, layout.names, layout.owners, *shapes)
    found += bounds_met(estimate, layout.names, layout.owners, lower.tolist(), upper.tolist())
    if layout.constraints is not None:
        stated = [fit.ratios.get(STATED) is not None and group == STATED for group in layout.shrinkage_groups]
        spread = np.where(stated, layout.constraints.scales, np.nan).tolist()
        found += contradictions(estimate, layout.names, layout.owners, layout.constraints.towards, spread)
    found += known_late(fit)
    every = [finding for verdict in verdicts() if verdict.check != "identity" for finding in verdict.findings]
    return (*found, *every)


def _drivers(fit: FitState) -> list[str]:
    return [str(term.name) for term in fit.model.drivers]


def _identity(fit: FitState) -> tuple[Verdict, ...]:
    """Whether drivers that are known no earlier than the target say what it is."""
    now = [str(term.name) for term in fit.model.drivers if min(term.lags) <= 0]
    return identities(fit.estimate, fit.layout.owners, now, fit.design[fit.used].std(axis=0)) if now else ()


def _uninformative(fit: FitState) -> list[Finding]:
    """Drivers whose elasticity, where there is one, could be anything."""
    if not fit.scale.plain or not (fit.target[fit.used] > 0.0).all() or fit.estimate.dof < 1.0:
        return []
    found = []
    rows = elasticities(fit)
    for at, (name, label) in enumerate(zip(rows.drivers, rows.labels, strict=True)):
        driver = next(term for term in fit.model.terms if str(term.name) == name)
        values = fit.seen(driver.needs()[0])
        elasticity = float(rows.overall[at]), float(rows.low[at]), float(rows.high[at])
        found += uninformative(label, (float(values.min()), float(values.max())), elasticity)
    return found


def _varies(fit: FitState) -> bool:
    return bool(np.ptp(fit.transformed[fit.used]) > 0.0)


def _exact(fit: FitState) -> bool:
    """Whether the fit leaves only rounding, which is no noise."""
    # As the squares of values near the smallest numbers are zero, lengths are compared.
    return bool(np.sqrt(fit.estimate.rss) <= 1e-10 * np.linalg.norm(fit.transformed[fit.used]))


def examined(fit: FitState) -> tuple[Verdict, ...]:
    """What every check of the columns and of the noise measured."""
    if _exact(fit):
        return ()
    estimate, layout, used = fit.estimate, fit.layout, fit.used
    drivers = _drivers(fit)
    rows, left = fit.design[used], fit.residual[used]
    white, noise = estimate.chain.whiten(rows), estimate.chain.whiten(left)
    kept = [i for i, each in enumerate(estimate.kept.tolist()) if each]
    residual, design = np.zeros(fit.axis.n), np.zeros_like(fit.design)
    residual[used], design[used] = noise, white
    at = np.flatnonzero(used)

    def start(row: int) -> str:
        return fit.start_of(int(at[row]))

    jumped = jumps(residual, design, used, estimate, words=lambda size: _jump_words(fit, size), label=fit.start_of)
    # A single value far out is reported as such, and does not by itself make noise non-normal.
    far = any(verdict.findings for verdict in jumped if verdict.check == "unexplained pulse")
    return (
        *_identity(fit),
        *over_parameterised(estimate.rows, round(estimate.effective_dof)),
        *collinear(estimate, white, layout.names, layout.owners, drivers),
        *multicollinear(estimate, [layout.names[i] for i in kept], [layout.owners[i] for i in kept], drivers),
        *_neighbours(fit, residual, design),
        *weights_examined(fit),
        *drifting(noise, start),
        *_bent(fit, rows, noise),
        *influential(estimate, white, noise, start),
        *(
            heteroscedastic(fit.explained[used], noise, log=fit.scale.log)
            if fit.model.covariance == "classical"
            else ()
        ),
        *non_normal(np.delete(noise, int(np.argmax(np.abs(noise)))) if far else noise),
        *jumped,
    )


def _neighbours(fit: FitState, residual: Array, design: Array) -> tuple[Verdict, ...]:
    """Whether whitened residuals (n,), zero where not used, are related; with own lags beside the rows (n, k)."""
    used = fit.used
    # Over many lags the statistic outgrows its distribution where many columns were estimated.
    season = 1 if fit.axis.frequency.unit == "year" else season_of(fit.axis.frequency)
    lags = min(max(10, min(season, 24)), int(used.sum()) // 10)
    if fit.own:
        return lagged_noise(design, residual, used, min(lags, 4))
    learnt = 0 if fit.dynamics is None else fit.dynamics.dynamics.count
    next_to = autocorrelation(residual, used)
    later = long_lag_autocorrelation(residual, used, lags, learnt)
    if any(verdict.findings for verdict in next_to):  # said once is enough
        later = tuple(replace(verdict, findings=()) for verdict in later)
    return (*next_to, *later)


def _bent(fit: FitState, rows: Array, noise: Array) -> tuple[Verdict, ...]:
    """Whether the drivers that act along straight lines are bent."""
    if not fit.estimate.chain.independent or fit.model.loss != "squares":
        return ()
    straight = {
        str(term.name): fit.rows.blocks[fit.model.terms.index(term)].columns[fit.used][:, 0]
        for term in fit.model.drivers
        if term.curve is None and not any(term.chains) and len(term.lags) == 1
    }
    return nonlinear(fit.estimate, rows, noise, straight)


def _jump_words(fit: FitState, size: float) -> str:
    """A size on the working scale, as words before "what the model explains"."""
    side = "above" if size > 0.0 else "below"
    if fit.scale.log and fit.scale.plain:
        return f"{percent(abs(np.expm1(size))).lstrip('+')} {side}"
    unit = f" {fit.unit}" if fit.unit and fit.scale.plain else ""
    return f"{number(abs(size))}{unit} {side}"


def known_late(fit: FitState) -> tuple[Finding, ...]:
    """A warning for each driver whose values are released only after the target's own of the same period."""
    found = []
    goal = fit.view.sources.tables[fit.source].delay
    part = fit.axis.part(0, 1)
    for term in fit.model.drivers:
        if min(term.lags) > 0 or fit.view.frequency(term.data) != part.frequency:
            continue  # what another frequency lacks at the origin is forecast
        source, column = fit.view.sources.find(term.data)
        table = fit.view.sources.tables[source]
        if table.later_rows is None and table.delay.after(part)[0] > goal.after(part)[0]:
            message = f"'{term.name}' becomes known only after the target of the same {fit.axis.frequency.unit}."
            advice = "Use it with a lag, or give a plan of it: a forecast can have no more than that."
            found.append(Finding("known late", "warning", message, str(term.name), advice, {"column": column}))
    return tuple(found)
