"""A fit as a record that can be stored: what was learnt, and the columns of the data that it draws on."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, is_dataclass, replace
from pathlib import Path
from typing import Any, get_type_hints

import numpy as np

from offing.base import Finding, InputError
from offing.base.arrays import Array
from offing.base.stored import Raw, decoded, encoded, storable
from offing.calendar import Axis
from offing.engine import Estimate, NoiseFit
from offing.model.design import lay_out
from offing.model.fitted import Fitted
from offing.model.fitting import fit_at
from offing.model.options import ModelOptions
from offing.model.stored_table import TableStore, check_axis
from offing.model.target_transform import Scale
from offing.tables import Information, Patch, Sources, Table
from offing.tables.sources import text_cells
from offing.terms import Pulses, Term, term_kinds

#: Microseconds between 1970 and the first or last day that dates can name.
_FARTHEST = 2**62


@dataclass(frozen=True)
class StoredFit:
    """A fit without what follows from the rest: columns of the design, fitted values and findings of checks.

    `tables` and `plans` are places among the tables of the file. `states` are what the terms learnt, in their order;
    `ratios` in the order of the groups of coefficients.
    """

    series: str
    source: str
    column: str
    model: ModelOptions
    stated: ModelOptions
    tables: Mapping[str, int]
    plans: Mapping[str, int]
    known_ahead: tuple[tuple[str, str], ...] | None
    origin: int
    axis: Axis
    patches: tuple[Patch, ...]
    states: tuple[Raw, ...]
    scale: Scale
    estimate: Estimate
    ratios: tuple[float, ...]
    centres: Array | None
    noise: NoiseFit | None
    findings: tuple[Finding, ...]


def stored(fit: Fitted, tables: TableStore) -> StoredFit:
    """A fit as a record; its tables are added to those of the file.

    Raises
    ------
    InputError
        If a term's class is registered under no name.
    """
    register_terms()
    for term in fit.model.terms:
        if encoded_name(term) is None:
            raise InputError(
                f"the term '{term.name}' is of a kind that no file could name", "Register it with register_term."
            )
        if state_type(term) is Any and is_dataclass(fit.states[str(term.name)]):
            raise InputError(
                f"the term '{term.name}' does not declare what it learns",
                "Let its learn state the type that it returns.",
            )
    sources = fit.view.sources
    columns = columns_of(fit)
    noise = fit.dynamics
    return StoredFit(
        fit.series,
        fit.source,
        fit.column,
        with_tables(fit.model),
        with_tables(fit.stated),
        {name: tables.place(table, columns.get(name, ())) for name, table in sources.tables.items()},
        {name: tables.place(plan, columns.get(name, ())) for name, plan in sources.plans.items()},
        None if fit.view.known_ahead is None else tuple(sorted(fit.view.known_ahead)),
        fit.view.origin,
        fit.axis,
        tuple(fit.view.patches.values()),
        tuple(encoded(fit.states[str(term.name)]) for term in fit.model.terms),
        fit.scale,
        fit.estimate,
        tuple(fit.ratios.values()),
        fit.rows.centres,
        None if noise is None else noise.without_search(),
        fit.noticed,
    )


def restored(record: StoredFit, tables: Sequence[Table]) -> Fitted:
    """The fit of a record, as it was.

    Raises
    ------
    InputError
        If its parts do not belong together.
    """
    information = Information(
        _at(tables, record.tables),
        record.series,
        record.origin,
        _at(tables, record.plans),
        None if record.known_ahead is None else frozenset(record.known_ahead),
    )
    model, axis, scale = record.model, record.axis, record.scale
    check_axis(axis)
    if record.source not in record.tables or len(record.states) != len(model.terms):
        raise _not_one()
    whole, end = information.tables[record.source].axis, axis.first + axis.n
    if whole.frequency != axis.frequency or not whole.first <= axis.first < end <= whole.first + whole.n:
        raise _not_one()
    if abs(record.origin) > _FARTHEST:
        raise InputError(f"found the instant {record.origin}, which no calendar has", key="origin")
    states = {
        str(term.name): decoded(state_type(term), each, f"states.{term.name}")
        for term, each in zip(model.terms, record.states, strict=True)
    }
    view = information.view(record.origin, axis, model.goal).treated(list(record.patches))
    target = view.known(model.target, axis).values
    factor = scale.factor(view, model.target, axis)
    levels = scale.levels(target, factor, axis)
    transformed = scale.transformed(levels, axis)
    view = view.walked(axis.first, transformed)
    design = lay_out(model.terms, view, axis, states, record.centres)
    used = np.isfinite(transformed) & design.known
    groups, k, estimate = design.layout.groups[1], design.layout.k, record.estimate
    r = int(estimate.kept.sum()) if estimate.kept.shape == (k,) else -1
    shapes = (
        estimate.beta.shape == estimate.ratios.shape == estimate.shapes.shape == estimate.active.shape == (k,),
        estimate.unconstrained.shape == (k,),
        estimate.root.shape == (r, r),
        estimate.whole.shape == (k + 1, k + 1),
        len(groups) == len(record.ratios),
        np.array_equal(estimate.chain.times, axis.ordinals[used]) or estimate.chain.times.shape == (estimate.rows,),
    )
    if not all(shapes):
        raise _not_one()
    return Fitted(
        model,
        record.source,
        record.column,
        view,
        states,
        scale,
        target,
        factor,
        levels,
        transformed,
        used,
        design,
        estimate,
        dict(zip(groups, record.ratios, strict=True)),
        record.findings,
        record.noise,
        record.stated,
        fit_at,
        record.series,
    )


def _not_one() -> InputError:
    return InputError("its parts do not belong to one model", "Save the model again.")


def _at(tables: Sequence[Table], places: Mapping[str, int]) -> dict[str, Table]:
    if any(not 0 <= place < len(tables) for place in places.values()):
        raise _not_one()
    return {name: tables[place] for name, place in places.items()}


def columns_of(fit: Fitted) -> dict[str, list[str]]:
    """The columns that a fit draws on, by the name of their table."""
    model, stated, sources = fit.model, fit.stated, fit.view.sources
    references = [model.target, *model.needs(), *stated.needs(), *(each.data for each in stated.treatments)]
    references += [each for step in fit.scale.factors for each in step.needs()]
    found: dict[str, list[str]] = {name: [] for name in sources.tables}
    for source, column in dict.fromkeys(map(Sources(sources.tables).find, references)):
        found[source].append(column)
    return found


def with_tables(model: ModelOptions) -> ModelOptions:
    """The model with the tables of holidays and events that are files read into its terms, as text."""
    return replace(model, terms=[_with_tables(term) for term in model.terms])


def _with_tables(term: Term) -> Term:
    files = term.files()

    def read(value: Any) -> Any:
        if isinstance(value, (str, Path)):
            return text_cells(value, "table")[0] if Path(value) in files else value
        return {name: read(each) for name, each in value.items()} if isinstance(value, Mapping) else value

    if not files:
        return term
    own: dict[str, Any] = {"table": read(getattr(term, "table", None))}
    if calendars := getattr(term, "calendars", ()):
        own["calendars"] = [read(each) for each in calendars]
    return replace(term, **own)  # type: ignore[type-var]


def register_terms() -> None:
    """Let files name terms as studies do, those of other packages included."""
    for name, kind in _kinds().items():
        storable(Term, name, kind)


def _kinds() -> dict[str, type[Term]]:
    """All kinds of terms by the names that files give them: those of studies, and what treatments set apart."""
    return {**term_kinds(), "outliers": Pulses}


def encoded_name(term: Term) -> str | None:
    """What files call a term's kind, if it is registered."""
    return next((name for name, kind in _kinds().items() if kind is type(term)), None)


def state_type(term: Term) -> Any:
    """The declared type of what a term learns."""
    if term.parts:
        return tuple[tuple(state_type(each) for each in term.parts)]  # type: ignore[misc]
    return learnt_type(type(term))


def learnt_type(kind: type[Term]) -> Any:
    """The declared type of what a kind of term learns, which other packages may leave open."""
    return get_type_hints(kind.learn).get("return", Any)
