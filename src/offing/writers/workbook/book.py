"""The workbook put together, sheet by sheet."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.palette import TERMS
from offing.base.whole_file import write_whole
from offing.engine.expressions import Carried, Compounded
from offing.model.forecast import AS_PLANNED, Forecast
from offing.model.forecast_formulas import ForecastFormulas, TableOfInputs, formulas_of
from offing.writers.formula_text import about, short_names
from offing.writers.workbook.inputs import PlanSheet, write_calendar, write_coefficients, write_lists
from offing.writers.workbook.layout import STEP, TOP, Layout
from offing.writers.workbook.outcomes import (
    write_contributions,
    write_forecast,
    write_history,
    write_stock,
    write_values,
)
from offing.writers.workbook.places import Places

#: The most rows and columns of a sheet, and the most cells of a workbook, which with more takes minutes to open.
_MOST_ROWS, _MOST_COLUMNS, _MOST_CELLS = 1_048_000, 16_000, 3_000_000
_SAYS = {
    "Plan": "The drivers' values. Cells with a frame may be changed; all other sheets follow.",
    "Scenarios": "The forecasts of all scenarios, as values.",
    "History": "What came, and what the model says of it.",
    "Coefficients": "The numbers that were estimated.",
    "Calendar": "What is known of every period beforehand. A share of a holiday may be changed as well.",
    "Calculation": "Every step from the drivers to the forecast, as formulas.",
    "Stock": "What is enough for a lead time, which is chosen from a list.",
    "Lists": "Words, scenarios and weights that formulas refer to.",
}
#: So many letters stand on a line of the first sheet.
_A_LINE = 95
_VALUES = "Values, as they were exported."


def write_workbook(
    forecast: Forecast,
    path: str | Path,
    *,
    scenarios: Sequence[Forecast] = (),
    values: Mapping[str, pd.DataFrame] | None = None,
) -> None:
    """Write a forecast as a workbook (Office Open XML) in which plans can be changed.

    Its sheets hold the drivers' plan, every step from there to the forecast, quantiles and contributions as formulas,
    what was estimated, the history and charts. Formulas are recalculated by any spreadsheet program; the file says
    besides what they come to as planned.

    Parameters
    ----------
    forecast
        A forecast of one model, whose periods follow from one equation.
    path
        Such as ``forecast.xlsx``. A file of that name is replaced, whole or not at all.
    scenarios
        Forecasts of the same fit under other assumptions, which can then be chosen from a list.
    values
        Further tables by the names of their sheets, as values.

    Raises
    ------
    InputError
        If the forecast has no one equation, is too large for a workbook, or the file cannot be written.

    Examples
    --------
    >>> import pathlib, tempfile, pandas as pd, offing as of
    >>> from offing.writers.workbook.book import write_workbook
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> ahead = of.Model("sold", terms=[of.Trend()]).fit(sold).forecast(2)
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "sold.xlsx"
    >>> write_workbook(ahead, file)
    >>> file.stat().st_size > 5000
    True
    """
    write_whole(Path(path), workbook_bytes(forecast, scenarios=scenarios, values=values or {}))


def workbook_bytes(
    forecast: Forecast, *, scenarios: Sequence[Forecast] = (), values: Mapping[str, pd.DataFrame]
) -> bytes:
    """The workbook's bytes: the same for the same forecast."""
    formulas = formulas_of(forecast)
    _check_size(formulas)
    return _Book(formulas, scenarios, values).bytes()


