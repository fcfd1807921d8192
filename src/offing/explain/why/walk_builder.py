"""`walk`: from anything that a forecast may be compared with."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from offing.archiving.archived import ArchivedForecast
from offing.base import InputError, count, nearest
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.explain.date_spans import coarser, owners
from offing.explain.why.difference import between
from offing.explain.why.walk import Walk, steps_of, together
from offing.explain.why.walk_sides import Side, accounts_of, fit_of, requested_accounts
from offing.model import Forecast
from offing.model.decomposition import BASELINE, Account
from offing.model.direct_forecast import DirectForecast
from offing.model.joint_simulation import PATH_BATCHES, outcome_paths


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
        driver's value, as ``{"fare": 18.0}``; another forecast; or one of an `archive`. An earlier forecast is walked
        to a later one in the order in which things became known, and to a fit of what came by revised data, drivers
        that turned out otherwise, the model, and what no term explains. One of an archive is walked to either term by
        term, over the periods that both have.
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
        return together(walks, f"{fit_of(next(iter(end.values()))).column}, all series")
    inner = fit_of(end)
    axis = requested_accounts(end, against, span)
    every, start_words, end_words, pooled = accounts_of(end, against, axis)
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
        if against is not None and not isinstance(against, (Mapping, Forecast, ArchivedForecast)) and ok.all():
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
