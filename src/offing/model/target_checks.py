"""Whether the target's values can be fitted at all."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, InputError, count
from offing.base.arrays import Array
from offing.base.limits import LARGEST, SMALLEST
from offing.calendar import Axis
from offing.model.design import Design
from offing.model.options import ModelOptions
from offing.tables import Sources, Table, View
from offing.terms import naming_term


def constant_target(value: float, column: str, axis: Axis) -> Finding:
    """A warning of a target that never varies."""
    message = (
        f"'{column}' is {value:g} in all {axis.spell()}: the forecast is that constant, and no term has an effect."
    )
    return Finding(
        "constant target",
        "warning",
        message,
        advice="Check whether the right column was read.",
        evidence={"value": value},
    )


def check_treatments(model: ModelOptions, sources: Sources) -> None:
    """Refuse a target that is smoothed: residuals, intervals and scores would be those of a series that never was."""
    place = sources.find(model.target)
    if model.smooth_target:
        return
    for each in model.treatments:
        if each.smooth > 1 and sources.find(each.data) == place:
            raise InputError(
                "the target itself cannot be smoothed: intervals and scores would be those of a series that never was",
                "Leave out smooth; the model smooths by itself.",
                column=each.data,
                key="treatments",
            )


def check_drivers(model: ModelOptions, view: View) -> None:
    """Refuse a driver that has no value at all, naming its file and column."""
    for term in model.terms:
        for reference in term.needs():
            with naming_term(term):
                source, column = view.sources.find(reference)
            table = view.sources.tables[source]
            reach = view.reach(reference)
            known = (
                np.isfinite(view.known(reference, reach).values)
                if view.numeric(reference)
                else view.words(reference, reach) != ""
            )
            if view.numeric(reference):
                _check_size(view.known(reference, reach).values, table, column)
            if not known.any():
                raise InputError(
                    "the driver has no value that was known at the origin",
                    "Fill in its values, or remove the term.",
                    file=table.name,
                    column=column,
                    term=str(term.name),
                )


def check_target(model: ModelOptions, target: Array, table: Table, column: str, axis: Axis) -> None:
    """Refuse a target without values, beyond its limits, or of which there is no logarithm."""
    known = target[np.isfinite(target)]
    if not len(known):
        raise InputError("no value of the target is left by its treatment", file=table.name, column=column)
    _check_size(target, table, column)
    _check_limits(model, target, table, column, axis)
    wrong = np.flatnonzero(target + model.offset <= 0.0)
    if model.scale == "log" and len(wrong):
        zeros = " state an offset, say what zeros mean in a treatment," if (target[wrong] == 0.0).all() else ""
        raise InputError(
            f"the target is {target[wrong[0]]:g}"
            + (f" and {count(len(wrong) - 1, 'more value')} not positive" if len(wrong) > 1 else "")
            + (f" with an offset of {model.offset:g}" if model.offset else "")
            + ", of which there is no logarithm",
            f'Use scale = "level",{zeros} or correct the values.',
            file=table.name,
            period=axis.part(int(wrong[0]), int(wrong[0]) + 1).labels()[0],
            column=column,
        )


def _check_size(values: Array, table: Table, column: str) -> None:
    """Refuse values whose squares are no numbers any more."""
    largest = float(np.nanmax(np.abs(values), initial=0.0))
    if largest > LARGEST or 0.0 < largest < SMALLEST:
        raise InputError(
            f"its largest value is {largest:.3g}, with which nothing can be computed",
            "Give it in another unit.",
            file=table.name,
            column=column,
        )


def _check_limits(model: ModelOptions, target: Array, table: Table, column: str, axis: Axis) -> None:
    for word, limit, beyond in (
        ("lower", model.lower_limit, np.less),
        ("upper", model.upper_limit, np.greater),
    ):
        wrong = np.flatnonzero(beyond(target, np.nan if limit is None else limit))
        if len(wrong):
            raise InputError(
                f"the target is {target[wrong[0]]:g}, beyond its {word} limit {limit:g}",
                "Correct the value or the limit.",
                file=table.name,
                period=axis.part(int(wrong[0]), int(wrong[0]) + 1).labels()[0],
                column=column,
                key=f"{word}_limit",
            )


def check_rows(design: Design, used: NDArray[np.bool_], columns: int, axis: Axis) -> None:
    """Refuse fewer rows than columns, naming the term that most of the others are unknown for."""
    rows = int(used.sum())
    if rows < columns:
        gone = {
            slot.term: int(np.isnan(block.columns).any(axis=1).sum())
            for slot, block in zip(design.layout.slots, design.blocks, strict=True)
        }
        worst = max(gone, key=lambda name: gone[name], default="")
        why = f", since '{worst}' is unknown in {gone[worst]} of them" if worst and gone[worst] else ""
        raise InputError(
            f"the terms make {count(columns, 'column')} with the constant, but only "
            f"{count(rows, axis.frequency.unit)} of {axis.n} can be used{why}",
            "Use fewer terms, fewer harmonics or lags, or more data.",
            key="terms",
        )
