"""`walk`: from anything that a forecast may be compared with."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, count, nearest
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.explain.date_spans import coarser, named_span, owners
from offing.explain.why.difference import between
from offing.explain.why.revision import Stages, outcome_stages, revised_stages, scenario_stages
from offing.explain.why.walk import Walk, steps_of, together
from offing.model import Forecast
from offing.model.contributions import fitted_account
from offing.model.decomposition import BASELINE, Account
from offing.model.direct_forecast import DirectForecast
from offing.model.fitted import Fitted
from offing.model.joint_simulation import PATH_BATCHES, outcome_paths
from offing.model.reapply import rerun
from offing.outlook import Scenario

LAST_YEAR, MEAN = "last-year", "mean"


class Sized(Protocol):
    """What can be walked to beside fits: a forecast, a combination, or a forecast that was changed by hand."""

    @property
    def fit(self) -> Fitted:
        """Whose target it is of."""

    @property
    def axis(self) -> Axis:
        """Its periods."""

    @property
    def account(self) -> Account:
        """Its means taken apart."""


Side = Fitted | Sized


def walk(
    end: Side | Mapping[str, Side],
    against: object = None,
    *,
    by: str | None = None,
    span: object = None,
    groups: Mapping[str, Sequence[str]] | None = None,
) -> Walk:
    """The step-by-step account from something to a forecast; or to a fit's outcomes.

    Parameters
    ----------
    end
        A forecast, plain, combined, or changed by hand; a fit, for its outcomes; or several series of them by name,
        whose walks are summed.
    against
        From what: nothing for the baseline, so that the steps are contributions; ``last-year`` for the same periods a
        year before; ``mean`` for the mean of the history; a stated period, such as ``2025-07`` or a pair of dates; a
        driver's value, as ``{"fare": 18.0}``; another forecast. An earlier forecast is walked to a later one in the
        order in which things became known, and to a fit of what came by revised data, drivers that turned out
        otherwise, the model, and what no term explains.
    by
        Sums by ``month``, ``quarter``, ``year`` or each ``period``; by default one sum over all.
    span
        Only these periods of the end: ``2026``, ``2026-Q3``, ``2026-07``, or a pair of dates.
    groups
        Terms that are one step, by the name of the step: ``{"price": ["fare", "promotion"]}``.

    Returns
    -------
    Walk
        Steps add up to the change exactly. Within a phase no order enters: on the log scale what lies between two
        values is shared out by their logarithmic mean (Ang 2005), pair by pair. Against a mean or a stated period
        every period is compared with each of these in turn. So steps in amounts need not add up over a third value on
        the way, though the changes do.

    Raises
    ------
    InputError
        For different targets, units or frequencies, an unknown term or driver, or periods that are not there.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> fare = 20.0 + np.tile([0.0, 1.0, 3.0], 12) + np.arange(36) / 12
    >>> sold = pd.DataFrame({"sold": 900.0 - 10.0 * fare + np.tile([1.0, -1.0], 18), "fare": fare}, months)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(sold)
    >>> plan = pd.DataFrame({"fare": 25.0}, pd.period_range("2025-01", periods=3, freq="M"))
    >>> print(of.walk(fit.forecast(3, plan=plan), "last-year").statements()[0])
    'fare' takes away 47.6, 2.38 points of growth (95 % between −48.6 and −46.5).
    """
    if isinstance(end, Mapping):
        if not end:
            raise InputError("there is no series", "Give forecasts by the names of their series.", key="end")
        walks = {}
        for name, each in end.items():
            other = against[name] if isinstance(against, Mapping) and name in against else against
            walks[name] = walk(each, other, by=by, span=span, groups=groups)
        return together(walks, f"{_fit_of(next(iter(end.values()))).column}, all series")
    inner = _fit_of(end)
    axis = _requested(end, against, span)
    every, start_words, end_words, pooled = _accounts(end, against, axis)
    _check_groups(groups or {}, {name for _, each in every for name in each.names})
    every = [(phase, each.grouped(groups or {})) for phase, each in every]
    ok = np.all([_known(each) for _, each in (every[1:] if pooled else every)], axis=0)
    if not ok.any():
        raise InputError(
            "no period can be compared with what is asked for, for want of known values",
            "Ask for other periods.",
            key="against",
        )
    notes: tuple[str, ...] = ()
    if not ok.all():
        notes = (f"Left out: {count(int((~ok).sum()), axis.frequency.unit)} without known values there.",)
    kept = np.flatnonzero(ok)
    every = [(phase, each if pooled and i == 0 else each.only(kept)) for i, (phase, each) in enumerate(every)]

    def made(owner: NDArray[np.intp], labels: tuple[str, ...], total: Walk | None) -> Walk:
        # A span of which nothing is known is none.
        statements, group = np.unique(owner[ok], return_inverse=True)
        labels = tuple(labels[i] for i in statements.tolist())
        steps, found = [], []
        for i, ((_, before), (phase, after)) in enumerate(pairwise(every)):
            found.append(between(before, after, group.astype(np.intp), len(labels), pooled=pooled and i == 0))
            steps += steps_of(found[-1], phase)
        half = found[0].total_half if len(found) == 1 else np.full(len(labels), np.nan)
        phases = tuple(dict.fromkeys(phase for phase, _ in every[1:] if phase))
        outcome = None
        if against is not None and not isinstance(against, (Mapping, Forecast)) and ok.all():
            outcome = _outcome(end, axis, owner, found[0].start)
        unit = inner.unit if len(labels) == len(owner[ok]) else inner.sum_unit
        return Walk(
            inner.label,
            unit,
            labels,
            start_words,
            end_words,
            found[0].start,
            found[-1].end,
            tuple(steps),
            half,
            phases,
            notes,
            total,
            outcome,
        )

    total = made(*_spans(axis, None), None)
    return total if by is None else made(*_spans(axis, by), total)


def _outcome(end: Side, axis: Axis, owner: NDArray[np.intp], start: Array) -> Array | None:
    """The 95 % interval (2, g) of the outcomes' sums less a known start, by joint paths; None of other ends."""
    if not isinstance(end, Forecast) or isinstance(end, DirectForecast) or end.bare is not end:
        return None
    rows = np.zeros((end.axis.n, len(start)))
    rows[axis.ordinals - end.axis.first, owner] = 1.0
    sums = np.vstack([each @ rows for each in outcome_paths(end, PATH_BATCHES, mirrored=True)])
    return np.asarray(np.quantile(sums, (0.025, 0.975), axis=0) - start)


