"""The sheets that a workbook is read for: forecast, contributions, history, scenarios, and their charts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd

from offing.base.palette import INK, TERMS, WARM
from offing.base.text import in_units
from offing.calendar import Axis
from offing.model.decomposition import BASELINE
from offing.writers.workbook.layout import READ, TOP
from offing.writers.workbook.places import Places

#: Periods of history that a chart shows for each of the forecast's, and at least.
_BACK, _FEWEST = 2, 24
#: Below a table of more rows a chart would not be found.
_SHORT = 30


def write_forecast(places: Places, sheet: Any, history: Any) -> None:
    """The forecast with its intervals, and its chart, whose numbers stand below those of the history."""
    formulas, ahead, layout = places.formulas, places.formulas.forecast, places.layout
    label = in_units(ahead.fit.label, ahead.fit.unit)
    layout.title(sheet, label, ahead.sentence)
    shown = {"forecast": formulas.mean} | {f"q{p:g}": name for p, name in formulas.quantiles.items()}
    layout.heads(sheet, TOP - 1, [formulas.tables[0].name, *shown])
    _rows(places, sheet, list(shown.values()))
    names, n, rows = list(shown), ahead.axis.n, ahead.fit.axis.n
    drawn = [0, 1, len(names) - 1]
    for j, at in enumerate(drawn):
        values = formulas.values[shown[names[at]]][formulas.tables[0].lead :]
        for i in range(n):
            cell = f"Forecast!{layout.cell(TOP + i, 1 + at)}"
            layout.formula(history, (TOP + rows + i, 3 + j), cell, float(values[i]), layout.style(num_format=READ))
    back = min(rows, max(_BACK * n, _FEWEST))
    chart = layout.chart({"type": "line"}, label, back + n, ahead.axis.frequency.unit)
    first, last = TOP + rows - back, TOP + rows + n - 1
    axis = ["History", first, 0, last, 0]
    lines = [
        ("target", 1, {"color": INK, "width": 1.75}),
        ("forecast", 3, {"color": WARM, "width": 2.5}),
        *((names[at], 3 + j, {"color": WARM, "width": 1, "dash_type": "dash"}) for j, at in enumerate(drawn) if j),
    ]
    for name, column, line in lines:
        values_at = ["History", first, column, last, column]
        chart.add_series({"name": name, "categories": axis, "values": values_at, "line": line})
    sheet.insert_chart(*_beside(n, len(names)), chart, {"description": ahead.sentences.splitlines()[0]})


def write_contributions(places: Places, sheet: Any) -> None:
    """What every term contributes, their sum, and a chart of it."""
    formulas, layout = places.formulas, places.layout
    ahead = formulas.forecast
    found = ahead.contributions
    layout.title(sheet, "Contributions", found.sentence)
    labels = dict(zip(found.rows, (BASELINE, *found.labels), strict=True))
    names = [labels.get(row, row) for row in formulas.contributions]
    layout.heads(sheet, TOP - 1, [formulas.tables[0].name, *names, "total"])
    _rows(places, sheet, list(formulas.contributions.values()))
    bold = layout.style(num_format=READ, bold=True)
    for row, total in enumerate(found.mean.tolist(), TOP):
        text = f"SUM({layout.cell(row, 1)}:{layout.cell(row, len(names))})"
        layout.formula(sheet, (row, len(names) + 1), text, total, bold)
    if len(names) < 2:
        return
    last = TOP + ahead.axis.n - 1
    chart = layout.chart(
        {"type": "column", "subtype": "stacked"},
        f"What moves {in_units(ahead.fit.label, ahead.fit.unit)}",
        ahead.axis.n,
        ahead.axis.frequency.unit,
    )
    for i in range(2, len(names) + 1):
        chart.add_series(
            {
                "name": ["Contributions", TOP - 1, i],
                "categories": ["Contributions", TOP, 0, last, 0],
                "values": ["Contributions", TOP, i, last, i],
                "fill": {"color": TERMS[(i - 2) % len(TERMS)]},
                "gap": 40,
            }
        )
    sheet.insert_chart(*_beside(ahead.axis.n, len(names) + 1), chart, {"description": found.sentence})


def write_history(places: Places, sheet: Any) -> None:
    """What came, and what the fit made of it; below it the forecast goes on for the chart."""
    layout, ahead = places.layout, places.formulas.forecast
    fit, quantiles = ahead.fit, [str(name) for name in ahead.table.columns if str(name).startswith("q")]
    words = "What came and what the model says of it, as values; below, the forecast again for the chart."
    layout.title(sheet, "History", words)
    heads = [fit.axis.frequency.unit, "target", "fitted", "forecast", quantiles[0], quantiles[-1]]
    layout.heads(sheet, TOP - 1, heads)
    layout.periods(sheet, Axis(fit.axis.frequency, fit.axis.first, fit.axis.n + ahead.axis.n))
    style = layout.style(num_format=READ)
    for column, values in enumerate((fit.target, fit.means), 1):
        for row, value in enumerate(np.asarray(values).tolist()):
            layout.value(sheet, (TOP + row, column), value, style)
    sheet.set_column(1, 5, 13)


def write_values(places: Places, sheet: Any, title: str, table: pd.DataFrame, words: str) -> None:
    """A table of values."""
    places.layout.title(sheet, title, words)
    places.layout.table(sheet, table if table.index.name is None else table.reset_index(), 3, 0)


def write_stock(places: Places, sheet: Any, table: pd.DataFrame) -> None:
    """What is enough for every lead time, and a cell that looks it up for one that is chosen."""
    layout, levels = places.layout, [float(name) for name in table.columns[1:]]
    unit = places.formulas.tables[0].name
    layout.title(sheet, "Stock", "What is enough for the next periods together: values, from joint paths.")
    layout.heads(sheet, 3, [f"lead time, {unit}s", "expected"])
    for j, level in enumerate(levels, 2):
        sheet.write_number(3, j, level, layout.style(bold=True, bottom=1, num_format="0.0##%"))
    style = layout.style(num_format=READ)
    for i, (lead, totals) in enumerate(zip(table.index.tolist(), table.to_numpy().tolist(), strict=True), 4):
        sheet.write_number(i, 0, lead)
        for j, value in enumerate(totals, 1):
            layout.value(sheet, (i, j), value, style)
    last, right = 3 + len(table), 1 + len(levels)
    at, chosen = right + 2, {"bold": True, "border": 2, "border_color": WARM}
    cell = layout.cell
    leads = f"{cell(4, 0, fixed=True)}:{cell(last, 0, fixed=True)}"
    heads = f"{cell(3, 2, fixed=True)}:{cell(3, right, fixed=True)}"
    whole = f"{cell(4, 2, fixed=True)}:{cell(last, right, fixed=True)}"
    middle, level = (len(table) + 1) // 2, levels[-1]
    for row, (name, value, source, form) in enumerate(
        (("lead time", middle, leads, "0"), ("service level", level, heads, "0.0##%")), 3
    ):
        sheet.write_string(row, at, name, layout.style(bold=True))
        sheet.write_number(row, at + 1, value, layout.style(**chosen, num_format=form))
        sheet.data_validation(row, at + 1, row, at + 1, {"validate": "list", "source": f"={source}"})
    found = f"INDEX({whole},MATCH({cell(3, at + 1)},{leads},0),MATCH({cell(4, at + 1)},{heads},0))"
    sheet.write_string(5, at, "enough", layout.style(bold=True))
    enough = float(table.to_numpy()[middle - 1, -1])
    layout.formula(sheet, (5, at + 1), found, enough, layout.style(num_format=READ, bold=True))
    sheet.set_column(0, at + 1, 15)


def _beside(n: int, columns: int) -> tuple[int, int]:
    """The cell at which a chart begins: below a short table, to the right of a long one."""
    return (TOP + n + 1, 0) if n <= _SHORT else (2, columns + 2)


def _rows(places: Places, sheet: Any, steps: Sequence[str]) -> None:
    """The forecast's periods with some steps, a column each."""
    layout, main = places.layout, places.formulas.tables[0]
    places.writing = ""
    layout.periods(sheet, places.formulas.forecast.axis)
    style = layout.style(num_format=READ)
    for column, step in enumerate(steps, 1):
        values = places.formulas.values[step][main.lead :]
        for row, value in enumerate(values.tolist()):
            layout.formula(sheet, (TOP + row, column), places.step(step, main.lead + row), value, style)
    sheet.set_column(1, len(steps) + 1, 13)
