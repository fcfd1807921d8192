"""Checks of the design."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np

from offing.base import Finding
from offing.engine import Estimate


def left_out(
    estimate: Estimate,
    names: Sequence[str],
    terms: Sequence[str],
    drivers: Collection[str] = (),
    *,
    constant: bool = True,
) -> tuple[Finding, ...]:
    """One finding a term whose columns (some of `names` (k,), owned by `terms` (k,)) were left out as dependent.

    The first column is left out by itself where there is no `constant`.
    """
    dropped = [column for column in np.flatnonzero(~estimate.kept).tolist() if column or constant]
    findings = []
    for term in dict.fromkeys(terms[column] for column in dropped):
        mine = [column for column in dropped if terms[column] == term]
        if term in drivers and all(is_constant(estimate, column) for column in mine):
            findings.append(
                Finding(
                    "constant driver",
                    "warning",
                    f"'{term}' is the same in all fitted periods: its effect cannot be estimated, and it is left out.",
                    term,
                    "Fit periods in which it varies, or remove it. A forecast counts no change of it.",
                    {"columns": float(len(mine))},
                )
            )
            continue
        made_of = " and ".join(_makers(estimate, mine[0], names))
        listed = ", ".join(f"'{names[column]}'" for column in mine[:3]) + (", …" if len(mine) > 3 else "")
        also = "its effect is part of theirs" if len(mine) == 1 else "their effects are part of those of other columns"
        findings.append(
            Finding(
                "dependent columns",
                "warning",
                f"Left out {listed}: in the fitted periods '{names[mine[0]]}' is a combination of {made_of}, "
                f"so {also}.",
                term,
                "Remove one side if it is the wrong one.",
                {"columns": float(len(mine))},
            )
        )
    return tuple(findings)


def is_constant(estimate: Estimate, column: int) -> bool:
    """Whether a left-out column is a multiple of the constant, the first column."""
    weights = np.abs(estimate.dependence(column)) * np.linalg.norm(estimate.whole[:, :-1], axis=0)
    return bool(weights[1:].max(initial=0.0) <= 1e-9 * np.linalg.norm(estimate.whole[:, column]))


def _makers(estimate: Estimate, column: int, names: Sequence[str]) -> list[str]:
    """Names of the columns that make up a left-out one, the weightiest first."""
    weights = np.abs(estimate.dependence(column))
    # A weight counts by what its column adds to the length of the dependent one.
    size = weights * np.linalg.norm(estimate.whole[:, :-1], axis=0)
    order = [int(i) for i in np.argsort(-size, kind="stable") if size[i] > 1e-6 * size.max()]
    if size.max() == 0.0:
        return ["nothing: it is zero throughout"]
    shown = [f"'{names[i]}'" for i in order[:3]]
    return [*shown, f"{len(order) - 3} more"] if len(order) > 3 else shown
