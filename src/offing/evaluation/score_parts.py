"""What scores are made of: one value a forecast, from the error to the quantile loss."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np

from offing.base.arrays import Array
from offing.engine import interval_score, pinball
from offing.evaluation.fold_results import Run
from offing.model.rows import SHOWN

#: Levels of the intervals that are scored, as their probabilities.
LEVELS = (0.5, 0.8, 0.95)


def ratio(first: Array, second: Array) -> Array:
    """A quotient, NaN where the divisor is not above zero."""
    return np.where(second > 0.0, first / np.where(second > 0.0, second, 1.0), np.nan)


def _band(run: Run, level: float) -> tuple[Array, Array]:
    low, high = np.moveaxis(run.at((1 - level) / 2, (1 + level) / 2), -1, 0)
    return low, high


def _inside(run: Run, level: float) -> Array:
    low, high = _band(run, level)
    outcome = run.cuts.outcome
    return np.where(np.isfinite(low), (low <= outcome) & (outcome <= high), np.nan)


def _width(run: Run, level: float) -> Array:
    low, high = _band(run, level)
    return np.asarray(high - low)


def _winkler(run: Run, level: float) -> Array:
    low, high = _band(run, level)
    return np.asarray(interval_score(run.cuts.outcome, low, high, level))


def _quantile_loss(run: Run) -> Array:
    bands = run.at(*SHOWN).reshape(-1, len(SHOWN))
    losses = pinball(run.cuts.outcome.ravel(), bands, np.array(SHOWN))
    return np.asarray(losses.mean(axis=1).reshape(run.mean.shape))


def _of_both(run: Run) -> Array:
    return ratio(200.0 * np.abs(run.error), np.abs(run.cuts.outcome) + np.abs(run.mean))


#: What scores are made of, a value a forecast (f, h).
PARTS: dict[str, Callable[[Run], Array]] = {
    "error": lambda run: run.error,
    "size": lambda run: np.abs(run.error),
    "square": lambda run: np.square(run.error),
    "share": lambda run: ratio(100.0 * np.abs(run.error), np.abs(run.cuts.outcome)),
    "both": _of_both,
    "outcome": lambda run: np.abs(run.cuts.outcome),
    "scaled": lambda run: ratio(np.abs(run.error), run.cuts.scale[:, :1]),
    "scaled square": lambda run: ratio(np.square(run.error), run.cuts.scale[:, 1:]),
    "pinball": _quantile_loss,
    "ranked": lambda run: run.ranked,
    **{f"in {level:g}": partial(_inside, level=level) for level in LEVELS},
    **{f"wide {level:g}": partial(_width, level=level) for level in LEVELS},
    **{f"winkler {level:g}": partial(_winkler, level=level) for level in LEVELS},
}
