"""A forecast as a formula for one cell of a spreadsheet."""

from __future__ import annotations

import numpy as np

from offing.base import InputError
from offing.engine import impulse_response
from offing.engine.expressions import Carried, Coefficient, Compounded, Facts, Input, Weighted, Words, carried
from offing.model.forecast import Forecast
from offing.model.forecast_formulas import ForecastFormulas, TableOfInputs, formulas_of
from offing.writers.formula_text import about, period_texts, short_names
from offing.writers.spreadsheet_formulas import LONGEST, SpreadsheetFormulas, number, quoted

#: A text within a formula may not be longer.
_LONGEST_TEXT = 255


def cell_formula(forecast: Forecast) -> str:
    """Write the means of a forecast as formulas of one cell each, for a sheet that holds the drivers and nothing else.

    Every formula stands by itself: all numbers are in it, and it looks at the drivers' cells alone. The first lines
    say which driver stands in which column; a period's formula goes into any free cell of its row.

    Raises
    ------
    InputError
        If the forecast has no one equation, or a formula would be longer than a cell can hold.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> from offing.writers.cell_formula import cell_formula
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.0, 6.0, 5.0, 7.0], "rain": [1, 0, 1, 0, 1, 0]}, days)
    >>> plan = pd.DataFrame({"rain": [0]}, pd.date_range("2024-01-07", periods=1, freq="D"))
    >>> ahead = of.Model("sold", terms=[of.Driver("rain")]).fit(data).forecast(1, plan=plan)
    >>> print(cell_formula(ahead))  # doctest: +ELLIPSIS
    sold: forecast of 2024-01-07, by the model main, as planned.
    Row 1 holds the heads: A day, B rain. Below stand the periods, in row 2 the day 2024-01-07.
    <BLANKLINE>
    row 2, 2024-01-07: =...B2...
    """
    formulas = formulas_of(forecast)
    main, *others = formulas.tables
    cells = _Cells(formulas)
    lines = [about(forecast), _layout(main, cells)]
    more = [each for each in others if each.columns]
    lines += [f"The sheet '{each.name}' holds in the same way: {_layout(each, cells)}" for each in more]
    lines += [f"Note: {each}." for each in formulas.fixed if "interval" not in each]  # there are means alone
    lines.append("")
    texts = period_texts(main.axis)
    for row in range(main.lead, main.axis.n):
        text = f"={cells.of_step(formulas.mean, formulas.by_name[formulas.mean].expression, row)}"
        if len(text) > LONGEST:
            raise InputError(
                f"a formula of {len(text):,} characters is longer than a cell can hold ({LONGEST:,})",
                "Take a workbook, where every step has its own cell.",
                period=texts[row],
            )
        lines.append(f"row {row + 2}, {texts[row]}: {text}")
    return "\n".join(lines)


def _layout(table: TableOfInputs, cells: _Cells) -> str:
    heads = [f"A {table.name}", *(f"{cells.column(table, name)} {cells.short[name]}" for name in table.columns)]
    first = period_texts(table.axis)[0]
    return f"Row 1 holds the heads: {', '.join(heads)}. Below stand the periods, in row 2 the {table.name} {first}."


class _Cells(SpreadsheetFormulas):
    """Formulas that hold everything but the drivers' cells."""

    def __init__(self, formulas: ForecastFormulas) -> None:
        self.formulas = formulas
        self.short = short_names(name for each in formulas.tables for name in each.columns)
        self.tables = {name: each for each in formulas.tables for name in each.columns}

    def column(self, table: TableOfInputs, name: str) -> str:
        """The letters of a driver's column."""
        at, letters = list(table.columns).index(name) + 2, ""
        while at:
            at, rest = divmod(at - 1, 26)
            letters = chr(65 + rest) + letters
        return letters

    def coefficient(self, part: Coefficient) -> str:
        """The number."""
        return number(part.value)

    def given(self, part: Input, row: int) -> str:
        """A cell of the driver's column."""
        table = self.tables[part.column]
        sheet = "" if table is self.formulas.tables[0] else f"'{table.name}'!"
        return f"{sheet}{self.column(table, part.column)}{row + 2}"

    def fact(self, part: Facts, row: int) -> str:
        """The number."""
        return number(float(part.values[row]))

    def step(self, name: str, row: int) -> str:
        """The step's own formula."""
        step = self.formulas.by_name[name]
        table = next(each for each in self.formulas.tables if each.name == step.table)
        if isinstance(step.expression, (Carried, Compounded)) and row < table.lead:
            return number(float(step.expression.start[row]))
        if isinstance(step.expression, Carried):
            return f"({self._lived_on(step.expression, row, table.lead)})"
        return self.inner_step(name, step.expression, row)

    def _lived_on(self, part: Carried, row: int, lead: int) -> str:
        """What lives on of every earlier value: written out period by period it would grow without end."""
        n = row - lead + 1
        alone = carried(np.zeros(row + 1), part.phi, part.start)[row]
        left = impulse_response(part.phi, n).tolist()
        parts = [
            f"{number(left[row - at])}*{self._bound(part.of, at, 2)}" for at in range(lead, row + 1) if left[row - at]
        ]
        return "+".join([*([number(float(alone))] if alone else []), *parts]) or "0"

    def before(self, part: Carried | Compounded, name: str, row: int, back: int) -> str:
        """What it came to before, down to where it starts."""
        return self.step(name, row - back) if row >= back else "0"

    def weighted(self, part: Weighted, row: int) -> str:
        """All values with their weights."""
        first = int(part.first[row])
        weights = enumerate(part.weights[row].tolist(), first)
        parts = [f"{number(weight)}*{self.written(part.of, at)}" for at, weight in weights if weight]
        return f"({'+'.join(parts) or '0'})"

    def word(self, part: Words, row: int) -> str:
        """The number of the word in the cell."""
        x = self.given(part.of, row)
        text = "NA()" if part.otherwise is None else number(part.otherwise)
        for word, value in reversed(list(part.numbers.items())):
            if len(word) > _LONGEST_TEXT:
                raise InputError(
                    f"the word {word[:40]!r} … is longer than a formula can hold ({_LONGEST_TEXT} characters)",
                    "Take a workbook.",
                )
            text = f"IF(EXACT({x},{quoted(word)}),{number(value)},{text})"
        return text
