"""Which forms of a driver go together."""

from __future__ import annotations

import math
from typing import get_args

import numpy as np

from offing.base import InputError
from offing.terms.driver_options import StatedDriver
from offing.terms.power_transforms import EstimatedPower
from offing.terms.response_forms import bases_of
from offing.terms.splines import Bend
from offing.terms.transforms import steps_of


def check_forms(driver: StatedDriver) -> None:
    """Refuse forms that mean nothing or do not go together.

    Raises
    ------
    InputError
        Saying what to do instead.
    """
    for key in ("above", "below"):
        bases_of(getattr(driver, key), key)
    if driver.curve not in (None, *get_args(Bend)):
        raise InputError(f"found {driver.curve!r}", f"Allowed: {', '.join(get_args(Bend))}.", key="curve")
    acts_on = driver.carry_over is not None or driver.saturation is not None
    if len(driver.hinges) > 1 and acts_on:
        raise InputError(
            "several bases, and what each makes is carried over or saturates",
            "Give a driver for each base, each with a name.",
            key="above",
        )
    if driver.curve is not None and (driver.hinges or acts_on or driver.lags != (0,)):
        raise InputError(
            "a curve has any shape by itself", "Leave out bases, carry_over, saturation and lags.", key="curve"
        )
    powers = [i for i, step in enumerate(steps_of(driver.transform)) if isinstance(step, EstimatedPower)]
    if powers and (
        powers != [len(driver.transform) - 1]
        or driver.hinges
        or driver.curve is not None
        or driver.weights is not None
        or any(step.is_change for step in driver.steps)
    ):
        raise InputError(
            "an estimated power comes last, and not beside a base, a curve, weights or changes",
            "State the power as a number, or leave out the others.",
            key="transform",
        )
    if driver.carry_over is not None and driver.lags != (0,):
        raise InputError("a carry-over acts in later periods by itself", "Leave out lags.", key="lags")
    if driver.shaped and driver.lags != (0,):
        raise InputError(
            "an estimated shape and lags do not go together", "Use carry_over, or state the number.", key="lags"
        )
    degree = driver.lag_degree
    if degree is None:
        return
    if isinstance(degree, bool) or not isinstance(degree, (int, np.integer)) or not 0 <= degree < len(driver.lags):
        raise InputError(
            f"found {degree!r}",
            f"Give a whole number from 0 to {len(driver.lags) - 1}, one less than there are lags.",
            key="lag_degree",
        )
    if driver.lags != tuple(range(driver.lags[0], driver.lags[0] + len(driver.lags))) or len(driver.hinges) > 1:
        raise InputError(
            "a curve over the lags needs them in a row, and one column each",
            "Give lags such as [0, 1, 2, 3, 4].",
            key="lag_degree",
        )


def check_reference(driver: StatedDriver) -> None:
    """Refuse a reference that is neither a word that is known nor a number."""
    stated = driver.reference
    if stated is None or stated in ("mean", "zero"):
        return
    if isinstance(stated, bool) or not isinstance(stated, (int, float)) or not math.isfinite(stated):
        raise InputError(f"found {stated!r}", 'Give "mean", "zero" or a number.', key="reference")
