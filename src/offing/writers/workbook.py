"""A forecast as a workbook that lives: plans can be changed in it, and every number that follows is a formula."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, optional
from offing.base.palette import FAINT, INK, PAPER, QUIET, WARM
from offing.base.text import in_units
from offing.base.whole_file import write_whole
from offing.engine.expressions import (
    Carried,
    Coefficient,
    Compounded,
    Expression,
    Facts,
    Input,
    Named,
    Weighted,
    Words,
    walked,
)
from offing.model.forecast import Forecast
from offing.model.forecast_formulas import ForecastFormulas, TableOfInputs, formulas_of
from offing.writers.formula_text import about, short_names
from offing.writers.spreadsheet_formulas import LONGEST, SpreadsheetFormulas, number

#: Sheets hold at most so many rows, and so many columns; what is beyond is refused before anything is written.
_MOST_ROWS, _MOST_COLUMNS, _MOST_CELLS = 1_048_000, 16_000, 3_000_000
#: The first row of numbers on every sheet that has a row for each period; above it stand titles, names and units.
_TOP = 8
AS_PLANNED = "as planned"


def write_workbook(
    forecast: Forecast,
    path: str | Path,
    *,
    scenarios: Sequence[Forecast] = (),
    totals: Mapping[str, pd.DataFrame] | None = None,
) -> None:
    """Write a forecast as a workbook (Office Open XML) in which plans can be changed.

    Parameters
    ----------
    forecast
        A forecast of one model, whose periods follow from one equation.
    path
        Such as ``forecast.xlsx``. A file of that name is replaced, whole or not at all.
    scenarios
        Forecasts of the same fit under other assumptions, which can then be chosen from a list.
    totals
        Further tables of values by the name of their sheet.

    Raises
    ------
    InputError
        If the forecast has no one equation, is too large for a workbook, or the file cannot be written.

    Examples
    --------
    >>> import pathlib, tempfile, pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> ahead = of.Model("sold", terms=[of.Trend()]).fit(sold).forecast(2)
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "sold.xlsx"
    >>> of.write_workbook(ahead, file)
    >>> file.stat().st_size > 5000
    True
    """
    write_whole(Path(path), workbook_bytes(forecast, scenarios=scenarios, totals=totals or {}))


def workbook_bytes(
    forecast: Forecast, *, scenarios: Sequence[Forecast] = (), totals: Mapping[str, pd.DataFrame]
) -> bytes:
    """The workbook's bytes: the same for the same forecast."""
    return _Book(formulas_of(forecast), scenarios, totals).bytes()


