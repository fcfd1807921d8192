"""What is left open about weights over a driver's lags: chosen by a criterion on common rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, InputError
from offing.base.arrays import Array
from offing.calendar import newest_ended
from offing.engine import Problem, TooFewRowsError, regress
from offing.model.design import Design, lay_out
from offing.model.estimation import kept_from_zero
from offing.model.options import ModelOptions
from offing.tables import View
from offing.terms import Driver, Term, naming_term, options, undecided


def with_selected_lags(model: ModelOptions, view: View, transformed: Array) -> tuple[ModelOptions, tuple[Finding, ...]]:
    """The model with span, shape and degree of weights chosen by the least value of Schwarz's (1978) criterion.

    Drivers are settled one after the other, beside the others' first options; noise is taken as independent. What is
    compared is fitted to the same rows: those that the longest span leaves.
    """
    open_ = {model.terms.index(driver): driver for driver in model.drivers if undecided(driver)}
    if not open_:
        return model, ()
    terms = list(model.terms)
    offered: dict[int, list[Driver]] = {}
    for place, driver in open_.items():
        with naming_term(driver):
            offered[place] = _offered(view, driver)
        terms[place] = offered[place][0]
    findings = []
    for place in open_:
        with naming_term(model.terms[place]):
            best, count = _best(terms, place, offered[place], view, transformed)
        terms[place] = best
        findings.append(_told(view, best, count))
    return replace(model, terms=tuple(terms)), tuple(findings)


def _offered(view: View, term: Driver) -> list[Driver]:
    frequency = view.frequency(term.data)
    table = view.sources.tables[view.sources.find(term.data)[0]]
    known = np.flatnonzero(np.isfinite(view.known(term.data, table.axis).values))
    a_period = frequency.periods_a_year / view.rows.frequency.periods_a_year
    # A span is offered where it leaves three quarters of the rows.
    first = table.axis.first + (int(known[0]) if len(known) else 0)
    newest = newest_ended(frequency, view.rows.part(view.rows.n // 4, view.rows.n // 4 + 1))
    found = options(term, a_period, int(newest[0]) - term.skip - first + 1)
    if not found:
        raise InputError("no span suits its weights", "State span, or other weights.", key="weights")
    return found


def _best(
    terms: Sequence[Term], place: int, offered: Sequence[Driver], view: View, transformed: Array
) -> tuple[Driver, int]:
    """The option with the least criterion, and among how many."""
    designs: list[tuple[Driver, Design]] = []
    refused: InputError | None = None
    states: dict[str, Any] = {}
    for other in (term for i, term in enumerate(terms) if i != place):
        with naming_term(other):
            states[str(other.name)] = other.learn(view)
    for option in offered:
        tried = [option if i == place else term for i, term in enumerate(terms)]
        try:
            own = {**states, str(option.name): option.learn(view)}
            designs.append((option, lay_out(tried, view, view.rows, own)))
        except InputError as error:
            refused = error
    if not designs:
        raise refused or InputError("no span suits its weights", key="weights")
    common = np.isfinite(transformed) & np.all([design.known for _, design in designs], axis=0)
    values = [(_criterion(design, transformed, common), i) for i, (_, design) in enumerate(designs)]
    return designs[min(values)[1]][0], len(designs)


def _criterion(design: Design, transformed: Array, used: NDArray[np.bool_]) -> float:
    groups, names = design.layout.groups
    n = int(used.sum())
    problem = Problem(
        transformed[used],
        design.linear[used],
        np.flatnonzero(used),
        groups,
        kept_from_zero(names),
        shapes=design.shapes(used),
    )
    try:
        estimate = regress(problem).estimate
    except TooFewRowsError:
        return np.inf
    return float(n * np.log(max(estimate.rss, 1e-300) / n) + estimate.effective_dof * np.log(n))


def _told(view: View, driver: Driver, count: int) -> Finding:
    degree = f" of degree {driver.degree}" if driver.weights == "polynomial" else ""
    unit = view.frequency(driver.data).unit
    message = (
        f"'{driver.name}' has {driver.weights} weights{degree} over {driver.span} {unit}s, as the Bayesian information "
        f"criterion chose among {count}."
    )
    evidence: dict[str, float | str] = {
        "span": float(driver.span or 0),
        "weights": str(driver.weights),
        "offered": float(count),
    }
    return Finding("choice", "note", message, str(driver.name), evidence=evidence)
