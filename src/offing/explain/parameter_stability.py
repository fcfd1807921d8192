"""Whether effects stayed the same: coefficients estimated from ever more periods, and tests of a change."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from functools import cached_property

import numpy as np
import pandas as pd
from scipy.special import fdtrc

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import Entry, Result, alone, register
from offing.base.text import text_table
from offing.calendar import Axis
from offing.calendar.axis import instant_of
from offing.engine import join, quantile, solve, triangle
from offing.model.fitted import Fitted

#: Dates at which coefficients are re-estimated: as many as a figure can show.
_DATES = 120
#: Of sums of recursive residuals, the line that independent noise crosses once in twenty (Brown, Durbin & Evans 1975).
_LINE = 0.948


@dataclass(frozen=True)
class ParameterStability(Result, figure="residuals.draw_stability"):
    """Coefficients of the drivers from ever more periods, and sums of recursive residuals (CUSUM).

    Made by `offing.parameter_stability`.

    Attributes
    ----------
    columns
        Names of the coefficients (m,).
    date
        Periods (t,) up to which each estimate goes.
    estimate, error
        Coefficients and standard errors (t, m).
    cusum
        Sums (t,) of the recursive residuals in standard deviations.
    limit
        The line (t,) that noise of an unchanged model crosses once in twenty.
    at, f, p
        The date of a stated change, and the test of it (Chow 1960); NaN without one.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=60, freq="D")
    >>> rain = np.random.default_rng(1).normal(size=60)
    >>> data = pd.DataFrame({"sold": 5.0 + rain + np.tile([0.1, -0.1], 30), "rain": rain}, days)
    >>> of.parameter_stability(of.Model("sold", terms=[of.Driver("rain")]).fit(data)).table.columns.tolist()
    ['rain', 'cusum', 'limit']
    """

    columns: tuple[str, ...]
    date: pd.DatetimeIndex
    estimate: Array
    error: Array
    cusum: Array
    limit: Array
    reach: float
    at: str
    f: float
    p: float

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a date: a column a coefficient, and ``cusum`` with its ``limit``."""
        frame = pd.DataFrame(self.estimate, index=self.date, columns=list(self.columns))
        return frame.assign(cusum=self.cusum, limit=self.limit)

    @property
    def sentence(self) -> str:
        """Whether anything changed, in words."""
        crossed = np.flatnonzero(np.abs(self.cusum) > self.limit)
        if self.at:
            chance = "<0.001" if self.p < 0.001 else f"{self.p:.3f}"
            noted = "changed" if self.p < 0.01 else "cannot be shown to have changed"
            return f"The coefficients {noted} at {self.at} (F {self.f:.2f}, p {chance})"
        if len(crossed):
            return f"Effects changed: from {self.date[crossed[0]].date()} on the recursive residuals lie to one side"
        return "No sign of structural change"

    def __str__(self) -> str:
        last = self.table.iloc[:: max(len(self.date) // 8, 1)]
        cells = [[str(date.date()) for date in last.index]]
        cells += [[f"{value:.4g}" for value in last[name]] for name in last.columns]
        return f"{self.sentence}.\n\n{text_table(['up to', *last.columns], cells)}"


def parameter_stability(fit: Fitted, *, at: str | date | None = None) -> ParameterStability:
    """Estimate the coefficients from ever more periods; test a change at a date if one is given.

    Shapes, strengths and the noise's dynamics stay those of the whole fit; rows are joined to a triangle, none is
    estimated twice. Recursive residuals are those of each period from the estimate before it (Brown, Durbin & Evans
    1975). With a date, all coefficients before it are compared with all from it on (Chow 1960).

    Parameters
    ----------
    at
        A date within the fitted periods.

    Raises
    ------
    InputError
        If the date is none, or leaves too few periods on a side.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=100, freq="D")
    >>> fare = np.random.default_rng(1).normal(5.0, 1.0, 100)
    >>> sold = 50.0 - np.where(np.arange(100) < 60, 2.0, 4.0) * fare + np.random.default_rng(2).normal(0.0, 0.5, 100)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(pd.DataFrame({"sold": sold, "fare": fare}, days))
    >>> of.parameter_stability(fit, at="2024-03-01").p < 0.001
    True
    """
    chain, used = fit.estimate.chain, fit.used
    kept = np.flatnonzero(fit.estimate.kept)
    white = chain.whiten(fit.design[used][:, kept])
    aim = chain.whiten((fit.residual + fit.design @ fit.estimate.beta)[used])
    rows = np.column_stack([white, aim])
    n, k = white.shape
    drivers = {str(term.name) for term in fit.model.drivers}
    own = [
        i
        for i, column in enumerate(kept.tolist())
        if fit.layout.owners[column] in drivers and not fit.layout.names[column].endswith(", before the data")
    ][:8]
    first = min(max(2 * k, k + 10), n - 1)
    places = np.unique(np.linspace(first, n, min(_DATES, n - first + 1)).astype(int))
    whole, start, estimates, errors, sums = triangle(rows[:first]), first, [], [], []
    total = 0.0
    spread = np.sqrt(fit.estimate.variance)
    for place in places.tolist():
        for row in rows[start:place] if n <= 4000 else rows[start:place][:0]:
            total += _recursive_residual(whole, row) / spread
            whole = join(whole, row[None])
        if n > 4000 and place > start:
            whole = join(whole, rows[start:place])
        start = place
        found = solve(whole)
        inverse = np.full((k, k), np.nan)
        inner = np.linalg.inv(found.root)
        inverse = inner @ inner.T
        scale = float(found.rss[0]) / max(place - len(found.root), 1)
        line = np.full(k, np.nan)
        line[found.kept] = np.sqrt(np.diagonal(inverse) * scale)
        beta = np.where(found.kept, found.beta[:, 0], np.nan)
        estimates.append(beta[own])
        errors.append(line[own])
        sums.append(total)
    share = (places - first) / max(n - first, 1)
    limit = _LINE * np.sqrt(max(n - first, 1)) * (1.0 + 2.0 * share)
    at_name, f, p = ("", float("nan"), float("nan")) if at is None else _chow(fit, rows, at)
    ordinals = fit.axis.ordinals[used][places - 1]
    index = pd.DatetimeIndex([Axis(fit.axis.frequency, int(each), 1).index[0] for each in ordinals])
    return ParameterStability(
        tuple(fit.layout.names[kept[i]] for i in own),
        index,
        np.array(estimates).reshape(len(places), -1),
        np.array(errors).reshape(len(places), -1),
        np.array(sums),
        limit,
        float(quantile(0.975, max(fit.estimate.dof, 1.0))),
        at_name,
        f,
        p,
    )


def _recursive_residual(whole: Array, row: Array) -> float:
    """What a row [x | y] has beyond the estimate from the triangle, over the root of 1 + x (X'X)⁻¹ x'."""
    found = solve(whole)
    half = np.linalg.solve(found.root.T, row[:-1][found.kept])
    return float((row[-1] - row[:-1] @ found.beta[:, 0]) / np.sqrt(1.0 + half @ half))


def _chow(fit: Fitted, rows: Array, at: object) -> tuple[str, float, float]:
    try:
        ordinal = int(fit.axis.frequency.ordinals(instant_of(at, fit.axis.frequency))[0])
    except (ValueError, TypeError) as error:
        raise InputError(f"found {at!r}, which is not a date", key="at") from error
    before = fit.axis.ordinals[fit.used] < ordinal
    n, k = len(rows), rows.shape[1] - 1
    label = Axis(fit.axis.frequency, ordinal, 1).labels()[0]
    parts = [solve(triangle(rows[side])) for side in (before, ~before)] if 0 < before.sum() < n else []
    taken = sum(int(part.kept.sum()) for part in parts)
    if not parts or min(before.sum(), (~before).sum()) <= k // 2 or n <= taken:
        raise InputError(
            f"{label} leaves {int(before.sum())} and {int((~before).sum())} periods on its sides, too few for {k} "
            "coefficients",
            "Give a date nearer the middle, or fit fewer terms.",
            key="at",
        )
    together = solve(triangle(rows))
    apart = sum(float(part.rss[0]) for part in parts)
    more = taken - int(together.kept.sum())
    f = (float(together.rss[0]) - apart) / more / (apart / (n - taken))
    return label, f, float(fdtrc(more, n - taken, max(f, 0.0)))


register(
    Entry(
        "stability",
        title="Whether effects stayed the same",
        of=lambda study, name: alone(parameter_stability(study.fits[name], **study.options("stability"))),
        figure_for=["fit"],
        options=parameter_stability,
    )
)
