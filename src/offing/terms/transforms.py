"""Transformations of series: what a column becomes before it enters a model, on drivers and on the target alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.tables import View
from offing.terms.change_transforms import Difference, Growth, LogDifference, Standardised, Window
from offing.terms.factor_transforms import DivideBy, Index, PerDay, PerWorkingDay, Times
from offing.terms.power_transforms import STEEPEST, Cap, EstimatedPower, Extreme, Log, Power
from offing.terms.transform_step import Series, Stated, Step

_NAMED: dict[str, Callable[[], Step]] = {
    "log": Log,
    "difference": Difference,
    "seasonal difference": lambda: Difference(None, "seasonal difference of"),
    "log difference": LogDifference,
    "growth": Growth,
    "standardised": Standardised,
    "per day": PerDay,
    "per working day": PerWorkingDay,
}
_WITH_VALUE = (
    "difference",
    "sum",
    "mean",
    "index",
    "times",
    "deflate",
    "per",
    "per working day",
    "power",
    "at_most",
    "at_least",
    "minimum_with",
    "maximum_with",
)


def steps_of(stated: Sequence[Stated] | Stated) -> tuple[Step, ...]:
    """Steps from how users write them.

    Raises
    ------
    InputError
        For an unknown name, with the nearest known one, or a value of the wrong kind.
    """
    if isinstance(stated, (str, Mapping)) or not isinstance(stated, (list, tuple)):
        raise InputError(f"found {stated!r}", 'Give a list, such as ["log"].', key="transform")
    return tuple(_step(each) for each in stated)


def _step(stated: Stated) -> Step:
    if isinstance(stated, str):
        if stated not in _NAMED:
            if stated in _WITH_VALUE:
                raise InputError(f"'{stated}' needs a value", f"Write {{ {stated} = … }}.", key="transform")
            raise InputError(f"found {stated!r}", nearest(stated, (*_NAMED, *_WITH_VALUE)), key="transform")
        return _NAMED[stated]()
    rest = dict(stated)
    kind = next((name for name in rest if name in _WITH_VALUE), None)
    if kind is None:
        raise InputError(f"found {rest!r}", nearest(str(next(iter(rest), "")), _WITH_VALUE), key="transform")
    value = rest.pop(kind)
    extra = {"deflate": ("base",), "per working day": ("subdivision",), "power": ("between",)}.get(kind, ())
    for key in rest:
        if key not in extra:
            raise InputError(f"found {key!r} beside {kind!r}", nearest(key, extra), key="transform")
    if kind == "power":
        return _power(value, rest.get("between"))
    if kind in ("at_most", "at_least"):
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not np.isfinite(value):
            raise InputError(f"found {value!r} for {kind!r}", "Give a number.", key="transform")
        return Cap(float(value), kind == "at_most")
    whole = ("difference", "sum", "mean")
    wanted: Any = {**dict.fromkeys(whole, int), "times": (int, float)}.get(kind, str)
    if not isinstance(value, wanted) or isinstance(value, bool) or (kind in (*whole, "times") and not value > 0):
        words = {**dict.fromkeys(whole, "a whole number from 1 on"), "times": "a number above 0"}.get(kind, "a text")
        raise InputError(f"found {value!r} for {kind!r}", f"Give {words}.", key="transform")
    makers: dict[str, Callable[[Any], Step]] = {
        "difference": lambda v: Difference(v, f"difference over {v} of"),
        "sum": lambda v: Window(v, mean=False),
        "mean": lambda v: Window(v, mean=True),
        "index": Index,
        "times": lambda v: Times(float(v)),
        "deflate": lambda v: DivideBy(v, deflate=True, base=rest.get("base")),
        "per": DivideBy,
        "per working day": lambda v: PerWorkingDay(v, rest.get("subdivision")),
        "minimum_with": lambda v: Extreme(v, largest=False),
        "maximum_with": lambda v: Extreme(v, largest=True),
    }
    return makers[kind](value)


def _power(value: object, between: object) -> Step:
    """A power that is stated, or estimated between two bounds."""
    if value == "estimated":
        bounds = [_number(each) for each in between] if isinstance(between, (list, tuple)) else []
        if len(bounds) != 2 or not 0.0 < bounds[0] < bounds[1] <= STEEPEST:
            raise InputError(
                f"found between = {between!r} for an estimated power",
                f"Give two bounds above 0 and up to {STEEPEST:g}, such as between = [0.3, 2.0].",
                key="transform",
            )
        return EstimatedPower(bounds[0], bounds[1])
    exponent = _number(value)
    if not 0.0 < abs(exponent) <= STEEPEST:
        raise InputError(
            f"found {value!r} for 'power'",
            f'Give a number other than 0 from −{STEEPEST:g} to {STEEPEST:g}, or "estimated" with between.',
            key="transform",
        )
    if between is not None:
        raise InputError("found 'between' beside a stated power", "Leave it out.", key="transform")
    return Power(exponent)


def _number(value: object) -> float:
    """A number, or NaN for anything else."""
    return float(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else float("nan")


def evaluate(series: Series, steps: Sequence[Step], view: View, axis: Axis) -> Array:
    """Values (n,) of a series after all steps, the first one first."""
    if not steps:
        return series(axis)
    *inner, step = steps
    return step.apply(lambda each: evaluate(series, inner, view, each), view, axis)


def reach(steps: Sequence[Step], frequency: Frequency) -> tuple[int, ...]:
    """All lags of the original series that a transformed value needs."""
    lags = {0}
    for step in steps:
        lags = {before + lag for before in lags for lag in step.lags(frequency)}
    return tuple(sorted(lags))
