"""The target's working scale: transformations before the fit, and the way back from there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency
from offing.engine import accumulated, difference_weights
from offing.tables import View
from offing.terms.change_transforms import Difference, Growth, LogDifference, Standardised, Window
from offing.terms.power_transforms import Cap, EstimatedPower, Extreme, Log, Power
from offing.terms.transform_step import Factor, Stated, Step, positive
from offing.terms.transforms import evaluate, steps_of


@dataclass(frozen=True)
class Scale:
    """How a target y becomes what is fitted.

    u = f·y with known factors f; v = ln(u + offset) on a log scale, else u; z = gain·Δv with Δ the differences over
    `lags`, or z = 100 (u / u of the year before − 1) for growth. The way back runs through the values before each
    period.
    """

    factors: tuple[Factor, ...]
    log: bool
    changes: tuple[Step, ...]
    frequency: Frequency
    offset: float = 0.0

    @classmethod
    def of(cls, transform: Sequence[Stated], log: bool, frequency: Frequency, offset: float = 0.0) -> Scale:
        """The scale that a model's `scale` and `transform` mean.

        Raises
        ------
        InputError
            For transformations that a target cannot have, or not in this order.
        """
        check_target_steps(steps_of(transform), log=log)
        steps = steps_of(transform)
        changes = tuple(step for step in steps if not isinstance(step, Factor))
        logged = log or any(isinstance(step, LogDifference) for step in changes)
        return cls(tuple(step for step in steps if isinstance(step, Factor)), logged, changes, frequency, offset)

    @property
    def growth(self) -> bool:
        """Whether the fit is of growth in percent."""
        return any(isinstance(step, Growth) for step in self.changes)

    @property
    def gain(self) -> float:
        """What one unit of v is in z."""
        return 100.0 if self.growth or any(isinstance(step, LogDifference) for step in self.changes) else 1.0

    @cached_property
    def lags(self) -> tuple[int, ...]:
        """Lags of the differences; their sum is how many values before a period its way back needs."""
        return tuple(step.lags(self.frequency)[1] for step in self.changes)

    @property
    def before(self) -> int:
        """How many values before a period its way back needs."""
        return sum(self.lags)

    @property
    def plain(self) -> bool:
        """Whether each period stands by itself."""
        return not self.changes

    def name(self, target: str) -> str:
        """What is fitted, in words."""
        inner = "".join(f"{step.name} " for step in reversed(self.factors)) + target
        if self.log and not any(isinstance(step, LogDifference) for step in self.changes):
            inner = f"ln({inner} + {self.offset:g})" if self.offset else f"ln({inner})"
        return "".join(f"{step.name} " for step in reversed(self.changes)) + inner

    def factor(self, view: View, target: str, axis: Axis) -> Array:
        """The known factor f (n,) of each period."""

        def series(each: Axis) -> Array:
            return view.known(target, each).values

        product = np.ones(axis.n)
        for i, step in enumerate(self.factors):
            inner = self.factors[:i]

            def so_far(each: Axis, inner: tuple[Factor, ...] = inner) -> Array:
                return evaluate(series, inner, view, each)

            product = product * step.factor(so_far, view, axis)
        return product

    def levels(self, target: Array, factor: Array, axis: Axis) -> Array:
        """The target on the working scale before differences, v (n,)."""
        values = target * factor + self.offset
        return np.asarray(np.log(positive(values, axis, "logarithm"))) if self.log else values

    def transformed(self, levels: Array, axis: Axis) -> Array:
        """What is fitted, z (n,); NaN where a value before is missing."""
        if self.plain:
            return levels
        if self.growth:
            earlier = self._earlier(positive(levels, axis, "growth"))
            return 100.0 * (levels / earlier - 1.0)
        weights = difference_weights(self.lags)
        return self.gain * sum(
            (weight * _shifted(levels, k) for k, weight in enumerate(weights) if weight), np.zeros(len(levels))
        )

    def one_step(self, levels: Array, transformed: Array) -> Array:
        """η (n,): each period's v from the values before it and a fitted z (n,)."""
        if self.plain:
            return transformed
        if self.growth:
            return self._earlier(levels) * (1.0 + transformed / 100.0)
        weights = difference_weights(self.lags)
        ar_prediction = -sum((w * _shifted(levels, k) for k, w in enumerate(weights) if k and w), np.zeros(len(levels)))
        return ar_prediction + transformed / self.gain

    def ahead(self, start: Array, transformed: Array) -> Array:
        """η (h,): v of future periods from the last values `start` (before,) and fitted z (h,)."""
        if self.plain:
            return transformed
        path = np.concatenate([start, np.zeros(len(transformed))])
        weights = difference_weights(self.lags)[1:]
        for i, z in enumerate(transformed.tolist()):
            at = len(start) + i
            if self.growth:
                path[at] = path[at - self.lags[0]] * (1.0 + z / 100.0)
            else:
                path[at] = z / self.gain - weights @ path[at - len(weights) : at][::-1]
        return np.asarray(path[len(start) :])

    def gradient(self, start: Array, transformed: Array, design: Array) -> Array:
        """Derivative (h, k) of `ahead` by the coefficients, with z = design @ β."""
        if self.plain:
            return design
        if not self.growth:
            return accumulated(design, self.lags) / self.gain
        m, path = self.lags[0], np.concatenate([start, self.ahead(start, transformed)])
        slopes = np.zeros((len(path), design.shape[1]))
        for i, z in enumerate(transformed.tolist()):
            slopes[m + i] = slopes[i] * (1.0 + z / 100.0) + path[i] * design[i] / 100.0
        return slopes[m:]

    def noise(self, variance: float, response: Array, path: Array) -> Array:
        """Variance (h,) of v around η from the noise of z, `path` (before + h,) being the values of growth.

        `response` (g + h,) is what one period's noise is worth in it and in later ones; g of them lie before.
        """
        horizon = len(path) - self.before
        if self.growth:
            # Exact within the first year, where the value before is known; later quantiles come from joint paths.
            sums = np.cumsum(np.square(response))[len(response) - horizon :]
            return np.asarray(np.square(path[:horizon] / 100.0) * variance * sums)
        sums = np.cumsum(np.square(accumulated(response, self.lags))) * variance / self.gain**2
        return sums[len(response) - horizon :]

    def spread(self, parts: Array, weights: Array) -> Array:
        """What parts (n, …) of z add to v, carried on through later periods; `weights` (n,) show what one is worth."""
        if self.plain:
            return parts
        shape = (-1, *([1] * (parts.ndim - 1)))
        return accumulated(parts * weights.reshape(shape), self.lags)

    def worth(self, levels: Array) -> Array:
        """What one unit of z is worth in v (n,) of each period, from v (n + before,) with the values before."""
        n = len(levels) - self.before
        if self.growth:
            return levels[:n] / 100.0
        return np.full(n, 1.0 / self.gain)

    def _earlier(self, levels: Array) -> Array:
        return _shifted(levels, self.lags[0])


