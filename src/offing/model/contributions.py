"""What each term contributes to every value."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from offing.calendar import Axis
from offing.engine import Attribution, attribute, quantile
from offing.model.words import as_html, in_units, rounded, text_table, wrapped
from offing.tables import View
from offing.tables.table import Array

if TYPE_CHECKING:
    from offing.model.fit import Fit

BASELINE = "baseline"
CORRECTION = "mean correction"


@dataclass(frozen=True)
class Ahead:
    """A run of periods on the working scale, all (n,).

    `base` is what the values before the run add, `levels` are η, `variances` those of the noise around it, `worth` what
    one unit of z is worth, `factor` and `mean` belong to the target's own scale.
    """

    base: Array
    levels: Array
    variances: Array
    worth: Array
    factor: Array
    mean: Array


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


def contribute(fit: Fit, view: View, axis: Axis, design: Array, ahead: Ahead | None) -> Contributions:
    """Contributions of every term in the periods of `axis` with its `design` (n, k): fitted ones, or those `ahead`.

    On the working scale D = c − r, a term's value less its reference, carried on through differences of the target in
    a forecast; `low` and `high` come from the standard error of D with the weight w held.
    """
    beta, slots, scale = fit.estimate.beta, fit.layout.slots, fit.scale
    references, offsets = _references(fit, view, axis)
    path = _fitted_path(fit) if ahead is None else ahead

    def carried(parts: Array) -> Array:
        """What parts (n, …) of z add to v: through later periods of a forecast, in their own period of the history."""
        if ahead is not None:
            return scale.spread(parts, path.worth)
        return parts * path.worth.reshape(-1, *([1] * (parts.ndim - 1)))

    deviations = np.empty((len(slots), axis.n))
    errors = np.empty((len(slots), axis.n))
    for j, slot in enumerate(slots):
        functions = np.zeros_like(design)
        functions[:, slot.columns] = design[:, slot.columns] - references[:, slot.columns]
        functions = carried(functions)
        deviations[j] = functions @ beta - carried(np.full(axis.n, offsets[j]))
        errors[j] = fit.estimate.standard_errors(functions)
    level = path.base + carried(references @ beta + offsets.sum())
    names, labels = [slot.term for slot in slots], [fit.label_of(term) for term in fit.model.terms]
    variances = path.variances if scale.log else None
    parts: Attribution = attribute(level, deviations, variances)
    reach = float(quantile(0.975, fit.estimate.dof))
    spread = reach * fit.estimate.standard_errors(carried(references))
    if variances is None:
        edges = parts.baseline - spread, parts.baseline + spread
    else:
        edges = parts.baseline * np.exp(-spread), parts.baseline * np.exp(spread)
    half = reach * errors * parts.weights
    values = np.vstack([parts.baseline, parts.contributions])
    low, high = np.vstack([edges[0], parts.contributions - half]), np.vstack([edges[1], parts.contributions + half])
    if np.ptp(path.variances) and scale.log:
        values, low, high = (np.vstack([each, parts.correction]) for each in (values, low, high))
        names, labels = [*names, CORRECTION], [*labels, CORRECTION]
    # Where a driver is unknown nothing is told, not even the baseline: rows that do not add up would be worse.
    known = np.isfinite(design).all(axis=1) & np.isfinite(path.levels)
    shown = np.where(known, 1.0, np.nan) / path.factor
    return Contributions(
        axis=axis,
        terms=tuple(names),
        labels=tuple(labels),
        values=shown * values,
        low=shown * low,
        high=shown * high,
        mean=np.where(known, path.mean, np.nan),
        target=fit.label,
        unit=fit.unit,
        baseline_means=_baseline_means(fit),
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
    levels = scale.one_step(fit.levels, fit.design @ fit.estimate.beta)
    worth = base / 100.0 if scale.growth else np.full(n, 1.0 / scale.gain)
    return Ahead(base, levels, fit.noise if scale.log else np.zeros(n), worth, fit.factor, fit.means)


def _references(fit: Fit, view: View, axis: Axis) -> tuple[Array, Array]:
    """Reference columns (n, k), the constant's 1 included, and the terms' offsets (J,)."""
    references = np.ones((axis.n, fit.layout.k))
    offsets = np.zeros(len(fit.layout.slots))
    for j, (term, slot) in enumerate(zip(fit.model.terms, fit.layout.slots, strict=True)):
        reference = term.reference_on(view, axis, fit.states[slot.term])
        offsets[j] = reference.offset
        if reference.columns is None:
            references[:, slot.columns] = fit.design[fit.used, slot.columns].mean(axis=0)
        else:
            references[:, slot.columns] = reference.columns
    return references, offsets
