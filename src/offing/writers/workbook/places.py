"""Where everything stands that a formula refers to."""

from __future__ import annotations

from dataclasses import dataclass, field

from offing.base.arrays import Array
from offing.engine.expressions import (
    Carried,
    Coefficient,
    Compounded,
    Earlier,
    Expression,
    Facts,
    Input,
    Named,
    Weighted,
    Words,
)
from offing.engine.expressions import walked as all_of
from offing.model.forecast_formulas import ForecastFormulas, TableOfInputs
from offing.writers.spreadsheet_formulas import SpreadsheetFormulas, number
from offing.writers.workbook.layout import TOP, Layout


@dataclass
class Places(SpreadsheetFormulas):
    """Formulas whose parts stand on other sheets, in rows of the same number.

    `used` are the columns of the values that are used, by table and name, `steps` those of steps, `facts` those of the
    calendar, `coefficients` rows, `words` and `weights` columns of the sheet of lists.
    """

    formulas: ForecastFormulas
    layout: Layout
    used: dict[tuple[str, str], int] = field(default_factory=dict)
    steps: dict[str, int] = field(default_factory=dict)
    facts: dict[int, int] = field(default_factory=dict)
    coefficients: dict[str, int] = field(default_factory=dict)
    words: dict[str, tuple[int, list[str]]] = field(default_factory=dict)
    weights: dict[int, tuple[int, Array]] = field(default_factory=dict)
    writing: str = ""

    def sheet_of(self, kind: str, table: str) -> str:
        """The name of a kind of sheet for a table: those of other frequencies than the target's say so."""
        return kind if table == self.formulas.tables[0].name else f"{kind} by {table}"[:31]

    def facts_of(self, table: TableOfInputs) -> list[Facts]:
        """What the calendar says of a table's periods, each once."""
        own = [step.expression for step in self.formulas.steps if step.table == table.name]
        return list({id(part): part for step in own for part in all_of(step) if isinstance(part, Facts)}.values())

    def looks_back(self, expression: Expression) -> int:
        """How many rows before its own an expression looks at."""
        backs = [part.rows for part in all_of(expression) if isinstance(part, Earlier)]
        return max(backs, default=0)

    def at(self, table: str, column: int, row: int) -> str:
        """A cell of a sheet of calculations."""
        cell = self.layout.cell(TOP + row, column, column_fixed=True)
        return cell if table == self.writing else f"'{self.sheet_of('Calculation', table)}'!{cell}"

    def coefficient(self, part: Coefficient) -> str:
        """A cell of the sheet of coefficients."""
        return f"Coefficients!{self.layout.cell(self.coefficients[part.name], 1, fixed=True)}"

    def given(self, part: Input, row: int) -> str:
        """The value that is used."""
        return self.at(self.writing, self.used[self.writing, part.column], row)

    def fact(self, part: Facts, row: int) -> str:
        """A cell of the calendar."""
        cell = self.layout.cell(TOP + row, self.facts[id(part)], column_fixed=True)
        return f"'{self.sheet_of('Calendar', self.writing)}'!{cell}"

    def step(self, name: str, row: int) -> str:
        """A cell of the calculation."""
        return self.at(self.formulas.by_name[name].table, self.steps[name], row)

    def before(self, part: Carried | Compounded, name: str, row: int, back: int) -> str:
        """The same column, further up."""
        return self.step(name, row - back)

    def weighted(self, part: Weighted, row: int) -> str:
        """The sum over another sheet's rows, each with its weight on the sheet of lists."""
        first, weights = int(part.first[row]), part.weights[row]
        if not len(weights):
            return "0"
        inner = part.of
        column = self.steps[inner.name] if isinstance(inner, Named) else self.used[part.table, inner.column]  # type: ignore[attr-defined]
        cells = span(*(self.at(part.table, column, at) for at in (first, first + len(weights) - 1)))
        if (weights == weights[0]).all():
            return f"SUM({cells})*{number(float(weights[0]))}"
        return f"SUMPRODUCT({cells},{self.listed(self.weights[id(weights)][0], len(weights))})"

    def word(self, part: Words, row: int) -> str:
        """The number of the word in a cell; no number for a word that the fit never saw, unless it has one."""
        x = self.given(part.of, row)
        column, words = self.words[part.of.column]
        numbers = [(i, part.numbers[word]) for i, word in enumerate(words) if part.numbers[word]]
        parts = [f"{number(value)}*EXACT({x},{self.listed(column, 1, i)})" for i, value in numbers]
        other = "NA()" if part.otherwise is None else number(part.otherwise)
        known = f"SUMPRODUCT(--EXACT({x},{self.listed(column, len(words))}))"
        return f"IF({known}>0,{'+'.join(parts) or '0'},{other})"

    def listed(self, column: int, count: int, first: int = 0) -> str:
        """Cells of the sheet of lists, below its heads."""
        cells = [self.layout.cell(row, column, fixed=True) for row in (1 + first, first + count)]
        return f"Lists!{cells[0]}" if count == 1 else f"Lists!{cells[0]}:{cells[1]}"


def span(first: str, last: str) -> str:
    """A range of cells from two of one sheet."""
    return first if first == last else f"{first}:{last.rpartition('!')[2]}"
