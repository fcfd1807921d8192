"""How forecasts are combined: weights, and what becomes of their quantiles."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal, get_args

import numpy as np

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.engine import (
    TRIMMED,
    averaged_quantiles,
    inverse_squares,
    least_squares_weights,
    middle_weights,
    mixed_quantiles,
)
from offing.evaluation.fold_results import PROBABILITIES

Pooling = Literal["quantiles", "probabilities"]


#: Weights (n, m) of the members of n forecasts (n, m), given their past errors (p, m). Others can be added here.
METHODS: dict[str, Callable[[Array, Array], Array]] = {
    "mean": lambda forecasts, errors: np.full(forecasts.shape, 1.0 / forecasts.shape[1]),
    "median": lambda forecasts, errors: middle_weights(forecasts),
    "trimmed mean": lambda forecasts, errors: middle_weights(forecasts, TRIMMED),
    "past errors": lambda forecasts, errors: np.tile(inverse_squares(errors), (len(forecasts), 1)),
    "least squares": lambda forecasts, errors: np.tile(least_squares_weights(errors), (len(forecasts), 1)),
}


#: The method of a combination whose weights are stated.
STATED_WEIGHTS = "stated weights"


#: Methods that look at past errors.
LEARNT = ("past errors", "least squares")


#: With fewer past origins weights are not learnt yet, and all members count alike.
FEWEST = 4


def check_method(method: str, pooling: str) -> None:
    """Refuse words that mean nothing.

    Raises
    ------
    InputError
        Naming what is allowed.
    """
    if method not in METHODS and method != STATED_WEIGHTS:
        raise InputError(f"found {method!r}", nearest(str(method), METHODS), key="method")
    if pooling not in get_args(Pooling):
        raise InputError(f"found {pooling!r}", nearest(str(pooling), get_args(Pooling)), key="pooling")


def pooled_quantiles(quantiles: Array, weights: Array, pooling: Pooling) -> Array:
    """Quantiles (n, q) from those (m, n, q) of the members with weights (n, m)."""
    if pooling == "quantiles":
        return averaged_quantiles(quantiles, weights)
    return mixed_quantiles(quantiles, weights, PROBABILITIES)


def stated_weights(weights: Sequence[float], shape: tuple[int, ...]) -> Array:
    """Stated weights, which then add up to one, for every forecast of an array (…, m)."""
    own = np.array(weights, dtype=np.float64)
    return np.broadcast_to(own / own.sum(), shape).copy()
