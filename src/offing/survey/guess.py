"""What bare files are: how each must be read, found out by trying, and said in the keys of a study."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.calendar import DAY, UNITS, Frequency
from offing.tables import Panel, Table, read, read_days
from offing.tables.combine import looks_like_key, suggested
from offing.tables.numbers import to_numbers
from offing.tables.options import Reading
from offing.tables.reading import open_file, time_column
from offing.tables.stamps import stamps_of

#: At these frequencies of a target the months, weeks or days of a driver are worth weights of their own.
_SLOW = ("month", "quarter", "year")


@dataclass(frozen=True)
class Guess:
    """How a set of files is to be read.

    Attributes
    ----------
    files
        Path of each source.
    options
        Keyword arguments of `offing.read` for each source.
    tables
        What was read, by source.
    plans
        Name of the source that each plan continues, by the plan's.
    days
        File of a table of holidays, if there is one.
    remarks
        What was assumed, in words, by source.
    """

    files: Mapping[str, Path]
    options: Mapping[str, dict[str, Any]]
    tables: Mapping[str, Table | Panel]
    plans: Mapping[str, str]
    days: Path | None
    remarks: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


def guess_sources(
    paths: Sequence[Path], said: Mapping[str, Mapping[str, Any]], target: str | None = None, to: str | None = None
) -> Guess:
    """Find out how files are to be read, which continue others as plans, and which hold holidays.

    Parameters
    ----------
    said
        What is known, by source (``*`` for all): keyword arguments of `offing.read`.
    target
        The target as ``source.column``; its source's frequency is the one to plan at.
    to
        The frequency to plan at, where it is not the target's own.

    Raises
    ------
    InputError
        If a file can be read in two ways or in none; what settles it can be said.
    """
    files: dict[str, Path] = {}
    days = None
    for path in paths:
        if _is_holidays(path):
            days = path
        else:
            files[_source_name(path, files)] = path
    if not files:
        raise InputError("there is no table of series among the files", "Name at least one.")
    options: dict[str, dict[str, Any]] = {}
    tables: dict[str, Table | Panel] = {}
    remarks: dict[str, list[str]] = {name: [] for name in files}
    order = sorted(files, key=lambda name: name != (target or "").partition(".")[0])
    for name in order:
        own = {**said.get("*", {}), **said.get(name, {})}
        unit = to or _planning_unit(tables)
        as_it_is = to is None and unit in _SLOW
        options[name], tables[name] = _tried(files[name], own, unit, remarks[name], as_it_is=as_it_is)
    plans = _plans(tables, order)
    _later_rows(tables, options, plans, files, remarks)
    _delays(tables, options, plans, files, remarks)
    kept = {name: tuple(words) for name, words in remarks.items()}
    return Guess(files, options, {name: tables[name] for name in files}, plans, days, kept)


def _tried(
    path: Path, own: dict[str, Any], unit: str | None, remarks: list[str], *, as_it_is: bool = False
) -> tuple[dict[str, Any], Any]:
    """The options with which a file can be read, and the table; a faster one is combined if not taken `as_it_is`."""
    options = dict(own)
    try:
        table = read(path, **{"gaps": "leave", **options})
    except InputError as error:
        if "both stand for it" not in error.found and "no frequency fits" not in error.found:
            raise
        options |= _as_ids_or_lines(path, own, unit, remarks)
        table = read(path, **options)
    first = next(iter(table.values())) if isinstance(table, Panel) else table
    if any(finding.check == "missing periods" for finding in first.findings):
        options["gaps"] = "leave"
    if any(finding.check == "stamp" for finding in first.findings):
        options["stamp"] = "start"
        remarks.append("the dates are taken for the starts of their periods")
    if as_it_is:
        return options, table
    if unit is not None and first.axis.frequency.periods_a_year > Frequency(unit).periods_a_year:  # type: ignore[arg-type]
        combine = {
            column: suggested(column, first.units.get(column, ""))
            for column in first.columns
            if not looks_like_key(column)
        }
        remarks.append("values of a period are combined as their names suggest; check sum against mean")
        options |= {"aggregate_to": unit, "combine": combine}
        table = read(path, **options)
    return options, table


def _as_ids_or_lines(path: Path, own: dict[str, Any], unit: str | None, remarks: list[str]) -> dict[str, Any]:
    """Options for a table with several rows a date: several series, or lines to be combined."""
    source = open_file(path, Reading(**own))
    cells = source.whole()
    time = time_column(cells, own.get("time"), source.file)
    marks = source.marks(cells.drop(columns=time))
    numbers = [name for name in cells.columns if name != time and not to_numbers(cells[name], marks)[1].any()]
    texts = [name for name in cells.columns if name != time and name not in numbers]
    repeated = int(cells[time].duplicated().sum())
    for name in texts:
        few = cells[name].nunique() <= 50 and (cells[name] != "").all()
        if few and not cells[[time, name]].duplicated().any():
            remarks.append(f"'{name}' tells several series apart")
            return {"id": name, "gaps": "leave"}
    combine = {name: suggested(str(name), "") for name in numbers if not looks_like_key(str(name))}
    if not combine:
        raise InputError("several rows stand for a date, and no column holds numbers to combine", file=source.file)
    chosen = unit or _lines_unit(cells[time], own, source.file)
    ways = ", ".join(f"'{column}' by {how}" for column, how in combine.items())
    remarks.append(
        f"{repeated:,} of {len(cells):,} rows repeat a date; they are taken for lines and combined by {chosen}: "
        f"{ways}; check this"
    )
    return {"rows": "lines", "frequency": chosen, "combine": combine}


def _lines_unit(dates: pd.Series, own: dict[str, Any], file: str) -> str:
    """Days where nearly all have lines, else weeks where they do, else months."""
    stamps, _ = stamps_of(dates, own.get("time_format"), file, own.get("zone"))
    for unit in ("day", "week"):
        ordinals = np.unique(Frequency(unit).ordinals(stamps.wall))
        if len(ordinals) >= 0.9 * (ordinals[-1] - ordinals[0] + 1) and len(ordinals) >= 20:
            return unit
    return "month"


def _planning_unit(tables: Mapping[str, Table | Panel]) -> str | None:
    """Unit of the first table that was read, which is the target's."""
    for table in tables.values():
        first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
        return first.axis.frequency.unit
    return None


