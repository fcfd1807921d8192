"""`read`: from a file, a database or a frame to a Table, or to several by id."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, overload

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, Treatment, count, nearest
from offing.calendar import WEEKDAYS, Axis, Frequency
from offing.tables.aggregate import aggregated
from offing.tables.combine import Combine
from offing.tables.dates import Stamps, moments_of
from offing.tables.lines import Gathered, Lines, gap_note
from offing.tables.numbers import Marks, number_columns, words_of
from offing.tables.options import Reading
from offing.tables.regular import Timing, axis_of, gaps_in, place, spelt_runs
from offing.tables.shapes import PERIOD, from_wide, id_texts, joined_time, looks_wide
from offing.tables.sources import CsvFile, Database, FrameSource, Source, frame_of, parquet, plain_frame, workbook
from offing.tables.stamps import looks_like_dates, stamps_of
from offing.tables.table import Array, Delay, Panel, Table
from offing.tables.vintages import Vintages, check_releases, latest, release_dates

_PERIOD_UNITS = {"h": "hour", "D": "day", "M": "month", "Q": "quarter", "Y": "year", "A": "year"}
_TEXT_FILES = (".csv", ".txt", ".tsv", ".gz")


@overload
def read(source: Any = None, *, id: None = None, **said: Any) -> Table: ...
@overload
def read(source: Any = None, *, id: str | Sequence[str], **said: Any) -> Panel: ...
def read(source: Any = None, *, id: str | Sequence[str] | None = None, **said: Any) -> Table | Panel:  # noqa: A002
    r"""Read a table: one row a period, or lines and finer periods to be combined, of one series or of several.

    What is not stated is found where it is plain, and asked for by an error where it is not.

    Parameters
    ----------
    source
        Path of a CSV file (``.csv .txt .tsv``, also packed as ``.gz``), Parquet file (``.parquet``) or workbook
        (``.xlsx``); a DataFrame or Series with dates as its index or in a column; any frame that speaks Arrow, such as
        Polars, PyArrow or a DuckDB relation. None with `database`.
    database, table, query, parameters
        Address of an SQL database as SQLAlchemy writes it, with a table (or view) or a query whose parameters
        are bound. Address and query are never shown or saved. The database must exist and is opened for reading only;
        a query is one SELECT, of PostgreSQL, SQLite or DuckDB.
    folders
        Folders whose files a query of DuckDB may read; by default none.
    separator, decimal, thousands, encoding, header_row
        How a CSV file is written: cells apart by, marks of numbers, encoding, row of the names (from 1).
    sheet
        Sheet of a workbook. Needed where there are several.
    time
        The column of dates, or those of year and month (quarter, week). By default the only column that holds dates.
    time_format
        How dates are written, such as ``%d/%m/%Y``; ``excel`` for a spreadsheet's day numbers, ``unix`` for seconds
        since 1970. By default ISO 8601 or another way that only one reading fits.
    zone
        Time zone of the clock that the dates show, such as ``Europe/Lisbon``; its changes make days of 23 and 25 hours.
    frequency
        ``hour``, ``day``, ``week``, ``month``, ``quarter`` or ``year``. By default found from the dates.
    week_ends
        Closing day of the weeks. By default found from the dates and `stamp`.
    year_starts
        First month of the year that quarters and years follow.
    weeks, year_ends
        ``4-4-5``, ``4-5-4`` or ``5-4-4``: months made of whole weeks, of a year that ends on the ``last`` closing day
        of its last month or the one ``nearest`` to its end.
    stamp
        Whether a date names its period's ``start`` or ``end``. Needed where both are usual.
    id
        Column or columns that tell series apart; a `Panel` is then returned. Ids stay text.
    wide
        Name for the values of a table with years side by side and months, quarters or weeks below each other, or
        the other way round.
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
    release_delay
        How long after its period's end a value is known: a number of periods, or such as ``21 days``.
    released
        The column that tells on which date each row came out. A period may then have several rows, one for each time
        that its value was revised: its vintages. What was known at a date is the newest of those out by then. With
        ``later_rows = "plan"`` the rows may come out before their periods have ended.
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
        Its `treatments` log every change to the data, its `findings` what was assumed.

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
        raise InputError(f"there is no parameter {wrong[0]!r} of read", nearest(wrong[0], Reading.__dataclass_fields__))
    reading = Reading(id=id, **said)
    timing = reading.timing
    opened, indexed, timing = _open(source, reading, timing)
    if reading.rows == "lines":
        found = _lines(opened, indexed, reading, timing)
    else:
        found = _periods(opened, indexed, reading, timing)
    if not reading.ids:
        return next(iter(found.values()))
    findings = tuple(dict.fromkeys(each for table in found.values() for each in table.findings))
    return Panel(opened.file, reading.ids, found, findings)


