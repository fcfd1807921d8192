"""Results handed over: a page, a workbook, SQL, Python, a formula for one cell, or everything together."""

from __future__ import annotations

import io
import tempfile
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import pandas as pd

from offing.base import InputError, count, nearest
from offing.base.printing import printable
from offing.base.results import file_part
from offing.base.text import wrapped
from offing.base.whole_file import write_whole
from offing.explain import stock
from offing.model.forecast import AS_PLANNED, Forecast
from offing.page import page_html
from offing.study.loader import open_study
from offing.study.outputs import StudyOutput
from offing.study.page_of_study import page_of
from offing.study.saved import open_saved, save_study
from offing.study.shown_text import without_addresses
from offing.study.study import Study
from offing.writers import csv_text, json_text
from offing.writers.cell_formula import cell_formula
from offing.writers.formula_text import about
from offing.writers.python_function import python_function
from offing.writers.sql_query import DATABASES, Database, sql_query
from offing.writers.workbook import workbook_bytes

Files = dict[str, bytes]


@dataclass(frozen=True)
class Handed:
    """What is handed over: forecasts by name, those under other assumptions, and tables of values beside them.

    `table` and `period` are what a query in SQL calls the table of drivers and its column of dates.
    """

    forecasts: Mapping[str, Forecast]
    scenarios: Mapping[str, tuple[Forecast, ...]]
    values: Mapping[str, Mapping[str, pd.DataFrame]]
    study: Study | None = None
    table: str = "drivers"
    period: str = "period"

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

        def query(forecast: Forecast, _: str, database: Database = database) -> str:
            return sql_query(forecast, database=database, table=handed.table, period=handed.period)

        found |= handed.each(f"forecast.{database}.sql", query)
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


@form("bundle")
def bundle_files(handed: Handed) -> Files:
    """One archive with everything, and a word on each file."""
    files, left_out = dict[str, bytes](), list[str]()
    for name in ("page", "workbook", "sql", "python"):
        try:
            files |= FORMS[name](handed)
        except InputError as error:
            left_out.append(f"{name}: {error}")
    if handed.study is not None:
        files |= _files_of(handed.study)
    said = _read_me(handed, files, left_out)
    return {"hand-over.zip": _zipped({"README.txt": said.encode(), **files})}


def _files_of(study: Study) -> Files:
    """The study, its models as they were fitted, and its results as tables and figures."""
    output = StudyOutput(study, "explain")
    tables = {**StudyOutput(study, "forecast").tables(), **StudyOutput(study, "fit").tables(), **output.tables()}
    files = {f"tables/{name}.csv": csv_text(rows).encode() for name, rows in tables.items()}
    files |= {f"figures/{name}.png": picture for name, picture in output.pictures().items()}
    files["tables/findings.json"] = json_text(output.findings()).encode()
    files["run.json"] = json_text(output.record()).encode()
    files["study.toml"] = without_addresses(study.text).encode()
    with tempfile.TemporaryDirectory() as folder:
        kept = Path(folder) / "study.model.json"
        save_study(study, kept)
        files[kept.name] = kept.read_bytes()
    return files


#: What is said of the files of a bundle: of those that begin so, or end so.
_SAYS = (
    ("page.html", "everything to read and to point at; opens in any browser, without a network"),
    (".xlsx", "a workbook: change the plan in it, and the forecast follows"),
    (".sql", "the forecast as one query over a table of dates and drivers"),
    ("forecast", "the forecast as a Python function that needs NumPy alone"),
    ("tables/", "tables of results, as CSV (UTF-8, points in decimals, an empty cell is a missing value)"),
    ("figures/", "figures of results"),
    ("study.toml", "what was asked for: 'offing forecast study.toml' does it again, beside its data"),
    ("study.model.json", "the models as they were fitted: 'offing forecast study.model.json' needs no data"),
    ("run.json", "with which versions, and the SHA-256 of every file that was read"),
)


def _read_me(handed: Handed, files: Files, left_out: list[str]) -> str:
    """What the bundle holds, in plain words."""
    first = next(iter(handed.forecasts.values()))
    title = handed.study.title if handed.study is not None else first.fit.label
    lines = [printable(title), "=" * len(title), ""]
    lines += [wrapped(printable(about(each))) for each in handed.forecasts.values()]
    lines += ["", "What is in it:", ""]
    groups: dict[str, list[str]] = {}
    for name in sorted(files):
        folder, _, _ = name.rpartition("/")
        groups.setdefault(f"{folder}/" if folder else name, []).append(name)
    for name, members in groups.items():
        said = next(words for part, words in _SAYS if name.startswith(part) or name.endswith(part))
        counted = f" ({count(len(members), 'file')})" if name.endswith("/") else ""
        lines.append(wrapped(f"{name}{counted}: {said}."))
    if left_out:
        lines += ["", "What was left out, and why:", "", *(wrapped(printable(each)) for each in left_out)]
    return "\n".join([*lines, ""])


def _zipped(files: Files) -> bytes:
    """An archive in which files bear no time, so that the same files give the same bytes."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            entry = zipfile.ZipInfo(name)
            entry.compress_type, entry.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(entry, content)
    return buffer.getvalue()


def export(
    results: Study | Forecast | str | Path,
    form: str,
    folder: str | Path,
    *,
    table: str = "drivers",
    period: str = "period",
) -> list[Path]:
    """Hand results over in a form that others can use without Offing.

    Parameters
    ----------
    results
        A study, opened or by its path; the path of a saved model of a study; or one forecast.
    form
        ``page``: one file for any browser; ``workbook`` with live formulas; ``sql`` for three databases; ``python``, a
        function that needs NumPy alone; ``cell``, a formula for one cell; or ``bundle``, an archive of everything.
    folder
        Where the files go. Files of the same names are replaced, each whole or not at all.
    table, period
        For ``sql``: what the query calls the table that holds the drivers, a row a period, and its column of dates.

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
    files = FORMS[form](replace(handed_over(results), table=table, period=period))
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
        combined = study.combination
        means = combined.table.rename(columns={"combined": "forecast"})
        found["Combined"] = means.join(combined.quantiles).rename_axis("period")
    if study.states("stock"):
        found["Stock"] = stock(study.paths(name), **study.options("stock")).table
    return found
