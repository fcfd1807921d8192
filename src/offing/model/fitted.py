"""A fit with what follows from it: coefficients, contributions, findings, equation and words."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import pandas as pd

from offing.base import Finding, Verdict
from offing.base.results import Result
from offing.base.text import wrapped
from offing.model.coefficients import coefficient_table, coefficient_text
from offing.model.contributions import Contributions, fitted_contributions
from offing.model.diagnose import examined, remarks
from offing.model.equation import equation_text
from offing.model.fit_state import FitState
from offing.model.summary import check_text, fit_numbers, fit_sentences


@dataclass(frozen=True)
class Fitted(FitState, Result, listed=False):
    """A fitted model with its views; what one may ask of it beyond these, a `Fit` has."""

    @cached_property
    def coefficients(self) -> pd.DataFrame:
        """One row a coefficient: ``term, column, kind, coefficient, std_error, t, p, low, high, status``.

        `low` and `high` bound the 95 % interval. Where columns were left out as dependent, the rest is empty.
        """
        return coefficient_table(self)

    @cached_property
    def contributions(self) -> Contributions:
        """What every term contributes to each fitted value, NaN where a driver is unknown."""
        return fitted_contributions(self)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed about the data, the design and the residuals."""
        return (*self.noticed, *remarks(self, lambda: self.verdicts))

    @cached_property
    def verdicts(self) -> tuple[Verdict, ...]:
        """What every check of the columns and of the noise measured, whether or not it says anything."""
        return examined(self)

    @property
    def checks(self) -> pd.DataFrame:
        """One row a statistic that was looked at: ``check, statistic, value, limit, p, finding``.

        `limit` is where the check speaks, and `finding` whether it does. A value without a limit stands for itself.
        """
        rows = [
            (each.check, each.statistic, each.value, each.limit, each.p, bool(each.findings)) for each in self.verdicts
        ]
        return pd.DataFrame(rows, columns=["check", "statistic", "value", "limit", "p", "finding"])

    @property
    def equation(self) -> str:
        """The estimated equation as text: all that values can be computed from, with twelve digits."""
        return equation_text(self)

    @property
    def sentences(self) -> str:
        """What was fitted, how well, and what the drivers do, in sentences."""
        return fit_sentences(self, self.findings)

    def __str__(self) -> str:
        return f"{wrapped(self.sentences)}\n\n{fit_numbers(self)}\n\n{coefficient_text(self.coefficients, full=False)}"

    @property
    def details(self) -> str:
        """All that is known of the coefficients, and all that was checked, to read: more than ``print(fit)`` shows."""
        tables = coefficient_text(self.coefficients, full=True), check_text(self.checks)
        return "\n\n".join([fit_numbers(self), *tables])

    @property
    def table(self) -> pd.DataFrame:
        """The same as `coefficients`."""
        return self.coefficients