def _fit_of(side: Side) -> Fitted:
    fit = side if isinstance(side, Fitted) else getattr(side, "fit", None)
    if not isinstance(fit, Fitted):
        raise InputError(f"found a {type(side).__name__}", "Give a forecast, or a fit.", key="end")
    return fit


def _requested(end: Side, against: object, span: object) -> Axis:
    """The periods of the end that are walked to."""
    if isinstance(end, Fitted):
        whole = end.axis
        if isinstance(against, Forecast):
            low, high = max(against.axis.first, whole.first), min(_stop(against.axis), _stop(whole))
            if high <= low:
                raise InputError("nothing that was forecast has come yet", "Fit newer data.", key="against")
            whole = Axis(whole.frequency, low, high - low)
        elif span is None:
            whole = whole.part(max(whole.n - whole.frequency.year_back, 0), whole.n)
    else:
        whole = end.axis
        if isinstance(against, Forecast) and against is not end:
            low, high = against.axis.first, min(_stop(against.axis), _stop(whole))
            if high <= low or low > whole.first:
                raise InputError(
                    f"the forecasts do not follow each other: one is of {against.axis.spell()}, the other of "
                    f"{whole.spell()}",
                    "Give the earlier one as what it is compared with.",
                    key="against",
                )
            whole = Axis(whole.frequency, low, high - low)
    return whole if span is None else _within(whole, span)


def _stop(axis: Axis) -> int:
    return axis.first + axis.n


def _within(whole: Axis, span: object) -> Axis:
    """The periods of a stated span that are among others."""
    own = named_span(span, whole)
    low, high = max(own.first, whole.first), min(_stop(own), _stop(whole))
    if high <= low:
        raise InputError(f"no period of {whole.spell()} lies in {_said(span)}", "Give a span among them.", key="span")
    return Axis(whole.frequency, low, high - low)


def _said(span: object) -> str:
    several = isinstance(span, Sequence) and not isinstance(span, str)
    return " to ".join(str(each) for each in span) if several else str(span)  # type: ignore[attr-defined]


def _spans(axis: Axis, by: str | None) -> tuple[NDArray[np.intp], tuple[str, ...]]:
    """The group of each period, and the groups' names."""
    if by is None:
        return np.zeros(axis.n, dtype=np.intp), (axis.spell(),)
    if by in ("period", axis.frequency.unit):
        return np.arange(axis.n), tuple(axis.labels())
    groups = coarser(axis.frequency, by)
    own = owners(axis, groups)
    unlike, at = np.unique(own, return_inverse=True)
    return at.astype(np.intp), tuple(Axis(groups, int(each), 1).labels()[0] for each in unlike)