def _plans(tables: Mapping[str, Table | Panel], order: Sequence[str]) -> dict[str, str]:
    """Which tables only continue columns of another one after its end."""
    found: dict[str, str] = {}
    for name in order[1:]:
        plan = tables[name]
        for other in order:
            table = tables[other]
            if other == name or other in found or isinstance(plan, Panel) or isinstance(table, Panel):
                continue
            same = set(plan.columns) <= set(table.columns)
            after = plan.axis.first >= table.axis.first + table.axis.n
            if same and after and plan.axis.frequency == table.axis.frequency:
                found[name] = other
    return found


def _later_rows(
    tables: dict[str, Table | Panel],
    options: dict[str, dict[str, Any]],
    plans: Mapping[str, str],
    files: Mapping[str, Path],
    remarks: dict[str, list[str]],
) -> None:
    """Rows of other tables after the end of the first are taken for plans."""
    first, *others = list(tables)
    lead = tables[first]
    end = max(int(each.axis.edges[-1]) for each in (lead.values() if isinstance(lead, Panel) else [lead]))
    for name in others:
        if name in plans or "later_rows" in options[name] or _ticks(tables[name]) != _ticks(lead):
            continue
        table = tables[name]
        last = max(int(each.axis.edges[-1]) for each in (table.values() if isinstance(table, Panel) else [table]))
        if last > end:
            options[name]["later_rows"] = "plan"
            remarks[name].append("rows after the target's end are taken for a plan")
            tables[name] = read(files[name], **options[name])


def _ticks(table: Table | Panel) -> Frequency:
    first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
    return first.axis.frequency


def _delays(
    tables: dict[str, Table | Panel],
    options: dict[str, dict[str, Any]],
    plans: Mapping[str, str],
    files: Mapping[str, Path],
    remarks: dict[str, list[str]],
) -> None:
    """Release delays of faster tables, by how long before the newest value of all their own last one ends."""
    first, *others = list(tables)
    faster = [name for name in others if name not in plans and isinstance(tables[name], Table)
              and _ticks(tables[name]).periods_a_year > _ticks(tables[first]).periods_a_year]  # fmt: skip
    ends = {name: _last_end(tables[name]) for name in (first, *faster)}
    newest = max(ends.values())
    for name in faster:
        days = (newest - ends[name]) // DAY
        if "release_delay" in options[name] or not 0 < days < 366.0 / _ticks(tables[name]).periods_a_year:
            continue
        options[name]["release_delay"] = f"{days} days"
        remarks[name].append(
            f"its last value ends {days} days before the newest of all, so each is taken to come out so long after its "
            f"{_ticks(tables[name]).unit}; check this"
        )
        tables[name] = read(files[name], **options[name])


def _last_end(table: Table | Panel) -> int:
    """When the last period with a value ends."""
    found = 0
    for each in table.values() if isinstance(table, Panel) else [table]:
        known = np.zeros(each.axis.n, dtype=bool)
        for values in each.columns.values():
            known |= np.isfinite(values)
        found = max(found, int(each.axis.ends[np.flatnonzero(known)[-1]]) if known.any() else 0)
    return found


def _is_holidays(path: Path) -> bool:
    """Whether a file is a table of holidays, with columns ``name`` and ``date``."""
    if path.suffix.lower() not in (".csv", ".txt", ".tsv"):
        return False
    try:
        read_days(path)
    except InputError:
        return False
    return True


def _source_name(path: Path, taken: Mapping[str, Path]) -> str:
    """A name that needs no quotes in a study."""
    stem = re.sub(r"\W+", "_", path.name.split(".")[0]).strip("_").lower() or "table"
    name, n = stem, 2
    while name in taken:
        name, n = f"{stem}_{n}", n + 1
    return name


def unit_named(word: str) -> str:
    """A frequency's unit, from a word.

    Raises
    ------
    InputError
        If it is none.
    """
    if word not in UNITS:
        raise InputError(f"found {word!r}", f"Give one of {', '.join(UNITS)}.", key="to")
    return word
