"""A trend between two limits: the logistic curve (Verhulst 1838), growing or declining."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import expit

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine.expressions import Call, Constant, Expression
from offing.tables import View
from offing.terms.term import Block, Curve, Written
from offing.terms.transform_step import input_of


@dataclass(frozen=True)
class Limit:
    """A limit of a saturating trend: a fixed `value`, a `column` that gives it, or neither: it is estimated."""

    key: str
    value: float | None = None
    column: str = ""

    @property
    def estimated(self) -> bool:
        """Whether the data are to show it."""
        return self.value is None and not self.column


def limit_of(stated: float | str | None, key: str) -> Limit:
    """A limit as stated."""
    if isinstance(stated, bool) or (isinstance(stated, (int, float)) and not np.isfinite(stated)):
        raise InputError(f"found {stated!r}", 'Give a number, a column or "estimated".', key=key)
    if isinstance(stated, (int, float)):
        return Limit(key, float(stated))
    return Limit(key) if stated == "estimated" else Limit(key, column=str(stated))


@dataclass(frozen=True)
class Saturation:
    """What was learnt: the limits, where the fitted periods begin, and where the search for the shape starts.

    θ is the middle (years since the first fitted period), the rate (a year; declining where it is negative), and each
    limit that is estimated. `log` says that the curve's logarithm is what the target's working scale needs.
    """

    lower: Limit
    upper: Limit
    first: int
    log: bool
    offset: float
    starts: tuple[tuple[float, ...], ...]
    low: tuple[float, ...]
    high: tuple[float, ...]

    def block(self, name: str, view: View, axis: Axis) -> Block:
        """No column, but the curve."""
        return Block(np.zeros((axis.n, 0)), (), curve=self.curve(name, view, axis, axis.ordinals.astype(np.float64)))

    def curve(self, name: str, view: View, axis: Axis, ordinals: Array) -> Curve:
        """The curve at the given ordinals, which need not be whole."""
        years = (ordinals - self.first) / axis.frequency.periods_a_year
        limits = [_values(limit, view, axis, ordinals) for limit in (self.lower, self.upper)]
        names = [f"{name}: middle, years since the start", f"{name}: rate a year"]
        names += [f"{name}: {limit.key} limit" for limit in (self.lower, self.upper) if limit.estimated]

        def value(theta: Array) -> tuple[Array, Array]:
            return self._value(theta, years, limits)

        return Curve(tuple(names), np.array(self.starts), np.array(self.low), np.array(self.high), value)

    def written(self, name: str, theta: Array, time: str) -> list[Written]:
        """The curve with its numbers."""
        middle, rate, *rest = theta.tolist()
        limits = [
            f"{limit.value:.12g}"
            if limit.value is not None
            else f"'{limit.column}'"
            if limit.column
            else f"{rest.pop(0):.12g}"
            for limit in (self.lower, self.upper)
        ]
        curve = "L + (U − L) / (1 + exp(−r (t − m)))"
        more = f" + {self.offset:g}" if self.offset else ""
        text = f"ln({curve}{more})" if self.log else curve
        numbers = f"L = {limits[0]}, U = {limits[1]}, r = {rate:.12g}, m = {middle:.12g}"
        return [Written(name, 1.0, f"{text} with {numbers}; {time}")]

    def formula(self, time: Expression, view: View, theta: Array) -> Expression:
        """The curve of the years `time` since the first fitted period."""
        middle, rate, *rest = theta.tolist()
        low, high = (
            Constant(rest.pop(0))
            if limit.estimated
            else Constant(limit.value)
            if limit.value is not None
            else input_of(view, limit.column)
            for limit in (self.lower, self.upper)
        )
        curve = low + (high - low) / (1.0 + Call("exp", -rate * (time - middle)))
        return Call("ln", curve + self.offset) if self.log else curve

    def _value(self, theta: Array, years: Array, limits: list[Array | None]) -> tuple[Array, Array]:
        middle, rate, *rest = theta.tolist()
        found = [limit if limit is not None else np.full(len(years), rest.pop(0)) for limit in limits]
        low, high = found
        share = expit(rate * (years - middle))
        bell = share * (1.0 - share) * (high - low)
        value = low + (high - low) * share
        ends = [part for part, limit in zip((1.0 - share, share), limits, strict=True) if limit is None]
        slopes = np.column_stack([-rate * bell, (years - middle) * bell, *ends])
        if not self.log:
            return value, slopes
        level = np.maximum(value + self.offset, 1e-300)
        return np.log(level), slopes / level[:, None]


def _values(limit: Limit, view: View, axis: Axis, ordinals: Array) -> Array | None:
    if limit.estimated:
        return None
    if limit.value is not None:
        return np.full(len(ordinals), limit.value)
    whole = np.floor(ordinals).astype(np.int64)
    if not len(whole):
        return np.zeros(0)
    span = Axis(axis.frequency, int(whole.min()), int(whole.max() - whole.min()) + 1)
    return view.known(limit.column, span).values[whole - span.first]


def saturating(view: View, lower: Limit, upper: Limit) -> Saturation:
    """Starting values from the target's first and last values, and bounds.

    Raises
    ------
    InputError
        If the limits are in the wrong order, or the target does not lie between those that are stated.
    """
    rows, goal = view.rows, view.goal
    target = view.known(goal.target, rows).values
    known = target[np.isfinite(target)]
    stated = [_values(limit, view, rows, rows.ordinals.astype(np.float64)) for limit in (lower, upper)]
    spread = float(np.ptp(known)) or 1.0
    low = float(np.nanmin(known)) - 0.05 * spread if stated[0] is None else float(np.nanmean(stated[0]))
    high = float(np.nanmax(known)) + 0.2 * spread if stated[1] is None else float(np.nanmean(stated[1]))
    if not low < high:
        raise InputError(f"the lower limit {low:g} is not below the upper limit {high:g}", key="upper")
    middle = float(np.median(known))
    for limit, beyond in ((lower, middle <= low), (upper, middle >= high)):
        if beyond:
            raise InputError(
                f"half of the target lies beyond the {limit.key} limit", 'Give another, or "estimated".', key=limit.key
            )
    limits, span = (lower, upper), rows.n / rows.frequency.periods_a_year
    starts = _starts(known, limits, (low, high), span)
    edge = 20.0 * spread
    least = (-20.0 * span, -100.0 / span, *_estimated(limits, low - edge, middle))
    most = (20.0 * span, 100.0 / span, *_estimated(limits, middle, high + edge))
    return Saturation(lower, upper, rows.first, goal.log, goal.offset, starts, least, most)


def _starts(
    known: Array, limits: tuple[Limit, Limit], at: tuple[float, float], span: float
) -> tuple[tuple[float, ...], ...]:
    """Where to begin with the known values over `span` years: limits as they seem, and farther away if estimated."""
    spread = float(np.ptp(known)) or 1.0
    piece = max(len(known) // 8, 1)
    ends = [float(np.mean(part)) for part in (known[:piece], known[-piece:])]
    starts = []
    for stretch in (0.0, 1.0):
        high = at[1] + (stretch * 2.0 * spread if limits[1].estimated else 0.0)
        low = at[0] - (stretch * 2.0 * spread if limits[0].estimated else 0.0)
        shares = np.clip([(end - low) / (high - low) for end in ends], 0.02, 0.98)
        logits = np.log(shares / (1.0 - shares))
        rate = float(logits[1] - logits[0]) / span
        rate = rate if abs(rate) > 0.05 / span else 0.05 / span
        starts.append((-float(logits[0]) / rate, rate, *_estimated(limits, low, high)))
    return tuple(starts if any(limit.estimated for limit in limits) else starts[:1])


def _estimated(limits: tuple[Limit, Limit], low: float, high: float) -> list[float]:
    return [value for limit, value in zip(limits, (low, high), strict=True) if limit.estimated]
