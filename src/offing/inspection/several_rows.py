"""Tables with several rows per date: several series, or lines to be combined, or a slip."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import DAY, Frequency
from offing.calendar.frequency import HOUR
from offing.tables.aggregation_rules import Rule, looks_like_key, rule_for
from offing.tables.changing_clocks import zones_of
from offing.tables.notation import understood
from offing.tables.number_parsing import to_numbers
from offing.tables.opening import open_file
from offing.tables.read_options import Reading
from offing.tables.reshape import filled_down, looks_wide, place_in_year
from offing.tables.side_by_side import side_of
from offing.tables.tidying import time_column
from offing.tables.timestamps import stamps_of

#: Share of a column's cells up to which those that are no numbers are slips rather than words.
_FEW_WRONG = 0.5
#: Share of rows up to which those that repeat a date are slips.
_FEW_REPEATED = 0.1


def ids_or_lines(
    path: Path, own: dict[str, Any], unit: str | None, remarks: list[str], error: InputError
) -> dict[str, Any]:
    """Options for a table with several rows per date: several series, or lines to be combined.

    Raises
    ------
    InputError
        If columns of text may identify several series, and nothing states that they do.
    """
    if own.get("id") is None and (wide := _wide_ids(path, own)):
        remarks.append(f"'{wide}' identifies its series")
        return {"wide": own.get("wide", "value"), "id": wide, "gaps": "leave"}
    cells, time, texts, _ = _columns(path, own)
    if isinstance(own.get("id"), (str, list)):
        remarks.append("rows of a series that repeat a date are taken for lines")
        return lines_options(path, own, unit, remarks)
    repeated = int(cells[time].duplicated().sum())
    merged = next(
        (name for name in texts if len({*cells[name].tolist()} - {""}) > 1 and (cells[name] == "").mean() > 0.5),
        None,
    )
    if merged is not None:
        raise InputError(
            f"{repeated:,} of {len(cells):,} rows repeat a date, and column '{merged}' is filled in "
            f"{int((cells[merged] != '').sum()):,} of them only, as merged cells are",
            f'Each then holds for the rows below it: state fill_down = "{merged}".',
            file=error.file,
        )
    known = [name for name in texts if (cells[name] != "").all() and 1 < cells[name].nunique() <= len(cells) / 2]
    # Whole numbers of which each date has every one just once identifies series as texts do.
    whole = [name for name in cells.columns if name not in (time, *texts) and _counts_series(cells, time, str(name))]
    for chosen in [[name] for name in [*known, *whole]] + [[a, b] for i, a in enumerate(known) for b in known[i + 1 :]]:
        if not cells[[time, *chosen]].duplicated().any():
            ids = " and ".join(f"'{name}'" for name in chosen)
            remarks.append(f"{ids} identif{'ies' if len(chosen) == 1 else 'y'} {_different(cells, chosen):,} series")
            return {"id": chosen[0] if len(chosen) == 1 else chosen, "gaps": "leave"}
    if known:
        # A column that with the date leaves the fewest rows alike is the likeliest id.
        likely = min(known, key=lambda name: int(cells[[time, name]].duplicated().sum()))
        raise InputError(
            f"{repeated:,} of {len(cells):,} rows repeat a date, and column '{likely}' has "
            f"{cells[likely].nunique():,} different texts: is it an id?",
            f'State id = "{likely}" for a series each, or rows = "lines" to add all rows of a date up.',
            file=error.file,
        )
    if repeated < _FEW_REPEATED * len(cells):
        raise error  # a table by period with a slip, no lines
    return lines_options(path, own, unit, remarks)


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
        # What looks like a number and is not is reported when its column is combined.
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


def lines_options(path: Path, own: dict[str, Any], unit: str | None, remarks: list[str]) -> dict[str, Any]:
    """Options for lines: the periods they are combined to, and how each column of numbers is."""
    cells, time, _, numbers = _columns(path, own)
    file = path.name
    stamps, _ = stamps_of(cells[time], Reading(**_plain(own)).layouts, file, own.get("zone"), own.get("locale"))
    chosen = own.get("frequency") or own.get("aggregate_to") or unit or _lines_unit(stamps.wall)
    if chosen == "hour" and stamps.zone is None and stamps.instants is None:
        _check_autumn(stamps.wall, file)
    days = stamps.wall // DAY
    rules = {name: rule_for(name, of_unit, values, days) for name, (values, of_unit) in numbers.items()}
    if not rules:
        raise InputError("several rows stand for a date, and no column holds numbers to combine", file=file)
    if not own.get("combine"):
        remarks.append(f"its {len(cells):,} rows are taken for lines and combined by {chosen}")
        remarks += [ruled(name, rule) for name, rule in rules.items()]
    combine = own.get("combine") or {name: rule.how for name, rule in rules.items()}
    return {"rows": "lines", "frequency": chosen, "combine": combine}


def _check_autumn(wall: NDArray[np.int64], file: str) -> None:
    """Refuse to add up an hour that a clock which is put back in autumn shows twice.

    Raises
    ------
    InputError
        If times stand twice, all of them in such hours.
    """
    times, counts = np.unique(wall, return_counts=True)
    hours = np.unique(times[counts > 1] // HOUR)
    zones = zones_of(hours) if len(hours) else []
    if zones:
        shown = str(np.datetime64(int(hours[0]) * HOUR, "us").astype("datetime64[m]")).replace("T", " ")
        raise InputError(
            f"times in the hour of {shown} stand twice, as on a clock that is put back in autumn ({zones[0]}, say)",
            "Write offsets from UTC such as 2024-10-27T01:00+01:00, so that the two differ.",
            file=file,
        )


def _plain(own: Mapping[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in own.items() if key not in ("rows", "combine", "aggregate_to")}


def check_irregular(path: Path, own: dict[str, Any], error: InputError) -> None:
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


def ruled(column: str, rule: Rule) -> str:
    """The rule of a column in words, with a call to check it where it leaves doubt."""
    return f"'{column}' is combined by {rule.how}: {rule.why}" + ("" if rule.sure else "; check this")
