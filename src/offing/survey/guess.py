"""What bare files are: how each must be read, found out by trying, and said in the keys of a study."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError
from offing.calendar import DAY, UNITS, Frequency
from offing.calendar.frequency import HOUR
from offing.survey.target import likely_target
from offing.tables import Panel, Table, read, read_days
from offing.tables.combine import Rule, looks_like_key, rule_for
from offing.tables.notation import understood
from offing.tables.numbers import to_numbers
from offing.tables.options import Reading, as_options
from offing.tables.reading import open_file, time_column
from offing.tables.regular import NoFrequencyError, SeveralRowsError
from offing.tables.shapes import filled_down, looks_wide, place_in_year, side_of
from offing.tables.stamps import stamps_of
from offing.tables.table import Array

#: At these frequencies of a target the months, weeks or days of a driver are worth weights of their own.
_SLOW = ("month", "quarter", "year")
#: Checks that note what reading assumed and a key of the source would state.
_ASSUMED = ("notation", "number marks", "header", "locale", "stamp", "encoding", "dates as numbers", "wide table",
            "business days", "months")  # fmt: skip
#: Share of a column's cells up to which those that are no numbers are slips rather than words.
_FEW_WRONG = 0.5
#: Share of rows up to which those that repeat a date are slips.
_FEW_REPEATED = 0.1


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
            files[source_name(path, files)] = path
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
        with _options_for(name):
            options[name], tables[name] = _tried(files[name], own, unit, remarks[name], as_it_is=as_it_is)
    _own_plan(tables, options, files, remarks, target)
    plans = _plans(tables, order)
    _later_rows(tables, options, plans, files, remarks)
    _delays(tables, options, plans, files, remarks)
    kept = {name: tuple(words) for name, words in remarks.items()}
    return Guess(files, options, {name: tables[name] for name in files}, plans, days, kept)


@contextmanager
def _options_for(source: str) -> Iterator[None]:
    """Let advice that states a key show the option to paste, since there is no study yet."""
    try:
        yield
    except InputError as error:
        error.advice = as_options(error.advice, source)
        raise


def _tried(
    path: Path, own: dict[str, Any], unit: str | None, remarks: list[str], *, as_it_is: bool = False
) -> tuple[dict[str, Any], Any]:
    """The options with which a file can be read, and the table; a faster one is combined if not taken `as_it_is`."""
    options = dict(own)
    if options.get("rows") == "lines" and "combine" not in options:
        options |= _lines(path, own, unit, remarks)
    try:
        table = read(path, **{"gaps": "leave", **options})
    except SeveralRowsError as error:
        options |= _as_ids_or_lines(path, options, unit, remarks, error)
        table = read(path, **{"gaps": "leave", **options})
    except NoFrequencyError as error:
        _check_irregular(path, options, error)
        options |= _lines(path, options, unit, remarks)
        table = read(path, **options)
    options |= table.settings
    remarks += _assumed(table)
    first = next(iter(table.values())) if isinstance(table, Panel) else table
    each = table.values() if isinstance(table, Panel) else [table]
    if any(finding.check == "missing periods" for one in each for finding in one.findings):
        options["gaps"] = "leave"
    if as_it_is:
        return options, read(path, **options) if table.settings else table
    if unit is not None and first.axis.frequency.periods_a_year > Frequency(unit).periods_a_year:  # type: ignore[arg-type]
        combine = options.get("combine") or _rules(first, remarks)
        options |= {"aggregate_to": unit, "combine": combine}
    return options, read(path, **options)


def _assumed(table: Table | Panel) -> list[str]:
    """What reading assumed, in words; stated in the options, it is no note of later runs."""
    first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
    lead = f"{first.name}: "
    return [f.message.removeprefix(lead).rstrip(".") for f in first.findings if f.check in _ASSUMED]


def _rules(table: Table, remarks: list[str]) -> dict[str, str]:
    """How each column of a table becomes one of a coarser frequency; what leaves doubt is remarked on."""
    found = {}
    for column, values in table.columns.items():
        if looks_like_key(column) or table.uses.get(column):
            continue
        rule = rule_for(column, table.units.get(column, ""), values)
        found[column] = rule.how
        remarks.append(_ruled(column, rule))
    return found


def _ruled(column: str, rule: Rule) -> str:
    return f"'{column}' is combined by {rule.how}: {rule.why}" + ("" if rule.sure else "; check this")


def _as_ids_or_lines(
    path: Path, own: dict[str, Any], unit: str | None, remarks: list[str], error: InputError
) -> dict[str, Any]:
    """Options for a table with several rows per date: several series, or lines to be combined.

    Raises
    ------
    InputError
        If columns of text may tell several series apart, of which nobody has said so.
    """
    if own.get("id") is None and (wide := _wide_ids(path, own)):
        remarks.append(f"'{wide}' tells its series apart")
        return {"wide": own.get("wide", "value"), "id": wide, "gaps": "leave"}
    cells, time, texts, _ = _columns(path, own)
    if isinstance(own.get("id"), (str, list)):
        remarks.append("rows of a series that repeat a date are taken for lines")
        return _lines(path, own, unit, remarks)
    repeated = int(cells[time].duplicated().sum())
    merged = next(
        (name for name in texts if len({*cells[name].tolist()} - {""}) > 1 and (cells[name] == "").mean() > 0.5),
        None,
    )
    if merged is not None:
        raise InputError(
            f"{repeated:,} of {len(cells):,} rows repeat a date, and column '{merged}' is filled in "
            f"{int((cells[merged] != '').sum()):,} of them only, as merged cells are",
            f'Each then holds for the rows below it: state fill_down = "{merged}".', file=error.file,
        )  # fmt: skip
    known = [name for name in texts if (cells[name] != "").all() and 1 < cells[name].nunique() <= len(cells) / 2]
    # Whole numbers of which each date has every one just once tell series apart as texts do.
    whole = [name for name in cells.columns if name not in (time, *texts) and _counts_series(cells, time, str(name))]
    for chosen in [[name] for name in [*known, *whole]] + [[a, b] for i, a in enumerate(known) for b in known[i + 1 :]]:
        if not cells[[time, *chosen]].duplicated().any():
            ids = " and ".join(f"'{name}'" for name in chosen)
            remarks.append(f"{ids} tell{'s' if len(chosen) == 1 else ''} {_different(cells, chosen):,} series apart")
            return {"id": chosen[0] if len(chosen) == 1 else chosen, "gaps": "leave"}
    if known:
        # A column that with the date leaves the fewest rows alike is the likeliest id.
        asked = min(known, key=lambda name: int(cells[[time, name]].duplicated().sum()))
        raise InputError(
            f"{repeated:,} of {len(cells):,} rows repeat a date, and column '{asked}' has "
            f"{cells[asked].nunique():,} different texts: is it an id?",
            f'State id = "{asked}" for a series each, or rows = "lines" to add all rows of a date up.', file=error.file,
        )  # fmt: skip
    if repeated < _FEW_REPEATED * len(cells):
        raise error  # a table by period with a slip, no lines
    return _lines(path, own, unit, remarks)


def _wide_ids(path: Path, own: dict[str, Any]) -> str | None:
    """The column of a wide table that names its series: the only one beside the values and the months or years."""
    reading = Reading(**_plain(own))
    cells = filled_down(open_file(path, reading).whole(), reading.filled, path.name)
    if not looks_wide(cells):
        return None
    side = side_of(cells, ())
    others = [
        str(name) for name in cells.columns if name != side and not place_in_year(str(name)) and not str(name).isdigit()
    ]
    return others[0] if len(others) == 1 else None


def _counts_series(cells: pd.DataFrame, time: str, name: str) -> bool:
    """Whether a column of short codes stands once with each date, and each code with many dates."""
    texts = cells[name].astype(str)
    codes = bool(texts.str.fullmatch(r"[\w-]{1,12}").all()) and texts.nunique() <= len(cells) / 6
    return codes and not cells[[time, name]].duplicated().any()


def _columns(path: Path, own: dict[str, Any]) -> tuple[pd.DataFrame, str, list[str], dict[str, tuple[Array, str]]]:
    """The cells of a file, its column of dates, its columns of texts, and numbers (n,) and unit of the others."""
    stated = {key: value for key, value in own.items() if key not in ("rows", "combine", "aggregate_to", "id")}
    reading = Reading(**stated)
    source = open_file(path, reading)
    cells = filled_down(source.whole(), reading.filled, source.file)
    time = time_column(cells, own.get("time"), source.file)
    plainer = understood(cells.drop(columns=time), reading.notation, reading.missing_words, source.file)
    marks = source.marks(plainer.cells)
    numbers: dict[str, tuple[Array, str]] = {}
    texts = []
    for name in cells.columns:
        if name == time:
            continue
        values, wrong = to_numbers(plainer.cells[name], marks)
        doubted = marks is not None and name in marks.doubtful
        # What looks like a number and is not is told when its column is combined.
        if (
            str(name) in _ids(own)
            or str(name) in plainer.faults
            or bool(cells[name].astype(str).str.match(r"0\d").any())
            or (
                wrong.any()
                and not doubted
                and wrong.sum() > _FEW_WRONG * max(int((wrong | np.isfinite(values)).sum()), 1)
            )
        ) or (looks_like_key(str(name)) and str(name) not in own.get("combine", {})):
            texts.append(str(name))
        else:
            unit = "1" if plainer.notation.get(str(name)) == "yes/no" else plainer.units.get(str(name), "")
            numbers[str(name)] = (values, {**reading.unit}.get(str(name), unit))
    return cells, time, texts, numbers


def _ids(own: Mapping[str, Any]) -> tuple[str, ...]:
    stated = own.get("id", ())
    return (stated,) if isinstance(stated, str) else tuple(stated)


def _different(cells: pd.DataFrame, names: list[str]) -> int:
    return len(cells[names].drop_duplicates())


def _lines(path: Path, own: dict[str, Any], unit: str | None, remarks: list[str]) -> dict[str, Any]:
    """Options for lines: the periods they are combined to, and how each column of numbers is."""
    cells, time, _, numbers = _columns(path, own)
    file = path.name
    stamps, _ = stamps_of(cells[time], Reading(**_plain(own)).layouts, file, own.get("zone"), own.get("locale"))
    chosen = own.get("frequency") or own.get("aggregate_to") or unit or _lines_unit(stamps.wall)
    days = stamps.wall // DAY
    rules = {name: rule_for(name, of_unit, values, days) for name, (values, of_unit) in numbers.items()}
    if not rules:
        raise InputError("several rows stand for a date, and no column holds numbers to combine", file=file)
    if not own.get("combine"):
        remarks.append(f"its {len(cells):,} rows are taken for lines and combined by {chosen}")
        remarks += [_ruled(name, rule) for name, rule in rules.items()]
    combine = own.get("combine") or {name: rule.how for name, rule in rules.items()}
    return {"rows": "lines", "frequency": chosen, "combine": combine}


def _plain(own: Mapping[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in own.items() if key not in ("rows", "combine", "aggregate_to")}


def _check_irregular(path: Path, own: dict[str, Any], error: InputError) -> None:
    """Refuse to take for lines what comes at one regular step, such as every second week.

    Raises
    ------
    InputError
        Saying how far apart the dates are.
    """
    cells, time, _, _ = _columns(path, own)
    stamps, _ = stamps_of(cells[time], Reading(**_plain(own)).layouts, path.name, own.get("zone"), own.get("locale"))
    steps = np.diff(np.unique(stamps.wall))
    if not len(steps):
        return
    values, counts = np.unique(steps, return_counts=True)
    usual = int(values[np.argmax(counts)])
    if counts.max() >= 0.8 * len(steps) and usual > DAY:
        error.found = f"the dates are {usual // DAY} days apart, which is no frequency"
        error.advice = 'State rows = "lines" to add them up by month, or bring them to weeks or months.'
        raise error


def _lines_unit(wall: NDArray[np.int64]) -> str:
    """Hours where each has several rows at even steps; else days, or weeks, if nearly all have lines; else months."""
    steps = np.diff(np.unique(wall))
    if len(steps) > 24 and (steps < HOUR).mean() > 0.9 and not np.remainder(HOUR, steps[steps < HOUR]).any():
        return "hour"
    for unit in ("day", "week"):
        ordinals = np.unique(Frequency(unit).ordinals(wall))
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
    """Which tables only continue columns of another one after its end, of the same series if there are several."""
    found: dict[str, str] = {}
    for name in order[1:]:
        for other in order:
            if (
                other != name
                and other not in found
                and other not in found.values()
                and _continues(tables[name], tables[other])
            ):
                found[name] = other
    return found


def _continues(plan: Table | Panel, table: Table | Panel) -> bool:
    if isinstance(plan, Panel) != isinstance(table, Panel):
        return False
    if isinstance(plan, Panel) and isinstance(table, Panel):
        return plan.id == table.id and all(each in table and _continues(plan[each], table[each]) for each in plan)
    if isinstance(plan, Panel) or isinstance(table, Panel):
        return False
    same = set(plan.columns) <= set(table.columns)
    after = plan.axis.first >= table.axis.first + table.axis.n
    return same and after and plan.axis.frequency.unit == table.axis.frequency.unit


def _own_plan(
    tables: dict[str, Table | Panel],
    options: dict[str, dict[str, Any]],
    files: Mapping[str, Path],
    remarks: dict[str, list[str]],
    target: str | None,
) -> None:
    """The last rows of the target's table that hold drivers and no target are a plan."""
    name = (target or "").partition(".")[0]
    name = name if name in tables else next(iter(tables))
    table = tables[name]
    if "later_rows" in options[name] or "until" in options[name]:
        return
    column = (target or "").partition(".")[2] or likely_target(table)
    first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
    values = first.columns.get(column)
    if values is None or not np.isfinite(values).any():
        return
    end = int(np.flatnonzero(np.isfinite(values))[-1]) + 1
    later = [other for other, each in first.columns.items() if other != column and np.isfinite(each[end:]).any()]
    if later:
        options[name]["later_rows"] = "plan"
        span = first.axis.part(end, first.axis.n).spell()
        remarks[name].append(f"{span} have values of {', '.join(later[:4])} and none of {column}: they are a plan")
        tables[name] = read(files[name], **options[name])


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


def source_name(path: Path, taken: Mapping[str, Path]) -> str:
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
