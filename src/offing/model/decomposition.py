"""Every period's mean as rows that add up on the working scale, and how each row leans on the coefficients."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import Estimate, attribute
from offing.model.ahead import Ahead
from offing.model.design import Design
from offing.model.fit_state import FitState
from offing.model.term_effects import split_up
from offing.tables import View

BASELINE = "baseline"
CORRECTION = "log bias correction"
PAST = "autoregressive error"
ADJUSTMENT = "adjustment"
UNEXPLAINED = "unexplained"
FACTOR = "the target's factor"


@dataclass(frozen=True)
class Row:
    """One row (n,) of an account, with its derivative (n, k), and what only later periods have of it (n, m).

    `at` is the reference (n,) that is part of the baseline and not of the row, with its derivative.
    """

    name: str
    label: str
    values: Array
    gradient: Array
    future_columns: Array
    at: tuple[Array, Array] | None = None


@dataclass(frozen=True)
class Account:
    """Means of some periods, taken apart.

    Attributes
    ----------
    axis
        The periods as far as they follow each other; `ordinals` (n,) are those that are reported.
    rows
        Baseline and terms. On the log scale their sum is the logarithm of the mean times its factor, else the mean.
    log
        Whether rows are logarithms.
    mean
        What the target is expected to be (n,), or was.
    estimate
        What the coefficients are known by; None where nothing is said of their doubt.
    shift
        What the target's offset takes from every mean (n,).
    """

    ordinals: NDArray[np.int64]
    rows: tuple[Row, ...]
    log: bool
    mean: Array
    estimate: Estimate | None
    shift: Array

    @property
    def names(self) -> tuple[str, ...]:
        """The rows' names, the baseline first."""
        return tuple(row.name for row in self.rows)

    def row(self, name: str) -> Row | None:
        """The row of a name, if there is one."""
        return next((row for row in self.rows if row.name == name), None)

    @property
    def whole(self) -> Array:
        """The rows' sum (n,)."""
        return np.asarray(np.sum([row.values for row in self.rows], axis=0))

    @property
    def extra(self) -> Array:
        """What the mean differs (n,) from what the rows say: limits of the target, and its offset."""
        gap = self.mean - (np.exp(self.whole) if self.log else self.whole)
        size = np.nanmax(np.abs(self.mean), initial=0.0)
        return np.where(np.abs(gap) > 1e-11 * size, gap, 0.0)

    def only(self, places: NDArray[np.intp]) -> Account:
        """Some of the periods."""
        rows = tuple(_taken(row, places) for row in self.rows)
        return replace(
            self, ordinals=self.ordinals[places], rows=rows, mean=self.mean[places], shift=self.shift[places]
        )

    def absolute(self) -> Account:
        """The same with every reference in its own row instead of the baseline, so that none needs to be the same."""
        held = [row.at for row in self.rows if row.at is not None]
        base, rest = self.rows[0], []
        for value, gradient in held:
            base = replace(base, values=base.values - value, gradient=base.gradient - gradient)
        for row in self.rows[1:]:
            whole = (
                row
                if row.at is None
                else replace(row, values=row.values + row.at[0], gradient=row.gradient + row.at[1])
            )
            rest.append(replace(whole, at=None))
        return replace(self, rows=(base, *rest))

    def came(self, outcome: Array) -> Account:
        """The same periods with what came (n,), NaN where it is not known: what no row explains is one by itself."""
        size = self.whole
        room = outcome - self.shift
        seen = np.log(np.where(room > 0.0, room, np.nan)) if self.log else room
        first = self.rows[0]
        left = Row(UNEXPLAINED, UNEXPLAINED, seen - size, np.zeros_like(first.gradient), np.zeros((len(size), 0)))
        return replace(self, rows=(*self.rows, left), mean=outcome)

    def followed(self, later: Account) -> Account:
        """The same periods and those of a later account."""
        first, second = self, later
        if first.log != second.log:
            first, second = first.plain(), second.plain()
        if not first.alike(second):
            first, second = first.bare(), second.bare()
        names = list(dict.fromkeys((*first.names, *second.names)))
        rows = [_joined(name, first, second) for name in names]
        return Account(
            np.concatenate([first.ordinals, second.ordinals]),
            tuple(rows),
            first.log,
            np.concatenate([first.mean, second.mean]),
            first.estimate,
            np.concatenate([first.shift, second.shift]),
        )

    def alike(self, other: Account) -> bool:
        """Whether both rest on the same coefficients, so that their doubt is one."""
        both = self.estimate, other.estimate
        return both[0] is not None and both[1] is not None and both[0].root is both[1].root

    def bare(self) -> Account:
        """The same without anything said of the coefficients."""
        rows = [
            replace(row, gradient=row.gradient[:, :0], future_columns=row.future_columns[:, :0], at=None)
            for row in self.rows
        ]
        return replace(self, rows=tuple(rows), estimate=None)

    def grouped(self, groups: Mapping[str, Sequence[str]]) -> Account:
        """The rows of each group as one, under the group's name; members that are no rows count for nothing."""
        owner = {member: group for group, members in groups.items() for member in members}
        found: dict[str, Row] = {}
        for row in self.rows:
            name = owner.get(row.name, row.name)
            kept = found.get(name)
            label = name if row.name in owner else row.label
            found[name] = replace(row, name=name, label=label) if kept is None else _summed(kept, row)
        return replace(self, rows=tuple(found.values()))

    def plain(self) -> Account:
        """The same in amounts of the target, by which accounts on different scales can be compared."""
        if not self.log:
            return self
        amounts, weight = attribute(np.array([row.values for row in self.rows]), log=True)
        worth = [amounts[0], *[weight] * (len(self.rows) - 1)]
        rows = [
            replace(_scaled(row, each), values=own, at=None)
            for row, own, each in zip(self.rows, amounts, worth, strict=True)
        ]
        return replace(self, rows=tuple(rows), log=False)

    def standing(self, first: Array | None = None) -> Account:
        """The account as contributions are measured: the baseline as the mean of the first period's noise has it.

        That is what the correction comes to in the `first` period (1,), if these are later ones of a run.
        """
        noise = self.row(CORRECTION)
        if noise is None:
            return self
        first = noise.values[:1] if first is None else first
        rows = [replace(self.rows[0], values=self.rows[0].values + first), *self.rows[1:]]
        rows = [replace(row, values=row.values - first) if row.name == CORRECTION else row for row in rows]
        return replace(self, rows=tuple(row for row in rows if row.name != CORRECTION or row.values.any()))