def check_target_steps(steps: Sequence[Step], *, log: bool) -> None:
    """Refuse transformations that have no way back, or whose order has no meaning.

    Raises
    ------
    InputError
        Saying what to do instead.
    """
    changed = False
    for step in steps:
        if isinstance(step, (Power, EstimatedPower, Cap, Extreme)):
            raise InputError(
                f"{step.name.rstrip(':')!r} is for drivers, not for the target", "Leave it out.", key="transform"
            )
        if isinstance(step, (Window, Standardised)):
            raise InputError(f"the target cannot be a {step.name}", "Use it for drivers.", key="transform")
        if isinstance(step, Log):
            raise InputError("the target's logarithm is its scale", 'State scale = "log" instead.', key="transform")
        if isinstance(step, Factor) and changed:
            raise InputError(f"{step.name!r} comes after a difference", "Put differences last.", key="transform")
        changed |= not isinstance(step, Factor)
    changes = [step for step in steps if not isinstance(step, Factor)]
    alone = [step for step in changes if not isinstance(step, Difference)]
    if alone and (len(changes) > 1 or log):
        what = 'scale = "log"' if log else "another difference"
        raise InputError(
            f"the {alone[0].name.removesuffix(' of')} stands alone and cannot have {what} besides",
            'For changes of the logarithm use scale = "log" with difference.',
            key="transform",
        )


def _shifted(values: Array, lag: int) -> Array:
    """Values `lag` periods earlier (n,), NaN before the first."""
    if lag == 0:
        return values
    return np.concatenate([np.full(min(lag, len(values)), np.nan), values[: max(len(values) - lag, 0)]])
