"""What each term contributes to every value."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import as_html, in_units, rounded, text_table
from offing.calendar import Axis
from offing.engine import attribute, quantile
from offing.model.ahead import Ahead
from offing.model.decomposition import ADJUSTMENT, BASELINE, FACTOR, Account, Row, account, carrier
from offing.model.design import Design
from offing.model.fit_state import FitState
from offing.model.simulated_intervals import drawn_band, needs_draws
from offing.tables import View


@dataclass(frozen=True)
class Contributions(Result, figure="contributions.draw_contributions"):
    """Fitted or forecast means split into a baseline and one contribution a term, on the target's scale.

    A period's rows add up to its mean exactly. `low` and `high` are 95 % intervals from the uncertainty of the
    coefficients alone; they do not add up. Made by ``fit.contributions`` and ``forecast.contributions``; how they are
    defined, the page on the arithmetic shows (logarithmic mean on the log scale: Ang 2005).

    Attributes
    ----------
    axis
        The periods.
    terms
        Names of the terms (J,).
    labels
        What people call them (J,).
    values, low, high
        Contribution of every row, the baseline first, in every period (J + 1, n).
    mean
        What the rows add up to (n,).
    target, unit
        The target's name and unit.
    baseline_means
        What the baseline stands for, in words.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
    >>> fit.contributions.wide.round(2).iloc[0].to_dict()
    {'baseline': 6.07, 'rain': -2.07, 'total': 4.0}
    """

    axis: Axis
    terms: tuple[str, ...]
    labels: tuple[str, ...]
    values: Array
    low: Array
    high: Array
    mean: Array
    target: str
    unit: str
    baseline_means: str

    @property
    def rows(self) -> tuple[str, ...]:
        """Names of the rows, the baseline first."""
        return (BASELINE, *self.terms)

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row for each period and term: ``period, term, contribution, low, high``."""
        return pd.DataFrame(
            {
                "period": self.axis.index.repeat(len(self.rows)),
                "term": np.tile(np.array(self.rows, dtype=object), self.axis.n),
                "contribution": self.values.T.ravel(),
                "low": self.low.T.ravel(),
                "high": self.high.T.ravel(),
            }
        )

    @cached_property
    def wide(self) -> pd.DataFrame:
        """One row a period, one column a term, and their sum as the last column ``total``."""
        wide = pd.DataFrame(self.values.T, index=self.axis.index, columns=list(self.rows))
        return wide.assign(total=self.mean)

    @property
    def sentence(self) -> str:
        """What the contributions are measured from, in words."""
        return (
            f"Contributions to {in_units(self.target, self.unit)}, measured from {self.baseline_means}; "
            "they add up to the total."
        )

    def text_table(self) -> str:
        """The contributions to read: one row a period, one column a term."""
        rows = [*self.values, self.mean]
        cells = rounded(np.concatenate(rows))
        n = self.axis.n
        columns = [self.axis.labels(), *(cells[i * n : (i + 1) * n] for i in range(len(rows)))]
        return text_table([self.axis.frequency.unit, BASELINE, *self.labels, "total"], columns)

    @property
    def drawable(self) -> bool:
        """Whether a term contributes."""
        return bool(self.terms)

    def _repr_html_(self) -> str:
        return as_html(self.sentence, self.wide)


#: Periods that are taken apart at once.
_ROWS = 2048


def contributions_ahead(
    fit: FitState, view: View, axis: Axis, design: Design, ahead: tuple[Ahead, Account]
) -> Contributions:
    """Contributions of every term in the periods of a forecast, from its path and its account.

    On the working scale D = c − r, a term's value less its reference, carried on through differences of the target;
    `low` and `high` come from the standard error of D with the weight w held.
    """
    path, whole = ahead
    return _contribute(fit, view, axis, design, (path, whole.standing()), later=True)


def fitted_contributions(fit: FitState) -> Contributions:
    """Contributions of every term in the fitted periods, each a forecast from the values before it."""
    view, axis, path = fit.view, fit.axis, fitted_path(fit)
    if fit.own or axis.n <= _ROWS:
        return _contribute(fit, view, axis, fit.rows, (path, fitted_account(fit).standing()), later=False)
    # Periods of the history stand by themselves, and the derivatives of all terms take much room together.
    parts = []
    for low in range(0, axis.n, _ROWS):
        part = axis.part(low, min(low + _ROWS, axis.n))
        design, own = fit.columns(view, part), path.part(low, low + part.n)
        there = account(fit, view, part, design, own, later=False).standing(path.variances[:1] / 2.0)
        parts.append(_contribute(fit, view, part, design, (own, there), later=False))
    return _joined(axis, parts)


def _joined(axis: Axis, parts: Sequence[Contributions]) -> Contributions:
    """The contributions of a run from those of its parts; a row that a part does not have is zero there."""
    labels = {name: label for part in parts for name, label in zip(part.terms, part.labels, strict=True)}
    names = sorted(labels, key=lambda name: name == ADJUSTMENT)

    def whole(key: str) -> Array:
        rows = [dict(zip(part.rows, getattr(part, key), strict=True)) for part in parts]
        return np.array(
            [
                np.concatenate(
                    [
                        row.get(name, np.where(np.isfinite(part.mean), 0.0, np.nan))
                        for row, part in zip(rows, parts, strict=True)
                    ]
                )
                for name in (BASELINE, *names)
            ]
        )

    return replace(
        parts[0],
        axis=axis,
        terms=tuple(names),
        labels=tuple(labels[name] for name in names),
        values=whole("values"),
        low=whole("low"),
        high=whole("high"),
        mean=np.concatenate([part.mean for part in parts]),
    )


