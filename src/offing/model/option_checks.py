"""Which terms and ways of estimating go together, and what to do instead where they do not."""

from __future__ import annotations

from typing import get_args

import numpy as np

from offing.base import InputError, nearest
from offing.calendar import Axis
from offing.engine import Covariance, Loss
from offing.model.options import ModelOptions
from offing.terms.change_transforms import Growth
from offing.terms.transform_step import Factor
from offing.terms.transforms import steps_of


def check_options(model: ModelOptions) -> None:
    """Refuse words and numbers that mean nothing."""
    if model.errors not in (None, "independent", "ar"):
        raise InputError(f"found {model.errors!r}", 'Give "independent" or "ar".', key="errors")
    if model.covariance not in get_args(Covariance):
        raise InputError(
            f"found {model.covariance!r}", f"Allowed: {', '.join(get_args(Covariance))}.", key="covariance"
        )
    _check_estimation_words(model)
    window = model.window
    if window is not None and (isinstance(window, bool) or not isinstance(window, (int, np.integer)) or window < 3):
        raise InputError(f"found {window!r}", "Give a number of periods, from 3 on.", key="window")
    if not np.isfinite(model.offset) or (model.offset != 0.0 and model.scale != "log"):
        raise InputError(f"found {model.offset!r}", 'An offset belongs to scale = "log".', key="offset")
    for key in ("lower_limit", "upper_limit"):
        limit = getattr(model, key)
        if limit is not None and (isinstance(limit, bool) or not np.isfinite(limit)):
            raise InputError(f"found {limit!r}", "Give a number.", key=key)
    low, high = model.lower_limit, model.upper_limit
    if low is not None and high is not None and not low < high:
        raise InputError(f"the lower limit {low:g} is not below the upper limit {high:g}", key="upper_limit")


def check_together(model: ModelOptions) -> None:
    """Refuse terms and transformations that do not go together, and say what to do instead."""
    growing = next((term for term in model.terms if term.multiplies_trend), None)
    if growing is not None and model.scale == "log":
        raise InputError(
            f"on the log scale '{growing.name}' grows with the trend by itself",
            "Leave out grows_with.",
            key="scale",
        )
    shaped = next((term for term in model.drivers if term.shaped), None)
    if growing is not None and shaped is not None:
        raise InputError(
            f"'{growing.name}' is a share of the level, in which '{shaped.name}' has a part by its mean, and that "
            "depends on its shape",
            f"State the shape of '{shaped.name}' as a number.",
            key="terms",
        )
    changed = [step for step in steps_of(model.transform) if not isinstance(step, Factor)]
    holding = [term for term in model.terms if term.holds_level]
    if len(holding) > 1:
        raise InputError("two trends hold the target's level", "Keep one saturating trend.", key="terms")
    if holding and changed:
        raise InputError(
            f"'{holding[0].name}' is the target's level, of which its changes have none",
            "Leave out transform, or the limits.",
            key="transform",
        )
    if model.dynamics and any(isinstance(step, Growth) for step in changed):
        raise InputError(
            "growth on the year before repeats each period's noise a year later, which errors by period are not",
            'Use scale = "log" with the transform "difference", or errors = "independent".',
            key="errors",
        )


def check_estimation(model: ModelOptions) -> None:
    """Refuse what does not go together.

    Raises
    ------
    InputError
        Saying what to do instead.
    """
    related = model.dynamics is not None
    if not related and (model.order != 1 or model.seasonal_lag is not None):
        key = "order" if model.order != 1 else "seasonal_lag"
        raise InputError("noise is taken as independent, which carries nothing on", 'State errors = "ar".', key=key)
    if related and model.loss != "squares":
        raise InputError(
            "a value that stands out also leaves its mark on the periods after it, so that a robust loss and errors = "
            '"ar" cannot be separated',
            'Mark such values with a treatment, outliers = "pulse", or use errors = "independent".',
            key="loss",
        )
    if related and model.half_life is not None:
        raise InputError(
            'errors = "ar" is exact for noise of one size, which weights by age deny',
            'Use fewer years of data, or errors = "independent".',
            key="half_life",
        )
    if model.covariance != "classical" and model.loss != "squares":
        raise InputError("a robust loss has a covariance of its own", "Leave out covariance.", key="covariance")
    if model.covariance != "classical" and related:
        raise InputError(
            f"noise that carries on is estimated, which {model.covariance} would count a second time",
            'Use covariance = "classical", or errors = "independent".',
            key="covariance",
        )
    _check_own_lags(model)
    shaped = [term.data for term in model.drivers if term.shaped]
    twice = next((data for data in shaped if shaped.count(data) > 1), None)
    if twice is not None:
        raise InputError(
            f"two terms estimate shapes of '{twice}', which the data cannot separate",
            "Put them into one term: above and below for two bases, or carry_over and saturation after a base.",
            key="terms",
        )