def _check_groups(groups: Mapping[str, Sequence[str]], names: set[str]) -> None:
    """Refuse groups of unknown terms, of terms in two groups, and those whose name is that of another term."""
    owner: dict[str, str] = {}
    for group, members in groups.items():
        if isinstance(members, str):
            raise InputError(f"found {members!r} for the group {group!r}", "Give a list of terms.", key="groups")
        for member in members:
            if member not in names:
                raise InputError(
                    f"there is no term {member!r} for the group {group!r}",
                    nearest(str(member), names - {BASELINE}),
                    key="groups",
                )
            if member in owner:
                raise InputError(f"{member!r} is in two groups, {owner[member]!r} and {group!r}", key="groups")
            owner[member] = group
        if group in names and group not in members:
            raise InputError(f"a term is called {group!r} as well", "Rename the group.", key="groups")


def _known(each: Account) -> NDArray[np.bool_]:
    """Which periods (n,) are known throughout."""
    return np.asarray(np.isfinite(each.whole) & np.isfinite(each.mean))


def _accounts(end: Side, against: object, axis: Axis) -> tuple[Stages, str, str, bool]:
    """Accounts from the start to the end, what both are called, and whether all of the start is pooled.

    Else every account has the same periods, or those that they are compared with, at the same places.
    """
    to = "outcome" if isinstance(end, Fitted) else "forecast"
    if isinstance(against, Forecast):
        if isinstance(end, Fitted):
            return outcome_stages(against, end, axis), "the forecast", "outcome", False
        if not isinstance(end, Forecast):
            raise InputError(
                f"found a {type(end).__name__} against a forecast", "Walk between two plain forecasts.", key="against"
            )
        if against.fit is end.fit:
            named = end.scenario if end.scenario != against.scenario else "forecast"
            return scenario_stages(against, end, axis), f"'{against.scenario}'", f"forecast '{named}'", False
        then = f"the forecast of {against.origin:%Y-%m-%d}"
        return revised_stages(against, end, axis), then, f"forecast of {end.origin:%Y-%m-%d}", False
    whole = fitted_account(end).came(end.target) if isinstance(end, Fitted) else end.account
    origin = end.axis.first
    last = whole.only(axis.ordinals - origin)
    if against is None:
        standing = whole.standing().only(axis.ordinals - origin)
        return [("", _baseline(standing)), ("", standing)], BASELINE, to, False
    if isinstance(against, Mapping):
        if not isinstance(end, Forecast):
            raise InputError("a driver's value is compared with a forecast", "Give a plain forecast.", key="against")
        for name, value in against.items():
            if isinstance(value, bool) or not isinstance(value, (int, float, np.number)):
                raise InputError(
                    f"found {value!r} for {name!r}", "Give a number; other rules make a scenario.", key="against"
                )
        held = rerun(end, Scenario("held", against).on(end.fit, end.view, end.axis)[0])
        said = " and ".join(f"'{name}' at {value:g}" for name, value in against.items())
        return [("", held.account.only(axis.ordinals - origin)), ("", last)], said, to, False
    fit = _fit_of(end)
    past = fitted_account(fit).came(fit.target)
    if against == MEAN:
        seen = np.flatnonzero(fit.used & np.isfinite(past.whole))
        return [("", past.only(seen)), ("", last)], "the history's mean", to, True
    full = past if isinstance(end, Fitted) else past.followed(whole)
    if against == LAST_YEAR:
        return [("", _before(full, axis.ordinals - axis.frequency.year_back)), ("", last)], "the year before", to, False
    requested = named_span(against, fit.axis)
    inside = np.flatnonzero((full.ordinals >= requested.first) & (full.ordinals < _stop(requested)))
    inside = inside[np.isfinite(full.whole[inside])]
    if not len(inside):
        raise InputError(
            f"no known period lies in {_said(against)}", "Give a span of the history or the forecast.", key="against"
        )
    return [("", full.only(inside)), ("", last)], f"{_said(against)}, the mean of its {axis.frequency.unit}s", to, True


def _before(full: Account, ordinals: NDArray[np.int64]) -> Account:
    """The account of some periods, of which those that it does not hold are not known."""
    at = ordinals - int(full.ordinals[0])
    inside = (at >= 0) & (at < len(full.ordinals))
    found = full.only(np.clip(at, 0, len(full.ordinals) - 1))
    return replace(found, mean=np.where(inside, found.mean, np.nan))


def _baseline(last: Account) -> Account:
    """The same periods with nothing but their baseline."""
    first = last.rows[0]
    size = np.exp(first.values) if last.log else first.values
    return Account(last.ordinals, (first,), last.log, size + last.shift, last.estimate, last.shift)
