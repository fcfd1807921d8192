"""How much wider than the model's own the intervals of a chosen model must be: what past forecasts say of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.special import ndtri

from offing.base.arrays import Array
from offing.drafting.past import Past
from offing.drafting.scored import Scored
from offing.evaluation.fold_results import PROBABILITIES, Run
from offing.model import Model
from offing.model.forecast import widened

#: From fewer origins nothing can be left out.
_FEWEST = 3
#: Past errors count as m / (m + 8) of what they say, with m twice their origins: those of one origin are much alike.
#: Of 0, 8 and 20 the middle one held 95.7 % of the outcomes in 260 simulated series, where unwidened intervals held 94.
_TRUST = 8.0
#: The mean absolute value of standard normal noise, and what nine tenths of it stay below.
_NORMAL, _NINETIETH = float(np.sqrt(2.0 / np.pi)), float(ndtri(0.9))


def errors_of_choosing(past: Past, candidates: Sequence[Scored]) -> Array | None:
    """Errors (F, h) at each origin of the candidate that is best at all other origins; None with few origins.

    The errors of the chosen candidate are small partly because it was chosen for them. An origin that had no say in
    the choice shows what choosing costs (Stone 1974).
    """
    origins = len(past.ends)
    if origins < _FEWEST or not candidates:
        return None
    errors = np.array([each.errors for each in candidates])
    best = np.argmin(errors.sum(axis=1, keepdims=True) - errors, axis=0)
    found = np.array([candidates[place].forecast[fold] for fold, place in enumerate(best.tolist())])
    return np.asarray(found - past.outcome)


def widening(errors: Array | None, run: Run) -> float:
    """The factor, from 1 on, that intervals of a model need so that these errors (F, h) are as large as it states.

    The mean absolute error in units of the standard errors that the run states, over that of normal noise; shrunk
    towards 1, as origins are few, and never below.
    """
    if errors is None:
        return 1.0
    low, high = np.moveaxis(run.at(0.1, 0.9), 2, 0)
    stated = (high - low) / (2.0 * _NINETIETH)
    with np.errstate(invalid="ignore", divide="ignore"):
        size = np.abs(errors) / stated
    size = size[np.isfinite(size)]
    if not len(size):
        return 1.0
    weight = 2.0 * len(errors) / (2.0 * len(errors) + _TRUST)
    return round(float(max(size.mean() / _NORMAL, 1.0) ** weight), 2)


def widened_run(past: Past, run: Run, model: Model) -> Run:
    """The run of a model with wider intervals, from that of the same model with its own ones."""

    def quantiles() -> Array:
        own, log = np.asarray(run.quantiles), model.scale == "log"
        factor = past.factor(model.transform)[past.rows][:, :, None]
        worked = np.log(own * factor + model.offset) if log else own
        middle = worked[..., [int(np.argmin(np.abs(PROBABILITIES - 0.5)))]]
        found = widened(worked, middle, model.widen_intervals)
        return np.clip((np.exp(found) - model.offset) / factor if log else found, *model.support or (None, None))

    return run if model.widen_intervals == 1.0 else replace(run, made=quantiles)
