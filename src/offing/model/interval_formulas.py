"""How wide the intervals of a forecast's formulas are, also where the drivers are others than planned."""

from __future__ import annotations

import numpy as np

from offing.base.arrays import Array
from offing.engine.expressions import Carried, Earlier, Expression, Input, Named, Words, walked
from offing.model.formula_assembly import Assembly

#: Of more coefficients the products of all pairs would be larger than all else.
_MOST_MOVED = 40


def standard_error(made: Assembly, fitted_scale: Expression) -> tuple[Expression, bool]:
    """The standard error of an outcome on the working scale, and whether it follows the drivers.

    Other drivers give other derivatives g + δ by the coefficients, whose variance g'Cg then has more by
    Σ δ_i (2 (Cg)_i + Σ C_ij δ_j): nothing where the drivers are as exported. `fitted_scale` is what is forecast on the
    scale that is fitted, from which own lags come.
    """
    ahead, fit = made.ahead, made.fit
    widen = fit.model.widen_intervals
    planned = ahead.path.variances + np.square(ahead.spread)
    moved = _moved(made, fitted_scale)
    if not moved:
        return made.rows.facts("standard error as exported", np.sqrt(planned) * widen), moved is not None
    root = fit.estimate.cov_root(np.eye(fit.layout.k)[list(moved)])
    whole = fit.estimate.cov_root(fit.scale.gradient(ahead.start, ahead.transformed, ahead.moves))
    linear, square = 2.0 * root.T @ whole, root.T @ root
    parts: list[Expression] = [made.rows.facts("variance as exported", planned)]
    for i, (place, delta) in enumerate(moved.items()):
        name = fit.layout.names[place]
        rest = [float(square[i, j]) * other for j, other in enumerate(moved.values()) if square[i, j]]
        with_others = made.steps.total(f"{name}: covariance", rest, made.table)
        own = made.rows.facts(f"{name}: covariance as exported", linear[i]) + with_others
        parts.append(made.add(f"{name}: variance by its change", delta * own))
    variance = made.add("variance of an outcome", made.steps.total("variance", parts, made.table))
    return variance**0.5 * widen, True


def _moved(made: Assembly, fitted_scale: Expression) -> dict[int, Expression] | None:
    """How far the derivative by each coefficient is from that of the drivers as exported; None if it is not known.

    Only coefficients are there whose derivative depends on a driver.
    """
    fit, ahead, beta = made.fit, made.ahead, made.fit.estimate.beta
    if fit.scale.growth or ahead.outlooks:
        return None
    found: dict[int, Expression] = {}
    for at, (term, slot) in enumerate(zip(fit.model.terms, fit.layout.slots, strict=True)):
        if term.recursive or not term.needs():
            continue
        if slot.factor or slot.borrowed:
            return None
        slopes = term.slopes(made.view, made.rows, fit.states[slot.term], beta[slot.places])
        if slopes is None:
            return None
        planned = ahead.rows.part(at, beta).own
        for place, slope, own in zip(slot.places.tolist(), slopes, planned.T, strict=True):
            if fit.estimate.kept[place] and any(isinstance(each, (Input, Words)) for each in walked(slope)):
                name = fit.layout.names[place]
                found[place] = _lived_on(made, name, _change(made, name, slope, own))
    if fit.own and found:
        lags = next(slot for slot, term in zip(fit.layout.slots, fit.model.terms, strict=True) if term.recursive)
        path = made.add("change of the forecast", _change(made, "forecast", fitted_scale, ahead.transformed))
        for place, back in zip(lags.places.tolist(), fit.own_places, strict=True):
            found[place] = _lived_on(made, fit.layout.names[place], Earlier(path, back + 1))
    return found if len(found) <= _MOST_MOVED else None


def _change(made: Assembly, name: str, value: Expression, planned: Array) -> Expression:
    """How far a value is from what it is with the drivers as exported; nothing is changed before the forecast."""
    change = made.add(f"{name}: change", value - made.rows.facts(f"{name}: as exported", planned))
    return Carried(change, (), np.zeros(made.rows.lead)) if made.rows.lead else change


def _lived_on(made: Assembly, name: str, change: Expression) -> Named:
    """A change of a derivative with what lives on of it, through own lags and differences of the target."""
    scale, none = made.fit.scale, np.zeros(made.rows.lead)
    if made.fit.own:
        change = Carried(change, made.fit.own, none)
    if not scale.plain:
        change = Carried(change / scale.gain, made.differences, none)
    return made.add(f"{name}: change of the derivative", change)
