"""Drivers: outside series that help to explain the target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import product
from typing import Any, ClassVar, Literal

import numpy as np

from offing.base import InputError
from offing.calendar import Axis
from offing.tables import View
from offing.terms.driver_forms import (
    CarryOver,
    Form,
    Hinge,
    Saturating,
    Shape,
    carried_in,
    chained,
    number_of,
    softened,
)
from offing.terms.term import STATED, Array, Block, Reference, Shaped, Term, Wishes, whole_numbers
from offing.terms.transforms import Log, Stated, Step, evaluate, reach, steps_of


@dataclass(frozen=True)
class DriverState:
    """First fitted period, the forms with what they learnt, and the shape of each that is estimated.

    `scales` (m,) are one over the usual change of each column, where effects are drawn to zero.
    """

    first: int
    forms: tuple[Form, ...] = ()
    shapes: tuple[Shape | None, ...] = ()
    scales: tuple[float, ...] = ()

    @property
    def estimated(self) -> tuple[bool, ...]:
        """Which forms have a shape that is estimated."""
        return tuple(shape is not None for shape in self.shapes)


@dataclass(frozen=True)
class Driver(Term):
    """An outside series of the target's frequency, with its effects at once and in later periods.

    Parameters
    ----------
    data
        The column, as ``column`` or ``table.column``.
    transform
        What becomes of the values first, step by step: ``log`` (on the log scale the coefficient is then an
        elasticity), ``difference``, ``seasonal difference``, ``log difference`` (times 100), ``growth`` (percent on the
        year before), ``per working day``; and with a value ``{"difference": 4}``, ``{"index": "2020"}`` (that
        period = 100), ``{"times": 0.001}``, ``{"deflate": "prices.index", "base": "2020"}``,
        ``{"per": "people.number"}``, ``{"per working day": "NO"}`` (a country's holidays are none).
    lags
        After how many periods it acts; 0 is at once, −1 a period before. One column each.
    above, below
        A base: only what is above it acts, or what is below it, as a positive number, such as degrees below 15. A
        number or ``"estimated"``.
    carry_over
        The share of its effect that stays for each later period, from 0 to 0.98, or ``"estimated"``. What was carried
        into the first fitted period is a coefficient of its own.
    saturation
        The value at which half of the most that it can do is reached, or ``"estimated"``: more of it does ever less.
    sign
        ``positive`` or ``negative``: the effect that alone makes sense. A coefficient that would have the other sign is
        held at 0, and a finding says so.
    at_least, at_most
        Bounds of its coefficients, instead of a sign.
    expected, give_or_take
        What is known of its coefficient beforehand, say from a trial: a value and its standard deviation. They count
        as one more observation (Theil & Goldberger 1961).
    shrink_with
        The name of a group of drivers whose effects, each by its usual change, are drawn to zero with a strength that
        is learnt (ridge: Hoerl & Kennard 1970), for many drivers that move together.
    name
        By default the column's name.

    Raises
    ------
    InputError
        For an unknown transformation, lags that are not whole numbers, or forms that do not go together. Later: for a
        value that is not positive where the logarithm is asked for, or missing where a carry-over needs it.

    Examples
    --------
    >>> import offing as of
    >>> of.Driver("weather.storm hours", lags=[0, 1]).name
    'storm hours'
    """

    data: str
    transform: Sequence[Stated] = ()
    lags: Sequence[int] = (0,)
    above: float | Literal["estimated"] | None = None
    below: float | Literal["estimated"] | None = None
    carry_over: float | Literal["estimated"] | None = None
    saturation: float | Literal["estimated"] | None = None
    sign: Literal["positive", "negative"] | None = None
    at_least: float | None = None
    at_most: float | None = None
    expected: float | None = None
    give_or_take: float | None = None
    shrink_with: str | None = None
    name: str | None = None
    centred: ClassVar[bool] = True

    def __post_init__(self) -> None:
        if not isinstance(self.data, str) or not self.data:
            raise InputError(f"found {self.data!r}", "Give a column's name.", key="data")
        if self.name is None:
            self._set(name=self.data.partition(".")[2] or self.data)
        super().__post_init__()
        steps = steps_of(self.transform)
        self._set(transform=tuple(self.transform), lags=whole_numbers(self.lags, "lags", -1000))
        if not self.lags:
            raise InputError("there are no lags", "Give lags = [0] for an effect at once.", key="lags")
        if sum(isinstance(step, Log) for step in steps) > 1:
            raise InputError("the logarithm is taken twice", "Give it once.", key="transform")
        self._check_forms()
        self._check_wishes()

    def _check_forms(self) -> None:
        if self.above is not None and self.below is not None:
            raise InputError(
                "a driver acts above a base or below it", "Give two drivers, each with a name.", key="above"
            )
        limits = {"above": (-np.inf, np.inf), "below": (-np.inf, np.inf), "carry_over": (0.0, 0.98),
                  "saturation": (1e-12, np.inf)}  # fmt: skip
        for key, (low, high) in limits.items():
            if getattr(self, key) is not None:
                self._set(**{key: number_of(getattr(self, key), key, low, high)})
        if self.carry_over is not None and self.lags != (0,):
            raise InputError("a carry-over acts in later periods by itself", "Leave out lags.", key="lags")
        if self.shaped and self.lags != (0,):
            raise InputError("an estimated shape and lags do not go together", "Use carry_over, or state the number.",
                             key="lags")  # fmt: skip

    def _check_wishes(self) -> None:
        if self.sign not in (None, "positive", "negative"):
            raise InputError(f"found {self.sign!r}", 'Give "positive" or "negative".', key="sign")
        if self.sign is not None and (self.at_least is not None or self.at_most is not None):
            raise InputError("a sign is a bound at 0", "Give sign, or at_least and at_most.", key="sign")
        for key in ("at_least", "at_most", "expected", "give_or_take"):
            value = getattr(self, key)
            if value is not None and (isinstance(value, bool) or not np.isfinite(value)):
                raise InputError(f"found {value!r}", "Give a number.", key=key)
        if self.at_least is not None and self.at_most is not None and not self.at_least < self.at_most:
            raise InputError(f"{self.at_least:g} is not below {self.at_most:g}", key="at_most")
        if (self.expected is None) != (self.give_or_take is None):
            raise InputError("a value that is expected needs how sure it is", "Give both expected and give_or_take.",
                             key="expected")  # fmt: skip
        if self.give_or_take is not None and self.give_or_take <= 0.0:
            raise InputError(f"found {self.give_or_take!r}", "Give a standard deviation above 0.", key="give_or_take")
        if self.expected is not None and (self.shrink_with is not None or self.shaped or len(self.lags) > 1):
            what = ("its group's strength" if self.shrink_with is not None
                    else "an estimated shape" if self.shaped else "several lags")  # fmt: skip
            raise InputError(f"a value is expected of one coefficient, which {what} denies",
                             "Leave out one of them.", key="expected")  # fmt: skip
        if self.shrink_with is not None and (not self.shrink_with.strip() or self.shaped):
            raise InputError(f"found {self.shrink_with!r}" if not self.shaped else "its shape is estimated",
                             "Name a group of drivers whose shapes are stated.", key="shrink_with")  # fmt: skip
        if self.shrink_with == STATED:
            raise InputError(f"{STATED!r} is the group of what is expected", "Choose another name.", key="shrink_with")

    def _asked(self, names: tuple[str, ...], state: DriverState) -> dict[str, Any]:
        """Groups and wishes of the columns; what was carried in before the data is free."""
        m, k = len(names) - self._carries_in, len(names)
        low = 0.0 if self.sign == "positive" else -np.inf if self.at_least is None else float(self.at_least)
        high = 0.0 if self.sign == "negative" else np.inf if self.at_most is None else float(self.at_most)
        group = self.shrink_with or (STATED if self.expected is not None else "")
        if not group and np.isinf([low, high]).all():
            return {}
        scale = float(self.give_or_take or 1.0)
        scales = state.scales if self.shrink_with else (scale,) * m

        def all_of(values: tuple[float, ...], rest: float) -> tuple[float, ...]:
            return (*values, *(rest,) * (k - m))

        wishes = Wishes(all_of((low,) * m, -np.inf), all_of((high,) * m, np.inf),
                        all_of((float(self.expected or 0.0),) * m, 0.0), all_of(scales, 1.0))  # fmt: skip
        return {"groups": (*(group,) * m, *("",) * (k - m)), "wishes": wishes}

    @property
    def shaped(self) -> bool:
        """Whether a shape of it is estimated."""
        return "estimated" in self._stated

    @property
    def _stated(self) -> tuple[object, ...]:
        return (self.above if self.above is not None else self.below, self.carry_over, self.saturation)

    @cached_property
    def forms(self) -> tuple[Form, ...]:
        """What becomes of it after its transformations: beyond a base, then carried over, then saturating."""
        found: list[Form] = []
        if self.above is not None:
            found.append(Hinge(self.above, above=True))
        if self.below is not None:
            found.append(Hinge(self.below, above=False))
        if self.carry_over is not None:
            found.append(CarryOver(self.carry_over))
        if self.saturation is not None:
            found.append(Saturating(self.saturation))
        return tuple(found)

    @cached_property
    def steps(self) -> tuple[Step, ...]:
        """The transformations."""
        return steps_of(self.transform)

    def needs(self) -> tuple[str, ...]:
        """The driver's column, and those that its transformations look at."""
        return (self.data, *(column for step in self.steps for column in step.needs()))

    def learn(self, view: View) -> DriverState:
        """Where the search for estimated shapes starts, from the values in the fitted periods.

        Raises
        ------
        InputError
            For an unknown column; or where the values do not suit a form.
        """
        for reference in self.needs():
            source, column = view.sources.find(reference)
            view.sources.tables[source].values(column)
        state = self._formed_state(view)
        if self.shrink_with is None:
            return state
        columns = self.block(view, view.rows, replace(state, scales=(1.0,) * len(self.lags))).columns
        return replace(state, scales=tuple(_usual_change(column) for column in columns.T[: len(self.lags)]))

    def _formed_state(self, view: View) -> DriverState:
        """What its forms learn."""
        if not self.forms:
            return DriverState(view.rows.first)
        if reach(self.steps, view.rows.frequency) != (0,):
            raise InputError("a form acts on values, and these are changes of values", "Leave out one of them.",
                             key="transform")  # fmt: skip
        values = self.transformed(view, view.rows)
        self._check_values(values, view.rows)
        known = values[np.isfinite(values)]
        forms, shapes = [], []
        for form in self.forms:
            own = softened(form, known)
            shape = own.shape(known)
            forms.append(own)
            shapes.append(shape)
            if isinstance(own, Hinge):
                base = float(np.median(known)) if shape else float(own.base)
                known = np.maximum((known - base) if own.above else (base - known), 0.0)
            elif isinstance(own, CarryOver):
                known = known / (1.0 - (0.5 if shape else float(own.share)))
        return DriverState(view.rows.first, tuple(forms), tuple(shapes))

    def _check_values(self, values: Array, rows: Axis) -> None:
        """Refuse what a form cannot take."""
        unknown = np.flatnonzero(np.isnan(values))
        if self.carry_over is not None and len(unknown):
            at = int(unknown[0])
            raise InputError("there is no value, but a carry-over needs all of them",
                             'Fill it with a treatment, such as missing = "linear".',
                             period=rows.part(at, at + 1).labels()[0], column=self.data)  # fmt: skip
        if not np.isfinite(values).any():
            raise InputError("it has no value in the fitted periods", column=self.data)
        negative = np.flatnonzero(values < 0.0)
        if self.saturation is not None and self.above is None and self.below is None and len(negative):
            at = int(negative[0])
            raise InputError(f"found {values[at]:g}, but what saturates starts at 0", "Give it a base, say above = 0.",
                             period=rows.part(at, at + 1).labels()[0], column=self.data)  # fmt: skip

    def block(self, view: View, axis: Axis, state: DriverState) -> Block:
        """The values, one column a lag; or what their forms make of them, by the shapes that are estimated."""
        stem = " ".join((*(step.name for step in reversed(self.steps)), str(self.name)))
        stem += "".join(form.words for form in self.forms)
        if not any(state.estimated):
            names = tuple(_lagged(stem, lag) for lag in self.lags)
            parts = [self._formed(self._raw(view, own, state), own, state, np.zeros(0))[0]
                     for own in (axis.shifted(-lag) for lag in self.lags)]  # fmt: skip
            names = (*names, f"{stem}, before the data") if self._carries_in else names
            return Block(np.hstack(parts), names, **self._asked(names, state))
        shapes = [shape for shape in state.shapes if shape is not None]
        grid = np.array(list(product(*(shape.starts for shape in shapes))))

        raw = self._raw(view, axis, state)

        def columns(theta: Array) -> tuple[Array, Array]:
            return self._formed(raw, axis, state, theta)

        names = (stem, f"{stem}, before the data") if self._carries_in else (stem,)
        curve = Shaped(
            tuple(f"{self.name}: {shape.words}" for shape in shapes),
            grid,
            np.array([shape.lower for shape in shapes]),
            np.array([shape.upper for shape in shapes]),
            columns,
        )
        return Block(columns(grid[0])[0], names, curve=curve, **self._asked(names, state))

    def _raw(self, view: View, axis: Axis, state: DriverState) -> Array:
        """The values that `axis` needs: of what is carried over, all from the first fitted period on."""
        first = axis.first if self.carry_over is None else min(state.first, axis.first)
        return self.transformed(view, Axis(axis.frequency, first, axis.first + axis.n - first))

    def _formed(self, raw: Array, axis: Axis, state: DriverState, theta: Array) -> tuple[Array, Array]:
        """Columns (n, m) on `axis` with their derivatives (n, m, s) by the estimated shapes, from the `raw` values."""
        value, slopes = chained(state.forms, state.estimated, theta, raw)
        value, slopes = value[len(raw) - axis.n :], slopes[len(raw) - axis.n :]
        if not self._carries_in:
            return value[:, None], slopes[:, None, :]
        before, leaning = carried_in(state.forms, state.estimated, theta, np.asarray(axis.ordinals - state.first + 1.0))
        return np.column_stack([value, before]), np.stack([slopes, leaning], axis=1)

    @property
    def _carries_in(self) -> bool:
        """Whether what was carried into the first fitted period has a coefficient; what saturates has none."""
        return self.carry_over is not None and self.saturation is None

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The earliest value needed by any of the lags and transformations that is unknown."""
        lags = sorted({lag + back for lag in self.lags for back in reach(self.steps, axis.frequency)})
        for reference in self.needs():
            needed = Axis(axis.frequency, axis.first - lags[-1], axis.n + lags[-1] - lags[0])
            wanted = np.isin(needed.ordinals, [axis.ordinals - lag for lag in lags])
            unknown = np.flatnonzero(np.isnan(view.known(reference, needed).values) & wanted)
            if len(unknown):
                return reference, needed.part(int(unknown[0]), int(unknown[0]) + 1)
        return None

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "every driver at its mean over the fitted periods"

    def reference_on(self, view: View, axis: Axis, state: DriverState) -> Reference:
        """The mean over the fit's rows."""
        return Reference(None)

    def transformed(self, view: View, axis: Axis) -> Array:
        """The driver's values (n,) on `axis` after its transformations, without lags."""
        try:
            return evaluate(lambda each: view.known(self.data, each).values, self.steps, view, axis)
        except InputError as error:
            error.column = error.column or self.data
            raise


def _usual_change(column: Array) -> float:
    """One over the standard deviation of the known values; 1 where nothing varies."""
    known = column[np.isfinite(column)]
    spread = float(known.std()) if len(known) else 0.0
    return 1.0 / spread if spread > 1e-12 * float(np.abs(known).max(initial=0.0)) else 1.0


def _lagged(stem: str, lag: int) -> str:
    if lag < 0:
        return f"{stem} (lead {-lag})"
    return stem if lag == 0 else f"{stem} (lag {lag})"