def clusters_of(model: ModelOptions, used: np.ndarray, axis: Axis) -> np.ndarray | None:
    """The cluster (n,) of every used row, where the covariance asks for them.

    Raises
    ------
    InputError
        If there are fewer clusters than two.
    """
    if model.covariance != "clustered":
        return None
    index = axis.index[used]
    unit = {"year": "Y", "quarter": "Q", "month": "M", "week": "W"}[str(model.clusters)]
    found = np.asarray(
        index.tz_localize(None).to_period(unit).asi8 if index.tz is not None else index.to_period(unit).asi8
    )
    if len(np.unique(found)) < 2:
        raise InputError(f"all periods lie in one {model.clusters}", "Use a shorter cluster.", key="clusters")
    return found


def _check_estimation_words(model: ModelOptions) -> None:
    if model.loss not in get_args(Loss):
        raise InputError(f"found {model.loss!r}", f"Allowed: {', '.join(get_args(Loss))}.", key="loss")
    whole = isinstance(model.order, (int, np.integer)) and not isinstance(model.order, bool)
    if model.order != "chosen" and not (whole and 0 <= int(model.order) <= 60):
        raise InputError(f"found {model.order!r}", 'Give a whole number from 0 to 60, or "chosen".', key="order")
    lag = model.seasonal_lag
    if lag is not None and (isinstance(lag, bool) or not isinstance(lag, (int, np.integer)) or not 2 <= lag <= 1000):
        raise InputError(f"found {lag!r}", "Give a whole number of periods from 2 to 1000.", key="seasonal_lag")
    if lag is not None and model.order != "chosen" and lag <= int(model.order):
        raise InputError(
            f"the order {model.order} already reaches {lag} periods back", "Leave out one of them.", key="seasonal_lag"
        )
    names = [str(term.name) for term in model.terms]
    for name in model.chosen:
        if name not in names:
            raise InputError(f"there is no term {name!r}", nearest(name, names), key="chosen")
    if (model.covariance == "clustered") != (model.clusters is not None):
        raise InputError('clusters belong to covariance = "clustered", which needs them', "Give both.", key="clusters")
    if model.clusters not in (None, "year", "quarter", "month", "week"):
        raise InputError(f"found {model.clusters!r}", "Allowed: year, quarter, month, week.", key="clusters")
    half = model.half_life
    if half is not None and (isinstance(half, bool) or not isinstance(half, (int, float)) or not 1.0 <= half < np.inf):
        raise InputError(f"found {half!r}", "Give a number of periods from 1 on.", key="half_life")
    wider = model.widen_intervals
    if isinstance(wider, bool) or not isinstance(wider, (int, float)) or not 1.0 <= wider < np.inf:
        raise InputError(f"found {wider!r}", "Give a factor from 1 on, such as 1.1.", key="widen_intervals")


def _check_own_lags(model: ModelOptions) -> None:
    own = [term for term in model.terms if term.recursive]
    if not own:
        return
    if len(own) > 1:
        raise InputError("two terms are the target's own lags", "Put their lags into one.", key="terms")
    if any(term.multiplies_trend or term.holds_level for term in model.terms):
        raise InputError(
            f"'{own[0].name}' carries the level on, of which another term is a share or which it states",
            "Leave out one of them.",
            key="terms",
        )
    if model.dynamics is None:
        return
    reach = 6 if model.order == "chosen" else int(model.order)
    lags = [place + 1 for place in own[0].phi_places]
    inside = [lag for lag in lags if lag <= reach or lag == model.seasonal_lag]
    if inside:
        raise InputError(
            f"lag {inside[0]} of the target lies within what the noise carries on, and the two cannot be separated",
            'Use errors = "independent", or longer own lags.',
            key="errors",
        )
