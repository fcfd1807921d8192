"""Drivers: outside series that help to explain the target."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import Literal

import numpy as np

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.calendar import Axis, holding
from offing.engine.expressions import Earlier, Expression
from offing.tables import View
from offing.terms.coefficient_constraints import check_constraints, constraints_of, usual_change
from offing.terms.driver_formulas import (
    brought_over,
    formed,
    looked_back,
    own_periods,
    transformed_formula,
    weighted_formula,
)
from offing.terms.driver_options import StatedDriver
from offing.terms.driver_validation import check_forms, check_reference
from offing.terms.formulas import Rows, Summand
from offing.terms.frequency_conversion import (
    base_series,
    check_crossing,
    check_lags,
    check_ways,
    first_gone,
    native,
    own_part,
)
from offing.terms.lag_weights import LagWeights, check_weights
from offing.terms.power_transforms import Log
from offing.terms.response_forms import (
    CarryOver,
    Form,
    Hinge,
    Shape,
    carried_in,
    chained,
    learnt_forms,
    number_of,
)
from offing.terms.splines import Smooth, curve_block, lagged_block
from offing.terms.term import Block, Readout, Reference, Shaped, Term, Written, whole_numbers
from offing.terms.transform_step import Series, Step
from offing.terms.transforms import evaluate, reach, steps_of

#: Periods of its own back from which a driver's last value is looked for.
_FARTHEST = 1000


#: From this share of zeros on a driver is measured from zero.
_MOSTLY = 0.5


def is_flag(values: Array) -> bool:
    """Whether values (n,) say yes or no: 0 and 1, both of them."""
    no, yes = values == 0.0, values == 1.0
    return bool(no.any() and yes.any() and (no | yes).all())


@dataclass(frozen=True)
class DriverState:
    """First fitted period, transformations and forms with what they learnt, and the shape of each that is estimated.

    `forms` and `shapes` are by chain. `scales` (m,) are one over the usual change of each column, where effects are
    shrunk towards zero; `smooth` is the curve, if it has one.
    """

    first: int
    steps: tuple[Step, ...] = ()
    forms: tuple[tuple[Form, ...], ...] = ()
    shapes: tuple[tuple[Shape | None, ...], ...] = ()
    scales: tuple[float, ...] = ()
    smooth: Smooth | None = None

    @property
    def every_shape(self) -> tuple[Shape | None, ...]:
        """The shapes of all chains."""
        return tuple(shape for chain in self.shapes for shape in chain)

    @property
    def estimated(self) -> tuple[bool, ...]:
        """Which forms have a shape that is estimated."""
        return tuple(shape is not None for shape in self.every_shape)


@dataclass(frozen=True)
class Driver(StatedDriver):
    """An outside series with its effects at once and in later periods; one of higher frequency says how it enters.

    Parameters
    ----------
    data
        The column, as ``column`` or ``table.column``.
    transform
        What becomes of the values first, step by step: ``log`` (on the log scale the coefficient is then an
        elasticity), ``difference``, ``seasonal difference``, ``log difference`` (times 100), ``growth`` (percent on the
        year before), ``standardised`` (less its mean, over its standard deviation), ``per day``, ``per working day``;
        and with a value ``{"difference": 4}``, ``{"sum": 4}`` and ``{"mean": 4}`` (over the last periods up to this
        one), ``{"index": "2020"}`` (that period = 100), ``{"times": 0.001}``,
        ``{"deflate": "prices.index", "base": "2020"}``, ``{"per": "people.number"}``,
        ``{"per working day": "NO"}`` (a country's holidays are none), ``{"power": 0.5}``, or last of all
        ``{"power": "estimated", "between": [0.3, 2.0]}``, ``{"at_most": 30.0}`` and ``{"at_least": 0.0}`` (values
        beyond count as the limit), ``{"minimum_with": "weather.wind"}`` and ``maximum_with`` (the smaller or larger
        of two drivers).
    lags
        After how many periods it acts; 0 is at once, −1 a period before. One column each.
    above, below
        A base: only what is above it acts, or what is below it, as a positive number, such as degrees below 15. A
        number or ``"estimated"``; both for heating and cooling, or a list of numbers for a slope from each on.
    curve
        ``smooth``: an effect of any gentle shape, of which the data learn how far it bends; ``rising`` or ``falling``:
        one that never turns. Beyond the values seen it goes straight on.
    lag_degree
        The effects of many lags lie on a polynomial of this degree over the lag, so that few numbers show them all.
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
        The name of a group of drivers whose effects, each by its usual change, are shrunk towards zero with a strength
        that is learnt (ridge: Hoerl & Kennard 1970), for many drivers that move together.
    reference
        From which of its values contributions are measured: ``mean`` over the fitted periods, ``zero``, or a value. By
        default zero for 0/1 and mostly-zero columns that enter as they are, the mean for others.
    combine
        For a driver of higher frequency than the target: its values that end within a period become one by ``sum``,
        ``mean`` or ``last``, and all other forms act on that.
    weights
        For such a driver, how its single values before the end of each period enter: ``flat``, ``step`` (equal within
        each of some `blocks`), ``polynomial`` of a `degree` (Almon 1965), ``exponential`` or ``beta`` curves with a
        slope and two shape parameters, ``smooth`` (second differences shrunk towards zero; Shiller 1973), ``free``, or
        ``chosen`` among the flat, polynomial and curved ones by Schwarz's criterion.
    span, skip
        How many of its values enter, and how many newer ones are left out. By default no value is left out, and the
        span is chosen by the criterion, from half of a period of the target to four.
    degree
        Of polynomial weights; by default chosen from 1 to 3.
    blocks
        Of step weights: how many lags each block holds, the newest first.
    pinned
        Where ``polynomial``, ``exponential`` and ``beta`` weights are zero just outside the span: ``none``, ``start``
        (before the newest lag), ``end`` (beyond the oldest one), or ``both``.
    even_share
        Whether a share of ``exponential`` or ``beta`` weights, which is estimated, is spread evenly over the span.
    between
        For a driver of lower frequency than the target: ``repeat`` its value in each period within its own, ``divide``
        it among these, or draw it ``linear`` between the middles of its periods or ``smooth``, as gently bent as its
        periods' values allow (Denton 1971). `skip` says how many of its periods back the value is taken from.
    keeps, pattern
        With ``smooth``: whether the values within a period of it add up to its value (``sum``) or average to it
        (``mean``); and a column by the target's periods whose pattern it follows (Chow & Lin 1971).
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
        for key, low, high in (("carry_over", 0.0, 0.98), ("saturation", 1e-12, np.inf)):
            if getattr(self, key) is not None:
                self._set(**{key: number_of(getattr(self, key), key, low, high)})
        check_forms(self)
        check_reference(self)
        check_weights(self)
        if self.blocks is not None:
            self._set(blocks=tuple(self.blocks), span=sum(self.blocks))
        check_ways(self)
        check_constraints(self)

    def needs(self) -> tuple[str, ...]:
        """The driver's column, and those that its transformations or its pattern look at."""
        pattern = () if self.pattern is None else (self.pattern,)
        return (self.data, *(column for step in self.steps for column in step.needs()), *pattern)

    def needed(self, view: View, axis: Axis, reference: str) -> Axis:
        """Of weights over lags all that enter; else those at its newest lag."""
        frequency = view.frequency(reference)
        if reference == self.data and self.weights is not None:
            return LagWeights.of(self).needed(frequency, axis)
        if reference == self.data and self.between is not None:
            own = holding(frequency, axis) - self.skip
            return Axis(frequency, int(own[0]), int(own[-1] - own[0]) + 1)
        return view.native(reference, axis.shifted(-min(self.lags)))

    @property
    def learning(self) -> Literal["nothing", "more", "again"]:
        """Values as they are, and their usual transformations, learn nothing."""
        stated = (self.curve, self.weights, self.shrink_with, self.combine, self.between, self.pattern)
        plain = all(type(step).learnt is Step.learnt for step in self.steps) and not any(self.chains)
        return "nothing" if plain and all(each is None for each in stated) else "again"

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
        check_crossing(self, view)
        own = native(view, self.data) if self.weights is not None else view
        steps: tuple[Step, ...] = ()
        for step in self.steps:
            steps = (*steps, step.learnt(self._after(steps, own), own))
        if self.weights is not None:
            return self._weighted_state(view, DriverState(view.rows.first, steps))
        state = self._formed_state(view, DriverState(view.rows.first, steps))
        if self.shrink_with is None:
            return state
        k = len(self.lags) * len(self.chains)
        columns = self.block(view, view.rows, replace(state, scales=(1.0,) * k)).columns
        return replace(state, scales=tuple(usual_change(column) for column in columns.T[:k]))

    def _formed_state(self, view: View, state: DriverState) -> DriverState:
        """What its forms learn, or its curve."""
        if not any(self.chains) and self.curve is None:
            return state
        if any(step.is_change for step in self.steps) and self.curve is None:
            raise InputError(
                "a form acts on values, and these are changes of values", "Leave out one of them.", key="transform"
            )
        values = self.transformed(view, view.rows, state.steps)
        self._check_values(values, view.rows)
        known = values[np.isfinite(values)]
        if self.curve is not None:
            return replace(state, smooth=Smooth.over(known, self.curve, self.data))
        chains = tuple(learnt_forms(chain, known) for chain in self.chains)
        return replace(state, forms=tuple(forms for forms, _ in chains), shapes=tuple(shapes for _, shapes in chains))

    def _check_values(self, values: Array, rows: Axis) -> None:
        """Refuse what a form cannot take."""
        unknown = np.flatnonzero(np.isnan(values))
        if self.carry_over is not None and len(unknown):
            at = int(unknown[0])
            raise InputError(
                "there is no value, but a carry-over needs all of them",
                'Fill it with a treatment, such as missing = "linear".',
                period=rows.part(at, at + 1).labels()[0],
                column=self.data,
            )
        if not np.isfinite(values).any():
            raise InputError("it has no value in the fitted periods", column=self.data)
        negative = np.flatnonzero(values < 0.0)
        if (self.saturation is not None or self.power is not None) and not self.hinges and len(negative):
            at = int(negative[0])
            what = "what saturates starts at 0" if self.power is None else "there is no power of it"
            raise InputError(
                f"found {values[at]:g}, but {what}",
                "Give it a base, say above = 0.",
                period=rows.part(at, at + 1).labels()[0],
                column=self.data,
            )

    def block(self, view: View, axis: Axis, state: DriverState) -> Block:
        """The values, one column a lag; or what their forms make of them, by the shapes that are estimated."""
        stem = self.stem
        if self.weights is not None:
            return self._weighted(view, state, self.lag_values(view, axis, state))
        if state.smooth is not None:
            return curve_block(
                state.smooth,
                stem,
                self.transformed(view, axis, state.steps),
                lambda: self.transformed(view, view.rows, state.steps),
            )
        stems = tuple(stem + "".join(form.words for form in chain) for chain in self.chains)
        if not any(state.estimated):
            names = tuple(_lagged(each, lag) for lag in self.lags for each in stems)
            parts = [
                self._formed(self._raw(view, own, state), own, state, np.zeros(0))[0]
                for own in (axis.shifted(-lag) for lag in self.lags)
            ]
            columns = np.hstack(parts)
            if self.lag_degree is not None:
                return lagged_block(columns, names, stem, self.lag_degree)
            names = (*names, f"{stems[0]}, before the data") if self._carries_in else names
            return Block(columns, names, **constraints_of(self, names, state.scales))
        shapes = [shape for shape in state.every_shape if shape is not None]
        if self._ordered:
            return self._between_bases(view, axis, state, stems, shapes)
        crossed = list(product(*(shape.starts for shape in shapes)))

        raw = self._raw(view, axis, state)

        def columns_at(theta: Array) -> tuple[Array, Array]:
            return self._formed(raw, axis, state, theta)

        names = (*stems, f"{stems[0]}, before the data") if self._carries_in else stems
        curve = Shaped(
            tuple(f"{self.name}: {shape.words}" for shape in shapes),
            np.array(crossed),
            np.array([shape.lower for shape in shapes]),
            np.array([shape.upper for shape in shapes]),
            columns_at,
            tuple(len(shape.starts) for shape in shapes),
        )
        return Block(
            columns_at(np.array(crossed[0]))[0], names, curve=curve, **constraints_of(self, names, state.scales)
        )

    def _between_bases(
        self, view: View, axis: Axis, state: DriverState, stems: tuple[str, ...], shapes: Sequence[Shape]
    ) -> Block:
        """The block of two estimated bases: the shapes are the lower one and how far the other lies above it.

        So the two stay in their order. They stay as far apart as each is softened: closer ones would bend the same
        values, and their shapes could not be separated from the constant.
        """
        upper, lower = shapes
        wide, least = upper.upper - lower.lower, next(form.width for form in state.forms[0] if isinstance(form, Hinge))
        raw = self._raw(view, axis, state)

        def columns_at(theta: Array) -> tuple[Array, Array]:
            columns, slopes = self._formed(raw, axis, state, np.array([theta[1] + theta[0], theta[1]]))
            return columns, np.stack([slopes[:, :, 0], slopes[:, :, 0] + slopes[:, :, 1]], axis=2)

        apart = (0.1 * wide, 0.3 * wide, 0.6 * wide)
        curve = Shaped(
            (f"{self.name}: distance between its bases", f"{self.name}: {lower.words}"),
            np.array(list(product(apart, lower.starts))),
            np.array([least, lower.lower]),
            np.array([wide, lower.upper]),
            columns_at,
            (len(apart), len(lower.starts)),
            readout=Readout(
                tuple(f"{self.name}: {shape.words}" for shape in shapes), np.array([[1.0, 1.0], [0.0, 1.0]])
            ),
        )
        columns = columns_at(curve.starts[0])[0]
        return Block(columns, stems, curve=curve, **constraints_of(self, stems, state.scales))

    def with_known_lags(self, view: View, axis: Axis) -> Driver:
        """Of data of another frequency, lags so long that the one period of `axis` needs only what is known."""
        frequency = view.frequency(self.data)
        if frequency == axis.frequency:
            return self
        if self.weights is None and self.between is None:
            lags, back = tuple(self.lags), 0
            while replace(self, lags=tuple(lag + back for lag in lags)).first_unknown(view, axis) is not None:
                back += 1
                if back > _FARTHEST:
                    return self
            return self if not back else replace(self, lags=tuple(lag + back for lag in lags))
        needed = self.needed(view, axis, self.data)
        last = needed.first + needed.n - 1
        whole = Axis(frequency, last - _FARTHEST, _FARTHEST + 1)
        known = np.flatnonzero(np.isfinite(view.known(self.data, whole).values))
        if not len(known):
            return self
        return self if known[-1] == _FARTHEST else replace(self, skip=self.skip + _FARTHEST - int(known[-1]))

    def looked_at(self, view: View, axis: Axis, state: DriverState, reference: str) -> tuple[str, Array] | None:
        """Its changes, where these are what it acts by."""
        changes = any(not step.pointwise for step in self.steps)
        if not changes or reference != self.data or self.weights is not None:
            return None
        return self.stem, self.transformed(view, axis, state.steps)

    def held(self, view: View, axis: Axis, state: DriverState, value: float) -> Block:
        """The block with all values under its weights, transformed, at one value."""
        return self._weighted(view, state, np.full((axis.n, int(self.span or 0)), value))

    def _weighted(self, view: View, state: DriverState, lags: Array) -> Block:
        constraints = constraints_of(self, (self.stem,), state.scales)
        return LagWeights.of(self).block(self.stem, lags, view.frequency(self.data).unit, constraints)

    @property
    def stem(self) -> str:
        """Its name after its transformations."""
        return " ".join((*(step.name for step in reversed(self.steps)), str(self.name)))

    def lag_values(self, view: View, axis: Axis, state: DriverState) -> Array:
        """The values (n, span) over which it has weights, the newest first."""
        return LagWeights.of(self).lags(self._after(state.steps, view), view.frequency(self.data), axis)

    def _raw(self, view: View, axis: Axis, state: DriverState) -> Array:
        """The values that `axis` needs: of what is carried over, all from the first fitted period on."""
        first = axis.first if self.carry_over is None else min(state.first, axis.first)
        return self.transformed(view, Axis(axis.frequency, first, axis.first + axis.n - first), state.steps)

    def _formed(self, raw: Array, axis: Axis, state: DriverState, theta: Array) -> tuple[Array, Array]:
        """Columns (n, m) on `axis` with their derivatives (n, m, s) by the estimated shapes, from the `raw` values."""
        values, slopes, at = [], [], 0
        for forms, shapes in zip(state.forms or ((),), state.shapes or ((),), strict=True):
            free = [shape is not None for shape in shapes]
            own = theta[at : at + sum(free)]
            value, slope = chained(forms, free, own, raw)
            wide = np.zeros((axis.n, len(theta)))
            wide[:, at : at + len(own)] = slope[len(raw) - axis.n :]
            values.append(value[len(raw) - axis.n :])
            slopes.append(wide)
            if self._carries_in:
                steps = np.asarray(axis.ordinals - state.first + 1.0)
                before, leaning = carried_in(forms, free, own, steps)
                values.append(before)
                slopes.append(leaning)
            at += len(own)
        return np.column_stack(values), np.stack(slopes, axis=1)

    @property
    def _carries_in(self) -> bool:
        """Whether what was carried into the first fitted period has a coefficient; what saturates has none."""
        return self.carry_over is not None and self.saturation is None

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The earliest value needed by any of the lags and transformations that is unknown."""
        if self.weights is not None:
            return first_gone(self, view, axis, self._after(self.steps, view))
        lags = sorted({lag + back for lag in self.lags for back in reach(self.steps, axis.frequency)})
        for reference in self.needs():
            needed = Axis(axis.frequency, axis.first - lags[-1], axis.n + lags[-1] - lags[0])
            wanted = np.isin(needed.ordinals, [axis.ordinals - lag for lag in lags])
            crosses = reference == self.data and (self.combine or self.between) is not None
            values = self._base(view)(needed) if crosses else view.known(reference, needed).values
            unknown = np.flatnonzero(np.isnan(values) & wanted)
            if len(unknown):
                first = needed.part(int(unknown[0]), int(unknown[0]) + 1)
                return reference, own_part(self, view, first) if crosses else first
        return None

    def written(self, view: View, state: DriverState, beta: Array) -> list[Written]:
        """The values, step by step, at each lag; with the numbers that its forms and curves have."""
        unit = view.rows.frequency.unit
        what = f"'{self.data}'"
        for step in state.steps or self.steps:
            what = f"{step.said} {what}"
        if self.combine is not None:
            what += f" (the {self.combine} of its values in the {unit})"
        if self.between is not None:
            what += f" (between its own periods: {self.between})"
        if self.weights is not None:
            return self._written_weights(view, what, beta)
        if state.smooth is not None:
            return [Written(f"{self.stem}: curve", 1.0, f"{state.smooth.said(beta)}, x: {what}")]
        block = self.block(view, view.rows, state)
        if self.lag_degree is not None:
            names, values = block.readout.names, block.readout.matrix @ beta  # type: ignore[union-attr]
            return [
                Written(name, value, f"{what}{_ago(lag, unit)}")
                for name, value, lag in zip(names, values.tolist(), self.lags, strict=True)
            ]
        texts = []
        theta = beta[len(block.names) :]
        theta = self._shapes_at(theta)
        lags: Sequence[int] = self.lags if not any(state.estimated) else (0,)
        for lag in lags:
            rest = iter(theta.tolist())
            for forms, shapes in zip(state.forms or ((),), state.shapes or ((),), strict=True):
                text = "x"
                for form, shape in zip(forms, shapes, strict=True):
                    text = form.said(text, None if shape is None else next(rest))
                texts.append(f"{text}, x: {what}{_ago(lag, unit)}" if forms else f"{what}{_ago(lag, unit)}")
        if self._carries_in:
            first = Axis(view.rows.frequency, state.first, 1).labels()[0]
            share = next(form for chain in state.forms for form in chain if isinstance(form, CarryOver)).share
            kept = float(theta[-1]) if share == "estimated" else float(share)
            texts.append(f"{kept:.12g} to the power (1 + {unit}s since {first})")
        return [
            Written(name, value, text) for name, value, text in zip(block.names, beta.tolist(), texts, strict=False)
        ]

    def _written_weights(self, view: View, what: str, beta: Array) -> list[Written]:
        """One summand for each of its lags."""
        weights, own = LagWeights.of(self), view.frequency(self.data).unit
        values = weights.coefficients(beta)
        last = "before the last one that ended by the period's end"
        return [
            Written(f"{self.stem}: lag {lag}", value, f"{what} in the {own} that ended {count(lag, own)} {last}")
            for lag, value in enumerate(values.tolist(), self.skip)
        ]

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "every driver at its mean over the fitted periods"

    def measured_in(self, view: View) -> str:
        """The reference in words: the mean, 0 where that is usual, or the value that is stated."""
        value = self.zero_or_stated(view)
        if value is None:
            return self.measured_from
        return f"{self.name!r} at {value:g}" if self.reference is not None else "flags and mostly-zero drivers at 0"

    def reference_on(self, view: View, axis: Axis, state: DriverState) -> Reference:
        """The mean over the fit's rows, or the driver at its reference throughout."""
        value = self.zero_or_stated(view)
        if value is None:
            return Reference(None)
        rows = view.rows
        still = self.block(view.holding(self.data, value), rows.part(rows.n - 1, rows.n), state)
        return Reference(still.columns, curve=still.curve)

    def zero_or_stated(self, view: View) -> float | None:
        """The value from which it is measured; None where that is its mean.

        A flag, and what is zero most of the time, is measured from zero: from its mean, a month without a promotion
        would lose something that it never had.
        """
        if self.reference == "mean":
            return None
        if self.reference is not None:
            return 0.0 if self.reference == "zero" else float(self.reference)
        if self.steps or view.frequency(self.data) != view.rows.frequency:
            return None
        values = view.known(self.data, view.rows).values
        values = values[np.isfinite(values)]
        if not len(values):
            return None
        return 0.0 if (values == 0.0).mean() >= _MOSTLY or is_flag(values) else None

    def _after(self, steps: Sequence[Step], view: View) -> Series:
        return lambda each: evaluate(self._base(view), steps, view, each)

    def _base(self, view: View) -> Series:
        return base_series(self, view)

    def looks_back(self, view: View) -> int:
        """Its lags, and what its transformations look at before these."""
        return looked_back(self, self.steps, view.rows.frequency)

    def own_periods(self, view: View, whole: Axis) -> Axis | None:
        """The periods of its own frequency, where that is another one."""
        return own_periods(self, view, whole)

    def summands(self, view: View, rows: Rows, state: DriverState, beta: Array) -> list[Summand]:
        """Its values as they act at each lag, step by step as the block computes them."""
        base, steps = self._base(view), state.steps or self.steps
        fixed = "" if self.pattern is None else f"'{self.name}' follows its values, along the pattern as it is exported"
        if self.weights is not None:
            own = weighted_formula(self, view, rows, steps, base, beta=beta)
            return [Summand(f"{self.stem}: weighted lags", 1.0, own)]
        x = transformed_formula(brought_over(self, view, rows, base), steps, base, view, rows.whole)
        if state.smooth is not None:
            return [Summand(f"{self.stem}: curve", 1.0, state.smooth.formula(x, beta))]
        block = self.block(view, rows.axis, state)
        if self.lag_degree is not None:
            effects = block.readout.matrix @ beta  # type: ignore[union-attr]
            return [
                Summand(name, effect, Earlier(x, lag) if lag else x)
                for name, effect, lag in zip(
                    block.readout.names,  # type: ignore[union-attr]
                    effects.tolist(),
                    self.lags,
                    strict=True,
                )
            ]
        found: list[Expression] = []
        for lag in self.lags if not any(state.estimated) else (0,):
            formed_values = [value for value, _ in self._chained(view, rows, state, x, beta)]
            found += [Earlier(value, lag) if lag else value for value in formed_values]
        if self._carries_in:
            free = [shape is not None for shape in state.shapes[0]]
            theta = self._shapes_at(beta[len(block.names) :])
            left = carried_in(state.forms[0], free, theta, np.asarray(rows.axis.ordinals - state.first + 1.0))[0]
            found.append(rows.facts(block.names[-1], left))
        return [
            Summand(name, value, each, fixed)
            for name, value, each in zip(block.names, beta.tolist(), found, strict=False)
        ]

    def _chained(
        self, view: View, rows: Rows, state: DriverState, x: Expression, beta: Array
    ) -> list[tuple[Expression, list[Expression]]]:
        """What each chain of forms makes of the transformed values `x`, with the derivatives by its shapes."""
        count = len(state.estimated) and sum(state.estimated)
        rest = iter(self._shapes_at(beta[len(beta) - count :]).tolist())
        first = min(state.first, rows.axis.first)
        before = Axis(rows.axis.frequency, first, rows.axis.first - first)
        past = self.transformed(view, before, state.steps or self.steps)
        found = []
        for forms, shapes in zip(state.forms or ((),), state.shapes or ((),), strict=True):
            at = [None if shape is None else next(rest) for shape in shapes]
            found.append(formed(x, forms, at, past, rows.lead))
        return found

    def slopes(self, view: View, rows: Rows, state: DriverState, beta: Array) -> list[Expression] | None:
        """The derivatives by coefficients and by the shapes of its forms."""
        if not any(state.estimated) or self._ordered or self.pattern is not None:
            return None if self._ordered else super().slopes(view, rows, state, beta)
        linear = [each.expression for each in self.summands(view, rows, state, beta)]
        base, steps = self._base(view), state.steps or self.steps
        x = transformed_formula(brought_over(self, view, rows, base), steps, base, view, rows.whole)
        bent: list[Expression] = []
        chains = self._chained(view, rows, state, x, beta)
        places = range(0, len(linear), len(linear) // len(chains))
        for place, (_, own) in zip(places, chains, strict=True):
            bent += [float(beta[place]) * each for each in own]
        if self._carries_in:
            free = [shape is not None for shape in state.shapes[0]]
            theta = beta[len(linear) :]
            left = carried_in(state.forms[0], free, theta, np.asarray(rows.axis.ordinals - state.first + 1.0))[1]
            more = left * float(beta[len(linear) - 1])
            bent = [each + rows.facts("what was carried in", own) for each, own in zip(bent, more.T, strict=True)]
        return [*linear, *bent]

    def _shapes_at(self, theta: Array) -> Array:
        """The shapes of its forms, from the parameters that are estimated: of two bases these are in their order."""
        return np.array([theta[1] + theta[0], theta[1]]) if self._ordered else theta

    def _weighted_state(self, view: View, state: DriverState) -> DriverState:
        """The state of weights over lags, which need values in a row."""
        lags = self.lag_values(view, view.rows, state)
        check_lags(self, view, lags)
        if self.shrink_with is None:
            return state
        return replace(state, scales=(usual_change(lags.mean(axis=1)),))

    def transformed(self, view: View, axis: Axis, steps: Sequence[Step] = ()) -> Array:
        """The driver's values (n,) on `axis` after its transformations, as learnt in `steps`, without lags."""
        try:
            return self._after(steps or self.steps, view)(axis)
        except InputError as error:
            error.column = error.column or self.data
            raise


def drivers_of(terms: Iterable[Term]) -> tuple[Driver, ...]:
    """Those of some terms that are drivers."""
    return tuple(term for term in terms if isinstance(term, Driver))


def _ago(lag: int, unit: str) -> str:
    return "" if lag == 0 else f" {count(abs(lag), unit)} {'before' if lag > 0 else 'later'}"


def _lagged(stem: str, lag: int) -> str:
    words = "" if lag == 0 else f" (lag {lag})" if lag > 0 else f" (lead {-lag})"
    return stem if stem.endswith(words) else stem + words
