"""What each term contributes to every value."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from offing.calendar import Axis
from offing.engine import Attribution, attribute, quantile
from offing.model.bands import drawn_band, needs_draws
from offing.model.layout import Design
from offing.model.parts import split_up
from offing.model.words import as_html, in_units, rounded, text_table, wrapped
from offing.tables import View
from offing.tables.table import Array

if TYPE_CHECKING:
    from offing.model.fit import Fit

BASELINE = "baseline"
CORRECTION = "mean correction"
PAST = "past surprises"
ADJUSTMENT = "adjustment"


@dataclass(frozen=True)
class Ahead:
    """A run of periods on the working scale, all (n,).

    `base` is what the values before the run add, `carried` what the noise before it adds to z, `levels` are η,
    `variances` those of the noise around it, `worth` what one unit of z is worth, `factor` and `mean` belong to the
    target's own scale; `cut` is the mean within the target's limits.
    """

    base: Array
    levels: Array
    variances: Array
    worth: Array
    factor: Array
    mean: Array
    cut: Array
    carried: Array


@dataclass(frozen=True)
class Contributions:
    """Fitted or forecast means split into a baseline and one contribution a term, on the target's scale.

    A period's rows add up to its mean exactly. `low` and `high` are 95 % intervals from the uncertainty of the
    coefficients alone; they do not add up. Made by ``fit.contributions`` and ``forecast.contributions``; how they are
    defined, the page on the arithmetic tells (logarithmic mean on the log scale: Ang 2005).

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
    {'baseline': 5.03, 'rain': -1.03, 'total': 4.0}
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

    def __str__(self) -> str:
        return f"{wrapped(self.sentence)}\n\n{self.text_table()}"

    def text_table(self) -> str:
        """The contributions to read: one row a period, one column a term."""
        rows = [*self.values, self.mean]
        cells = rounded(np.concatenate(rows))
        n = self.axis.n
        columns = [self.axis.labels(), *(cells[i * n : (i + 1) * n] for i in range(len(rows)))]
        return text_table([self.axis.frequency.unit, BASELINE, *self.labels, "total"], columns)

    def _repr_html_(self) -> str:
        return as_html(self.sentence, self.wide)


