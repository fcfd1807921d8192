"""What is asked of a driver's coefficients beforehand: signs, bounds, an expected value, a group to shrink with."""

from __future__ import annotations

from typing import Any

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.terms.driver_options import StatedDriver
from offing.terms.term import STATED, Constraints


def check_constraints(driver: StatedDriver) -> None:
    """Refuse what has no meaning.

    Raises
    ------
    InputError
        Saying what to do instead.
    """
    if driver.sign not in (None, "positive", "negative"):
        raise InputError(f"found {driver.sign!r}", 'Give "positive" or "negative".', key="sign")
    if driver.sign is not None and (driver.at_least is not None or driver.at_most is not None):
        raise InputError("a sign is a bound at 0", "Give sign, or at_least and at_most.", key="sign")
    for key in ("at_least", "at_most", "expected", "give_or_take"):
        value = getattr(driver, key)
        if value is not None and (isinstance(value, bool) or not np.isfinite(value)):
            raise InputError(f"found {value!r}", "Give a number.", key=key)
    if driver.at_least is not None and driver.at_most is not None and not driver.at_least < driver.at_most:
        raise InputError(f"{driver.at_least:g} is not below {driver.at_most:g}", key="at_most")
    _check_together(driver)
    if (driver.expected is None) != (driver.give_or_take is None):
        raise InputError(
            "a value that is expected needs how sure it is", "Give both expected and give_or_take.", key="expected"
        )
    if driver.give_or_take is not None and driver.give_or_take <= 0.0:
        raise InputError(f"found {driver.give_or_take!r}", "Give a standard deviation above 0.", key="give_or_take")
    if driver.shrink_with == STATED:
        raise InputError(f"{STATED!r} is the group of what is expected", "Choose another name.", key="shrink_with")


def _check_together(driver: StatedDriver) -> None:
    several = len(driver.lags) * len(driver.chains) > 1
    if driver.expected is not None and (driver.shrink_with is not None or driver.shaped or several):
        what = (
            "its group's strength"
            if driver.shrink_with is not None
            else "an estimated shape"
            if driver.shaped
            else "several lags or bases"
        )
        raise InputError(
            f"a value is expected of one coefficient, which {what} denies", "Leave out one of them.", key="expected"
        )
    if driver.shrink_with is not None and (not driver.shrink_with.strip() or driver.shaped):
        raise InputError(
            f"found {driver.shrink_with!r}" if not driver.shaped else "its shape is estimated",
            "Name a group of drivers whose shapes are stated.",
            key="shrink_with",
        )
    key = next(
        (key for key in ("sign", "at_least", "at_most", "expected", "shrink_with") if getattr(driver, key) is not None),
        None,
    )
    many = driver.weights in ("free", "step", "polynomial", "smooth")
    if key and (driver.curve is not None or driver.lag_degree is not None or many):
        what = (
            "a curve" if driver.curve is not None else f"{driver.weights} weights" if many else "lags on a polynomial"
        )
        raise InputError(
            f"{what} has no coefficient of its own of which this could be asked",
            'Use curve = "rising" or "falling" for a direction.',
            key=key,
        )


def constraints_of(driver: StatedDriver, names: tuple[str, ...], scales: tuple[float, ...]) -> dict[str, Any]:
    """Groups and constraints of the columns, as a Block takes them; what was carried in before the data is free."""
    k = len(names)
    m = k - names[-1].endswith(", before the data")
    low = 0.0 if driver.sign == "positive" else -np.inf if driver.at_least is None else float(driver.at_least)
    high = 0.0 if driver.sign == "negative" else np.inf if driver.at_most is None else float(driver.at_most)
    group = driver.shrink_with or (STATED if driver.expected is not None else "")
    if not group and np.isinf([low, high]).all():
        return {}

    def all_of(values: tuple[float, ...], rest: float) -> tuple[float, ...]:
        return (*values, *(rest,) * (k - m))

    spread = scales if driver.shrink_with else (float(driver.give_or_take or 1.0),) * m
    constraints = Constraints(
        all_of((low,) * m, -np.inf),
        all_of((high,) * m, np.inf),
        all_of((float(driver.expected or 0.0),) * m, 0.0),
        all_of(spread, 1.0),
    )
    return {"groups": (*(group,) * m, *("",) * (k - m)), "constraints": constraints}


def usual_change(column: Array) -> float:
    """One over the standard deviation of the known values; 1 where nothing varies."""
    known = column[np.isfinite(column)]
    spread = float(known.std()) if len(known) else 0.0
    return 1.0 / spread if spread > 1e-12 * float(np.abs(known).max(initial=0.0)) else 1.0
