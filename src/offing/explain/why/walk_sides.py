"""The two sides of a walk, and the accounts between them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from offing.archiving.archived import ArchivedForecast
from offing.base import InputError
from offing.calendar import Axis
from offing.explain.date_spans import named_span
from offing.explain.why.revision import Stages, outcome_stages, revised_stages, scenario_stages
from offing.explain.why.walk import check_same
from offing.model import Forecast
from offing.model.contributions import Contributions, additive, fitted_account
from offing.model.decomposition import BASELINE, Account
from offing.model.fitted import Fitted
from offing.model.reapply import rerun
from offing.outlook import Scenario

LAST_YEAR, MEAN = "last-year", "mean"


def _said(span: object) -> str:
    several = isinstance(span, Sequence) and not isinstance(span, str)
    return " to ".join(str(each) for each in span) if several else str(span)  # type: ignore[attr-defined]


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

    @property
    def contributions(self) -> Contributions:
        """What every term contributes."""


Side = Fitted | Sized


def fit_of(side: Side) -> Fitted:
    """Whose forecast a side is, or itself."""
    fit = side if isinstance(side, Fitted) else getattr(side, "fit", None)
    if not isinstance(fit, Fitted):
        raise InputError(f"found a {type(side).__name__}", "Give a forecast, or a fit.", key="end")
    return fit


def requested_accounts(end: Side, against: object, span: object) -> Axis:
    """The periods of the end that are walked to."""
    if isinstance(against, ArchivedForecast):
        fit = fit_of(end)
        check_same(fit.label, fit.unit, against.target, against.unit)
        if against.frequency != fit.axis.frequency:
            raise InputError(
                f"one is by {fit.axis.frequency}, the other by {against.frequency}", "Compare alike.", key="against"
            )
        low, high = max(against.axis.first, end.axis.first), min(_stop(against.axis), _stop(end.axis))
        if high <= low:
            raise InputError(
                f"the archived forecast is of {against.axis.spell()}, of which no period is among {end.axis.spell()}",
                "Take another one from the archive.",
                key="against",
            )
        both = Axis(fit.axis.frequency, low, high - low)
        return both if span is None else _within(both, span)
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


def accounts_of(end: Side, against: object, axis: Axis) -> tuple[Stages, str, str, bool]:
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
    if isinstance(against, ArchivedForecast):
        return _since(against, end, axis), f"the forecast of {against.origin}", to, False
    if against is None:
        standing = whole.standing().only(axis.ordinals - origin)
        return [("", _baseline(standing)), ("", standing)], BASELINE, to, False
    if isinstance(against, Mapping):
        held = _holding(end, against).only(axis.ordinals - origin)
        said = " and ".join(f"'{name}' at {value:g}" for name, value in against.items())
        return [("", held), ("", last)], said, to, False
    fit = fit_of(end)
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


def _holding(end: Side, values: Mapping[str, float]) -> Account:
    """The account of a forecast with some drivers at stated values throughout."""
    if not isinstance(end, Forecast):
        raise InputError("a driver's value is compared with a forecast", "Give a plain forecast.", key="against")
    for name, value in values.items():
        if isinstance(value, bool) or not isinstance(value, (int, float, np.number)):
            raise InputError(
                f"found {value!r} for {name!r}", "Give a number; other rules make a scenario.", key="against"
            )
    return rerun(end, Scenario("held", values).on(end.fit, end.view, end.axis)[0]).account


def _since(against: ArchivedForecast, end: Side, axis: Axis) -> Stages:
    """Accounts from an archived forecast to the end: an archive keeps amounts, so that both are compared as such."""
    now = additive(end.contributions)
    now = now.came(end.target) if isinstance(end, Fitted) else now
    before = against.account.only(axis.ordinals - against.axis.first)
    return [("", before), ("", now.only(axis.ordinals - end.axis.first))]


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
