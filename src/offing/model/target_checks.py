"""Whether the target's values can be fitted at all."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, count
from offing.calendar import Axis
from offing.tables import Table
from offing.tables.table import Array

if TYPE_CHECKING:
    from offing.model.model import Model


def check_target(model: Model, target: Array, table: Table, column: str, axis: Axis) -> None:
    """Refuse a target without values, that never varies, beyond its limits, or of which there is no logarithm."""
    known = target[np.isfinite(target)]
    if not len(known):
        raise InputError("no value of the target is left by its treatment", file=table.name, column=column)
    if np.ptp(known) == 0.0:
        raise InputError(
            f"the target is {known[0]:g} throughout, so there is nothing to explain",
            file=table.name,
            column=column,
        )
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


def _check_limits(model: Model, target: Array, table: Table, column: str, axis: Axis) -> None:
    for word, limit, beyond in (
        ("lower", model.lower_limit, np.less), ("upper", model.upper_limit, np.greater),
    ):  # fmt: skip
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


def check_rows(used: NDArray[np.bool_], columns: int, axis: Axis) -> None:
    """Refuse fewer rows than columns."""
    rows = int(used.sum())
    if rows < columns:
        raise InputError(
            f"the terms make {count(columns, 'column')} with the constant, but only "
            f"{count(rows, axis.frequency.unit)} of {axis.n} can be used",
            "Use fewer terms, fewer harmonics or lags, or more data.",
            key="terms",
        )
