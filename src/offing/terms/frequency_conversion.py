"""A driver whose periods are not the target's: what of it can be used, and how it comes to the target's periods."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal, get_args

import numpy as np

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, holding, inside, on_clock_of
from offing.engine import spread_smoothly
from offing.tables import View
from offing.terms.driver_options import Between, Combined, StatedDriver
from offing.terms.lag_weights import LagWeights
from offing.terms.transform_step import Series


def native(view: View, reference: str) -> View:
    """The view with the fitted periods as those of a column's own frequency."""
    rows = view.native(reference, view.rows)
    origin = on_clock_of(rows.frequency, view.rows.frequency, np.array([view.origin]))
    return replace(view, rows=rows, origin=int(origin[0]))


def combined(view: View, reference: str, how: Combined) -> Series:
    """A faster column by the target's periods: of the values that end in each, all of which must be known."""
    frequency = view.frequency(reference)

    def series(axis: Axis) -> Array:
        own, place = inside(frequency, axis)
        values = view.known(reference, own).values
        last = np.flatnonzero(np.append(np.diff(place) != 0, True))
        if how == "last":
            found = np.full(axis.n, np.nan)
            found[place[last]] = values[last]
            return found
        sums = np.bincount(place, values, minlength=axis.n)
        counts = np.bincount(place, minlength=axis.n)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(counts > 0, sums if how == "sum" else sums / counts, np.nan)

    return series


