"""Checks of what a plan says beside what is known and used."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, count

#: Values that differ by a smaller share are the same but for rounding.
_SAME = 1e-6


def contradicted(
    plan: str, column: str, values: tuple[NDArray[np.float64], NDArray[np.float64]], labels: Sequence[str], unit: str
) -> tuple[Finding, ...]:
    """A warning if planned values (n,) differ from known ones (n,) of the same periods; NaN where there is none."""
    planned, known = values
    with np.errstate(invalid="ignore"):
        differ = np.flatnonzero(np.abs(planned - known) > _SAME * np.maximum(np.abs(planned), np.abs(known)))
    if not len(differ):
        return ()
    at = int(differ[0])
    return (
        Finding(
            "plan and known values differ",
            "warning",
            f"In {count(len(differ), unit)} {plan} has another '{column}' than is known: {planned[at]:g} in "
            f"{labels[at]}, where {known[at]:g} is known. What is known counts.",
            advice="Check whether the plan is of these periods and in the same unit.",
            evidence={"periods": float(len(differ))},
        ),
    )


def holds_target(plan: str, column: str) -> tuple[Finding, ...]:
    """A warning of a plan that says what the target will be."""
    message = f"{plan} has a column '{column}', the target: no forecast uses what a plan says of it."
    advice = "Leave it out of the plan; to bring the forecast to a total, see [[totals]]."
    return (Finding("target in the plan", "warning", message, advice=advice),)


def unused(plan: str, columns: Sequence[str]) -> tuple[Finding, ...]:
    """A note of columns that no term looks at."""
    if not columns:
        return ()
    named = ", ".join(f"'{each}'" for each in columns[:6]) + (" …" if len(columns) > 6 else "")
    message = f"Not used of {plan}: {named}, which no term of the model looks at."
    return (Finding("unused plan", "note", message, evidence={"columns": float(len(columns))}),)
