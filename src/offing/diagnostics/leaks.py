"""Checks of drivers that say what the target is, or nothing about it."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_factor, cho_solve, solve_triangular

from offing.base import Finding, Verdict
from offing.engine import Estimate

#: Drivers that leave less than this share of what the other terms leave say what the target is: a partial correlation
#: beyond 0.9995.
_IDENTITY = 1e-3
#: What they leave below this share is rounding.
_ROUNDING = 1e-16
#: With fewer rows than this beyond the coefficients any fit is near to exact.
_FEWEST = 5
#: Drivers below this share of the largest effect are no part of an identity.
_LITTLE = 1e-6
#: Elasticities lie within a few units of zero; an interval wider than this holds none that could be used.
_WIDE = 20.0


def identities(
    estimate: Estimate, owners: Sequence[str], drivers: Collection[str], spread: NDArray[np.float64]
) -> tuple[Verdict, ...]:
    """A serious finding of drivers that give the target exactly, or all but.

    Such are copies of the target, linear functions of it, and its parts where they add up to it: an accounting
    identity. `spread` (k,) is the standard deviation of each column. What leaving the drivers out would add to the
    squared residuals is β' C⁻¹ β, with C their part of (X'X)⁻¹ (Seber & Lee 2003, 4.3).
    """
    kept = np.flatnonzero(estimate.kept & ~estimate.shapes)
    places = np.flatnonzero(~estimate.shapes[estimate.kept])
    own = [i for i, column in enumerate(kept.tolist()) if owners[column] in drivers]
    if not own or estimate.rows - estimate.effective_dof < _FEWEST:
        return ()
    inverse = solve_triangular(estimate.root, np.eye(len(estimate.root)), check_finite=False)[places[own]]
    beta = estimate.beta[kept[own]]
    # Columns of very different units make C badly scaled, not singular.
    size = np.sqrt(np.square(inverse).sum(axis=1))
    scaled = inverse / size[:, None]
    gain = float(beta / size @ cho_solve(cho_factor(scaled @ scaled.T + 1e-14 * np.eye(len(own))), beta / size))
    share = estimate.rss / (estimate.rss + gain) if gain > 0.0 else 1.0
    found: tuple[Finding, ...] = ()
    if share < _IDENTITY:
        effects: dict[str, float] = {}
        for column in kept[own].tolist():
            moved = abs(float(estimate.beta[column])) * float(spread[column])
            effects[owners[column]] = max(effects.get(owners[column], 0.0), moved)
        named = [
            name
            for name in sorted(effects, key=lambda each: -effects[each])
            if effects[name] > _LITTLE * max(effects.values())
        ]
        found = (_identity(named, share),)
    return (
        Verdict("identity", "share that the drivers leave of the residual variance", share, _IDENTITY, findings=found),
    )


def _identity(named: Sequence[str], share: float) -> Finding:
    who = " and ".join(f"'{name}'" for name in named[:3]) + (f" and {len(named) - 3} more" if len(named) > 3 else "")
    gives = "gives" if len(named) == 1 else "give"
    how = "exactly (R² = 1)" if share < _ROUNDING else f"all but exactly ({100.0 * share:.2g} % is left unexplained)"
    part = "it is" if len(named) == 1 else "they are"
    return Finding(
        "identity",
        "serious",
        f"{who} {gives} the target {how}: {part} a copy of the target, or its parts. A forecast then repeats what is "
        "planned, and its intervals are meaningless.",
        named[0],
        f"Leave {'it' if len(named) == 1 else 'them'} out, unless the values are known before the target's.",
        {"unexplained_share": share, "drivers": ", ".join(named)},
    )


def exact(drivers: Sequence[str]) -> tuple[Finding, ...]:
    """A warning of a fit that leaves nothing, though no driver is to blame."""
    message = "The model fits every period exactly, so that nothing is known of the noise: the intervals have no width."
    return (
        Finding(
            "exact fit",
            "warning",
            message,
            advice="Check whether the target was computed by a formula.",
            evidence={"drivers": float(len(drivers))},
        ),
    )


def uninformative(driver: str, values: tuple[float, float], elasticity: tuple[float, float, float]) -> list[Finding]:
    """A serious finding of a driver that varies too little for its elasticity to mean anything.

    `values` are its lowest and highest, `elasticity` the estimate and its 95 % interval.
    """
    estimate, low, high = elasticity
    if not high - low > _WIDE:
        return []
    return [
        Finding(
            "uninformative driver",
            "serious",
            f"'{driver}' varies too little ({values[0]:g} to {values[1]:g}) to say what it does: its elasticity is "
            f"{estimate:.3g} (95 %: {low:.3g} to {high:.3g}).",
            driver,
            "Leave it out, or state an expected effect with give_or_take; a forecast for other values of it is "
            "worthless.",
            {"elasticity": estimate, "low": low, "high": high},
        )
    ]
