"""A fit and newer rows: its old coefficients on them, the rows joined to its triangle, or all learnt again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, count, nearest
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import Chain, Reduced, least_squares, triangle
from offing.model.estimation import Sample, judged
from offing.model.fitted import Fitted
from offing.model.fitting import fit_at, fitted_span
from offing.model.reapply import moved
from offing.tables import Information, Panel, Sources, Table, read
from offing.tables.table import Texts
from offing.terms import STATED


def applied(fit: Fitted, data: Any) -> Fitted:
    """The fit with its old coefficients on its own rows and newer ones; see `Fit.apply`."""
    tables = joined_tables(fit, data)
    newer = _on(fit, tables)
    seen = int((newer.used[fit.axis.n :]).sum())
    if not seen:
        return newer
    message = (
        f"The coefficients are those of {fit.axis.spell()}; {count(seen, f'newer {fit.axis.frequency.unit}')} "
        f"{'is' if seen == 1 else 'are'} forecast from, but not fitted."
    )
    advice = "Use update or refit to learn from them."
    note = Finding("older coefficients", "note", message, advice=advice, evidence={"periods": float(seen)})
    return replace(newer, noticed=(*newer.noticed, note))


@dataclass(frozen=True)
class NewerRows:
    """A fit on its own rows and newer ones, and what these are to its triangle.

    Attributes
    ----------
    fit
        The fit with its old coefficients on all rows.
    rows
        The newer rows [X | z] (m, k + 1), freed of what their predecessors predict. Where shape parameters bend
        columns, X are the derivatives at the old estimate and z the target with what they take of it.
    places
        Which periods (m,) of the fit's axis they are.
    chain
        The dynamics of the noise over all rows.
    towards
        What the coefficients (k,) are drawn towards, which is taken from z.
    """

    fit: Fitted
    rows: Array
    places: NDArray[np.intp]
    chain: Chain
    towards: Array


def newer_rows(fit: Fitted, tables: Mapping[str, Table]) -> NewerRows:
    """The rows of some tables, the fit's own among them, that came after those that were fitted.

    Raises
    ------
    InputError
        If among the fitted periods other ones have values now, or the fit's loss is robust.
    """
    model, old = fit.model, fit.estimate
    if model.loss != "squares":
        raise InputError(
            f"the loss {model.loss!r} judges every row beside all others, so that newer ones cannot be joined",
            "Use refit.",
            key="loss",
        )
    newer = _on(fit, tables)
    times = newer.axis.ordinals[newer.used]
    later = times > int(old.chain.times[-1])
    if not np.array_equal(times[~later], old.chain.times):
        raise InputError(
            "of the periods fitted, some have a value now that they had not then, or the reverse", "Use refit."
        )
    design, value = (each[newer.used] for each in newer.rows.linearised(old.beta))
    towards = _towards(newer)
    aim = newer.transformed[newer.used] - value + design @ (old.beta - towards)
    chain = replace(old.chain, times=times, worth=_worth(fit, times))
    rows = chain.whiten(np.column_stack([design, aim]))[later]
    return NewerRows(newer, rows, np.flatnonzero(newer.used)[later], chain, towards)


def updated(fit: Fitted, data: Any) -> Fitted:
    """The fit with newer rows joined to its triangle; see `Fit.update`.

    With R the triangle of [X | z], that of all rows is the triangle of R and the new rows (Golub 1965), freed of what
    their predecessors predict: with shape parameters one step of Gauss and Newton from the old estimate.
    """
    old, found = fit.estimate, newer_rows(fit, joined_tables(fit, data))
    if not len(found.rows):
        return fit
    newer, chain, towards = found.fit, found.chain, found.towards
    faded = 1.0 if chain.worth is None or old.chain.worth is None else chain.worth[0] / old.chain.worth[0]
    stack = np.vstack([old.whole * np.sqrt(faded), found.rows])
    lower, upper = newer.rows.bounds
    bounds = (lower - towards, upper - towards) if np.isfinite([lower, upper]).any() else None
    estimate = least_squares(
        stack[:, :-1],
        stack[:, -1],
        ratios=old.ratios,
        chain=chain,
        shapes=old.shapes,
        bounds=bounds,
        rising=newer.layout.rising,
        variance=old.variance if _variance_stated(newer) else None,
        reduced=Reduced(stack, triangle(stack)),
        rows=len(chain.times),
    ).moved(towards)
    newer = replace(newer, estimate=estimate)
    sample = Sample(newer.transformed[newer.used], newer.used, newer.axis)
    estimate = judged(fit.model, estimate, newer.rows, sample)
    return replace(newer, estimate=estimate, noticed=(*fit.noticed, _joined_note(fit, newer)))


def refitted(fit: Fitted, data: Any) -> Fitted:
    """The model as it was stated, learnt again from the fit's rows and newer ones; see `Fit.refit`."""
    sources = fit.view.sources
    tables = joined_tables(fit, data)
    return fit_at(fit.stated, Information(tables, fit.series, None, sources.plans, fit.view.known_ahead))


def _on(fit: Fitted, tables: Mapping[str, Table]) -> Fitted:
    """The fit with its coefficients on other tables, from its first period on."""
    sources = Sources(tables, fit.view.sources.plans)
    axis, origin = fitted_span(replace(fit.model, window=None), sources, fit.source, fit.column)
    whole = Axis(axis.frequency, fit.axis.first, axis.first + axis.n - fit.axis.first)
    return moved(fit, sources, whole, origin)


