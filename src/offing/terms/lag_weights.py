"""A faster driver's values before the end of each period, and the weights with which they enter."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, TypeVar, get_args

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, newest_ended
from offing.engine import Beta, Exponential, Pinned, WeightCurve, pins, polynomial, smooth, steps
from offing.terms.driver_options import StatedDriver, Weights
from offing.terms.term import Block, Readout, Shaped
from offing.terms.transform_step import Series

#: Weights along a curve, whose ends can be pinned; and those of which a share can be spread evenly.
_CURVES, _SHAPED = ("polynomial", "exponential", "beta", "chosen"), ("exponential", "beta")
#: Degrees that are tried where none is stated: cubics rise, fall and rise again, which is all that lags show.
_HIGHEST = 3
#: A longer span is a slip: a thousand days are nearly three years.
_LONGEST = 1000
Stated = TypeVar("Stated", bound=StatedDriver)


@dataclass(frozen=True)
class LagWeights:
    """Weights of one `kind` over `span` periods of a driver, of which `skip` newer ones are not used."""

    kind: Weights
    span: int
    skip: int = 0
    degree: int = 2
    blocks: tuple[int, ...] = ()
    pinned: Pinned = "none"
    even_share: bool = False

    @classmethod
    def of(cls, driver: StatedDriver) -> LagWeights:
        """What a driver states, nothing being left to choose."""
        return cls(
            driver.weights or "flat",
            int(driver.span or 0),
            driver.skip,
            driver.degree or 2,
            tuple(driver.blocks or ()),
            driver.pinned,
            driver.even_share,
        )

    @cached_property
    def curve(self) -> WeightCurve | None:
        """The curve with shape parameters, if it is one."""
        if self.kind == "beta":
            return Beta(self.span, self.pinned, self.even_share)
        return Exponential(self.span, self.pinned, self.even_share) if self.kind == "exponential" else None

    @cached_property
    def basis(self) -> Array:
        """Columns (span, q) of which the lags' coefficients are made, where there is no curve."""
        if self.kind == "free":
            return np.eye(self.span)
        if self.kind == "step":
            return steps(self.blocks)
        if self.kind == "polynomial":
            return polynomial(self.span, self.degree, self.pinned)
        if self.kind == "smooth":
            return np.hstack(smooth(self.span))
        return np.full((self.span, 1), 1.0 / self.span)

    def coefficients(self, beta: Array) -> Array:
        """The coefficient (span,) of each lag, the newest first, at its own (m,)."""
        if self.curve is not None:
            return np.asarray(beta[0] * self.curve.weights(beta[None, 1:])[0])
        return np.asarray(self.basis @ beta)

    @property
    def columns(self) -> int:
        """How many coefficients it takes, shapes among them; of smooth ones those that nothing draws to zero."""
        if self.curve is not None:
            return 1 + len(self.curve.names)
        return 2 if self.kind == "smooth" else self.basis.shape[1]

    def needed(self, frequency: Frequency, axis: Axis) -> Axis:
        """The driver's periods that the periods of `axis` need."""
        newest = newest_ended(frequency, axis) - self.skip
        return Axis(frequency, int(newest[0]) - self.span + 1, int(newest[-1] - newest[0]) + self.span)

    def lags(self, series: Series, frequency: Frequency, axis: Axis) -> Array:
        """The driver's values (n, span) that each period of `axis` needs, the newest first."""
        needed = self.needed(frequency, axis)
        newest = newest_ended(frequency, axis) - self.skip - needed.first
        return np.asarray(series(needed)[newest[:, None] - np.arange(self.span)])

    def block(self, stem: str, lags: Array, unit: str, constraints: dict[str, Any]) -> Block:
        """The columns of `lags` (n, span), named after `stem` and the `unit` of the driver's periods."""
        curve = self.curve
        if curve is not None:
            return self._curved(stem, lags, curve, constraints)
        columns = lags @ self.basis
        if self.kind == "flat":
            return Block(columns, (stem,), **constraints)
        names = tuple(f"{stem} ({unit} lag {self.skip + j})" for j in range(self.span))
        noted = Readout((f"{stem}: all lags together", *names), np.vstack([self.basis.sum(axis=0), self.basis]))
        parts = tuple(f"{stem}, part {i + 1} of its weights" for i in range(columns.shape[1]))
        groups = ("", "", *(f"{stem}: bends of its weights",) * (columns.shape[1] - 2)) if self.kind == "smooth" else ()
        return Block(columns, names if self.kind == "free" else parts, noted, groups)

    def _curved(self, stem: str, lags: Array, curve: WeightCurve, constraints: dict[str, Any]) -> Block:
        points, sides = curve.grid
        lower, upper = curve.bounds

        def columns(theta: Array) -> tuple[Array, Array]:
            return lags @ curve.weights(theta[None]).T, (lags @ curve.slopes(theta))[:, None, :]

        def many(thetas: Array) -> Array:
            return np.asarray((lags @ curve.weights(thetas).T).T[:, :, None])

        names = tuple(f"{stem}: {name}" for name in curve.names)
        shaped = Shaped(names, points, lower, upper, columns, sides, many)
        return Block(columns(points[0])[0], (stem,), curve=shaped, **constraints)


