"""Results handed over: a workbook, SQL, Python, a formula for one cell, or everything together."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

import pandas as pd

from offing.base import InputError, nearest
from offing.base.results import file_part
from offing.base.whole_file import write_whole
from offing.explain import stock
from offing.model.forecast import AS_PLANNED, Forecast
from offing.page import page_html
from offing.study.loader import open_study
from offing.study.page_of_study import page_of
from offing.study.saved import open_saved
from offing.study.study import Study
from offing.writers.cell_formula import cell_formula
from offing.writers.python_function import python_function
from offing.writers.sql_query import DATABASES, sql_query
from offing.writers.workbook import workbook_bytes

Files = dict[str, bytes]


@dataclass(frozen=True)
class Handed:
    """What is handed over: forecasts by name, those under other assumptions, and tables of values beside them."""

    forecasts: Mapping[str, Forecast]
    scenarios: Mapping[str, tuple[Forecast, ...]]
    values: Mapping[str, Mapping[str, pd.DataFrame]]
    study: Study | None = None

    def each(self, name: str, write: Callable[[Forecast, str], bytes | str]) -> Files:
        """A file a forecast; of several each name ends in its own."""
        stem, _, ending = name.partition(".")
        found = {}
        for own, forecast in self.forecasts.items():
            part = f"-{file_part(own)}" if len(self.forecasts) > 1 and own else ""
            content = write(forecast, own)
            found[f"{stem}{part}.{ending}"] = content.encode() if isinstance(content, str) else content
        return found


#: The forms in which results are handed over, by name, each from what is handed over to its files.
FORMS: dict[str, Callable[[Handed], Files]] = {}


def form(name: str) -> Callable[[Callable[[Handed], Files]], Callable[[Handed], Files]]:
    """Add a form under a name."""

    def add(write: Callable[[Handed], Files]) -> Callable[[Handed], Files]:
        FORMS[name] = write
        return write

    return add


@form("workbook")
def workbook_files(handed: Handed) -> Files:
    """A workbook for each forecast."""
    return handed.each(
        "forecast.xlsx",
        lambda forecast, name: workbook_bytes(
            forecast, scenarios=handed.scenarios.get(name, ()), values=handed.values.get(name, {})
        ),
    )


@form("sql")
def sql_files(handed: Handed) -> Files:
    """A query for each forecast and kind of database."""
    found: Files = {}
    for database in DATABASES:
        found |= handed.each(f"forecast.{database}.sql", lambda each, _, own=database: sql_query(each, database=own))  # type: ignore[misc]
    return found


@form("python")
def python_files(handed: Handed) -> Files:
    """A module for each forecast."""
    return handed.each("forecast.py", lambda forecast, _: python_function(forecast))


@form("cell")
def cell_files(handed: Handed) -> Files:
    """Formulas of one cell each, in a text."""
    return handed.each("forecast.cell.txt", lambda forecast, _: cell_formula(forecast))


@form("page")
def page_files(handed: Handed) -> Files:
    """One page with everything."""
    return {"page.html": page_html(page_of(handed.forecasts, handed.study)).encode()}


def export(results: Study | Forecast | str | Path, form: str, folder: str | Path) -> list[Path]:
    """Hand results over in a form that others can use without Offing.

    Parameters
    ----------
    results
        A study, opened or by its path; the path of a saved model of a study; or one forecast.
    form
        ``workbook`` with live formulas, ``sql`` for three databases, ``python`` as a function that needs NumPy alone,
        or ``cell``: a formula for one cell.
    folder
        Where the files go. Files of the same names are replaced, each whole or not at all.

    Returns
    -------
    list of Path
        The files that were written.

    Raises
    ------
    InputError
        For an unknown form; if a forecast cannot be written in it, saying why; or if a file cannot be written.

    Examples
    --------
    >>> import pathlib, tempfile, pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> ahead = of.Model("sold", terms=[of.Trend()]).fit(sold).forecast(2)
    >>> [file.name for file in of.export(ahead, "python", tempfile.mkdtemp())]
    ['forecast.py']
    """
    if form not in FORMS:
        raise InputError(f"found {form!r}", nearest(form, FORMS), key="form")
    files = FORMS[form](handed_over(results))
    written = []
    for name, content in files.items():
        write_whole(Path(folder) / name, content)
        written.append(Path(folder) / name)
    return written


def handed_over(results: Study | Forecast | str | Path) -> Handed:
    """What there is to hand over of a study or a forecast."""
    if isinstance(results, Forecast):
        return Handed({results.fit.series_name: results}, {}, {})
    if isinstance(results, (str, Path)):
        path = Path(results)
        results = open_saved(path) if path.suffix == ".json" else open_study(path)
    scenarios = {
        name: tuple(found.of(each) for each in found.names if each != AS_PLANNED)
        for name, found in results.what_if.items()
    }
    return Handed(results.forecasts, scenarios, {name: _values(results, name) for name in results.forecasts}, results)


def _values(study: Study, name: str) -> dict[str, pd.DataFrame]:
    """Tables that have no formula: a combination of several models, and what is enough for a lead time."""
    found = {}
    if study.combination is not None:
        found["Combined"] = study.combination.table.rename_axis("period")
    if study.states("stock"):
        found["Stock"] = stock(study.paths(name), **study.options("stock")).table
    return found