def _open(source: Any, reading: Reading, timing: Timing) -> tuple[Source, Stamps | None, Timing]:
    """The source; and the stamps of an index, where dates are one."""
    if reading.database is not None:
        if source is not None or (reading.table is None) == (reading.query is None):
            raise InputError("a database needs a table or a query, and no file", key="database")
        file = reading.name or reading.table or "query"
        return (
            Database(reading.database, file, reading.table, reading.query, reading.parameters, reading.folders),
            None,
            timing,
        )
    if isinstance(source, (str, Path)):
        return open_file(Path(source), reading), None, timing
    file = reading.name or "data"
    if isinstance(source, pd.Series):
        source = source.to_frame("value" if source.name is None else source.name)
    if isinstance(source, pd.DataFrame):
        frame = plain_frame(source, file)
        if reading.time is not None or not isinstance(source.index, (pd.DatetimeIndex, pd.PeriodIndex)):
            if reading.time is None and not any(looks_like_dates(frame[name], str(name)) for name in frame):
                _check_has_dates(source, frame, reading, file)
            return FrameSource(frame, file), None, timing
        stamps, timing = _index(source.index, timing, reading.zone, file)
        return FrameSource(frame, file), stamps, timing
    other = frame_of(source, file)
    if other is None:
        raise InputError(f"found {type(source).__name__}", "Give the path of a file, a DataFrame or a Series.")
    return FrameSource(other, file), None, timing


def _check_has_dates(source: pd.DataFrame, frame: pd.DataFrame, reading: Reading, file: str) -> None:
    if reading.wide is None and not looks_wide(frame):
        index = source.index
        what = f"is a {type(index).__name__}"
        if pd.api.types.is_string_dtype(index) or pd.api.types.is_object_dtype(index):
            what = f"holds text such as {str(index[0])!r}"
        raise InputError(
            f"the index {what}, and no column holds dates",
            "Set a DatetimeIndex or a PeriodIndex, such as frame.set_index(pd.to_datetime(frame['date'])), or reset "
            "the index so that its dates are a column.",
            file=file,
        )


def open_file(path: Path, reading: Reading) -> Source:
    """The source that a file is, by its suffix."""
    file = reading.name or path.name
    suffix = path.suffix.lower()
    if suffix in (".xlsx", ".xlsm"):
        return workbook(path, file, reading.sheet, reading.header_row)
    if suffix in (".parquet", ".pq"):
        return parquet(path, file)
    if suffix in (".xls", ".ods", ".db", ".sqlite", ".duckdb", ".json"):
        raise InputError(
            f"files of the kind {suffix} are not read",
            "Save a workbook as .xlsx; name a database in database; save other tables as CSV.", file=file,
        )  # fmt: skip
    return CsvFile(
        path, file, reading.separator, reading.decimal, reading.thousands, reading.encoding, reading.header_row
    )


def _index(index: Any, timing: Timing, zone: str | None, file: str) -> tuple[Stamps, Timing]:
    """An index's stamps, and the timing with what a PeriodIndex says."""
    if isinstance(index, pd.PeriodIndex):
        code, _, anchor = index.freqstr.partition("-")
        if code == "W":
            ends = {day[:3].upper(): day for day in WEEKDAYS}[anchor or "SUN"]
            timing = replace(timing, frequency="week", week_ends=ends, stamp="start")
        elif code in _PERIOD_UNITS and anchor in ("", "DEC"):
            timing = replace(timing, frequency=_PERIOD_UNITS[code], stamp="start")
        else:
            raise InputError(f"periods of {index.freqstr!r} are not supported", file=file)
        index = index.to_timestamp(how="start")
    cells = pd.Series(index, pd.RangeIndex(1, len(index) + 1), name="index" if index.name is None else str(index.name))
    return moments_of(cells, file, zone), timing


def _lines(source: Source, indexed: Stamps | None, reading: Reading, timing: Timing) -> dict[str, Table]:
    """Tables by id, gathered from transaction lines."""
    sample = source.sample()
    if indexed is not None:
        raise InputError("lines have their dates in a column", "Reset the index and name it in time.", file=source.file)
    time = time_column(sample, _one_column(reading), source.file)
    unit = timing.frequency or str(reading.aggregate_to)
    zone = reading.zone
    frequency = replace(timing, frequency=unit).of_unit(unit, zone)

    def stamps(cells: pd.Series) -> Stamps:
        return stamps_of(cells, reading.time_format, source.file, zone)[0]

    _, told = stamps_of(sample[time], reading.time_format, source.file, zone)
    combine = Combine(reading.combine)
    gathered = Lines(source, time, reading.ids, combine, stamps, frequency).gather()
    low, high, treatments = _whole_part(gathered, reading, source.file)
    findings = (*source.findings(), *told, *gap_note(gathered, source.file, combine))
    found = {}
    for name, columns in gathered.series.items():
        kept = {column: values[low:high] for column, values in columns.items()}
        said = reading.said()
        for key in ("units", "labels"):
            said[key] = {column: text for column, text in said[key].items() if column in kept}
        table = Table(
            source.file, gathered.axis.part(low, high), kept, treatments=treatments, findings=findings, **said
        )
        if reading.aggregate_to and reading.aggregate_to != unit:
            again = {column: "sum" if how == "count" else how for column, how in reading.combine.items()}
            table = aggregated(table, reading.coarse(zone), again, reading.partial)
        found[name] = table
    return found