def check_weights(driver: StatedDriver) -> None:
    """Refuse weights that mean nothing, and forms that do not go with them.

    Raises
    ------
    InputError
        Saying what to do instead.
    """
    if driver.weights is None:
        slow = driver.between is not None
        key = next(
            (
                key
                for key, usual in (
                    ("span", None),
                    ("skip", driver.skip if slow else 0),
                    ("degree", None),
                    ("blocks", None),
                    ("pinned", "none"),
                    ("even_share", False),
                )
                if getattr(driver, key) != usual
            ),
            None,
        )
        if key:
            raise InputError(f"{key} belongs to weights over a driver's lags", 'State weights = "beta", say.', key=key)
        return
    if driver.weights not in get_args(Weights):
        raise InputError(f"found {driver.weights!r}", f"Allowed: {', '.join(get_args(Weights))}.", key="weights")
    for key, low, high in (("span", 1, _LONGEST), ("skip", 0, _LONGEST * 100), ("degree", 0, 9)):
        value = getattr(driver, key)
        whole = isinstance(value, (int, np.integer)) and not isinstance(value, bool)
        if value is not None and not (whole and low <= value <= high):
            raise InputError(f"found {value!r}", f"Give a whole number from {low} to {high}.", key=key)
    beside = next(
        (
            key
            for key in ("combine", "between", "curve", "lag_degree", "carry_over", "saturation", "above", "below")
            if getattr(driver, key) is not None
        ),
        None,
    )
    if beside or tuple(driver.lags) != (0,):
        raise InputError(
            f"weights over its lags and {beside or 'lags'} do not go together", "Leave out one of them.", key="weights"
        )
    _check_shape(driver)


def _check_shape(driver: StatedDriver) -> None:
    kind, span, degree = driver.weights, driver.span, driver.degree
    if driver.pinned not in get_args(Pinned):
        raise InputError(f"found {driver.pinned!r}", f"Allowed: {', '.join(get_args(Pinned))}.", key="pinned")
    for key, stated, allowed in (
        ("pinned", driver.pinned != "none", _CURVES),
        ("even_share", driver.even_share, _SHAPED),
    ):
        if stated and kind not in allowed:
            raise InputError(f"{kind} weights have no {key}", f"It belongs to {', '.join(allowed)} ones.", key=key)
    if (kind == "step") != (driver.blocks is not None):
        raise InputError(
            "blocks are those of step weights, which need them", "Give both, such as blocks = [1, 2, 3].", key="blocks"
        )
    if driver.blocks is not None:
        blocks = driver.blocks
        if (
            not isinstance(blocks, (list, tuple))
            or not blocks
            or not all(
                isinstance(each, (int, np.integer)) and not isinstance(each, bool) and each > 0 for each in blocks
            )
        ):
            raise InputError(f"found {blocks!r}", "Give how many lags each block holds.", key="blocks")
        if span is not None and span != sum(blocks):
            raise InputError(f"the blocks hold {sum(blocks)} lags, the span {span}", "Leave out span.", key="blocks")
    if degree is not None and kind != "polynomial":
        raise InputError("a degree is that of polynomial weights", 'State weights = "polynomial".', key="degree")
    least = pins(driver.pinned)
    if degree is not None and kind == "polynomial" and degree < least:
        raise InputError(
            f"a polynomial of degree {degree} that is zero there is zero throughout",
            f"Give a degree from {least} on.",
            key="degree",
        )
    if degree is not None and span is not None and degree >= span + least:
        raise InputError(
            f"a polynomial of degree {degree} has more coefficients than there are lags",
            'Give a lower one, or weights = "free".',
            key="degree",
        )
    shortest = {"smooth": 3, "beta": 2, "exponential": 3}.get(str(kind), 1)
    if span is not None and span < shortest:
        raise InputError(
            f"a span of {span} is too short for {kind} weights",
            f'Give {shortest} or more, or weights = "free".',
            key="span",
        )


def undecided(driver: StatedDriver) -> bool:
    """Whether something about the weights is left to a criterion."""
    return driver.weights is not None and (
        driver.span is None or driver.weights == "chosen" or (driver.weights == "polynomial" and driver.degree is None)
    )


def options(driver: Stated, a_period: float, most: int) -> list[Stated]:
    """All that a criterion chooses among: spans by the periods in one of the target's (`a_period`), up to `most`."""
    whole = max(round(a_period), 1)
    spans = [sum(driver.blocks or ())] if driver.span is None else [driver.span]
    if driver.span is None and driver.weights != "step":
        spans = sorted({max(whole // 2, 2), whole, 2 * whole, 3 * whole, 4 * whole})
    found = []
    for span in spans:
        if driver.span is None and span > most and len(spans) > 1:
            continue
        kinds: tuple[Weights | None, ...] = (driver.weights,)
        if driver.weights == "chosen":
            kinds = ("flat", "polynomial", "exponential", "beta")
        for kind in kinds:
            degrees: list[int | None] = [None]
            if kind == "polynomial":
                least = max(pins(driver.pinned), 1)
                highest = min(max(_HIGHEST, least), span - 1 + least)
                degrees = [driver.degree] if driver.degree is not None else list(range(least, highest + 1))
            for degree in degrees:
                try:
                    found.append(replace(driver, weights=kind, span=span, degree=degree))
                except InputError:
                    continue  # too short a span for this kind
    return found
