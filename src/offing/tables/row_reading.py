"""Rows of cells as regular series: one row for each period, or lines that are added up."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, Treatment, nearest
from offing.calendar.axis import instant_of
from offing.tables.aggregate import aggregated
from offing.tables.aggregation_rules import Combine
from offing.tables.column_uses import account, assume_dates, assume_notation, read_columns
from offing.tables.date_parsing import Stamps
from offing.tables.downloads import downloaded, release_dates
from offing.tables.frequency_detection import Rows, Timing, placed_rows
from offing.tables.layout import Report
from offing.tables.notation import understood
from offing.tables.placing import MOST_COLUMNS, Placing, too_wide
from offing.tables.read_options import Reading
from offing.tables.reshape import (
    date_heads,
    id_texts,
    numbered,
)
from offing.tables.sources import FrameSource, Source
from offing.tables.sources.web import WebTable
from offing.tables.table import Table
from offing.tables.tidying import tidied, time_column
from offing.tables.timestamps import stamps_of
from offing.tables.transactions import Gathered, Lines, gap_note


def lines_of_rows(
    source: Source, indexed: Stamps | None, reading: Reading, timing: Timing
) -> tuple[dict[str, Table], tuple[str, ...]]:
    """Tables by id, gathered from transaction lines."""
    sample = source.sample()
    if indexed is not None:
        raise InputError("lines have their dates in a column", "Reset the index and name it in time.", file=source.file)
    report = Report(source.file)
    source.report(report)
    time = time_column(sample, _one_column(reading), source.file)
    unit = timing.frequency or str(reading.aggregate_to)
    zone = reading.zone
    frequency = replace(timing, frequency=unit).of_unit(unit, zone)

    def stamps(cells: pd.Series) -> Stamps:
        return stamps_of(cells, reading.layouts, source.file, zone, reading.locale)[0]

    _, noted = stamps_of(sample[time], reading.layouts, source.file, zone, reading.locale)
    assume_dates(report, noted)
    combine = Combine(reading.combine)
    first = understood(
        sample[[n for n in combine.numbers if n in sample]], reading.notation, reading.missing_words, source.file
    )
    assume_notation(report, first.notation, reading, first.findings)
    report.uses |= {
        str(name): "date"
        if name == time
        else "id"
        if name in reading.ids
        else ""
        if name in reading.combine
        else "not used: combine does not name it"
        for name in sample.columns
    }
    gathered = Lines(
        source, time, reading.ids, combine, stamps, frequency, first.notation, reading.missing_words
    ).gather()
    low, high, treatments = _whole_part(gathered, reading, source.file)
    report.findings += gap_note(gathered, source.file, combine)
    found = {}
    for name, columns in gathered.series.items():
        kept = {column: values[low:high] for column, values in columns.items()}
        said = reading.said()
        said["units"] = {**first.units, **said["units"]}
        for key in ("units", "labels"):
            said[key] = {column: text for column, text in said[key].items() if column in kept}
        table = Table(
            source.file,
            gathered.axis.part(low, high),
            kept,
            treatments=treatments,
            findings=tuple(report.findings),
            uses=report.uses,
            settings=report.settings,
            **said,
        )
        if reading.aggregate_to and reading.aggregate_to != unit:
            again = {column: "sum" if how == "count" else how for column, how in reading.combine.items()}
            table = aggregated(table, reading.coarse(zone), again, reading.partial)
        found[name] = _until(table, reading)
    return found, reading.ids


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
            file,
            ", ".join(reading.combine),
            axis.part(i, i + 1).labels()[0],
            "lines of a part only",
            "made of what is there" if keep else "left out",
            f"the {axis.frequency.unit} is partial",
        )
        for i in partial
    )
    low, high = (0, axis.n) if keep else (int(0 in partial), axis.n - int(axis.n - 1 in partial))
    if high <= low:
        raise InputError(
            f"no {axis.frequency.unit} is whole in {axis.spell()}",
            'State partial = "keep" to have them as they are.',
            file=file,
        )
    return low, high, log


def periods_of_rows(
    source: Source, indexed: Stamps | None, reading: Reading, timing: Timing
) -> tuple[dict[str, Table], tuple[str, ...], dict[str, InputError]]:
    """Tables by id with one row per period, the columns that separate them, and why some series have no table."""
    cells, file = source.whole(), source.file
    report = Report(file)
    source.report(report)
    if reading.wide is None and not reading.transpose and len(cells.columns) > MOST_COLUMNS and not date_heads(cells):
        raise too_wide(len(cells.columns), len(cells), file)
    cells, releases = release_dates(cells, reading.released, file, reading.zone)
    own_units: dict[str, str] = {}
    ids = reading.ids
    if indexed is None:
        cells, time, ids, own_units = tidied(cells, source, reading, report)
        if reading.first_period is not None:
            cells[time], unit = numbered(cells[time], reading.first_period, timing.frequency, file)
            timing = replace(timing, frequency=unit, stamp="start")
        stamps, noted = stamps_of(cells[time], reading.layouts, file, reading.zone, reading.locale)
        assume_dates(report, noted)
        headed = time
        cells = cells.drop(columns=time)
    else:
        stamps, time, headed = indexed, "index", ""
        report.uses |= {str(name): "" for name in cells.columns}
    names: NDArray[np.object_] | None = None
    if ids:
        names = np.asarray(id_texts(cells, ids, file), dtype=object)
        cells = cells.drop(columns=list(ids))
        report.uses |= dict.fromkeys(ids, "id")
    frequency, ordinals, noted, other = placed_rows(stamps, timing, names, Rows(file, cells.index, headed))
    for finding in noted:
        stated = finding.advice.partition('"')[2].partition('"')[0]
        key = {"stamp": "stamp"}.get(finding.check, "frequency")
        report.assume(finding, **{key: stated})
    _check_said(reading, [str(name) for name in cells.columns], file)
    columns, units = read_columns(cells, source, reading, report)
    account(columns, names, reading, report)
    reading = replace(
        reading, unit={**{k: v for k, v in {**own_units, **units}.items() if k in columns}, **reading.unit}
    )
    placing = Placing(
        columns,
        cells.index,
        ordinals,
        None if releases is None else releases.on(frequency),
        frequency,
        time,
        reading,
        report,
    )
    found, refused = placing.tables(names, other)
    if isinstance(source, WebTable):
        found = _with_downloads(source, found, reading, timing)
    return {name: _until(table, reading) for name, table in found.items()}, ids, refused


def _with_downloads(source: WebTable, newest: dict[str, Table], reading: Reading, timing: Timing) -> dict[str, Table]:
    """The newest tables with what earlier downloads held, so that a fit at an earlier date sees these."""
    earlier: dict[str, list[tuple[str, Table]]] = {name: [] for name in newest}
    for day, cells in source.earlier():
        then = FrameSource(cells, source.file, None, reading.decimal, reading.thousands)
        for name, table in periods_of_rows(then, None, reading, timing)[0].items():
            if name in earlier:
                earlier[name].append((day, table))
    last = source.vintages[-1][0]
    return {
        name: downloaded([*earlier[name], (last, table)]) if earlier[name] else table for name, table in newest.items()
    }


def _until(table: Table, reading: Reading) -> Table:
    """The table up to the period that `until` names."""
    if reading.until is None:
        return table
    stop = int(table.axis.frequency.ordinals(instant_of(reading.until, table.axis.frequency))[0]) + 1
    if stop >= table.axis.first + table.axis.n:
        return table
    n = stop - table.axis.first
    if n < 1:
        raise InputError(f"no row is left until {reading.until}", "State a later date.", file=table.name, key="until")
    entry = Treatment(
        table.name,
        "",
        table.axis.part(n, table.axis.n).labels()[0],
        f"{table.axis.n - n} later rows",
        "not read",
        f"until = {reading.until}",
    )
    return table.first_periods(n, entry)


def _check_said(reading: Reading, known: list[str], file: str) -> None:
    for key in ("unit", "label", "notation"):
        for column in getattr(reading, key):
            if column not in known:
                raise InputError(f"found {column!r}, which is no column of {file}", nearest(column, known), key=key)
