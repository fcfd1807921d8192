"""The target as some terms alone would have it, all others held at what their contributions are measured from."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.model.design import Design
from offing.model.fitted import Fitted
from offing.model.term_effects import measured
from offing.tables import View
from offing.terms import Term


@dataclass(frozen=True)
class Profile:
    """η (n,) on the working scale, its derivative (n, k) by the coefficients, and columns that only the future has."""

    axis: Axis
    levels: Array
    gradient: Array
    future_columns: tuple[Array, ...]

    def cov_root(self, fit: Fitted) -> Array:
        """H (m, n) with H'H the covariance of η."""
        return np.vstack([fit.estimate.cov_root(self.gradient), *(each.T for each in self.future_columns)])


def profile(fit: Fitted, view: View, axis: Axis, free: Callable[[Term], bool], design: Design | None = None) -> Profile:
    """The profile of the terms that are `free` over the periods of `axis`.

    Raises
    ------
    InputError
        If the model is one of changes, whose levels depend on the values before.
    """
    if not fit.scale.plain:
        raise InputError(
            f"the model is one of {fit.scale.name(fit.column)}, in which no period stands by itself",
            "Fit the target itself.",
            key="transform",
        )
    if fit.own:
        raise InputError(
            "the target's own lags carry every term on, so that no period stands by itself",
            'Use errors = "ar" instead of own lags.',
            key="terms",
        )
    design = fit.columns(view, axis) if design is None else design
    levels, gradient = np.zeros(axis.n), np.zeros((axis.n, fit.layout.k))
    if fit.layout.constant:
        levels, gradient[:, 0] = levels + fit.estimate.beta[0], 1.0
    future_columns: list[Array] = []
    for place, term in enumerate(fit.model.terms):
        value, function, reference, at_reference = measured(fit, view, axis, design, place)
        levels, gradient = levels + reference, gradient + at_reference
        if free(term):
            levels, gradient = levels + value, gradient + function
            future_columns += fit.unknown_ahead(view, axis, design, place)
    return Profile(axis, levels, gradient, tuple(future_columns))