def spread(driver: StatedDriver, view: View) -> Series:
    """A slower column by the target's periods, from the values that are known at the view's origin."""
    slow = view.reach(driver.data)
    values = view.known(driver.data, slow).values
    known = np.flatnonzero(np.isfinite(values))

    def series(axis: Axis) -> Array:
        place = holding(slow.frequency, axis) - driver.skip - slow.first
        within = (place >= 0) & (place < slow.n)
        here = np.where(within, values[np.clip(place, 0, slow.n - 1)], np.nan)
        if driver.between == "repeat" or not len(known):
            return np.asarray(here)
        if driver.between == "linear":
            moved = slow.shifted(driver.skip)
            own = on_clock_of(slow.frequency, axis.frequency, (axis.starts + axis.ends) // 2)
            between = np.interp(own, ((moved.starts + moved.ends) // 2)[known], values[known])
            return np.where(np.isfinite(here), between, np.nan)
        counts = _counted(slow.frequency, axis, driver.skip)
        return np.asarray(here / counts) if driver.between == "divide" else _smoothed(driver, view, slow, values, axis)

    return series


def base_series(driver: StatedDriver, view: View) -> Series:
    """The driver's values on periods of its own frequency, or of the target's, before any transformation."""
    if driver.combine is not None:
        return combined(view, driver.data, driver.combine)
    if driver.between is not None:
        return spread(driver, view)
    return lambda axis: view.known(driver.data, axis).values


def _counted(slow: Frequency, axis: Axis, skip: int) -> Array:
    """How many periods (n,) of the frequency of `axis` make up the slow one whose value each takes."""
    at = holding(slow, axis) - skip
    first = int(at[0])
    _, place = inside(axis.frequency, Axis(slow, first, int(at[-1]) - first + 1))
    return np.asarray(np.bincount(place)[at - first], dtype=np.float64)


def _smoothed(driver: StatedDriver, view: View, slow: Axis, values: Array, axis: Axis) -> Array:
    """Smooth values (n,) on `axis`, from each run of known slow values by itself."""
    found = np.full(axis.n, np.nan)
    known = np.flatnonzero(np.isfinite(values))
    for run in np.split(known, np.flatnonzero(np.diff(known) > 1) + 1):
        own, place = inside(axis.frequency, slow.part(int(run[0]), int(run[-1]) + 1).shifted(driver.skip))
        if not own.n:
            continue
        sums = values[run] * (np.bincount(place) if driver.keeps == "mean" else 1.0)
        pattern = None if driver.pattern is None else view.known(driver.pattern, own).values
        if pattern is not None and not np.isfinite(pattern).all():
            at = int(np.flatnonzero(~np.isfinite(pattern))[0])
            raise InputError(
                "the pattern has no value there, but the slower series has one",
                "Fill or shorten it.",
                column=driver.pattern,
                period=own.part(at, at + 1).labels()[0],
            )
        smooth = spread_smoothly(sums, place, pattern)
        where = axis.ordinals - own.first
        inner = (where >= 0) & (where < own.n)
        found[inner] = smooth[where[inner]]
    return found


def check_ways(driver: StatedDriver) -> None:
    """Refuse ways of crossing frequencies that mean nothing or do not go together.

    Raises
    ------
    InputError
        Saying what is allowed.
    """
    for key, kind in (("combine", Combined), ("between", Between), ("keeps", Literal["sum", "mean"])):
        value = getattr(driver, key)
        if value not in get_args(kind) and not (value is None and key != "keeps"):
            raise InputError(f"found {value!r}", f"Allowed: {', '.join(get_args(kind))}.", key=key)
    if driver.combine is not None and driver.between is not None:
        raise InputError("a driver has another frequency than the target", "Give combine or between.", key="between")
    for key, usual in (("pattern", None), ("keeps", "sum")):
        if getattr(driver, key) != usual and driver.between != "smooth":
            raise InputError(
                f"{key} belongs to a slower driver that is drawn smooth", 'State between = "smooth".', key=key
            )


def check_crossing(driver: StatedDriver, view: View) -> None:
    """Refuse a driver of another frequency that does not say how it comes to the target's, or does so wrongly.

    Raises
    ------
    InputError
        Naming both frequencies.
    """
    own, target = view.frequency(driver.data), view.rows.frequency
    faster = own.periods_a_year - target.periods_a_year
    both = f"its frequency is the {own}, that of the target the {target}"
    if own == target:
        key = "combine" if driver.combine is not None else "between" if driver.between is not None else None
        if key:
            raise InputError(f"its values are by the {own} already", f"Leave out {key}.", key=key)
        return
    if faster == 0.0:
        raise InputError(
            f"{both}, and neither nests in the other", "Read both with the same frequency.", column=driver.data
        )
    if faster > 0.0 and driver.between is not None:
        raise InputError(f"{both}, which is slower", "Say weights or combine instead of between.", column=driver.data)
    if faster > 0.0 and driver.weights is None and driver.combine is None:
        raise InputError(
            f"{both}, and it is not said how its values become one",
            'State weights = "beta" with a span, so that each has a weight of its own, or combine = "mean".',
            column=driver.data,
        )
    if faster < 0.0 and driver.between is None:
        raise InputError(
            f"{both}, which is faster",
            'Say what it is within its periods: between = "repeat", "divide", "linear" or "smooth".'
            if driver.weights is None and driver.combine is None
            else "Weights and combine are for faster drivers; say between instead.",
            column=driver.data,
        )
    if driver.pattern is not None and view.frequency(driver.pattern) != target:
        raise InputError(
            "a pattern has the frequency of the target", "Give another column.", column=driver.pattern, key="pattern"
        )


def check_lags(driver: StatedDriver, view: View, lags: Array) -> None:
    """Refuse lags (n, span) of which hardly anything is known, or something in between is not.

    Raises
    ------
    InputError
        Naming the series and its dates.
    """
    weights, table = LagWeights.of(driver), view.sources.tables[view.sources.find(driver.data)[0]]
    known = np.flatnonzero(np.isfinite(view.known(driver.data, table.axis).values))
    if not len(known):
        raise InputError("it has no value that is known", file=table.name, column=driver.data)
    axis = table.axis.part(int(known[0]), int(known[-1]) + 1)
    whole = np.isfinite(lags).all(axis=1)
    if not whole.any():
        noted = f"its {axis.spell()} and the target's {view.rows.spell()}"
        if weights.span > axis.n:
            raise InputError(
                f"a span of {count(weights.span, axis.frequency.unit)} is longer than {noted}",
                "Give a shorter one.",
                file=table.name,
                column=driver.data,
                key="span",
            )
        if weights.skip and weights.span + weights.skip > axis.n:
            raise InputError(
                f"skipping {weights.skip} of them leaves nothing of {noted}",
                "Skip fewer.",
                file=table.name,
                column=driver.data,
                key="skip",
            )
        raise InputError(
            f"{noted} do not overlap by a whole span",
            "Give longer series or a shorter span.",
            file=table.name,
            column=driver.data,
        )
    gone = np.setdiff1d(np.arange(known[0], known[-1]), known)
    needed = weights.needed(axis.frequency, view.rows)
    gone = gone[(table.axis.first + gone >= needed.first) & (table.axis.first + gone < needed.first + needed.n)]
    if len(gone):
        raise InputError(
            f"it has no value in {count(len(gone), f'{axis.frequency.unit}')} within the span of its lags",
            f'Fill the gap with a treatment: data = "{driver.data}", missing = "linear".',
            file=table.name,
            column=driver.data,
            period=table.axis.part(int(gone[0]), int(gone[0]) + 1).labels()[0],
        )
    if weights.columns >= whole.sum():
        raise InputError(
            f"{driver.weights} weights over {weights.span} lags have {count(weights.columns, 'coefficient')}, but only "
            f"{count(int(whole.sum()), view.rows.frequency.unit)} of the target have all lags",
            'Give a shorter span, or a curve with few coefficients such as weights = "beta".',
            file=table.name,
            column=driver.data,
            key="span",
        )


def first_gone(driver: StatedDriver, view: View, axis: Axis, series: Series) -> tuple[str, Axis] | None:
    """The earliest period of its own that the lags on `axis` need and that has no value."""
    frequency = view.frequency(driver.data)
    needed = LagWeights.of(driver).needed(frequency, axis)
    values = series(needed)
    gone = np.flatnonzero(np.isnan(values))
    return (driver.data, needed.part(int(gone[0]), int(gone[0]) + 1)) if len(gone) else None


def own_part(driver: StatedDriver, view: View, period: Axis) -> Axis:
    """The first period of its own without a value, of those that one of the target's needs."""
    frequency = view.frequency(driver.data)
    if driver.between is not None:
        return Axis(frequency, int(holding(frequency, period)[0]) - driver.skip, 1)
    own = view.native(driver.data, period)
    gone = np.flatnonzero(np.isnan(view.known(driver.data, own).values))
    return own.part(int(gone[0]), int(gone[0]) + 1) if len(gone) else own
