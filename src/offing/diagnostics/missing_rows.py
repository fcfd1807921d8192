"""Checks of which rows a fit could use."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, count


def missing_drivers(
    design: NDArray[np.float64],
    terms: Sequence[str],
    target_known: NDArray[np.bool_],
    label: Callable[[int], str],
    unit: str,
) -> tuple[Finding, ...]:
    """One finding a term whose unknown values take rows from the fit.

    `design` (n, k) has NaN where a value is unknown, `terms` (k,) says whose column it is, `label` names a row.
    """
    # Few rows have an unknown value, as a rule those at the start: only these are looked at term by term.
    touched = np.flatnonzero(np.isnan(design.sum(axis=1)) & target_known)
    if not len(touched):
        return ()
    unknown = np.isnan(design[touched])
    findings = []
    for term in dict.fromkeys(terms[column] for column in np.flatnonzero(unknown.any(axis=0)).tolist()):
        rows = touched[unknown[:, [own == term for own in terms]].any(axis=1)]
        # A lag has no value in the first rows; a hole further on is a matter of the data.
        at_start = bool((rows == np.arange(len(rows))).all())
        findings.append(
            Finding(
                "unknown drivers",
                "note" if at_start else "warning",
                f"{count(len(rows), f'{unit} is', f'{unit}s are')} left out of the fit because "
                f"'{term}' is not known there ({label(int(rows[0]))}{', …' if len(rows) > 1 else ''}).",
                term,
                "" if at_start else "Fill in the empty cells if the values can be had.",
                {"rows": float(len(rows))},
            )
        )
    return tuple(findings)
