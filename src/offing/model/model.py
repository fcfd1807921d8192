"""The model: a target, a scale and terms."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, count
from offing.calendar import Axis
from offing.checks import missing_drivers
from offing.engine import least_squares
from offing.model.fit import Fit
from offing.model.layout import lay_out
from offing.tables import Sources, Table, View, read
from offing.tables.table import Array
from offing.terms import Term, telling

Data = Table | pd.DataFrame | pd.Series | Mapping[str, Table]


@dataclass(frozen=True)
class Model:
    """A forecast as a sum of terms, plus a constant that is always there.

    Parameters
    ----------
    target
        The column to forecast, as ``column`` or ``table.column``.
    terms
        The pieces: `Trend`, `Season`, `Holidays`, `Driver`. Their names must differ.
    scale
        ``level``, where terms add up, or ``log``, where they multiply and the target must be positive.
    name
        What tables and files call the model.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2020-01", periods=36, freq="M")
    >>> sold = pd.Series(100.0 + np.arange(36) + 10 * (months.month == 12), months, name="sold")
    >>> fit = of.Model("sold", terms=[of.Trend(), of.Season("year")]).fit(sold)
    >>> fit.forecast(2).table["forecast"].round(6).tolist()
    [136.0, 137.0]
    """

    target: str
    terms: Sequence[Term] = ()
    scale: Literal["level", "log"] = "level"
    name: str = "main"

    def __post_init__(self) -> None:
        if not isinstance(self.target, str) or not self.target:
            raise InputError(f"found {self.target!r}", "Give the target's column.", key="target")
        if self.scale not in ("level", "log"):
            raise InputError(f"found {self.scale!r}", 'Give "level" or "log".', key="scale")
        if isinstance(self.terms, Term):
            raise InputError("found one term", "Give a list of terms.", key="terms")
        for term in self.terms:
            if not isinstance(term, Term):
                raise InputError(f"found {term!r}, which is no term", "Give terms such as Trend().", key="terms")
        names = [term.name for term in self.terms]
        for name in names:
            if names.count(name) > 1:
                raise InputError(f"two terms are called '{name}'", "Give one of them another name.", key="terms")
        object.__setattr__(self, "terms", tuple(self.terms))

    def fit(self, data: Data) -> Fit:
        """Estimate the model by least squares on all periods from the target's first value to its last.

        Parameters
        ----------
        data
            A Table from `offing.read`, a DataFrame or Series with dates as its index, or several Tables by name.

        Returns
        -------
        Fit
            Periods whose target or drivers are unknown are left out and still get a fitted value where the
            drivers allow one.

        Raises
        ------
        InputError
            If a column is missing or not numeric, the target is constant or without values, not positive with the
            log scale, or the rows do not suffice for the columns.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
        >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.2], "rain": [1, 0, 1, 0, 1, 0]}, days)
        >>> fit = of.Model("sold", terms=[of.Driver("rain")]).fit(data)
        >>> fit.coefficients["coefficient"].round(2).tolist()
        [6.07, -2.07]
        """
        sources = Sources(_tables(data))
        source, column = sources.find(self.target)
        table = sources.tables[source]
        axis, target = self._target(table, column)
        view = sources.cut(int(axis.ends[-1]), axis)
        states = {}
        for term in self.terms:
            with telling(term):
                states[str(term.name)] = term.learn(view)
        design, layout = lay_out(self.terms, view, axis, states)
        known = np.isfinite(target)
        used = known & np.isfinite(design).all(axis=1)
        self._check_rows(used, layout.k, axis)
        working = np.log(target[used]) if self.scale == "log" else target[used]
        try:
            estimate = least_squares(design[used], working)
        except ValueError as error:
            raise InputError(str(error), "Use fewer terms or more data.", file=table.name) from error
        findings = _findings(view, self.terms, states) + missing_drivers(
            design, layout.owners, known, lambda row: axis.part(row, row + 1).labels()[0], axis.frequency.unit
        )
        return Fit(self, source, column, view, states, target, used, design, layout, estimate, findings)

    def _target(self, table: Table, column: str) -> tuple[Axis, Array]:
        """The periods from the target's first value to its last, and its values there."""
        values = table.values(column)
        known = np.flatnonzero(np.isfinite(values))
        if not len(known):
            raise InputError("the target has no values", file=table.name, column=column)
        first, last = int(known[0]), int(known[-1])
        axis, target = table.axis.part(first, last + 1), values[first : last + 1]
        if np.ptp(target[known - first]) == 0.0:
            raise InputError(
                f"the target is {target[0]:g} throughout, so there is nothing to explain",
                file=table.name,
                column=column,
            )
        wrong = np.flatnonzero(target <= 0.0)
        if self.scale == "log" and len(wrong):
            raise InputError(
                f"the target is {target[wrong[0]]:g}"
                + (f" and {count(len(wrong) - 1, 'more value')} not positive" if len(wrong) > 1 else "")
                + ", of which there is no logarithm",
                'Use scale = "level", or correct the values.',
                file=table.name,
                period=axis.part(int(wrong[0]), int(wrong[0]) + 1).labels()[0],
                column=column,
            )
        return axis, target

    def _check_rows(self, used: np.ndarray, columns: int, axis: Axis) -> None:
        rows = int(used.sum())
        if rows < columns:
            raise InputError(
                f"the terms make {count(columns, 'column')} with the constant, but only "
                f"{count(rows, axis.frequency.unit)} of {axis.n} can be used",
                "Use fewer terms, fewer harmonics or lags, or more data.",
                key="terms",
            )


def _tables(data: Data) -> dict[str, Table]:
    if isinstance(data, Mapping):
        for name, table in data.items():
            if not isinstance(table, Table):
                raise InputError(f"found {type(table).__name__} under {name!r}", "Give Tables made by read.")
        return dict(data)
    table = data if isinstance(data, Table) else read(data)
    return {"data": table}


def _findings(view: View, terms: Sequence[Term], states: Mapping[str, object]) -> tuple[Finding, ...]:
    noticed = [finding for table in view.sources.tables.values() for finding in table.findings]
    noticed += [remark for term in terms for remark in term.remarks(view, states[str(term.name)])]
    return tuple(noticed)