def contribute(fit: Fit, view: View, axis: Axis, design: Design, ahead: Ahead | None) -> Contributions:
    """Contributions of every term in the periods of `axis` with its `design`: fitted ones, or those `ahead`.

    On the working scale D = c − r, a term's value less its reference, carried on through differences of the target in
    a forecast; `low` and `high` come from the standard error of D with the weight w held.
    """
    scale, slots, n = fit.scale, fit.layout.slots, axis.n
    path = _fitted_path(fit) if ahead is None else ahead

    def spread_of(place: int) -> Array:
        """Standard error (n,) of what only the periods ahead hold of a term."""
        found = [] if ahead is None else fit.unknown_ahead(view, axis, design, place)
        return np.sqrt(sum((np.square(carried(each)).sum(axis=1) for each in found), np.zeros(n)))

    def carried(parts: Array) -> Array:
        """What parts (n, …) of z add to v: through later periods of a forecast, in their own period of the history."""
        if ahead is not None:
            return scale.spread(parts, path.worth)
        return parts * path.worth.reshape(-1, *([1] * (parts.ndim - 1)))

    parts = split_up(fit, view, axis, design, later=ahead is not None)
    names = [slots[place].term for place in parts.places]
    labels = [fit.label_of(fit.model.terms[place]) for place in parts.places]
    deviations = [carried(value) for value in parts.values]
    reach = float(quantile(0.975, fit.estimate.dof))

    def band(place: int, function: Array) -> tuple[Array, Array]:
        """How far (n,) below and above a contribution its 95 % interval reaches."""
        if needs_draws(fit, place):
            return drawn_band(fit, view, axis, design, place, function=function, carried=carried)
        half = reach * np.hypot(fit.estimate.standard_errors(carried(function)), spread_of(place))
        return half, half

    bands = [band(place, function) for place, function in zip(parts.places, parts.functions, strict=True)]
    if parts.past is not None:
        names, labels = [*names, PAST], [*labels, PAST]
        deviations.append(carried(parts.past[0]))
        bands.append((reach * fit.estimate.standard_errors(carried(parts.past[1])),) * 2)
    split = tuple(np.array(each).reshape(len(names), n) for each in (deviations, *zip(*bands, strict=True)))
    split = split if len(split) == 3 else (split[0],) * 3  # a model without terms
    base = path.base + carried(parts.level), fit.estimate.standard_errors(carried(parts.base))
    rows = _on_target(fit, path, base, split)
    values, low, high = rows
    extra = []
    if np.ptp(path.variances) and scale.log:
        extra.append(CORRECTION)
    else:
        values, low, high = (each[:-1] for each in rows)
    # Where a driver is unknown nothing is told, not even the baseline: rows that do not add up would be worse.
    known = design.known & np.isfinite(path.levels)
    values, low, high = (np.where(known, each / path.factor, np.nan) for each in (values, low, high))
    if (known & (path.cut != path.mean)).any():
        extra.append(ADJUSTMENT)
        values, low, high = (np.vstack([each, path.cut - path.mean]) for each in (values, low, high))
        values[-1, ~known] = np.nan
    return Contributions(
        axis=axis,
        terms=(*names, *extra),
        labels=(*labels, *extra),
        values=values,
        low=low,
        high=high,
        mean=np.where(known, path.cut, np.nan),
        target=fit.label,
        unit=fit.unit,
        baseline_means=_baseline_means(fit),
    )


def _on_target(
    fit: Fit, path: Ahead, level: tuple[Array, Array], split: tuple[Array, ...]
) -> tuple[Array, Array, Array]:
    """Baseline, contributions and correction (J + 2, n) in units of the factored target, with their low and high.

    `level` (n,) comes with its standard error, the terms' deviations (J, n) of the `split` with how far (J, n) their
    intervals reach below and above.
    """
    variances = path.variances if fit.scale.log else None
    parts: Attribution = attribute(level[0], split[0], variances)
    reach = float(quantile(0.975, fit.estimate.dof))
    spread, offset = reach * level[1], fit.scale.offset
    if variances is None:
        edges = parts.baseline - spread, parts.baseline + spread
    else:
        edges = parts.baseline * np.exp(-spread) - offset, parts.baseline * np.exp(spread) - offset
    below, above = (each * parts.weights for each in split[1:])
    return (
        np.vstack([parts.baseline - offset, parts.contributions, parts.correction]),
        np.vstack([edges[0], parts.contributions - below, parts.correction]),
        np.vstack([edges[1], parts.contributions + above, parts.correction]),
    )


def _baseline_means(fit: Fit) -> str:
    measured = list(dict.fromkeys(term.measured_from for term in fit.model.terms))
    if fit.scale.plain:
        return "a baseline of " + (", ".join(measured) or "the constant")
    usual = f" ({', '.join(measured)})" if measured else ""
    return f"a baseline that moves on from the last value before with the usual change{usual}"


def _fitted_path(fit: Fit) -> Ahead:
    """What contributions to the fitted values rest on: each is a forecast from the values before its period."""
    scale, n = fit.scale, fit.axis.n
    base = scale.one_step(fit.levels, np.zeros(n))
    levels = scale.one_step(fit.levels, fit.explained + fit.carried)
    worth = base / 100.0 if scale.growth else np.full(n, 1.0 / scale.gain)
    noise = fit.noise if scale.log else np.zeros(n)
    mean = fit.mean_of(levels, fit.noise, fit.factor)
    return Ahead(base, levels, noise, worth, fit.factor, mean, fit.cut(mean), fit.carried)
