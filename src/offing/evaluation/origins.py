"""Moments of the past from which forecasts are made, and the periods that each is about."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.limits import check_ahead, check_origins
from offing.calendar import Axis, Frequency
from offing.calendar.axis import instant_of
from offing.engine import naive_change
from offing.tables import Table

#: Origins where nothing else is stated: a year of months.
USUAL = 12


@dataclass(frozen=True)
class Origins:
    """Which origins a back-test has, and what it forecasts from each.

    Parameters
    ----------
    horizon
        How many periods are forecast from each.
    origins
        How many, up to the last one whose outcomes are all known; or a list of dates. By default 12, or with
        `first_origin` all from there on. One is a single split.
    first_origin
        A date; later ones lie at the same place within their periods.
    every
        How many periods lie between two; by default as many as the horizon, so that none is forecast twice.
    gap
        How many periods after the last known one are not forecast.
    window
        How many of the newest periods each fit sees; by default all.

    Raises
    ------
    InputError
        For numbers that mean nothing.

    Examples
    --------
    >>> import offing as of
    >>> of.Origins(13, every=4).usual_step
    4
    """

    horizon: int
    origins: int | Sequence[object] | None = None
    first_origin: object = None
    every: int | None = None
    gap: int = 0
    window: int | None = None

    def __post_init__(self) -> None:
        for key, least in (("horizon", 1), ("every", 1), ("gap", 0), ("window", 3)):
            value = getattr(self, key)
            if value is None and key in ("every", "window"):
                continue
            if isinstance(value, bool) or not isinstance(value, (int, np.integer)) or value < least:
                raise InputError(f"found {value!r}", f"Give a whole number from {least} on.", key=key)
        count = self.origins
        if isinstance(count, (str, bool)) or (isinstance(count, int) and count < 1):
            raise InputError(f"found {count!r}", "Give a number from 1 on, or a list of dates.", key="origins")
        if count is not None and not isinstance(count, int):
            if not len(count):
                raise InputError("there is no date", "Give one or more, or a number.", key="origins")
            if self.first_origin is not None or self.every is not None:
                raise InputError("the origins are listed", "Leave out first_origin and every.", key="origins")

    @property
    def usual_step(self) -> int:
        """How many periods lie between two origins, where they are not listed."""
        return self.every or self.horizon

    def on(self, table: Table, column: str, hidden: int = 0) -> Cuts:
        """The origins of one series, as if its newest `hidden` periods were not there.

        Raises
        ------
        InputError
            If there are none, or a listed one has nothing before it or no outcome after it.
        """
        values = table.values(column)
        known = np.flatnonzero(np.isfinite(values))
        if not len(known):
            raise InputError("the target has no values", file=table.name, column=column)
        check_ahead(self.gap + self.horizon, table.axis.frequency.periods_a_year)
        requested = self.origins if isinstance(self.origins, (int, np.integer)) else len(self.origins or ())
        check_origins(int(requested), self.horizon)
        released = table.known_at()
        last = int(known[-1]) - hidden
        moments = self._moments(table.axis, released, known, last)
        ends = np.array([rows_before(known, released, moment) for moment in moments.tolist()], dtype=np.intp)
        listed = isinstance(self.origins, Sequence)
        for moment, end in zip(moments.tolist(), ends.tolist(), strict=True):
            day = f"{table.axis.frequency.index(np.array([moment]))[0]:%Y-%m-%d}"
            if end == 0:
                raise InputError(
                    f"nothing of the target was known on {day}",
                    "Give later origins.",
                    file=table.name,
                    column=column,
                    key="origins",
                )
            if listed and end + self.gap > last:
                raise InputError(
                    f"no outcome of a forecast made on {day} is known",
                    "Give earlier origins.",
                    file=table.name,
                    column=column,
                    key="origins",
                )
        return Cuts(self, table, column, int(known[0]), moments, ends)

    def _moments(
        self, axis: Axis, released: NDArray[np.int64], known: NDArray[np.intp], last: int
    ) -> NDArray[np.int64]:
        """Instants (f,) of the origins, in their order."""
        if isinstance(self.origins, Sequence):
            return np.array(sorted({_instant(each, axis) for each in self.origins}), dtype=np.int64)
        newest = last + 1 - self.gap - self.horizon  # rows known before the last origin
        if self.first_origin is not None:
            first = _instant(self.first_origin, axis)
            ordinal = int(axis.frequency.ordinals(np.array([first]))[0])
            into = first - int(axis.frequency.starts(np.array([ordinal]))[0])
            places = np.arange(ordinal, axis.first + last + 2, self.usual_step, dtype=np.int64)
            check_origins(min(len(places), int(self.origins or len(places))), self.horizon)
            moments = at_place(axis.frequency, places, into)
            moments = np.array([each for each in moments.tolist() if rows_before(known, released, each) <= newest])
            moments = moments[-self.origins :] if self.origins is not None else moments
        else:
            count = USUAL if self.origins is None else int(self.origins)
            rows = newest - 1 - self.usual_step * np.arange(count)[::-1]
            if rows[0] < int(known[0]) or (self.origins is None and rows[0] < 2):
                fit = int((newest - 1 - int(known[0])) // self.usual_step) + 1
                if fit < 1:
                    raise InputError(
                        f"a horizon of {self.horizon} leaves nothing to learn from",
                        "Give a smaller one.",
                        key="horizon",
                    )
                if self.origins is not None:
                    raise InputError(
                        f"{count} origins, {self.usual_step} periods apart, reach back before the target's first value",
                        f"Give at most {fit}, or a smaller step or horizon.",
                        key="origins",
                    )
            # By default the first half of the history is left to learn from.
            usual = rows >= (int(known[0]) + newest) // 2 if self.origins is None else np.ones(len(rows), dtype=bool)
            rows = rows[usual] if usual.any() else rows[-1:]
            moments = released[rows]
        if not len(moments):
            raise InputError(
                "no origin has all its outcomes in the data", "Give an earlier first_origin.", key="first_origin"
            )
        return np.asarray(moments, dtype=np.int64)


@dataclass(frozen=True)
class Cuts:
    """The origins of one series: `moments` (f,), and how many rows (f,) of its table lie before each."""

    plan: Origins
    table: Table
    column: str
    first: int
    moments: NDArray[np.int64]
    ends: NDArray[np.intp]

    @property
    def rows(self) -> NDArray[np.intp]:
        """Rows (f, h) that are forecast; some may lie after the table's last."""
        return self.ends[:, None] + self.plan.gap + np.arange(self.plan.horizon)

    @property
    def horizons(self) -> NDArray[np.intp]:
        """How many periods (h,) after the last known one each is."""
        return np.arange(1, self.plan.horizon + 1) + self.plan.gap

    @cached_property
    def scale(self) -> Array:
        """Mean absolute and squared changes (f, 2) of what was known: over a season, or of periods within two."""
        season = self.table.axis.frequency.year_back
        pasts = [self.past(fold) for fold in range(len(self.ends))]
        return np.array([naive_change(past, season if len(past) >= 2 * season else 1) for past in pasts])

    def only(self, folds: Sequence[int]) -> Cuts:
        """Some of the origins."""
        chosen = list(folds)
        return replace(self, moments=self.moments[chosen], ends=self.ends[chosen])

    @cached_property
    def outcome(self) -> Array:
        """Outcomes (f, h), as they stand today; NaN where there is none."""
        values = self.table.values(self.column)
        inside = self.rows < len(values)
        return np.where(inside, values[np.minimum(self.rows, len(values) - 1)], np.nan)

    @property
    def origins(self) -> pd.DatetimeIndex:
        """The moments (f,) as dates."""
        return self.table.axis.frequency.index(self.moments)

    def axis(self, fold: int) -> Axis:
        """The periods that one fold forecasts."""
        return Axis(self.table.axis.frequency, self.table.axis.first + int(self.rows[fold, 0]), self.plan.horizon)

    def past(self, fold: int) -> Array:
        """The target's values (n,) known at the fold's origin, as they stood then; within its window."""
        values = self.table.values_at(self.column, int(self.moments[fold]))
        window = self.plan.window
        start = self.first if window is None else max(self.first, int(self.ends[fold]) - window)
        return values[start : self.ends[fold]]

    @property
    def overlap(self) -> int:
        """After how many origins a forecast shares no outcome with an earlier one's any more, less one."""
        steps = np.diff(self.ends)
        step = int(steps.min()) if len(steps) else self.plan.horizon
        return max(-(-(self.plan.horizon + self.plan.gap) // max(step, 1)) - 1, 0)

    def known_by(self, fold: int) -> NDArray[np.bool_]:
        """Which forecasts (f, h) have outcomes that were known at the fold's origin."""
        released = self.table.known_at()
        inside = self.rows < len(released)
        return np.asarray(inside & (released[np.minimum(self.rows, len(released) - 1)] <= self.moments[fold]))


def at_place(frequency: Frequency, ordinals: NDArray[np.int64], into: int) -> NDArray[np.int64]:
    """Instants (n,) that lie so far into their periods, or at the end of those that are shorter."""
    return np.asarray(np.minimum(frequency.starts(ordinals) + into, frequency.starts(ordinals + 1) - 1))


def one_scene(every: Sequence[Cuts]) -> bool:
    """Whether several series have the same periods and origins, so that they can be added up."""
    first = every[0]
    return len(every) > 1 and all(
        np.array_equal(cuts.moments, first.moments)
        and np.array_equal(cuts.ends, first.ends)
        and cuts.table.axis == first.table.axis
        for cuts in every
    )


def summed_cuts(every: Sequence[Cuts]) -> Cuts:
    """The same origins of the sum of several series; it is known where all of them are."""
    first = every[0]
    values = np.sum([cuts.table.values(cuts.column) for cuts in every], axis=0)
    units, labels = (
        {name: each for name, each in said.items() if name == first.column}
        for said in (first.table.units, first.table.labels)
    )
    table = replace(
        first.table,
        columns={first.column: values},
        units=units,
        labels=labels,
        unusable={},
        texts={},
        vintages=None,
        treatments=(),
        findings=(),
    )
    known = np.flatnonzero(np.isfinite(values))
    return replace(first, table=table, first=int(known[0]) if len(known) else 0)


def rows_before(known: NDArray[np.intp], released: NDArray[np.int64], moment: int) -> int:
    """How many rows lie before a moment: up to the last one whose value is published."""
    out = known[released[known] <= moment]
    return int(out[-1]) + 1 if len(out) else 0


def _instant(day: object, axis: Axis) -> int:
    try:
        return int(instant_of(day, axis.frequency)[0])
    except (ValueError, TypeError) as error:
        raise InputError(
            f"found {day!r}, which is not a date", "Give one such as 2026-05-21.", key="origins"
        ) from error