def account(fit: FitState, view: View, axis: Axis, design: Design, ahead: Ahead, *, later: bool) -> Account:
    """The account of the periods of `axis` with its `design`: of fitted ones, or of `later` ones.

    Terms are D = c − r, a value less its reference, carried on through differences of the target in a forecast.
    """
    scale, slots = fit.scale, fit.layout.slots
    propagated = carrier(fit, ahead, later=later)
    parts = split_up(fit, view, axis, design, later=later)
    none = np.zeros((axis.n, 0))

    def future_columns(place: int) -> Array:
        found = fit.unknown_ahead(view, axis, design, place) if later else []
        return np.hstack([propagated(each) for each in found]) if found else none

    rows = [Row(BASELINE, BASELINE, ahead.base + propagated(parts.level), propagated(parts.base), none)]
    for place, value, function, at in zip(parts.places, parts.values, parts.functions, parts.ats, strict=True):
        label = fit.label_of(fit.model.terms[place])
        rows.append(
            Row(
                slots[place].term,
                label,
                propagated(value),
                propagated(function),
                future_columns(place),
                (propagated(at[0]), propagated(at[1])),
            )
        )
    if parts.past is not None:
        rows.append(Row(PAST, PAST, propagated(parts.past[0]), propagated(parts.past[1]), none))
    nothing = np.zeros_like(rows[0].gradient)
    if scale.log:
        # The mean of a log-normal variable lies above the middle (Aitchison & Brown 1957).
        rows.append(Row(CORRECTION, CORRECTION, ahead.variances / 2.0, nothing, none))
        if (ahead.factor != 1.0).any():
            rows.append(Row(FACTOR, FACTOR, -np.log(ahead.factor), nothing, none))
    elif (ahead.factor != 1.0).any():
        rows = [_scaled(row, 1.0 / ahead.factor) for row in rows]
    known = design.known & np.isfinite(ahead.levels)
    shift = -scale.offset / ahead.factor if scale.log else np.zeros(axis.n)
    return Account(axis.ordinals, tuple(rows), scale.log, np.where(known, ahead.cut, np.nan), fit.estimate, shift)


def carrier(fit: FitState, ahead: Ahead, *, later: bool) -> Callable[[Array], Array]:
    """What parts (n, …) of z add to v: through later periods of a forecast, in their own period of the history."""

    def propagated(parts: Array) -> Array:
        if later:
            return fit.scale.spread(parts, ahead.worth)
        if fit.scale.plain:  # one of z is worth one of v, and derivatives of all terms are large
            return parts
        return np.asarray(parts * ahead.worth.reshape(-1, *([1] * (parts.ndim - 1))))

    return propagated


def _taken(row: Row, places: NDArray[np.intp]) -> Row:
    at = None if row.at is None else (row.at[0][places], row.at[1][places])
    return replace(
        row, values=row.values[places], gradient=row.gradient[places], future_columns=row.future_columns[places], at=at
    )


def _scaled(row: Row, by: Array) -> Row:
    at = None if row.at is None else (row.at[0] * by, row.at[1] * by[:, None])
    return replace(
        row,
        values=row.values * by,
        gradient=row.gradient * by[:, None],
        future_columns=row.future_columns * by[:, None],
        at=at,
    )


def _joined(name: str, first: Account, later: Account) -> Row:
    found = [next((row for row in each.rows if row.name == name), None) for each in (first, later)]
    label = next(row.label for row in found if row is not None)
    values, leans, extra = [], [], []
    for row, each in zip(found, (first, later), strict=True):
        n, k = len(each.ordinals), each.rows[0].gradient.shape[1]
        values.append(np.zeros(n) if row is None else row.values)
        leans.append(np.zeros((n, k)) if row is None else row.gradient)
        extra.append(np.zeros((n, 0)) if row is None else row.future_columns)
    width = max(each.shape[1] for each in extra)
    extra = [np.pad(each, ((0, 0), (0, width - each.shape[1]))) for each in extra]
    held = [None if row is None else row.at for row in found]
    at = None
    if any(each is not None for each in held):
        none = [(np.zeros(len(value)), np.zeros(gradient.shape)) for value, gradient in zip(values, leans, strict=True)]
        both = [each or zero for each, zero in zip(held, none, strict=True)]
        at = np.concatenate([both[0][0], both[1][0]]), np.vstack([both[0][1], both[1][1]])
    return Row(name, label, np.concatenate(values), np.vstack(leans), np.vstack(extra), at)


def _summed(one: Row, more: Row) -> Row:
    future_columns = np.hstack([one.future_columns, more.future_columns])
    at = one.at or more.at
    if one.at is not None and more.at is not None:
        at = one.at[0] + more.at[0], one.at[1] + more.at[1]
    return replace(
        one,
        values=one.values + more.values,
        gradient=one.gradient + more.gradient,
        future_columns=future_columns,
        at=at,
    )