def _one_column(reading: Reading) -> str | None:
    if reading.time is None or isinstance(reading.time, str):
        return reading.time
    raise InputError("lines need one column of dates", "Name it.", key="time")


def _whole_part(gathered: Gathered, reading: Reading, file: str) -> tuple[int, int, tuple[Treatment, ...]]:
    """The part of the gathered periods to keep, with a treatment for every partial one."""
    axis, covered = gathered.axis, gathered.covered
    partial = [i for i in dict.fromkeys((0, axis.n - 1)) if not covered[i]]
    keep = reading.partial == "keep"
    log = tuple(
        Treatment(
            file, ", ".join(reading.combine), axis.part(i, i + 1).labels()[0], "lines of a part only",
            "made of what is there" if keep else "left out", f"the {axis.frequency.unit} is partial",
        )
        for i in partial
    )  # fmt: skip
    low, high = (0, axis.n) if keep else (int(0 in partial), axis.n - int(axis.n - 1 in partial))
    if high <= low:
        raise InputError(
            f"no {axis.frequency.unit} is whole in {axis.spell()}",
            'State partial = "keep" to have them as they are.',
            file=file,
        )
    return low, high, log


def _periods(source: Source, indexed: Stamps | None, reading: Reading, timing: Timing) -> dict[str, Table]:
    """Tables by id, with one row a period."""
    cells, file = source.whole(), source.file
    findings: list[Finding] = [*source.findings()]
    cells, releases = release_dates(cells, reading.released, file, reading.zone)
    if indexed is None:
        cells, time = _tidied(cells, reading, file, findings)
        stamps, told = stamps_of(cells[time], reading.time_format, file, reading.zone)
        findings += told
        cells = cells.drop(columns=time)
    else:
        stamps, time = indexed, "index"
    frequency, ordinals, told = place(stamps, timing, file, cells.index)
    findings += told
    groups: dict[str, np.ndarray] = {"": np.arange(len(cells))}
    if reading.ids:
        names = id_texts(cells, reading.ids, file)
        groups = {str(name): np.flatnonzero((names == name).to_numpy()) for name in sorted(names.unique())}
        cells = cells.drop(columns=list(reading.ids))
    _check_said(reading, [str(name) for name in cells.columns], file)
    marks = source.marks(cells)
    findings += _marks_note(marks, reading, file)
    placing = _Placing(file, marks, frequency, time, reading, tuple(findings))
    released = None if releases is None else releases.on(frequency)
    found = {}
    for name, rows in groups.items():
        try:
            if released is not None:
                table = placing.by_release(cells.iloc[rows], ordinals[rows], released[rows])
            else:
                table = placing.table(cells.iloc[rows], ordinals[rows]) if name else placing.table(cells, ordinals)
        except InputError as error:
            error.found += f" in the series {name!r}" if name else ""
            raise
        if reading.aggregate_to:
            table = aggregated(table, reading.coarse(table.axis.frequency.zone), reading.combine, reading.partial)
        found[name] = table
    return found


def _tidied(cells: pd.DataFrame, reading: Reading, file: str, findings: list[Finding]) -> tuple[pd.DataFrame, str]:
    """The cells in tidy shape, and their column of dates."""
    if reading.wide is not None or (reading.time is None and looks_wide(cells)):
        tidy, told = from_wide(cells, reading.wide or "value", reading.ids, file)
        if reading.wide is None:
            findings.append(replace(told, advice='State wide = "sold", say, to name it.'))
        return tidy, PERIOD
    if reading.time is not None and not isinstance(reading.time, str):
        return joined_time(cells, list(reading.time), file), PERIOD
    return cells, time_column(cells, reading.time, file)


def _marks_note(marks: Marks | None, reading: Reading, file: str) -> tuple[Finding, ...]:
    """A note where the marks of numbers were found rather than stated, and are not the usual ones."""
    if marks is None or reading.decimal or not marks.seen or marks.plain(marks.seen) == marks.seen:
        return ()
    advice = f'State decimal = "{marks.decimal}".'
    message = f"{file}: {marks.seen!r} is read as {marks.plain(marks.seen)}."
    return (Finding("number marks", "note", message, advice=advice),)


