"""What bare files are: how each must be read, found out by trying, and said in the keys of a study."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from offing.base import InputError
from offing.calendar import DAY, UNITS, Frequency
from offing.inspection.plan_detection import frequency_of, later_rows, own_plan, plans_of, plans_stated
from offing.inspection.several_rows import check_irregular, ids_or_lines, lines_options, ruled
from offing.tables import Panel, Table, read, read_days
from offing.tables.aggregation_rules import looks_like_key, rule_for
from offing.tables.frequency_detection import NoFrequencyError, SeveralRowsError
from offing.tables.read_options import as_options

#: At these frequencies of a target the months, weeks or days of a driver are worth weights of their own.
_SLOW = ("month", "quarter", "year")
#: Checks that note what reading assumed and a key of the source would state.
_ASSUMED = (
    "notation",
    "number marks",
    "header",
    "locale",
    "stamp",
    "encoding",
    "dates as numbers",
    "wide table",
    "business days",
    "months",
)


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
    paths: Sequence[Path],
    said: Mapping[str, Mapping[str, Any]],
    target: str | None = None,
    to: str | None = None,
    stated_plans: Sequence[Path] = (),
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
    stated_plans
        Those of the files that are plans, whatever they look like.

    Raises
    ------
    InputError
        If a file can be read in two ways or in none; what settles it can be said. If a stated plan has no column of
        another file.
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
    own_plan(tables, options, files, remarks, target)
    plans = {**plans_of(tables, order), **plans_stated(tables, files, stated_plans)}
    later_rows(tables, options, plans, files, remarks)
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
        options |= lines_options(path, own, unit, remarks)
    try:
        table = read(path, **{"gaps": "leave", **options})
    except SeveralRowsError as error:
        options |= ids_or_lines(path, options, unit, remarks, error)
        table = read(path, **{"gaps": "leave", **options})
    except NoFrequencyError as error:
        check_irregular(path, options, error)
        options |= lines_options(path, options, unit, remarks)
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
        remarks.append(ruled(column, rule))
    return found


def _planning_unit(tables: Mapping[str, Table | Panel]) -> str | None:
    """Unit of the first table that was read, which is the target's."""
    for table in tables.values():
        first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
        return first.axis.frequency.unit
    return None


def _delays(
    tables: dict[str, Table | Panel],
    options: dict[str, dict[str, Any]],
    plans: Mapping[str, str],
    files: Mapping[str, Path],
    remarks: dict[str, list[str]],
) -> None:
    """Release delays of faster tables, by how long before the newest value of all their own last one ends."""
    first, *others = list(tables)
    faster = [
        name
        for name in others
        if name not in plans
        and isinstance(tables[name], Table)
        and frequency_of(tables[name]).periods_a_year > frequency_of(tables[first]).periods_a_year
    ]
    ends = {name: _last_end(tables[name]) for name in (first, *faster)}
    newest = max(ends.values())
    for name in faster:
        days = (newest - ends[name]) // DAY
        if "release_delay" in options[name] or not 0 < days < 366.0 / frequency_of(tables[name]).periods_a_year:
            continue
        options[name]["release_delay"] = f"{days} days"
        remarks[name].append(
            f"its last value ends {days} days before the newest of all, so each is taken to be released as long "
            f"after its {frequency_of(tables[name]).unit}; check this"
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
