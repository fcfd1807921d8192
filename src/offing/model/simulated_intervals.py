"""How far a term's contribution may be off where no formula shows: at a bound, or with a shape that is badly known."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import SEED, quantile
from offing.model.design import Design
from offing.model.fit_state import FitState
from offing.model.term_effects import measured
from offing.tables import View
from offing.terms import Shaped

#: Draws of the coefficients: the ends of a 95 % interval then err by 2 % of its width.
_DRAWS = 1000
#: Rows at a time: with 1,000 draws 16 MB.
_ROWS = 2000
_TAILS = (0.025, 0.975)
#: A shape whose 95 % interval spans more than this share of what is allowed is badly known.
_BADLY = 0.25


def needs_draws(fit: FitState, place: int) -> bool:
    """Whether the `place`-th term has a coefficient at a bound, or a shape that is badly known."""
    slot = fit.layout.slots[place]
    if fit.estimate.active[slot.places].any():
        return True
    if not isinstance(fit.rows.blocks[place].curve, Shaped):
        return False
    lower, upper = fit.rows.bounds
    shapes = slot.places[len(slot.places) - slot.curved :]
    errors = fit.estimate.standard_errors(np.eye(fit.layout.k)[shapes])
    wide = 2.0 * float(quantile(0.975, fit.estimate.dof)) * errors > _BADLY * (upper - lower)[shapes]
    return bool((wide | ~fit.estimate.kept[shapes]).any())


def drawn_band(
    fit: FitState,
    view: View,
    axis: Axis,
    design: Design,
    place: int,
    *,
    gradient: Array,
    propagated: Callable[[Array], Array],
) -> tuple[Array, Array]:
    """How far (n,) below and above its contribution 95 % of 1,000 seeded draws of the coefficients lie.

    Coefficients are drawn as if they had no bounds, and cut at these. `gradient` (n, k) is the contribution's
    derivative, `propagated` what becomes of a value in later periods.
    """
    draws = drawn_coefficients(fit)
    if isinstance(fit.rows.blocks[place].curve, Shaped) and not fit.own:
        usual = propagated(measured(fit, view, axis, design, place)[0])
        moved = np.array(
            [propagated(measured(_at(fit, beta), view, axis, design, place)[0]) - usual for beta in draws.T]
        )
        low, high = np.quantile(moved, _TAILS, axis=0)
        return -low, high
    away = draws - fit.estimate.beta[:, None]
    parts = [np.quantile(gradient[i : i + _ROWS] @ away, _TAILS, axis=1) for i in range(0, len(gradient), _ROWS)]
    low, high = np.concatenate(parts, axis=1)
    return -low, high


def _at(fit: FitState, beta: Array) -> FitState:
    return replace(fit, estimate=replace(fit.estimate, beta=beta))


@lru_cache(maxsize=1)
def _generated(k: int) -> Array:
    return np.random.default_rng(SEED).standard_normal((k, _DRAWS))


def drawn_coefficients(fit: FitState) -> Array:
    """Coefficients (k, 1000)."""
    estimate = fit.estimate
    cov_root = estimate.cov_root(np.eye(fit.layout.k))
    lower, upper = fit.rows.bounds
    drawn = estimate.unconstrained[:, None] + cov_root.T @ _generated(len(cov_root))
    shapes = estimate.shapes
    drawn[shapes] += (estimate.beta - estimate.unconstrained)[shapes, None]
    return np.asarray(np.clip(drawn, lower[:, None], upper[:, None]))
