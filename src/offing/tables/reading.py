"""`read`: from a file, a database, a service or a frame to a Table, or to several by id."""

from __future__ import annotations

import inspect
from collections.abc import Sequence
from dataclasses import fields
from typing import Any, overload

from offing.base import Finding, InputError, nearest
from offing.tables.opening import open_source
from offing.tables.read_options import Reading
from offing.tables.row_reading import lines_of_rows, periods_of_rows
from offing.tables.table import Panel, Table


@overload
def read(source: Any = None, *, id: None = None, **said: Any) -> Table: ...
@overload
def read(source: Any = None, *, id: str | Sequence[str], **said: Any) -> Panel: ...
def read(source: Any = None, *, id: str | Sequence[str] | None = None, **said: Any) -> Table | Panel:  # noqa: A002
    r"""Read a table: one row per period, or lines and finer periods to be combined, of one series or of several.

    What is not stated is found where it is plain, and asked for by an error where it is not.

    Parameters
    ----------
    source
        Path of a CSV file (``.csv .txt .tsv``, also packed as ``.gz``), Parquet file (``.parquet``) or workbook
        (``.xlsx``); a DataFrame or Series with dates as its index or in a column; any frame that speaks Arrow, such as
        Polars, PyArrow or a DuckDB relation. None with `database`, `url` or `service`.
    database, table, query, parameters
        Address of an SQL database as SQLAlchemy writes it, with a table (or view) or a query whose parameters
        are bound. Address and query are never shown or saved. The database must exist and is opened for reading only;
        a query is one SELECT, of PostgreSQL, SQLite or DuckDB.
    folders
        Folders whose files a query of DuckDB may read; by default none.
    url
        Address of one CSV file of the web.
    service, series
        Address of a statistics service that speaks SDMX (ISO 17369), and the key of its series as ``FLOW/KEY``.
    downloads
        Folder in which every download is kept by its date. Earlier ones are what a fit at an earlier date sees.
    separator, decimal, thousands, encoding
        How a CSV file is written: cells apart by, marks of numbers, encoding. By default found where plain.
    sheet
        Sheet of a workbook. Needed where several hold cells.
    header_row
        Row of the names, from 1; 0 where there are none. By default the first row as wide as most.
    transpose
        Whether items stand in rows and dates in columns, to be turned round.
    fill_down
        Columns whose empty cells hold what stands above, as merged cells of a sheet do.
    totals
        Rows and columns that are called totals: ``check`` that they add up, and leave them out; ``skip`` or ``keep``
        them.
    missing
        Further words or numbers that mean that nothing is known, such as ``tbd`` or -999.
    notation
        How cells are written, by column: a currency, ``%``, a unit, ``yes/no``, or the word that means yes. By default
        found, and noted.
    locale
        Language of months' names, such as ``de``; it also settles decimal marks that could be read in two ways.
    time
        The column of dates, or those of year and month (quarter, week; and day), or of date and hour. By default the
        only column that holds dates.
    time_format
        How dates are written, such as ``%d/%m/%Y``, or several ways; ``spreadsheet`` for its day numbers, ``unix`` or
        ``unix ms`` for seconds or milliseconds since 1970. By default ISO 8601 or another way that only one reading
        fits.
    first_period
        Date of the first period, where the column of dates only numbers them.
    zone
        Time zone of the clock that the dates show, such as ``Europe/Lisbon``; its changes make days of 23 and 25 hours.
    frequency
        ``hour``, ``day``, ``business day``, ``week``, ``month``, ``quarter`` or ``year``. By default found from the
        dates.
    holidays
        Days that are no business days: a table of holidays, or a country's code. By default only weekends are none.
    week_ends
        Closing day of the weeks. By default found from the dates and `stamp`.
    year_starts
        First month of the year that quarters and years follow.
    weeks, year_ends
        ``4-4-5``, ``4-5-4`` or ``5-4-4``: months made of whole weeks, of a year that ends on the ``last`` closing day
        of its last month or the one ``nearest`` to its end.
    stamp
        Whether a date names its period's ``start`` or ``end``. Needed where both are usual and the header does not say.
    id
        Column or columns that identifies series; a `Panel` is then returned. Ids stay text.
    wide
        Name for the values of a table with dates, years or series side by side; or, of several measures, a pattern of
        its columns by name, such as ``{"sold": "sold *", "price": "price *"}``.
    rows
        ``lines`` for any number of rows a date; ``periods`` for one.
    combine
        How the values of a period become one, by column: ``sum``, ``mean``, ``last``, ``first``, ``max``, ``min``,
        ``count`` or ``mean weighted by COLUMN``. For lines and for `aggregate_to`; other columns are not used.
    aggregate_to
        A coarser frequency to bring the table to.
    partial
        Periods that are not whole: ``leave out`` the first and last and make inner ones missing, or ``keep`` them.
    gaps
        Periods without a row: ``refuse`` the table, or ``leave`` them missing.
    until
        The last period that is read, so that series of different ends end together.
    release_delay
        How long after its period's end a value is known: a number of periods, or such as ``21 days``.
    released
        The column of release dates. A period may then have several rows, one for each time
        that its value was revised: its vintages. What was known at a date is the newest of those released by then. With
        ``later_rows = "plan"`` the rows may be released before their periods have ended.
    unit, label
        Unit and name for people, by column; they reach axes, tables and sentences.
    note
        A remark on the source.
    later_rows
        What rows after the target's last value hold: the drivers' ``plan``, or values that are already
        ``actual``. Without it such rows are not used.
    name
        What messages call the source. By default the file's or the database table's name.

    Returns
    -------
    Table or Panel
        Its `treatments` log every change to the data, its `findings` what was assumed, its `accounts` what each column
        is used as, or why it is not. A series of a panel that cannot be read is in `left_out` and stops no other.

    Raises
    ------
    InputError
        For a missing or empty source, no date column or several, dates or numbers that cannot be read or read in two
        ways, duplicated or missing periods. A column with text or infinite values raises when it is used.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 4.0, 6.0], pd.period_range("2024-01", periods=3, freq="M"), name="sold")
    >>> print(of.read(sold, unit={"sold": "boats"}))
    data: 3 months from 2024-01 to 2024-03
      sold [boats]
    >>> lines = pd.DataFrame({"date": ["2024-01-05", "2024-01-31", "2024-02-01", "2024-02-29"], "amount": [3, 1, 4, 1]})
    >>> monthly = of.read(lines, rows="lines", frequency="month", combine={"amount": "sum"}, partial="keep")
    >>> monthly.values("amount").tolist()
    [4.0, 5.0]
    """
    wrong = [key for key in said if key not in Reading.__dataclass_fields__]
    if wrong:
        raise InputError(f"read has no parameter {wrong[0]!r}", nearest(wrong[0], Reading.__dataclass_fields__))
    reading = Reading(id=id, **said)  # type: ignore[arg-type]  # a sequence of names is a list in a study
    timing = reading.timing
    opened, indexed, timing = open_source(source, reading, timing)
    if reading.rows == "lines":
        found, ids = lines_of_rows(opened, indexed, reading, timing)
        refused: dict[str, InputError] = {}
    else:
        found, ids, refused = periods_of_rows(opened, indexed, reading, timing)
    if not ids:
        return next(iter(found.values()))
    if not found:
        raise next(iter(refused.values()))
    findings = tuple(dict.fromkeys(each for table in found.values() for each in table.findings))
    return Panel(opened.file, ids, found, (*findings, *_left_out(refused)), refused)


# All that can be said shows in help() and on completion, from the one place that declares it.
read.__signature__ = inspect.Signature(  # type: ignore[attr-defined]
    [
        inspect.Parameter("source", inspect.Parameter.POSITIONAL_OR_KEYWORD, default=None, annotation=Any),
        *(
            inspect.Parameter(
                each.name,
                inspect.Parameter.KEYWORD_ONLY,
                annotation=each.type,
                default=getattr(Reading(), each.name),
            )
            for each in fields(Reading)
        ),
    ],
    return_annotation=Table | Panel,
)


def _left_out(refused: dict[str, InputError]) -> list[Finding]:
    """One finding for each of the first series that could not be read, and one for all others."""
    shown = [
        Finding(
            "series",
            "warning",
            f"The series {name!r} is left out: {error.found.removesuffix(f' in the series {name!r}')}.",
            advice=error.advice,
        )
        for name, error in list(refused.items())[:3]
    ]
    if len(refused) > 3:
        shown.append(
            Finding("series", "warning", f"{len(refused) - 3:,} more series are left out; see the panel's left_out.")
        )
    return shown
