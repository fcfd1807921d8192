"""`inspect`: what is in the data, before any model."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.results import Result
from offing.base.text import number, text_table
from offing.inspection.questions import questions
from offing.inspection.screen import screen
from offing.inspection.survey_data import SurveyData
from offing.inspection.target import likely_target
from offing.tables import Panel, Sources, Table, read, split_series

#: Rows of a table that are printed.
_MOST_ROWS = 40

Data = Table | Panel | pd.DataFrame | pd.Series | Mapping[str, Table | Panel]


def inspect(
    data: Data,
    target: str | None = None,
    *,
    plans: Mapping[str, Table | Panel] | None = None,
    holidays: str | Path | pd.DataFrame | None = None,
) -> Survey:
    """Look at data before any model: what is there, what is missing or strange, what moves the target.

    Parameters
    ----------
    data
        A Table or Panel from `offing.read`, a DataFrame or Series with dates, or several Tables by name.
    target
        The column to be forecast, as ``column`` or ``table.column``. By default the first table's first column that is
        named like sales or load, else its first column of numbers; an error if that cannot be read.
    plans
        The drivers' future by the name of the table that each continues.
    holidays
        A table of holidays, as for `Holidays`.

    Returns
    -------
    Survey
        ``print`` it for a first screen, ``print(survey.full)`` for all tables; its views are drawn by
        `offing.figure`. Of several series the sum (or mean) is looked at, and all of them in its tables.

    Raises
    ------
    InputError
        If there is no such target, or fewer than 4 values of it.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2020-01", periods=48, freq="M")
    >>> sold = pd.Series(100.0 + np.arange(48) + 20 * np.sin(2 * np.pi * months.month / 12), months, name="sold")
    >>> survey = of.inspect(sold + np.tile([0.5, -0.5, 0.2], 16))
    >>> survey.variance["part"].tolist()
    ['trend', 'cycle of a year', 'rest']
    """
    if isinstance(data, (Table, Panel)):
        tables: dict[str, Table | Panel] = {"data": data}
    elif isinstance(data, Mapping):
        tables = dict(data)
    else:
        tables = {"data": read(data)}
    if not tables:
        raise InputError("there are no tables to inspect")
    target = target or _first_column(tables)
    series = _fullest(tables, target)
    own = split_series(tables, target)[series]
    source, column = Sources(own).find(target)
    values = own[source].values(column)
    known = np.flatnonzero(np.isfinite(values))
    if len(known) < 4:
        raise InputError(
            f"the target has {count(len(known), 'value')}",
            "At least 4 are needed to show anything.",
            file=own[source].name,
            column=column,
        )
    return Survey(tables, dict(plans or {}), source, column, series, holidays)


@dataclass(frozen=True)
class Survey(SurveyData, Result, figure="survey.draw_survey"):
    """What `inspect` found. Its tables are DataFrames; its views (`history`, `years` …) are drawn by `offing.figure`.

    Attributes are those of `SurveyData`: ``overview``, ``gaps``, ``outliers``, ``cycles``, ``findings`` and so on.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 0.0, None, 6.0, 5.0], pd.period_range("2024-01", periods=5, freq="M"), name="sold")
    >>> survey = of.inspect(sold)
    >>> survey.overview[["column", "periods", "missing", "zeros"]].to_numpy().tolist()
    [['sold', 5, 1, 1]]
    """

    @property
    def questions(self) -> list[str]:
        """What only the analyst knows, each with the line that answers it; at most five."""
        return [str(each) for each in questions(self)]

    def __str__(self) -> str:
        return screen(self)

    @property
    def full(self) -> str:
        """The first screen, and all tables below it."""
        return screen(self) + "\n\n" + "\n\n".join(self._tables())

    @property
    def sentences(self) -> str:
        """The first screen."""
        return screen(self)

    @property
    def table(self) -> pd.DataFrame:
        """The same as `overview`: one row a column."""
        return self.overview

    def _tables(self) -> list[str]:
        shown = self.overview.drop(columns=["median"]).head(_MOST_ROWS)
        shown = shown.drop(columns=[c for c in ("id", "unit") if not (shown[c] != "").any()])
        found = [text_table(list(shown.columns), [[_cell(each) for each in shown[c]] for c in shown.columns])]
        for title, table in (
            ("What each column is used as", self.accounts),
            ("Runs of missing values", self.gaps),
            ("Outliers, far from what trend, season and neighbours lead to expect", self.outliers),
            ("Cycles that stand out", self.cycles),
        ):
            if len(table):
                most = _MOST_ROWS if table is self.accounts else 8
                shown = table.drop(columns=[c for c in ("id",) if c in table and not (table[c] != "").any()]).head(most)
                cells = [[_cell(each) for each in shown[c]] for c in shown.columns]
                more = f" ({most} of {len(table)})" if len(table) > most else ""
                found.append(f"{title}{more}:\n{text_table(list(shown.columns), cells)}")
        return found


def _cell(value: object) -> str:
    if isinstance(value, (float, np.floating)):
        return number(float(value), 4) if np.isfinite(value) else ""
    return f"{value:,}" if isinstance(value, (int, np.integer)) else str(value)


def _first_column(tables: Mapping[str, Table | Panel]) -> str:
    name, table = next(iter(tables.items()))
    return f"{name}.{likely_target(table)}"


def _values_of(tables: Mapping[str, Table], source: str, column: str) -> int:
    values = tables[source].columns.get(column)
    return 0 if values is None else int(np.isfinite(values).sum())


def _fullest(tables: Mapping[str, Table | Panel], target: str) -> str:
    """The series with most values of the target."""
    found = split_series(tables, target)
    sizes = {}
    for series, own in found.items():
        source, column = Sources(own).find(target)
        sizes[series] = _values_of(own, source, column)
    return max(sizes, key=lambda series: sizes[series])