class _Book:
    """The sheets of one workbook, in the order in which they are read; they are written from the inputs on."""

    def __init__(
        self, formulas: ForecastFormulas, scenarios: Sequence[Forecast], values: Mapping[str, pd.DataFrame]
    ) -> None:
        self.formulas, self.ahead, self.layout = formulas, formulas.forecast, Layout()
        self.places = Places(formulas, self.layout)
        self.main, self.tables = formulas.tables[0], formulas.tables
        self.scenarios = {each.scenario: each for each in scenarios if each.scenario != AS_PLANNED}
        self.values = dict(values)
        short = short_names(name for each in formulas.tables for name in each.columns)
        assumed = {name: formulas_of(each).tables for name, each in self.scenarios.items()}
        self.plans = {
            each.name: PlanSheet(
                self.places,
                each,
                short,
                {
                    name: next(table.columns for table in tables if table.name == each.name)
                    for name, tables in assumed.items()
                },
            )
            for each in self.tables
            if each.columns
        }
        self.short = short

    def bytes(self) -> bytes:
        """All sheets, and the file that they make."""
        if self.scenarios:
            self.values = {"Scenarios": self._all_scenarios(), **self.values}
        own = self.places.sheet_of
        names = ["Read me", *(own("Plan", name) for name in self.plans), "Forecast", "Contributions", *self.values]
        names += ["History", "Coefficients"]
        names += [own("Calendar", each.name) for each in self.tables if self.places.facts_of(each)]
        names += [*(own("Calculation", each.name) for each in self.tables), "Lists"]
        sheets = {name: self.layout.sheet(name) for name in names}
        write_lists(self.places, sheets["Lists"], list(self.scenarios))
        write_coefficients(self.places, sheets["Coefficients"])
        for each in self.tables:
            if self.places.facts_of(each):
                write_calendar(self.places, sheets[own("Calendar", each.name)], each)
            if each.name in self.plans:
                scenario = "" if self.ahead.scenario == AS_PLANNED else f", {self.ahead.scenario}"
                self.plans[each.name].write(sheets[own("Plan", each.name)], f"Plan: the drivers' values{scenario}")
        if self.scenarios and self.plans:
            first = next(iter(self.plans))
            self.plans[first].offer_scenarios(sheets[own("Plan", first)])
        # The target's own steps rest on those of other frequencies.
        for each in reversed(self.tables):
            self._calculation(sheets[own("Calculation", each.name)], each)
        write_history(self.places, sheets["History"])
        write_forecast(self.places, sheets["Forecast"], sheets["History"])
        write_contributions(self.places, sheets["Contributions"])
        for name, table in self.values.items():
            if name == "Stock":
                write_stock(self.places, sheets[name], table)
            else:
                write_values(self.places, sheets[name], name, table, _SAYS.get(name, _VALUES))
        self._read_me(sheets["Read me"], names[1:])
        sheets["Forecast"].set_first_sheet()
        return self.layout.bytes(about(self.ahead), self.ahead.origin)

    def _all_scenarios(self) -> pd.DataFrame:
        """The forecast of each scenario with its widest interval, as values."""
        found = {}
        for name, each in {AS_PLANNED: self.ahead, **self.scenarios}.items():
            quantiles = [str(column) for column in each.table.columns if str(column).startswith("q")]
            for column in ("forecast", quantiles[0], quantiles[-1]):
                found[name if column == "forecast" else f"{name}: {column}"] = each.table[column]
        return pd.DataFrame(found).rename_axis(self.main.name)

    def _calculation(self, sheet: Any, table: TableOfInputs) -> None:
        """The values that are used, and every step from them."""
        layout, places = self.layout, self.places
        layout.title(sheet, "Calculation", "Every step from the drivers to the forecast, left to right.")
        layout.periods(sheet, table.axis, table.lead)
        places.writing = table.name
        used = [f"{self.short[name]}, used" for name in table.columns]
        steps = [step for step in self.formulas.steps if step.table == table.name]
        layout.heads(sheet, TOP - 1, [table.name, *used, *(step.name for step in steps)])
        style = layout.style(num_format=STEP)
        for column, (name, values) in enumerate(table.columns.items(), 1):
            places.used[table.name, name] = column
            for row, value in enumerate(values.tolist()):
                if row >= table.lead or isinstance(value, str) or np.isfinite(value):
                    text = self.plans[table.name].value_used(name, row)
                    layout.formula(sheet, (TOP + row, column), text, value, style)
        for column, step in enumerate(steps, 1 + len(used)):
            places.steps[step.name] = column
        for step in steps:
            runs_on, back = isinstance(step.expression, (Carried, Compounded)), places.looks_back(step.expression)
            for row, value in enumerate(self.formulas.values[step.name].tolist()):
                at = TOP + row, places.steps[step.name]
                if runs_on and row < table.lead:
                    layout.value(sheet, at, value, style)
                elif (row >= table.lead or np.isfinite(value)) and row >= back:
                    layout.formula(sheet, at, places.of_step(step.name, step.expression, row), value, style)
        sheet.set_column(1, len(used) + len(steps), 15)

    def _read_me(self, sheet: Any, names: Sequence[str]) -> None:
        """What this is, where to change something, and what does not follow."""
        layout, ahead = self.layout, self.ahead
        sheet.set_column(0, 0, 24)
        sheet.set_column(1, 1, 100)
        sheet.write_string(0, 0, about(ahead), layout.style(bold=True, font_size=15))
        says = {**_SAYS, "Contributions": ahead.contributions.sentence}
        says["Forecast"] = f"The forecast and its intervals. {ahead.sentence}"
        wrap, link = (
            layout.style(text_wrap=True, valign="top"),
            layout.style(font_color=TERMS[0], underline=1, valign="top"),
        )
        for row, name in enumerate(names, 2):
            sheet.write_url(row, 0, f"internal:'{name}'!A1", link, name)
            words = says.get(name.split(" by ")[0], _VALUES)
            sheet.set_row(row, 15 * (1 + len(words) // _A_LINE))
            sheet.write_string(row, 1, words, wrap)
        expected = ", ".join(f"'{name}'" for name, each in self.scenarios.items() if each.outlooks)
        modelled = (
            f"on the sheet of the forecast the intervals of {expected} do not count what is not known of drivers that "
            "models of their own expect; those on the sheet Scenarios do"
        )
        notes = [
            *self.formulas.fixed,
            *([modelled] if expected else []),
            "a cell without a number makes all that needs it #N/A, and never counts as zero",
        ]
        for row, note in enumerate(notes, 3 + len(names)):
            sheet.write_string(row, 0, "note", layout.style(bold=True, valign="top"))
            sheet.set_row(row, 15 * (1 + len(note) // _A_LINE))
            sheet.write_string(row, 1, f"{note[0].upper()}{note[1:]}.", wrap)


def _check_size(formulas: ForecastFormulas) -> None:
    """Refuse what no spreadsheet program could open, before anything is written."""
    steps = {each.name: sum(step.table == each.name for step in formulas.steps) for each in formulas.tables}
    wide = max(steps[each.name] + len(each.columns) for each in formulas.tables)
    cells = sum(each.axis.n * (steps[each.name] + 2 * len(each.columns)) for each in formulas.tables)
    rows = max(each.axis.n for each in formulas.tables)
    if rows > _MOST_ROWS or wide > _MOST_COLUMNS or cells > _MOST_CELLS:
        raise InputError(
            f"a workbook of {rows:,} periods with {wide:,} columns of formulas, {cells:,} cells, is too large to open",
            "Forecast fewer periods, or take the SQL query or the Python function.",
        )
