"""The sheets from which a workbook calculates: plans, lists, coefficients, the calendar."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from offing.base.arrays import Array
from offing.base.palette import QUIET, WARM
from offing.engine.expressions import Weighted, Words, walked
from offing.model.forecast import AS_PLANNED
from offing.model.forecast_formulas import TableOfInputs
from offing.writers.spreadsheet_formulas import LONGEST
from offing.writers.workbook.layout import AFTERTHOUGHT, STEP, TOP, TYPED
from offing.writers.workbook.places import Places

#: Rows of the plan above its periods.
_UNIT, _LOWEST, _HIGHEST = 3, 4, 5
#: A cell beyond what the fit saw.
_ALARM = "#f4c7b8"


def write_lists(places: Places, sheet: Any, scenarios: Sequence[str]) -> None:
    """Scenarios, words and weights that formulas refer to."""
    layout, names = places.layout, ["scenario"]
    columns: list[Sequence[Any]] = [[AS_PLANNED, *scenarios]]
    for step in places.formulas.steps:
        for part in walked(step.expression):
            if isinstance(part, Words) and part.of.column not in places.words:
                places.words[part.of.column] = len(columns), list(part.numbers)
                names.append(f"words of {part.of.column}")
                columns.append(list(part.numbers))
            if isinstance(part, Weighted):
                for weights in part.weights:
                    if len(weights) and id(weights) not in places.weights and (weights != weights[0]).any():
                        places.weights[id(weights)] = len(columns), weights
                        names.append(f"weights of {step.name}")
                        columns.append(weights.tolist())
    layout.heads(sheet, 0, names)
    for j, values in enumerate(columns):
        for i, value in enumerate(values):
            layout.value(sheet, (1 + i, j), value)
    sheet.set_column(0, len(columns) - 1, 22)


def write_coefficients(places: Places, sheet: Any) -> None:
    """The coefficients that formulas use, and beside them all that the fit says of its own."""
    layout = places.layout
    layout.title(sheet, "Coefficients", "Formulas use the first two columns; further right stands what the fit says.")
    layout.heads(sheet, 3, ["belongs to", "coefficient"])
    for i, (name, value) in enumerate(places.formulas.coefficients.items(), 4):
        places.coefficients[name] = i
        sheet.write_string(i, 0, name)
        sheet.write_number(i, 1, value, layout.style(num_format="0.000000"))
    layout.table(sheet, places.formulas.forecast.fit.coefficients, 3, 3)
    sheet.set_column(0, 0, 38)
    sheet.set_column(1, 1, 14)


def write_calendar(places: Places, sheet: Any, table: TableOfInputs) -> None:
    """What the calendar says of every period."""
    layout, facts = places.layout, places.facts_of(table)
    layout.title(sheet, "Calendar", "What is known of every period beforehand: time, seasons, holidays, events.")
    layout.heads(sheet, TOP - 1, [table.name, *(each.name for each in facts)])
    layout.periods(sheet, table.axis, table.lead)
    style = layout.style(num_format=STEP)
    for column, each in enumerate(facts, 1):
        places.facts[id(each)] = column
        for i, value in enumerate(each.values.tolist()):
            layout.value(sheet, (TOP + i, column), value, style)
    sheet.set_column(1, len(facts), 15)


class PlanSheet:
    """The drivers' values, to be changed, with their units, the range that the fit saw, and scenarios further right."""

    def __init__(
        self,
        places: Places,
        table: TableOfInputs,
        short: Mapping[str, str],
        scenarios: Mapping[str, Mapping[str, Any]],
    ) -> None:
        self.places, self.layout, self.table, self.short = places, places.layout, table, short
        self.scenarios = scenarios
        self.names = list(table.columns)
        self.sheet_name = places.sheet_of("Plan", table.name)
        self.view = places.formulas.forecast.view
        self.moved = self._moved()

    def _moved(self) -> dict[str, list[tuple[str, int]]]:
        """Where the values stand that each column has under a scenario, if they are others."""
        at, found = len(self.names) + 3, dict[str, list[tuple[str, int]]]()
        for scenario, columns in self.scenarios.items():
            for name in self.names:
                if not _same(self.table.columns[name], columns[name]):
                    found.setdefault(name, []).append((scenario, at))
                    at += 1
        return found

    def value_used(self, name: str, row: int) -> str:
        """The formula of the value that is used: the plan's, or that of the scenario which is chosen."""
        sheet = f"'{self.sheet_name}'!"
        text = f"{sheet}{self.layout.cell(TOP + row, 1 + self.names.index(name))}"
        for scenario, at in reversed(self.moved.get(name, [])):
            chosen = self.places.listed(0, 1, 1 + list(self.scenarios).index(scenario))
            text = f"IF(EXACT(scenario,{chosen}),{sheet}{self.layout.cell(TOP + row, at)},{text})"
        # An empty cell would count as zero without a word.
        return text if name in self.table.words else f"IF(ISNUMBER({text}),{text},NA())"

    def write(self, sheet: Any, title: str) -> None:
        """All of it."""
        layout, table = self.layout, self.table
        layout.title(
            sheet,
            title,
            "Change the cells with a frame; all else follows. Cells turn red outside the range that the fit saw: there "
            "it can only guess.",
        )
        heads = [self.short[name] for name in self.names]
        layout.heads(sheet, TOP - 1, [table.name, *heads, "outside what was seen"])
        quiet = layout.style(font_color=AFTERTHOUGHT, italic=True)
        for row, label in ((_UNIT, "unit"), (_LOWEST, "lowest seen"), (_HIGHEST, "highest seen")):
            sheet.write_string(row, 0, label, quiet)
        layout.periods(sheet, table.axis, table.lead)
        for column, name in enumerate(self.names, 1):
            sheet.write_string(_UNIT, column, self.view.sources.unit(name), quiet)
            self._values(sheet, column, name, table.columns[name])
            if name in table.words:
                self._offer_words(sheet, column, name)
            else:
                self._show_range(sheet, column, name)
        self._warnings(sheet)
        for name, columns in self.moved.items():
            for scenario, at in columns:
                layout.heads(sheet, TOP - 1, [f"{self.short[name]}: {scenario}"], at)
                self._values(sheet, at, name, self.scenarios[scenario][name])
                sheet.set_column(at, at, 15)
        sheet.set_column(1, len(self.names), 15)
        sheet.set_column(len(self.names) + 1, len(self.names) + 1, 34)

    def offer_scenarios(self, sheet: Any) -> None:
        """The cell that chooses a scenario."""
        layout = self.layout
        sheet.write_string(2, 0, "scenario", layout.style(bold=True))
        sheet.write_string(2, 1, AS_PLANNED, layout.style(bold=True, border=2, border_color=WARM))
        source = f"={self.places.listed(0, len(self.scenarios) + 1)}"
        sheet.data_validation(2, 1, 2, 1, {"validate": "list", "source": source})
        layout.book.define_name("scenario", f"='{self.sheet_name}'!$B$3")
        words = "choose from the list; the framed cells on the left hold the plan, those on the right the scenarios"
        sheet.write_string(2, 2, words, layout.style(font_color=AFTERTHOUGHT))

    def _values(self, sheet: Any, column: int, name: str, values: Any) -> None:
        form = {} if name in self.table.words else {"num_format": TYPED}
        for i, value in enumerate(values.tolist()):
            look = {"font_color": QUIET} if i < self.table.lead else {"border": 1, "border_color": QUIET}
            self.layout.value(sheet, (TOP + i, column), value, self.layout.style(**look, **form))

    def _changeable(self, column: int) -> tuple[int, int, int, int]:
        return TOP + self.table.lead, column, TOP + self.table.axis.n - 1, column

    def _offer_words(self, sheet: Any, column: int, name: str) -> None:
        at, words = self.places.words[name]
        choice = {
            "validate": "list",
            "source": f"={self.places.listed(at, len(words))}",
            "error_type": "warning",
            "error_title": "A new word",
            "error_message": "The fit never saw this word.",
        }
        sheet.data_validation(*self._changeable(column), choice)

    def _seen(self, name: str) -> Array:
        return self.places.formulas.forecast.fit.seen(name)

    def _show_range(self, sheet: Any, column: int, name: str) -> None:
        seen = self._seen(name)
        if not len(seen):
            return
        style = self.layout.style(font_color=AFTERTHOUGHT, italic=True, num_format=TYPED)
        sheet.write_number(_LOWEST, column, float(seen.min()), style)
        sheet.write_number(_HIGHEST, column, float(seen.max()), style)
        low, high = (f"={self.layout.cell(row, column, fixed=True)}" for row in (_LOWEST, _HIGHEST))
        rule = {"type": "cell", "criteria": "not between", "minimum": low, "maximum": high}
        alarm = self.layout.book.add_format({"bg_color": _ALARM})
        sheet.conditional_format(*self._changeable(column), {**rule, "format": alarm})

    def _warnings(self, sheet: Any) -> None:
        """In words which of a period's values lie outside what was seen."""
        cell, table = self.layout.cell, self.table
        numeric = [i for i, name in enumerate(self.names, 1) if name not in table.words and len(self._seen(name))]
        style = self.layout.style(font_color=WARM)
        for row in range(TOP + table.lead, TOP + table.axis.n):
            parts = []
            for i in numeric:
                x, low, high = cell(row, i), cell(_LOWEST, i, fixed=True), cell(_HIGHEST, i, fixed=True)
                parts.append(f'IF(OR({x}<{low},{x}>{high}),{cell(TOP - 1, i, fixed=True)}&" ","")')
            text = "&".join(parts)
            if parts and len(text) < LONGEST:
                values = [float(table.columns[self.names[i - 1]][row - TOP]) for i in numeric]
                self.layout.formula(sheet, (row, len(self.names) + 1), text, self._said(numeric, values), style)

    def _said(self, numeric: Sequence[int], values: Sequence[float]) -> str:
        """What the warning of a period says of the values as planned."""
        outside = []
        for i, value in zip(numeric, values, strict=True):
            seen = self._seen(self.names[i - 1])
            if not seen.min() <= value <= seen.max():
                outside.append(f"{self.short[self.names[i - 1]]} ")
        return "".join(outside)


def _same(one: Any, other: Any) -> bool:
    if one.dtype == object:
        return bool((one == other).all())
    return bool(np.array_equal(one, other, equal_nan=True))
