"""Joint tests: whether all columns of a term together say anything beyond the other terms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
from scipy.linalg import solve_triangular
from scipy.special import fdtrc

from offing.base import count
from offing.base.arrays import Array
from offing.base.results import FULL, Entry, Result, alone, register
from offing.base.text import text_table
from offing.engine import triangle
from offing.model.fitted import Fitted


@dataclass(frozen=True)
class TermTests(Result, figure="bars.draw_term_tests"):
    """Joint tests of the terms. Made by `offing.term_tests`.

    Attributes
    ----------
    terms
        Names of the terms (J,).
    columns
        How many free columns each has (J,).
    f, p
        The statistic and the probability of one as large if the term did nothing (J,); NaN where none can be reported.
    partial
        Partial R² (J,): the share of what the other terms leave that it explains.
    dof
        Degrees of freedom of the noise.
    why
        Why there is no test (J,), or an empty text.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([1.0, -1.0], 35), days, name="load")
    >>> print(of.term_tests(of.Model("load", terms=[of.Trend(), of.Season("week")]).fit(load)))
      term            columns     F       p  partial R²
      trend                 1   0.0   0.845       0.001
      season in week        6  52.5  <0.001       0.836
    """

    terms: tuple[str, ...]
    columns: tuple[int, ...]
    f: Array
    p: Array
    partial: Array
    dof: float
    why: tuple[str, ...]

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a term: ``term, columns, f, p, partial_r_squared, why``."""
        return pd.DataFrame(
            {
                "term": list(self.terms),
                "columns": list(self.columns),
                "f": self.f,
                "p": self.p,
                "partial_r_squared": self.partial,
                "why": list(self.why),
            }
        )

    def __str__(self) -> str:
        chances = [why or ("<0.001" if p < 0.001 else f"{p:.3f}") for p, why in zip(self.p, self.why, strict=True)]
        numbers = [
            [f"{each:.{digits}f}" if np.isfinite(each) else "" for each in values]
            for values, digits in ((self.f, 1), (self.partial, 3))
        ]
        columns = [list(self.terms), [str(each) for each in self.columns], numbers[0], chances, numbers[1]]
        return text_table(["term", "columns", "F", "p", "partial R²"], columns)

    @property
    def sentence(self) -> str:
        """How many terms are significant."""
        sure = int((self.p < 0.05).sum())
        verb = "is" if sure == 1 else "are"
        return f"{sure} of {count(len(self.terms), 'term')} {verb} significant at 5 %, each beside all others."


def term_tests(fit: Fitted) -> TermTests:
    """Test each term beside all others: F = b'C⁻¹b / q for its q free columns with the covariance C (Wald 1943).

    With the classical covariance this is the F test of the two sums of squares, with and without the term. A term whose
    columns were all left out has nothing to test; of columns that are shrunk towards zero, and of effects with
    estimated shapes, no such probability holds (Davies 1977), and none is given.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> of.term_tests(of.Model("sold", terms=[of.Driver("rain")]).fit(data)).table["p"].round(3).tolist()
    [0.074]
    """
    estimate = fit.estimate
    rows = [_tested(fit, slot.own.tolist(), curved=0 if slot.borrowed else slot.curved) for slot in fit.layout.slots]
    f = np.array([each[1] for each in rows])
    count = np.array([each[0] for each in rows], dtype=float)
    with np.errstate(invalid="ignore"):
        partial = f * count / (f * count + estimate.dof)
    return TermTests(
        tuple(slot.term for slot in fit.layout.slots),
        tuple(each[0] for each in rows),
        f,
        np.asarray(fdtrc(np.maximum(count, 1.0), estimate.dof, f)),
        partial,
        estimate.dof,
        tuple(each[2] for each in rows),
    )


def _tested(fit: Fitted, places: Sequence[int], *, curved: int) -> tuple[int, float, str]:
    """Number of free columns, F, and why there is none."""
    estimate = fit.estimate
    own = [at for at in places if estimate.kept[at]]
    if any(np.isfinite(estimate.ratios[at]) for at in own):
        return len(own), float("nan"), "shrunk towards zero"
    if curved:
        return len(own), float("nan"), "has a shape"
    if not own:
        return 0, float("nan"), "left out"
    if not estimate.variance > 0.0:
        return len(own), float("nan"), "exact fit"
    cov_root = estimate.cov_root(np.eye(len(estimate.kept))[own])
    beta = estimate.beta[own]
    # b'(H'H)⁻¹b by the triangle of H, which keeps the digits that the product would lose.
    scaled = solve_triangular(triangle(cov_root), beta, trans="T", check_finite=False)
    return len(own), float(scaled @ scaled) / len(own), ""


register(
    Entry(
        "terms",
        title="Tests of terms",
        of=lambda study, name: alone(term_tests(study.fits[name])),
        text=dict.fromkeys(FULL, str),
        figure_for=["fit"],
        rank=91,
    )
)