def _towards(fit: Fitted) -> Array:
    """What the coefficients (k,) are drawn towards."""
    constraints = fit.layout.constraints
    return np.zeros(fit.layout.k) if constraints is None else np.array(constraints.towards)


def _worth(fit: Fitted, times: NDArray[np.int64]) -> Array | None:
    """What each row (n,) counts by its age."""
    half_life = fit.model.half_life
    if half_life is None:
        return None
    return np.asarray(np.power(0.5, (int(times[-1]) - times) / half_life))


def joined_tables(fit: Fitted, data: Any) -> dict[str, Table]:
    """The fit's tables with newer rows, whose values count where both have some.

    Raises
    ------
    InputError
        If the newer rows are of another frequency, or lack a column.
    """
    old = fit.view.sources.tables
    found = dict(old)
    for name, newer in _newer(fit, data).items():
        found[name] = _joined(old[name], newer)
    return found


def _newer(fit: Fitted, data: Any) -> dict[str, Table]:
    """The newer tables by the names of those that they continue."""
    old = fit.view.sources.tables
    if isinstance(data, Mapping) and not isinstance(data, Panel):
        for name in data:
            if name not in old:
                raise InputError(f"there are newer rows of {name!r}, which is no table of the fit", nearest(name, old))
        return {name: _table(fit, each, old[name]) for name, each in data.items()}
    if len(old) > 1:
        raise InputError("several tables were fitted", "Give the newer ones by table, as a dictionary.", key="data")
    ((name, table),) = old.items()
    return {name: _table(fit, data, table)}


def _table(fit: Fitted, data: Any, old: Table) -> Table:
    if isinstance(data, Panel):
        return data[fit.series]
    if isinstance(data, Table):
        return data
    if not isinstance(data, (pd.DataFrame, pd.Series)):
        raise InputError(f"found a {type(data).__name__}", "Give a frame, or a Table made by read.", key="data")
    found = read(data, name="the newer rows", **old.axis.frequency.stated)
    return found if isinstance(found, Table) else found[fit.series]


def _joined(old: Table, newer: Table) -> Table:
    """One table of both."""
    if newer.axis.frequency != old.axis.frequency:
        raise InputError(
            f"they come by {newer.axis.frequency}, the fit's by {old.axis.frequency}",
            "Read them with the same frequency and zone.",
            file=newer.name,
        )
    lacking = [each for each in (*old.columns, *old.texts) if each not in newer.columns and each not in newer.texts]
    if lacking:
        raise InputError(
            f"there is no column {lacking[0]!r}", nearest(lacking[0], [*newer.columns, *newer.texts]), file=newer.name
        )
    for name in old.columns:
        newer.values(name)  # a column that holds no numbers now says so itself
    if newer.vintages is not None or old.vintages is not None:
        if newer.axis.first > old.axis.first or newer.vintages is None:
            raise InputError(
                "values by the date of their release are given in full", "Read the whole table again.", file=newer.name
            )
        return replace(newer, units=old.units, labels=old.labels, later_rows=old.later_rows, delay=old.delay)
    first = min(old.axis.first, newer.axis.first)
    end = max(old.axis.first + old.axis.n, newer.axis.first + newer.axis.n)
    axis = Axis(old.axis.frequency, first, end - first)
    units = {name: unit for name, unit in newer.units.items() if name in old.columns and old.units.get(name)}
    for name, unit in units.items():
        if unit != old.units[name]:
            raise InputError(
                f"it is in {unit} now and was in {old.units[name]}",
                "Bring both to one unit.",
                file=newer.name,
                column=name,
            )
    return replace(
        old,
        axis=axis,
        columns={name: _numbers(axis, old, newer, name) for name in old.columns},
        texts={name: _words(axis, old, newer, name) for name in old.texts},
        treatments=(*old.treatments, *newer.treatments),
    )


def _numbers(axis: Axis, old: Table, newer: Table, name: str) -> Array:
    values = np.full(axis.n, np.nan)
    for table in (old, newer):
        place = table.axis.first - axis.first
        own = table.columns[name]
        part = values[place : place + table.axis.n]
        values[place : place + table.axis.n] = np.where(np.isfinite(own), own, part)
    return values


def _words(axis: Axis, old: Table, newer: Table, name: str) -> Texts:
    words = np.full(axis.n, "", dtype=object)
    for table in (old, newer):
        place = table.axis.first - axis.first
        own = table.words(name)
        words[place : place + table.axis.n] = np.where(own != "", own, words[place : place + table.axis.n])
    return words


def _variance_stated(fit: Fitted) -> bool:
    return STATED in fit.layout.groups[1]


def _joined_note(fit: Fitted, newer: Fitted) -> Finding:
    joined = int(newer.used.sum() - fit.used.sum())
    message = (
        f"{count(joined, f'newer {fit.axis.frequency.unit}')} {'was' if joined == 1 else 'were'} joined to the fit of "
        f"{fit.axis.spell()}; strengths, dynamics of the noise and treatments are as they were."
    )
    advice = "Use refit to learn them again."
    return Finding("updated", "note", message, advice=advice, evidence={"periods": float(joined)})