class _Book(SpreadsheetFormulas):
    """The workbook, sheet by sheet."""

    def __init__(
        self, formulas: ForecastFormulas, scenarios: Sequence[Forecast], totals: Mapping[str, pd.DataFrame]
    ) -> None:
        writer = optional("xlsxwriter", "excel", "writing workbooks")
        self.cell = optional("xlsxwriter.utility", "excel", "writing workbooks").xl_rowcol_to_cell
        self.formulas, self.ahead = formulas, formulas.forecast
        self.main = formulas.tables[0]
        self.scenarios = {each.scenario: formulas_of(each).tables for each in scenarios if each.scenario != AS_PLANNED}
        self.forecasts = {each.scenario: each for each in scenarios}
        self.totals = totals
        self._check_size()
        self.buffer = io.BytesIO()
        self.book = writer.Workbook(
            self.buffer,
            {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "strings_to_numbers": False,
             "nan_inf_to_errors": True},
        )  # fmt: skip
        self.formats: dict[tuple[tuple[str, Any], ...], Any] = {}
        self.short = short_names(name for each in formulas.tables for name in each.columns)
        self.sheet_of = {each.name: each for each in formulas.tables}
        self.table_of = {step.name: step.table for step in formulas.steps}
        self.used_columns: dict[tuple[str, str], int] = {}
        self.step_columns: dict[str, int] = {}
        self.fact_columns: dict[int, int] = {}
        self.coefficient_rows: dict[str, int] = {}
        self.word_rows: dict[str, tuple[int, list[str]]] = {}
        self.weight_columns: dict[int, tuple[int, np.ndarray]] = {}
        self.writing = ""  # the table whose steps are being written
        self.values = formulas.values

    def bytes(self) -> bytes:
        """All sheets, and the file that they make."""
        names = ["Read me", *(self._sheet("Plan", each) for each in self.formulas.tables if each.columns)]
        names += ["Forecast", "Contributions", *(["Scenarios"] if len(self.forecasts) > 1 else []), *self.totals]
        names += [
            "History",
            "Coefficients",
            *(self._sheet("Calendar", each) for each in self.formulas.tables if self._facts(each)),
        ]
        names += [self._sheet("Calculation", each) for each in self.formulas.tables]
        names += ["Lists"]
        self.sheets = {name: self.book.add_worksheet(name) for name in names}
        for sheet in self.sheets.values():
            sheet.hide_gridlines(2)
        self._lists()
        self._coefficients()
        for each in self.formulas.tables:
            self._calendar(each)
        for each in reversed(self.formulas.tables):
            self._plan(each)
        for each in reversed(self.formulas.tables):
            self._calculation(each)
        self._history()
        self._forecast()
        self._contributions()
        self._scenarios()
        for name, table in self.totals.items():
            self._values(name, table)
        self._read_me()
        self.book.set_properties(
            {"title": about(self.ahead), "author": "", "created": self.ahead.origin.tz_localize(None).to_pydatetime()}
        )
        self.book.close()
        return self.buffer.getvalue()

    # What a formula refers to

    def coefficient(self, part: Coefficient) -> str:
        """A cell of the sheet of coefficients."""
        return f"Coefficients!$B${self.coefficient_rows[part.name] + 1}"

    def given(self, part: Input, row: int) -> str:
        """The value that is used, on the sheet of the calculation."""
        return self.at(self.writing, self.used_columns[self.writing, part.column], row)

    def fact(self, part: Facts, row: int) -> str:
        """A cell of the calendar."""
        sheet = self._sheet("Calendar", self.sheet_of[self.writing])
        return f"'{sheet}'!{self.cell(_TOP + row, self.fact_columns[id(part)], col_abs=True)}"

    def step(self, name: str, row: int) -> str:
        """A cell of the calculation."""
        return self.at(self.table_of[name], self.step_columns[name], row)

    def before(self, part: Carried | Compounded, name: str, row: int, back: int) -> str:
        """The same column, further up."""
        return self.step(name, row - back)

    def weighted(self, part: Weighted, row: int) -> str:
        """The sum over another sheet's rows, each with its weight on the sheet of lists."""
        first, weights = int(part.first[row]), part.weights[row]
        if not len(weights):
            return "0"
        own_column = self.step_columns[part.of.name] if isinstance(part.of, Named) else self.used_columns[part.table, part.of.column]
        cells = [self.at(part.table, own_column, at) for at in (first, first + len(weights) - 1)]
        if (weights == weights[0]).all():
            return f"SUM({_span(*cells)})*{number(float(weights[0]))}"
        column, _ = self.weight_columns[id(weights)]
        own = _span(*(f"Lists!{self.cell(i, column, True, True)}" for i in (1, len(weights))))
        return f"SUMPRODUCT({_span(*cells)},{own})"

    def word(self, part: Words, row: int) -> str:
        """The number of the word in a cell; no number for a word that the fit never saw, unless it has one."""
        x = self.given(part.of, row)
        column, words = self.word_rows[part.of.column]

        def of(i: int) -> str:
            return f"Lists!{self.cell(1 + i, column, True, True)}"

        parts = [
            f"{number(part.numbers[word])}*EXACT({x},{of(i)})" for i, word in enumerate(words) if part.numbers[word]
        ]
        known = f"SUMPRODUCT(--EXACT({x},{_span(of(0), of(len(words) - 1))}))"
        other = "NA()" if part.otherwise is None else number(part.otherwise)
        return f"IF({known}>0,{'+'.join(parts) or '0'},{other})"

    def at(self, table: str, column: int, row: int) -> str:
        """A cell of a sheet of calculations."""
        cell = str(self.cell(_TOP + row, column, col_abs=True))
        name = self._sheet("Calculation", self.sheet_of[table])
        return cell if table == self.writing else f"'{name}'!{cell}"

    # Sheets

    def _sheet(self, name: str, each: TableOfInputs) -> str:
        return name if each is self.main else f"{name} by {each.name}"[:31]

    def _facts(self, each: TableOfInputs) -> list[Facts]:
        found = {}
        for step in self.formulas.steps:
            for part in walked(step.expression):
                if isinstance(part, Facts) and step.table == each.name:
                    found[id(part)] = part
        return list(found.values())

    def _format(self, **properties: Any) -> Any:
        key = tuple(sorted(properties.items()))
        if key not in self.formats:
            self.formats[key] = self.book.add_format(
                {"font_name": "Calibri", "font_size": 11, "font_color": INK, **properties}
            )
        return self.formats[key]

    def _title(self, sheet: Any, title: str, words: str) -> None:
        sheet.write_string(0, 0, title, self._format(bold=True, font_size=15))
        sheet.write_string(1, 0, words, self._format(font_color="#55616d"))

    def _heads(self, sheet: Any, row: int, names: Sequence[str], first: int = 0) -> None:
        head = self._format(bold=True, bottom=1, text_wrap=True, valign="bottom", bg_color=PAPER)
        for i, name in enumerate(names):
            sheet.write_string(row, first + i, name, head)

    def _dates(self, sheet: Any, each: TableOfInputs) -> None:
        """The periods in the first column, those before the forecast in a quiet colour."""
        form = {"hour": "yyyy-mm-dd hh:mm", "month": "yyyy-mm", "quarter": "yyyy-mm", "year": "yyyy"}
        for i, day in enumerate(_moments(each)):
            quiet = {"font_color": QUIET} if i < each.lead else {}
            style = self._format(num_format=form.get(each.axis.frequency.unit, "yyyy-mm-dd"), align="left", **quiet)
            sheet.write_datetime(_TOP + i, 0, day, style)
        sheet.set_column(0, 0, 17)
        sheet.freeze_panes(_TOP, 1)

    def _lists(self) -> None:
        """Words, scenarios and weights that formulas refer to."""
        sheet = self.sheets["Lists"]
        names = ["scenario", *(f"words of {self.short[name]}" for each in self.formulas.tables for name in each.words)]
        column = 1
        for i, name in enumerate([AS_PLANNED, *self.scenarios]):
            sheet.write_string(1 + i, 0, name)
        for step in self.formulas.steps:
            for part in walked(step.expression):
                if isinstance(part, Words) and part.of.column not in self.word_rows:
                    words = list(part.numbers)
                    self.word_rows[part.of.column] = column, words
                    for i, word in enumerate(words):
                        sheet.write_string(1 + i, column, word)
                    column += 1
                if isinstance(part, Weighted):
                    for weights in part.weights:
                        if (
                            len(weights)
                            and id(weights) not in self.weight_columns
                            and not (weights == weights[0]).all()
                        ):
                            self.weight_columns[id(weights)] = column, weights
                            names.append(f"weights of {step.name}")
                            for i, weight in enumerate(weights.tolist()):
                                sheet.write_number(1 + i, column, weight)
                            column += 1
        self._heads(sheet, 0, names)
        sheet.set_column(0, max(column - 1, 0), 22)

    def _coefficients(self) -> None:
        """The coefficients that formulas use, and beside them all that the fit says of its own."""
        sheet = self.sheets["Coefficients"]
        self._title(
            sheet, "Coefficients", "Formulas use the first two columns; further right stands what the fit says."
        )
        self._heads(sheet, 3, ["belongs to", "coefficient"])
        for i, (name, value) in enumerate(self.formulas.coefficients.items(), 4):
            self.coefficient_rows[name] = i
            sheet.write_string(i, 0, name)
            sheet.write_number(i, 1, value, self._format(num_format="0.000000"))
        sheet.set_column(0, 0, 38)
        sheet.set_column(1, 1, 14)
        self._table(sheet, self.ahead.fit.coefficients, 3, 3)  # type: ignore[attr-defined]

    def _calendar(self, each: TableOfInputs) -> None:
        """What the calendar says of every period."""
        facts = self._facts(each)
        if not facts:
            return
        sheet = self.sheets[self._sheet("Calendar", each)]
        self._title(sheet, "Calendar", "What is known of every period beforehand: time, seasons, holidays, events.")
        self._heads(sheet, _TOP - 1, [each.name, *(own.name for own in facts)])
        self._dates(sheet, each)
        for column, own in enumerate(facts, 1):
            self.fact_columns[id(own)] = column
            for i, value in enumerate(own.values.tolist()):
                if np.isfinite(value):
                    sheet.write_number(_TOP + i, column, value, self._format(num_format="0.0000"))
        sheet.set_column(1, len(facts), 15)

    def _plan(self, each: TableOfInputs) -> None:
        """The drivers' values, to be changed, with their units and the range that the fit saw."""
        if not each.columns:
            return
        sheet = self.sheets[self._sheet("Plan", each)]
        scenario = f", scenario {self.ahead.scenario}" if self.ahead.scenario != AS_PLANNED else ""
        self._title(sheet, f"Plan: the drivers' values{scenario}", "Change the cells with a frame; all else follows. "
                    "Cells turn red outside the range that the fit saw: there it can only guess.")  # fmt: skip
        names = list(each.columns)
        self._heads(sheet, _TOP - 1, [each.name, *(self.short[name] for name in names), "outside what was seen"])
        quiet = self._format(font_color="#55616d", italic=True)
        for row, label in zip(range(3, 6), ("unit", "lowest seen", "highest seen"), strict=True):
            sheet.write_string(row, 0, label, quiet)
        self._dates(sheet, each)
        view = self.ahead.view
        for column, name in enumerate(names, 1):
            sheet.write_string(3, column, view.sources.unit(name), quiet)
            words = name in each.words
            if words:
                self._offer_words(sheet, each, name, column)
            else:
                self._show_range(sheet, each, name, column)
            for i, value in enumerate(each.columns[name].tolist()):
                style = self._input_format(words=words, past=i < each.lead)
                if isinstance(value, str):
                    sheet.write_string(_TOP + i, column, value, style) if value else sheet.write_blank(
                        _TOP + i, column, None, style
                    )
                elif np.isfinite(value):
                    sheet.write_number(_TOP + i, column, value, style)
                else:
                    sheet.write_blank(_TOP + i, column, None, style)
        self._warnings(sheet, each, names)
        sheet.set_column(1, len(names), 15)
        sheet.set_column(len(names) + 1, len(names) + 1, 34)
        if each is self.main:
            self._offer_scenarios(sheet)

    def _input_format(self, *, words: bool, past: bool) -> Any:
        form = {} if words else {"num_format": "#,##0.00##"}
        return self._format(font_color=QUIET, **form) if past else self._format(border=1, border_color=QUIET, **form)

    def _offer_words(self, sheet: Any, each: TableOfInputs, name: str, column: int) -> None:
        at, words = self.word_rows[name]
        source = f"=Lists!{self.cell(1, at, True, True)}:{self.cell(len(words), at, True, True)}"
        choice = {"validate": "list", "source": source, "error_title": "A new word", "error_type": "warning",
                  "error_message": "The fit never saw this word."}  # fmt: skip
        sheet.data_validation(_TOP + each.lead, column, _TOP + each.axis.n - 1, column, choice)

    def _show_range(self, sheet: Any, each: TableOfInputs, name: str, column: int) -> None:
        seen = self.ahead.fit.seen(name)
        if not len(seen):
            return
        style = self._format(font_color="#55616d", italic=True, num_format="#,##0.00##")
        sheet.write_number(4, column, float(seen.min()), style)
        sheet.write_number(5, column, float(seen.max()), style)
        alarm = self._format(bg_color="#f4c7b8")
        low, high = (f"={self.cell(row, column, True, True)}" for row in (4, 5))
        rule = {"type": "cell", "criteria": "not between", "minimum": low, "maximum": high, "format": alarm}
        sheet.conditional_format(_TOP + each.lead, column, _TOP + each.axis.n - 1, column, rule)

    def _warnings(self, sheet: Any, each: TableOfInputs, names: Sequence[str]) -> None:
        """In words which of a period's values lie outside what was seen."""
        numeric = [
            (i, name) for i, name in enumerate(names, 1) if name not in each.words and len(self.ahead.fit.seen(name))
        ]
        for row in range(_TOP + each.lead, _TOP + each.axis.n):
            parts = [
                f"IF(OR({self.cell(row, i)}<{self.cell(4, i, True, True)},{self.cell(row, i)}>{self.cell(5, i, True, True)}),"
                f'{self.cell(_TOP - 1, i, True, True)}&" ","")'
                for i, _ in numeric
            ]
            text = "&".join(parts)
            if parts and len(text) < LONGEST:
                sheet.write_formula(row, len(names) + 1, f"={text}", self._format(font_color=WARM), "")

    def _offer_scenarios(self, sheet: Any) -> None:
        """The cell that chooses a scenario, and the values of every one further right."""
        if not self.scenarios:
            return
        sheet.write_string(2, 0, "scenario", self._format(bold=True))
        sheet.write_string(2, 1, AS_PLANNED, self._format(bold=True, border=2, border_color=WARM))
        count = len(self.scenarios) + 1
        choice = {
            "validate": "list",
            "source": f"=Lists!{self.cell(1, 0, True, True)}:{self.cell(count, 0, True, True)}",
        }
        sheet.data_validation(2, 1, 2, 1, choice)
        self.book.define_name("scenario", "=Plan!$B$3")
        sheet.write_string(
            2, 2, "choose from the list; cells with a frame hold the plan", self._format(font_color="#55616d")
        )

    def _scenario_columns(self, each: TableOfInputs) -> dict[str, list[tuple[str, int]]]:
        """Where each column's values under each scenario stand, on the sheet of the plan."""
        at, found = len(each.columns) + 3, dict[str, list[tuple[str, int]]]()
        for scenario, tables in self.scenarios.items():
            (own,) = [table for table in tables if table.name == each.name]
            for name, values in each.columns.items():
                if not _same(values, own.columns[name]):
                    found.setdefault(name, []).append((scenario, at))
                    at += 1
        return found

    def _calculation(self, each: TableOfInputs) -> None:
        """The values that are used, and every step from them."""
        sheet = self.sheets[self._sheet("Calculation", each)]
        self._title(sheet, "Calculation", "Every step from the drivers to the forecast, left to right.")
        self._dates(sheet, each)
        self.writing = each.name
        column = self._used(sheet, each, 1)
        steps = [step for step in self.formulas.steps if step.table == each.name]
        for at, step in enumerate(steps, column):
            self.step_columns[step.name] = at
        self._heads(
            sheet,
            _TOP - 1,
            [each.name, *(f"{self.short[name]}, used" for name in each.columns), *(step.name for step in steps)],
        )
        plain = self._format(num_format="#,##0.0000")
        for step in steps:
            at, values = self.step_columns[step.name], self.values[step.name]
            for row, value in enumerate(values.tolist()):
                start = isinstance(step.expression, (Carried, Compounded)) and row < each.lead
                if start and np.isfinite(value):
                    sheet.write_number(_TOP + row, at, value, plain)
                elif not start and (row >= each.lead or np.isfinite(value)) and self._reaches(step.expression, row):
                    text = self.of_step(step.name, step.expression, row)
                    self._formula(sheet, _TOP + row, at, text, plain, value)
        sheet.set_column(1, column + len(steps), 15)

    def _reaches(self, expression: Expression, row: int) -> bool:
        """Whether all rows that an expression looks at are there."""
        backs = [part.rows for part in walked(expression) if hasattr(part, "rows") and not isinstance(part, Weighted)]
        return all(row - back >= 0 for back in backs)

    def _used(self, sheet: Any, each: TableOfInputs, column: int) -> int:
        """The values that are used: those of the plan, or of the scenario that is chosen."""
        plan = self._sheet("Plan", each)
        scenarios = self._scenario_columns(each)
        for own, name in enumerate(each.columns, 1):
            self.used_columns[each.name, name] = column
            self._scenario_values(each, name, scenarios.get(name, []))
            for row, value in enumerate(each.columns[name].tolist()):
                if row < each.lead and not isinstance(value, str) and not np.isfinite(value):
                    continue
                cell = f"'{plan}'!{self.cell(_TOP + row, own)}"
                text = cell
                for scenario, at in reversed(scenarios.get(name, [])):
                    index = 1 + list(self.scenarios).index(scenario)
                    chosen = f"scenario=Lists!{self.cell(1 + index, 0, True, True)}"
                    text = f"IF({chosen},'{plan}'!{self.cell(_TOP + row, at)},{text})"
                if name not in each.words:
                    # An empty cell would count as zero without a word.
                    text = f"IF(ISNUMBER({text}),{text},NA())"
                self._formula(sheet, _TOP + row, column, text, self._format(num_format="#,##0.0000"), value)
            column += 1
        return column

    def _scenario_values(self, each: TableOfInputs, name: str, columns: Sequence[tuple[str, int]]) -> None:
        sheet = self.sheets[self._sheet("Plan", each)]
        for scenario, at in columns:
            (own,) = [table for table in self.scenarios[scenario] if table.name == each.name]
            self._heads(sheet, _TOP - 1, [f"{self.short[name]}: {scenario}"], at)
            sheet.set_column(at, at, 15)
            for row, value in enumerate(own.columns[name].tolist()):
                style = self._input_format(words=name in each.words, past=row < each.lead)
                if isinstance(value, str):
                    sheet.write_string(_TOP + row, at, value, style)
                elif np.isfinite(value):
                    sheet.write_number(_TOP + row, at, value, style)

    def _formula(self, sheet: Any, row: int, column: int, text: str, style: Any, value: Any) -> None:
        if len(text) >= LONGEST:
            raise InputError(
                f"a formula of {len(text):,} characters is longer than a cell can hold ({LONGEST:,})",
                "Take the SQL query or the Python function.",
            )
        cached = value if isinstance(value, str) or np.isfinite(value) else "#N/A"
        sheet.write_formula(row, column, f"={text}", style, cached)

    def _forecast(self) -> None:
        """The forecast with its intervals, in formulas, and its chart."""
        sheet, formulas = self.sheets["Forecast"], self.formulas
        fit = self.ahead.fit
        self._title(sheet, in_units(fit.label, fit.unit), self.ahead.sentence)
        shown = {"forecast": formulas.mean} | {f"q{p:g}": name for p, name in formulas.quantiles.items()}
        self._heads(sheet, _TOP - 1, [self.main.name, *shown])
        self._ahead_rows(sheet, list(shown.values()))
        self._fan_chart(sheet, list(shown))

    def _contributions(self) -> None:
        """What every term contributes, in formulas, their sum, and their chart."""
        sheet, formulas = self.sheets["Contributions"], self.formulas
        found = self.ahead.contributions
        self._title(sheet, "Contributions", found.sentence)
        labels = dict(zip(found.rows, ("baseline", *found.labels), strict=True))
        names = [labels.get(row, row) for row in formulas.contributions]
        self._heads(sheet, _TOP - 1, [self.main.name, *names, "total"])
        self._ahead_rows(sheet, list(formulas.contributions.values()))
        n, lead, last = self.main.axis.n - self.main.lead, self.main.lead, len(names)
        total = found.mean
        for row in range(n):
            text = f"SUM({self.cell(_TOP + row, 1)}:{self.cell(_TOP + row, last)})"
            self._formula(
                sheet, _TOP + row, last + 1, text, self._format(num_format="#,##0.00", bold=True), float(total[row])
            )
        self._bar_chart(sheet, names, n, lead)

    def _ahead_rows(self, sheet: Any, steps: Sequence[str]) -> None:
        """The forecast's periods with some steps, one column each."""
        self.writing = ""
        main, style = self.main, self._format(num_format="#,##0.00")
        form = {"hour": "yyyy-mm-dd hh:mm", "month": "yyyy-mm", "quarter": "yyyy-mm", "year": "yyyy"}
        moments = _moments(main)[main.lead :]
        for row, day in enumerate(moments):
            sheet.write_datetime(
                _TOP + row,
                0,
                day,
                self._format(num_format=form.get(main.axis.frequency.unit, "yyyy-mm-dd"), align="left"),
            )
            for column, step in enumerate(steps, 1):
                value = float(self.values[step][main.lead + row])
                self._formula(sheet, _TOP + row, column, self.step(step, main.lead + row), style, value)
        sheet.set_column(0, 0, 17)
        sheet.set_column(1, len(steps) + 1, 13)
        sheet.freeze_panes(_TOP, 1)

    def _fan_chart(self, sheet: Any, names: Sequence[str]) -> None:
        """History and forecast as lines, the widest and the narrowest band as thinner ones."""
        n = self.main.axis.n - self.main.lead
        chart = self.book.add_chart({"type": "line"})
        history, back = self.sheets["History"], min(len(self.ahead.fit.target), max(2 * n, 24))
        rows = len(self.ahead.fit.target)
        chart_rows = _TOP + rows - back
        # One run of periods for both: the history's sheet goes on with the forecast's.
        last = _TOP + rows + n - 1
        axis = ["History", chart_rows, 0, last, 0]
        chart.add_series(
            {
                "name": "target",
                "categories": axis,
                "values": ["History", chart_rows, 1, last, 1],
                "line": {"color": INK, "width": 1.75},
            }
        )
        widest = [names.index(name) for name in (names[1], names[-1])]
        chart.add_series(
            {
                "name": "forecast",
                "categories": axis,
                "values": ["History", chart_rows, 3, last, 3],
                "line": {"color": WARM, "width": 2.5},
            }
        )
        for j, at in enumerate(widest):
            chart.add_series(
                {
                    "name": names[at],
                    "categories": axis,
                    "values": ["History", chart_rows, 4 + j, last, 4 + j],
                    "line": {"color": WARM, "width": 1, "dash_type": "dash"},
                }
            )
        for i in range(n):
            row = _TOP + rows + i
            for j, at in enumerate([0, *widest]):
                cell = f"Forecast!{self.cell(_TOP + i, 1 + at)}"
                step = [self.formulas.mean, *self.formulas.quantiles.values()][at]
                self._formula(
                    history,
                    row,
                    3 + j,
                    cell,
                    self._format(num_format="#,##0.00"),
                    float(self.values[step][self.main.lead + i]),
                )
        self._dressed(chart, in_units(self.ahead.fit.label, self.ahead.fit.unit))
        sheet.insert_chart(2, len(names) + 2, chart, {"description": self.ahead.sentences.splitlines()[0]})

    def _bar_chart(self, sheet: Any, names: Sequence[str], n: int, lead: int) -> None:
        """Contributions as stacked columns, without the baseline."""
        from offing.base.palette import TERMS

        if len(names) < 2:
            return
        chart = self.book.add_chart({"type": "column", "subtype": "stacked"})
        axis = ["Contributions", _TOP, 0, _TOP + n - 1, 0]
        for i, name in enumerate(names[1:], 2):
            chart.add_series(
                {
                    "name": ["Contributions", _TOP - 1, i],
                    "categories": axis,
                    "values": ["Contributions", _TOP, i, _TOP + n - 1, i],
                    "fill": {"color": TERMS[(i - 2) % len(TERMS)]},
                    "gap": 40,
                }
            )
        self._dressed(chart, f"what moves {in_units(self.ahead.fit.label, self.ahead.fit.unit)} from its baseline")
        sheet.insert_chart(2, len(names) + 3, chart, {"description": self.ahead.contributions.sentence})

    def _dressed(self, chart: Any, title: str) -> None:
        chart.set_size({"width": 760, "height": 420})
        chart.set_title({"name": title, "overlay": False, "name_font": {"size": 13, "color": INK, "bold": True}})
        chart.set_x_axis(
            {"date_axis": True, "num_font": {"color": INK}, "line": {"color": QUIET}, "label_position": "low"}
        )
        chart.set_y_axis(
            {
                "num_font": {"color": INK},
                "major_gridlines": {"visible": True, "line": {"color": FAINT}},
                "line": {"none": True},
            }
        )
        chart.set_legend({"position": "bottom", "font": {"color": INK}})
        chart.set_chartarea({"fill": {"color": PAPER}, "border": {"none": True}})
        chart.set_plotarea({"fill": {"color": PAPER}})

    def _history(self) -> None:
        """What came, and what the fit made of it; below it the forecast goes on for the chart."""
        sheet, fit = self.sheets["History"], self.ahead.fit
        fitted = fit.fitted
        self._title(
            sheet,
            "History",
            "What came and what the model says of it, as values; below, the forecast again for the chart.",
        )
        self._heads(
            sheet, _TOP - 1, [self.main.name, "target", "fitted", "forecast", *list(self.ahead.table.columns[[2, -1]])]
        )
        form = {"hour": "yyyy-mm-dd hh:mm", "month": "yyyy-mm", "quarter": "yyyy-mm", "year": "yyyy"}
        style = self._format(num_format=form.get(fit.axis.frequency.unit, "yyyy-mm-dd"), align="left")
        index = [*_naive(fitted.index), *_moments(self.main)[self.main.lead :]]
        for row, day in enumerate(index):
            sheet.write_datetime(_TOP + row, 0, day, style)
        for column, name in enumerate(("target", "fitted"), 1):
            for row, value in enumerate(fitted[name].tolist()):
                if np.isfinite(value):
                    sheet.write_number(_TOP + row, column, value, self._format(num_format="#,##0.00"))
        sheet.set_column(0, 0, 17)
        sheet.set_column(1, 5, 13)
        sheet.freeze_panes(_TOP, 1)

    def _scenarios(self) -> None:
        """The forecasts of all scenarios beside each other, as values."""
        if "Scenarios" not in self.sheets:
            return
        table = pd.DataFrame({name: each.table["forecast"] for name, each in self.forecasts.items()})
        self._values("Scenarios", table.rename_axis(self.main.name), "Forecasts of all scenarios as they were exported: "
                     "values. The sheet of the plan calculates the one that is chosen there.")  # fmt: skip

    def _values(self, name: str, table: pd.DataFrame, words: str = "Values, as they were exported.") -> None:
        sheet = self.sheets[name]
        self._title(sheet, name, words)
        self._table(sheet, table.reset_index() if table.index.name else table, 3, 0)

    def _table(self, sheet: Any, table: pd.DataFrame, row: int, column: int) -> None:
        """A table of values."""
        self._heads(sheet, row, [str(name) for name in table.columns], column)
        for j, name in enumerate(table.columns, column):
            for i, value in enumerate(table[name].tolist(), row + 1):
                if isinstance(value, (int, float)) and not isinstance(value, bool):
                    if np.isfinite(value):
                        sheet.write_number(i, j, value, self._format(num_format="#,##0.00####"))
                elif isinstance(value, pd.Timestamp):
                    sheet.write_string(i, j, f"{value:%Y-%m-%d}" if value == value.normalize() else value.isoformat())
                else:
                    sheet.write_string(i, j, str(value))
        sheet.set_column(column, column + len(table.columns), 16)

    def _read_me(self) -> None:
        """What this is, where to change something, and what does not follow."""
        sheet = self.sheets["Read me"]
        ahead = self.ahead
        sheet.set_column(0, 0, 24)
        sheet.set_column(1, 1, 100)
        sheet.write_string(0, 0, about(ahead), self._format(bold=True, font_size=15))
        wrap = self._format(text_wrap=True, valign="top")
        says = {
            "Plan": "The drivers' values. Cells with a frame may be changed; all other sheets follow.",
            "Forecast": "The forecast and its intervals. " + ahead.sentence,
            "Contributions": ahead.contributions.sentence,
            "Scenarios": "The forecasts of all scenarios, as values.",
            "History": "What came, and what the model says of it.",
            "Coefficients": "The numbers that were estimated.",
            "Calendar": "What is known of every period beforehand. A share of a holiday may be changed as well.",
            "Calculation": "Every step from the drivers to the forecast, as formulas.",
            "Lists": "Words, scenarios and weights that formulas refer to.",
        }
        row = 2
        for name in self.sheets:
            words = says.get(name) or says.get(name.split(" by ")[0]) or "Values, as they were exported."
            if name == "Read me":
                continue
            sheet.write_url(row, 0, f"internal:'{name}'!A1", self._format(font_color="#2e6f8e", underline=1), name)
            sheet.write_string(row, 1, words, wrap)
            row += 1
        notes = [
            *self.formulas.fixed,
            "a cell without a number makes everything that needs it #N/A, and is never taken for zero",
        ]
        for note in notes:
            row += 1
            sheet.write_string(row, 0, "Note", self._format(bold=True, valign="top"))
            sheet.write_string(row, 1, f"{note[0].upper()}{note[1:]}.", wrap)

    def _check_size(self) -> None:
        steps = {each.name: 0 for each in self.formulas.tables}
        for step in self.formulas.steps:
            steps[step.table] += 1
        cells = sum(each.axis.n * (steps[each.name] + 2 * len(each.columns)) for each in self.formulas.tables)
        rows = max(each.axis.n for each in self.formulas.tables)
        wide = max(steps.values()) + max(len(each.columns) for each in self.formulas.tables)
        if rows > _MOST_ROWS or wide > _MOST_COLUMNS or cells > _MOST_CELLS:
            raise InputError(
                f"a workbook of {rows:,} periods with {wide:,} columns of formulas ({cells:,} cells) is too large to open",
                "Forecast fewer periods, or take the SQL query or the Python function.",
            )


def _moments(each: TableOfInputs) -> list[Any]:
    return _naive(each.axis.index)


def _naive(index: Any) -> list[Any]:
    """Starts of periods without a zone, which workbooks do not know."""
    stamps = pd.DatetimeIndex(index)
    return list((stamps.tz_localize(None) if stamps.tz is not None else stamps).to_pydatetime())


def _span(first: str, last: str) -> str:
    """A range of cells from two of them."""
    return f"{first}:{last.rpartition('!')[2]}"


def _same(one: np.ndarray, other: np.ndarray) -> bool:
    if one.dtype == object:
        return bool((one == other).all())
    return bool(np.array_equal(one, other, equal_nan=True))