def _contribute(
    fit: FitState, view: View, axis: Axis, design: Design, ahead: tuple[Ahead, Account], *, later: bool
) -> Contributions:
    """The contributions in some periods, given their path and their account as contributions are measured."""
    path, whole = ahead
    reach = float(quantile(0.975, fit.estimate.dof))
    propagated = carrier(fit, path, later=later)
    places = {slot.term: place for place, slot in enumerate(fit.layout.slots)}
    by = np.ones(axis.n) if fit.scale.log else 1.0 / path.factor  # rows of a level come in the target's own unit

    def band(row: Row) -> tuple[Array, Array]:
        """How far (n,) below and above a row its 95 % interval reaches."""
        if not row.gradient.any() and not row.future_columns.size:
            return np.zeros(axis.n), np.zeros(axis.n)
        if row.name in places and needs_draws(fit, places[row.name]):
            return drawn_band(
                fit,
                view,
                axis,
                design,
                places[row.name],
                gradient=row.gradient,
                propagated=lambda value: propagated(value) * by,
            )
        alone = np.sqrt(np.square(row.future_columns).sum(axis=1))
        half = reach * np.hypot(fit.estimate.standard_errors(row.gradient), alone)
        return half, half

    rows = [row for row in whole.rows if row.name != FACTOR]
    low, high = (np.array(each) for each in zip(*(band(row) for row in rows), strict=True))
    values = np.array([row.values for row in rows])
    if whole.log:
        values[0] -= np.log(path.factor)
    values, weight = attribute(values, log=whole.log)
    if whole.log:
        # The baseline's own interval is that of its logarithm.
        edges = values[0] * np.expm1(-low[0]), values[0] * np.expm1(high[0])
        low, high = low * weight, high * weight
        low[0], high[0] = -edges[0], edges[1]
        values[0] -= fit.scale.offset / path.factor
    # Where a driver is unknown nothing is reported, not even the baseline: rows that do not add up would be worse.
    known = np.isfinite(whole.mean)
    names, labels = [row.name for row in rows[1:]], [row.label for row in rows[1:]]
    extra = whole.mean - path.mean
    if (known & (extra != 0.0)).any():
        names, labels = [*names, ADJUSTMENT], [*labels, ADJUSTMENT]
        values = np.vstack([values, extra])
        low, high = (np.vstack([each, np.zeros(axis.n)]) for each in (low, high))
    values = np.where(known, values, np.nan)
    return Contributions(
        axis=axis,
        terms=tuple(names),
        labels=tuple(labels),
        values=values,
        low=values - low,
        high=values + high,
        mean=whole.mean,
        target=fit.label,
        unit=fit.unit,
        baseline_means=_baseline_means(fit),
    )


def _baseline_means(fit: FitState) -> str:
    measured = list(dict.fromkeys(term.measured_in(fit.view) for term in fit.model.terms))
    if fit.scale.plain:
        return "a baseline of " + (", ".join(measured) or "the constant")
    usual = f" ({', '.join(measured)})" if measured else ""
    return f"a baseline that moves on from the last value before with the usual change{usual}"


def fitted_path(fit: FitState) -> Ahead:
    """What contributions to the fitted values rest on: each is a forecast from the values before its period."""
    scale, n = fit.scale, fit.axis.n
    base = scale.one_step(fit.levels, np.zeros(n))
    levels = scale.one_step(fit.levels, fit.explained + fit.ar_prediction)
    worth = base / 100.0 if scale.growth else np.full(n, 1.0 / scale.gain)
    noise = fit.noise if scale.log else np.zeros(n)
    mean = fit.mean_of(levels, fit.noise, fit.factor)
    return Ahead(base, levels, noise, worth, fit.factor, mean, fit.cut(mean), fit.ar_prediction)


def fitted_account(fit: FitState) -> Account:
    """The account of the fitted periods, each a forecast from the values before it."""
    return account(fit, fit.view, fit.axis, fit.rows, fitted_path(fit), later=False)


def adjusted(contributions: Contributions, mean: Array) -> Contributions:
    """Contributions to changed means (n,), with what was changed in their row ``adjustment``."""
    change = mean - contributions.mean
    names = contributions.rows
    values, low, high = contributions.values, contributions.low, contributions.high
    if ADJUSTMENT in names:
        more = np.zeros_like(values)
        more[names.index(ADJUSTMENT)] = change
        return replace(contributions, values=values + more, low=low + more, high=high + more, mean=mean)
    values, low, high = (np.vstack([each, change]) for each in (values, low, high))
    terms, labels = (*contributions.terms, ADJUSTMENT), (*contributions.labels, ADJUSTMENT)
    return replace(contributions, terms=terms, labels=labels, mean=mean, values=values, low=low, high=high)


def additive(contributions: Contributions) -> Account:
    """The account of contributions of which only the amounts are known, those of a combination say."""
    n = contributions.axis.n
    labels = (BASELINE, *contributions.labels)
    none = np.zeros((n, 0))
    rows = [
        Row(name, label, values, none, none)
        for name, label, values in zip(contributions.rows, labels, contributions.values, strict=True)
    ]
    return Account(contributions.axis.ordinals, tuple(rows), False, contributions.mean, None, np.zeros(n))
