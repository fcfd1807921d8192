"""What becomes of a driver before it acts: only beyond a base, carried over to later periods, saturating.

Each form is a step from values (n,) and their derivatives (n, s) by the shape parameters to such a pair again, so that
a chain of them is differentiated as it is computed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.special import expit

from offing.base import InputError
from offing.base.arrays import Array
from offing.engine import running
from offing.engine.expressions import Beyond, Call, Carried, Constant, Earlier, Expression, Extreme

Number = float | Literal["estimated"]

#: Derivatives by the shape parameters of a chain, none by those of forms to come.
Slopes = list[Expression | None]

#: An estimated base is softened over this share of the driver's usual range: a sharp one has a kink in its sum of
#: squares at each value of the data.
_SOFTNESS = 0.04
#: Of what carries over more, half is left after 34 periods: a trend, of which no driver is the cause to be seen.
_MOST_CARRIED = 0.98


@dataclass(frozen=True)
class Shape:
    """A shape parameter: its name in words, values to start from, and bounds."""

    words: str
    starts: tuple[float, ...]
    lower: float
    upper: float


@dataclass(frozen=True)
class Hinge:
    """The part of a driver beyond a base: above it, or below it as a positive number. `width` softens it, 0 not."""

    base: Number
    above: bool
    width: float = 0.0

    @property
    def words(self) -> str:
        """What it makes of a driver, after its name."""
        side = "above" if self.above else "below"
        return f" {side} {'a base' if self.base == 'estimated' else f'{self.base:g}'}"

    def said(self, inner: str, theta: float | None) -> str:
        """What it makes of a driver, in numbers."""
        base = float(self.base) if theta is None else theta
        excess = f"({inner} − {base:.12g})" if self.above else f"({base:.12g} − {inner})"
        if theta is None:
            return f"max({excess}, 0)"
        return f"{self.width:.12g} ln(1 + exp({excess} / {self.width:.12g}))"

    def shape(self, values: Array) -> Shape | None:
        """The base, if it is estimated: it lies among the inner values."""
        if self.base != "estimated":
            return None
        low, high = np.quantile(values, [0.03, 0.97])
        starts = tuple(float(each) for each in np.quantile(values, [0.2, 0.4, 0.6, 0.8]))
        return Shape(f"base{self.words.removesuffix(' a base')}", starts, float(low), float(high))

    def apply(self, value: Array, slopes: Array, theta: float | None, place: int) -> tuple[Array, Array]:
        """The softened excess w ln(1 + exp(x / w)) over the base, or the excess itself."""
        sign = 1.0 if self.above else -1.0
        base = float(self.base) if theta is None else theta
        excess = sign * (value - base)
        if theta is None:
            return np.maximum(excess, 0.0), sign * slopes * (excess > 0.0)[:, None]
        share = expit(excess / self.width)
        found = sign * slopes * share[:, None]
        found[:, place] -= sign * share
        soft = np.maximum(excess, 0.0) + self.width * np.log1p(np.exp(-np.abs(excess) / self.width))
        return soft, found

    def formula(self, x: Expression, theta: float | None, before: Array) -> Expression:
        """The same of a value `x`."""
        excess = self._excess(x, theta)
        sharp = Extreme(True, excess, Constant(0.0))
        if theta is None:
            return sharp
        return sharp + self.width * Call("ln", 1.0 + Call("exp", -1.0 * Call("abs", excess) / self.width))

    def slope_formulas(self, x: Expression, slopes: Slopes, theta: float | None, place: int, before: Array) -> Slopes:
        """The derivatives of the same, as expressions."""
        excess, sign = self._excess(x, theta), 1.0 if self.above else -1.0
        if theta is None:
            share: Expression = Beyond(excess, 0.0, True)
        else:
            share = 1.0 / (1.0 + Call("exp", -1.0 * excess / self.width))
        found = [None if each is None else sign * each * share for each in slopes]
        if theta is not None:
            found[place] = -sign * share
        return found

    def _excess(self, x: Expression, theta: float | None) -> Expression:
        base = Constant(float(self.base) if theta is None else theta)
        return x - base if self.above else base - x


@dataclass(frozen=True)
class CarryOver:
    """An effect of which a share stays for each later period: s_t = x_t + δ s_{t−1}."""

    share: Number

    @property
    def words(self) -> str:
        """What it makes of a driver, after its name."""
        return ", carried over"

    def said(self, inner: str, theta: float | None) -> str:
        """What it makes of a driver, in numbers."""
        share = float(self.share) if theta is None else theta
        return f"s = {inner} + {share:.12g} s of the period before, from 0 before the first fitted period"

    def shape(self, values: Array) -> Shape | None:
        """The share that stays, if it is estimated."""
        if self.share != "estimated":
            return None
        return Shape("share carried over to the next period", (0.2, 0.5, 0.8), 0.0, _MOST_CARRIED)

    def apply(self, value: Array, slopes: Array, theta: float | None, place: int) -> tuple[Array, Array]:
        """The sums, from zero before the first value."""
        share = float(self.share) if theta is None else theta
        sums = running(value, (share,))
        if theta is not None:
            slopes = slopes.copy()
            slopes[1:, place] += sums[:-1]
        return sums, running(slopes, (share,))

    def formula(self, x: Expression, theta: float | None, before: Array) -> Expression:
        """The sums, from what they were `before` (lead,)."""
        return Carried(x, (float(self.share) if theta is None else theta,), before)

    def slope_formulas(self, x: Expression, slopes: Slopes, theta: float | None, place: int, before: Array) -> Slopes:
        """The derivatives of the same, from what they and the sums were `before` (lead, 1 + s)."""
        share = (float(self.share) if theta is None else theta,)
        found = list(slopes)
        if theta is not None:
            found[place] = Earlier(self.formula(x, theta, before[:, 0]), 1)
        return [None if each is None else Carried(each, share, before[:, 1 + i]) for i, each in enumerate(found)]


@dataclass(frozen=True)
class Saturating:
    """An effect that grows ever less: x / (x + k), half of its most at x = k (Michaelis & Menten 1913)."""

    half: Number

    @property
    def words(self) -> str:
        """What it makes of a driver, after its name."""
        return ", saturating"

    def said(self, inner: str, theta: float | None) -> str:
        """What it makes of a driver, in numbers."""
        return f"z / (z + {float(self.half) if theta is None else theta:.12g}), z: {inner}"

    def shape(self, values: Array) -> Shape | None:
        """The value at which half of the most is reached, if it is estimated."""
        if self.half != "estimated":
            return None
        typical = float(np.median(values[values > 0.0])) if (values > 0.0).any() else 1.0
        return Shape("half of the most at", (0.3 * typical, typical, 3.0 * typical), 0.01 * typical, 30.0 * typical)

    def apply(self, value: Array, slopes: Array, theta: float | None, place: int) -> tuple[Array, Array]:
        """The share of the most."""
        half = float(self.half) if theta is None else theta
        whole = value + half
        found = slopes * (half / np.square(whole))[:, None]
        if theta is not None:
            found = found.copy()
            found[:, place] -= value / np.square(whole)
        return value / whole, found

    def formula(self, x: Expression, theta: float | None, before: Array) -> Expression:
        """The share of the most."""
        return x / (x + (float(self.half) if theta is None else theta))

    def slope_formulas(self, x: Expression, slopes: Slopes, theta: float | None, place: int, before: Array) -> Slopes:
        """The derivatives of the same, as expressions."""
        half = float(self.half) if theta is None else theta
        whole = (x + half) ** 2.0
        found = [None if each is None else each * (half / whole) for each in slopes]
        if theta is not None:
            found[place] = -1.0 * x / whole
        return found


@dataclass(frozen=True)
class Powered:
    """A power of a driver, estimated between two bounds: x^p, with derivative x^p ln x."""

    lower: float
    upper: float

    @property
    def words(self) -> str:
        """What it makes of a driver, after its name."""
        return ", to a power"

    def said(self, inner: str, theta: float | None) -> str:
        """What it makes of a driver, in numbers."""
        return f"{inner} to the power {0.5 * (self.lower + self.upper) if theta is None else theta:.12g}"

    def shape(self, values: Array) -> Shape:
        """The exponent."""
        starts = tuple(float(each) for each in np.linspace(self.lower, self.upper, 5)[1:-1])
        return Shape("power", starts, self.lower, self.upper)

    def apply(self, value: Array, slopes: Array, theta: float | None, place: int) -> tuple[Array, Array]:
        """The powers; it is the first form, so that nothing before it has a shape."""
        exponent = 0.5 * (self.lower + self.upper) if theta is None else theta
        found, slopes = np.power(value, exponent), slopes.copy()
        with np.errstate(divide="ignore", invalid="ignore"):
            slopes[:, place] += np.where(value == 0.0, 0.0, found * np.log(value))
        return found, slopes

    def formula(self, x: Expression, theta: float | None, before: Array) -> Expression:
        """The power."""
        return x ** (0.5 * (self.lower + self.upper) if theta is None else theta)

    def slope_formulas(self, x: Expression, slopes: Slopes, theta: float | None, place: int, before: Array) -> Slopes:
        """The derivatives of the same, as expressions; of zero it is zero."""
        found = list(slopes)
        if theta is not None:
            found[place] = x**theta * Call("ln", Extreme(True, x, Constant(1e-300)))
        return found


Form = Hinge | CarryOver | Saturating | Powered


def chained(forms: Sequence[Form], estimated: Sequence[bool], theta: Array, value: Array) -> tuple[Array, Array]:
    """The values (n,) after all forms and their derivatives (n, s) by the parameters of those that are estimated."""
    slopes = np.zeros((len(value), len(theta)))
    place = 0
    for form, free in zip(forms, estimated, strict=True):
        value, slopes = form.apply(value, slopes, float(theta[place]) if free else None, place)
        place += free
    return value, slopes


def carried_in(forms: Sequence[Form], estimated: Sequence[bool], theta: Array, steps: Array) -> tuple[Array, Array]:
    """What is left (n,) of one unit of what was carried into the first period, and its derivatives (n, s).

    `steps` (n,) count the periods since then, the first being 1.
    """
    place = 0
    for form, free in zip(forms, estimated, strict=True):
        if isinstance(form, CarryOver):
            share = float(theta[place]) if free else float(form.share)
            slopes = np.zeros((len(steps), len(theta)))
            if free:
                slopes[:, place] = steps * np.power(share, steps - 1.0)
            return np.power(share, steps), slopes
        place += free
    raise ValueError("nothing is carried over")


#: One base, several, or none.
Bases = float | Literal["estimated"] | Sequence[float] | None


def bases_of(stated: Bases, key: str) -> tuple[Number, ...]:
    """The bases: one number or ``"estimated"``, or a list of different numbers."""
    if stated is None:
        return ()
    if not isinstance(stated, (list, tuple)):
        return (number_of(stated, key, -np.inf, np.inf),)
    found = tuple(number_of(each, key, -np.inf, np.inf) for each in stated)
    if len(found) > 1 and ("estimated" in found or len(set(found)) < len(found)):
        raise InputError(f"found {stated!r}", "Give different numbers, or one base that is estimated.", key=key)
    return found


def learnt_forms(forms: Sequence[Form], values: Array) -> tuple[tuple[Form, ...], tuple[Shape | None, ...]]:
    """The forms with what they learn from the known `values`, and the shape of each that is estimated."""
    learnt, shapes = [], []
    for form in forms:
        own = softened(form, values)
        shape = own.shape(values)
        learnt.append(own)
        shapes.append(shape)
        if isinstance(own, Hinge):
            base = float(np.median(values)) if shape else float(own.base)
            values = np.maximum((values - base) if own.above else (base - values), 0.0)
        elif isinstance(own, Powered):
            values = np.power(values, 0.5 * (own.lower + own.upper))
        elif isinstance(own, CarryOver):
            values = values / (1.0 - (0.5 if shape else float(own.share)))
    return tuple(learnt), tuple(shapes)


def number_of(stated: object, key: str, low: float, high: float) -> Number:
    """A number between two limits, or ``"estimated"``."""
    if stated == "estimated":
        return "estimated"
    if isinstance(stated, bool) or not isinstance(stated, (int, float)) or not low <= float(stated) <= high:
        wanted = f"from {low:g} to {high:g}" if np.isfinite(high) else "that is not infinite"
        raise InputError(f"found {stated!r}", f'Give a number {wanted}, or "estimated".', key=key)
    return float(stated)


def softened(form: Form, values: Array) -> Form:
    """A hinge with an estimated base, softened over a share of the values' usual range."""
    if not isinstance(form, Hinge) or form.base != "estimated":
        return form
    low, high = np.quantile(values, [0.1, 0.9])
    spread = float(high - low) or float(np.ptp(values)) or 1.0
    return Hinge(form.base, form.above, _SOFTNESS * spread)
