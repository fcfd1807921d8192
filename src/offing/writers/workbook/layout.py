"""How sheets look: titles, heads, periods, tables of values, and where rows begin."""

from __future__ import annotations

import io
from collections.abc import Sequence
from datetime import datetime
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, optional
from offing.base.palette import FAINT, INK, PAPER, QUIET
from offing.calendar import Axis
from offing.writers.spreadsheet_formulas import LONGEST

#: The first row of numbers on every sheet that has a row for each period; above it stand titles, names and units.
TOP = 8
#: How numbers look: in a table to be read, in a step of the calculation, and as somebody typed them.
READ, STEP, TYPED = "#,##0.00", "#,##0.0000", "#,##0.00##"
#: Explanations stand back a little.
AFTERTHOUGHT = "#55616d"
_DATES = {"hour": "yyyy-mm-dd hh:mm", "month": "yyyy-mm", "quarter": "yyyy-mm", "year": "yyyy"}


class Layout:
    """A workbook in memory, with what all of its sheets have in common."""

    def __init__(self) -> None:
        writer = optional("xlsxwriter", "excel", "writing workbooks")
        self._name_of = optional("xlsxwriter.utility", "excel", "writing workbooks").xl_rowcol_to_cell
        self.buffer = io.BytesIO()
        # Texts come from data: what begins like a formula or an address stays a text.
        plain = dict.fromkeys(("strings_to_formulas", "strings_to_urls", "strings_to_numbers"), False)
        self.book = writer.Workbook(self.buffer, {"in_memory": True, **plain})
        self._formats: dict[tuple[tuple[str, Any], ...], Any] = {}

    def sheet(self, name: str) -> Any:
        """A new sheet."""
        found = self.book.add_worksheet(name)
        found.hide_gridlines(2)
        found.set_landscape()
        found.set_paper(9)
        found.fit_to_pages(1, 0)
        return found

    def cell(self, row: int, column: int, *, fixed: bool = False, column_fixed: bool = False) -> str:
        """The name of a cell, such as ``B9``, ``$B9`` or ``$B$9``."""
        return str(self._name_of(row, column, fixed, fixed or column_fixed))

    def style(self, **properties: Any) -> Any:
        """A format."""
        key = tuple(sorted(properties.items()))
        if key not in self._formats:
            usual = {"font_name": "Calibri", "font_size": 11, "font_color": INK}
            self._formats[key] = self.book.add_format({**usual, **properties})
        return self._formats[key]

    def title(self, sheet: Any, title: str, words: str) -> None:
        """The first two rows."""
        sheet.write_string(0, 0, title, self.style(bold=True, font_size=15))
        sheet.write_string(1, 0, words, self.style(font_color=AFTERTHOUGHT))

    def heads(self, sheet: Any, row: int, names: Sequence[str], first: int = 0) -> None:
        """Names of columns."""
        head = self.style(bold=True, bottom=1, text_wrap=True, valign="bottom", bg_color=PAPER)
        for i, name in enumerate(names):
            sheet.write_string(row, first + i, name, head)

    def periods(self, sheet: Any, axis: Axis, lead: int = 0, row: int = TOP) -> None:
        """The periods in the first column, those before the forecast in a quiet colour."""
        form = _DATES.get(axis.frequency.unit, "yyyy-mm-dd")
        for i, day in enumerate(moments(axis)):
            quiet = {"font_color": QUIET} if i < lead else {}
            sheet.write_datetime(row + i, 0, day, self.style(num_format=form, align="left", **quiet))
        sheet.set_column(0, 0, 17)
        sheet.freeze_panes(TOP, 1)

    def formula(self, sheet: Any, at: tuple[int, int], text: str, value: float | str, style: Any) -> None:
        """A formula, with what it comes to for readers that do not calculate.

        Raises
        ------
        InputError
            If it is longer than a cell can hold.
        """
        if len(text) >= LONGEST:
            raise InputError(
                f"a formula of {len(text):,} characters is longer than a cell can hold ({LONGEST:,})",
                "Take the SQL query or the Python function.",
            )
        known = isinstance(value, str) or np.isfinite(value)
        sheet.write_formula(*at, f"={text}", style, value if known else "#N/A")

    def value(self, sheet: Any, at: tuple[int, int], value: Any, style: Any = None) -> None:
        """A number, a word or a date as it is; nothing where it is not known."""
        if isinstance(value, pd.Timestamp):
            value = f"{value:%Y-%m-%d}" if value == value.normalize() else value.isoformat()
        known = bool(value) if isinstance(value, str) else bool(np.isfinite(value))
        if not known:
            sheet.write_blank(*at, None, style)
        elif isinstance(value, str):
            sheet.write_string(*at, value, style)
        else:
            sheet.write_number(*at, value, style)

    def table(self, sheet: Any, table: pd.DataFrame, row: int, column: int) -> None:
        """A table of values below its heads."""
        self.heads(sheet, row, [str(name) for name in table.columns], column)
        number = self.style(num_format="#,##0.00####")
        for j, name in enumerate(table.columns, column):
            for i, value in enumerate(table[name].tolist(), row + 1):
                plain = isinstance(value, (int, float, pd.Timestamp)) and not isinstance(value, bool)
                self.value(sheet, (i, j), value if plain else str(value), number)
        sheet.set_column(column, column + len(table.columns), 16)

    def chart(self, kind: dict[str, str], title: str, periods: int, unit: str) -> Any:
        """An empty chart as ours look, over a number of `periods` of a unit."""
        found = self.book.add_chart(kind)
        found.set_size({"width": 900, "height": 400})
        found.set_title({"name": title, "overlay": False, "name_font": {"size": 13, "color": INK, "bold": True}})
        font = {"color": INK}
        every = {"interval_unit": max(1, periods // 12), "interval_tick": max(1, periods // 12)}
        look = {"num_font": {**font, "rotation": -45}, "line": {"color": QUIET}, "label_position": "low"}
        dates = _DATES.get(unit, "yyyy-mm-dd")
        found.set_x_axis({"text_axis": True, "num_format": dates, **every, **look})
        lines = {"visible": True, "line": {"color": FAINT}}
        found.set_y_axis({"num_font": font, "major_gridlines": lines, "line": {"none": True}})
        found.set_legend({"position": "bottom", "font": font})
        found.set_chartarea({"fill": {"color": PAPER}, "border": {"none": True}})
        found.set_plotarea({"fill": {"color": PAPER}})
        return found

    def bytes(self, title: str, made: pd.Timestamp) -> bytes:
        """The whole file. It bears the date of the forecast, so that the same forecast gives the same bytes."""
        created = (made.tz_localize(None) if made.tz is not None else made).to_pydatetime()
        self.book.set_properties({"title": title, "author": "", "created": created})
        self.book.close()
        return self.buffer.getvalue()


def moments(axis: Axis) -> list[datetime]:
    """Starts of periods without a zone, which workbooks do not know."""
    stamps = pd.DatetimeIndex(axis.index)
    return list((stamps.tz_localize(None) if stamps.tz is not None else stamps).to_pydatetime())