def _check_said(reading: Reading, known: list[str], file: str) -> None:
    for key in ("unit", "label"):
        for column in getattr(reading, key) or ():
            if column not in known:
                raise InputError(f"found {column!r}, which is no column of {file}", nearest(column, known), key=key)


@dataclass(frozen=True)
class _Placing:
    """How the rows of a source's series are placed on their axis."""

    file: str
    marks: Marks | None
    frequency: Frequency
    time: str
    reading: Reading
    findings: tuple[Finding, ...]

    def table(self, cells: pd.DataFrame, ordinals: np.ndarray) -> Table:
        """One series' rows, sorted, with missing periods where these may be."""
        leave = self.reading.gaps == "leave"
        axis, order = axis_of(self.frequency, ordinals, cells.index, self.file, leave_gaps=leave)
        log = self._sorted(axis, order, ordinals[order])
        if log:
            cells, ordinals = cells.iloc[order], ordinals[order]
        columns, unusable = number_columns(cells, self.file, self.marks)
        texts = {name: words_of(cells[name]) for name in unusable if name in cells.columns}
        findings = self.findings
        if len(cells) < axis.n:
            columns = {name: _spread(values, ordinals - axis.first, axis.n) for name, values in columns.items()}
            texts = {name: _spread_words(words, ordinals - axis.first, axis.n) for name, words in texts.items()}
            findings = (*findings, self._gaps_note(axis, ordinals))
        return Table(self.file, axis, columns, unusable, treatments=log, findings=findings, texts=texts,
                     **self.reading.said())  # fmt: skip

    def by_release(self, cells: pd.DataFrame, ordinals: np.ndarray, released: np.ndarray) -> Table:
        """One series' rows, of which a period may have several, each with the instant at which it came out."""
        delay = Delay.stated(self.reading.release_delay)
        check_releases(self.frequency, ordinals, released, delay=delay, rows=cells.index, file=self.file,
                       plan=self.reading.later_rows == "plan")  # fmt: skip
        last = latest(ordinals, released)
        table = self.table(cells.iloc[last], ordinals[last])
        columns, _ = number_columns(cells, self.file, self.marks)
        order = np.argsort(released, kind="stable")
        values = {name: columns[name][order] for name in table.columns if name in columns}
        rows = (ordinals[order] - table.axis.first).astype(np.intp)
        return replace(table, vintages=Vintages(released[order], rows, values))

    def _sorted(self, axis: Axis, order: np.ndarray, ordinals: np.ndarray) -> tuple[Treatment, ...]:
        moved = np.flatnonzero(order != np.arange(len(order)))
        if not len(moved):
            return ()
        first = Axis(axis.frequency, int(ordinals[moved[0]]), 1).labels()[0]
        before, after = "rows in another order", "rows by date"
        return (Treatment(self.file, self.time, first, before, after, "dates were not sorted"),)

    def _gaps_note(self, axis: Axis, ordinals: np.ndarray) -> Finding:
        missing, unit = axis.n - len(ordinals), axis.frequency.unit
        runs = spelt_runs(axis.frequency, gaps_in(ordinals), 5)
        return Finding(
            "missing periods", "note",
            f"{self.file}: {count(missing, f'{unit} has', f'{unit}s have')} no row and stay missing: {runs}.",
            evidence={"periods": float(missing)},
        )  # fmt: skip


def _spread_words(words: np.ndarray, places: np.ndarray, n: int) -> np.ndarray:
    spread = np.full(n, "", dtype=object)
    spread[places] = words
    return spread


def _spread(values: Array, places: np.ndarray, n: int) -> Array:
    spread = np.full(n, np.nan)
    spread[places] = values
    return spread


def time_column(cells: pd.DataFrame, stated: str | None, file: str) -> str:
    """The column of dates: the stated one, or the only one that holds dates.

    Raises
    ------
    InputError
        If there is none or several.
    """
    if stated is not None:
        if stated not in cells.columns:
            raise InputError(f"there is no column {stated!r}", nearest(stated, cells.columns), file=file, key="time")
        return stated
    found = [str(column) for column in cells.columns if looks_like_dates(cells[column], str(column))]
    if len(found) == 1:
        return found[0]
    if found:
        raise InputError(
            f"{' and '.join(repr(each) for each in found)} both hold dates",
            f'Say which one counts: time = "{found[0]}".',
            file=file,
        )
    hint = f"The columns are: {', '.join(map(str, cells.columns))}."
    raise InputError(
        "no column holds dates",
        f"{hint} Dates are best written as 2024-01-31; if the names stand further down, state header_row.",
        file=file,
    )
