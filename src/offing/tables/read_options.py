"""All that can be said about a source: the parameters of `offing.read`."""

from __future__ import annotations

import re
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import date
from pathlib import Path
from typing import Any, Literal, Self, get_type_hints

import pandas as pd

from offing.base import InputError
from offing.calendar import Frequency, country_days
from offing.calendar.frequency import Unit
from offing.tables.aggregation_rules import Combine
from offing.tables.delay import Delay
from offing.tables.frequency_detection import Timing
from offing.tables.holiday_table import read_days
from offing.tables.locales import decimal_of
from offing.tables.number_parsing import Marks
from offing.tables.table import LaterRows

_STATED = re.compile(r"\b(\w+) = (\"[^\"]*\"|\[[^\]]*\]|\{[^}]*\}|true|false|[\w.+-]+)")


def as_options(advice: str, source: str) -> str:
    """Advice with every ``key = value`` of a source as the option of the command line that says it.

    Examples
    --------
    >>> from offing.tables.read_options import as_options
    >>> as_options('State stamp = "start" or time_format = "%d/%m/%Y".', "sales")
    'State --set sales.stamp=start or --set sales.time_format=%d/%m/%Y'
    """
    keys = {each.name for each in fields(Reading)}

    def option(found: re.Match[str]) -> str:
        key, value = found[1], found[2]
        if key not in keys:
            return found[0]
        return f"--set {shlex.quote(f'{source}.{key}={value[1:-1] if value[0] == chr(34) else value}')}"

    # A full stop behind an option would be copied with it.
    return re.sub(r"(--set (?:'[^']*'|\S*?=\S+?))\.(?=\s|$)", r"\1", _STATED.sub(option, advice))


#: Years whose holidays a country's calendar must cover.
_COUNTRY_YEARS = (2000, 2040)


@dataclass(frozen=True)
class Reading:
    """All that can be said about a source: the parameters of `read`, the keys of a study's source, and of ``--set``."""

    database: str | None = field(default=None, repr=False)
    table: str | None = None
    query: str | None = field(default=None, repr=False)
    parameters: Mapping[str, Any] = field(default_factory=dict, repr=False)
    folders: list[str] = field(default_factory=list)
    url: str | None = None
    service: str | None = None
    series: str | None = None
    downloads: str = "downloads"
    separator: str | None = None
    decimal: Literal[".", ","] | None = None
    thousands: str | None = None
    encoding: str | None = None
    sheet: str | None = None
    header_row: int | None = None
    transpose: bool = False
    totals: Literal["check", "skip", "keep"] = "check"
    missing: list[str | int | float] = field(default_factory=list)
    notation: dict[str, str] = field(default_factory=dict)
    locale: str | None = None
    time: str | list[str] | None = None
    time_format: str | list[str] | None = None
    first_period: str | date | None = None
    zone: str | None = None
    frequency: Unit | None = None
    holidays: str | Path | pd.DataFrame | None = None
    week_ends: str | None = None
    year_starts: str = "january"
    weeks: Literal["4-4-5", "4-5-4", "5-4-4"] | None = None
    year_ends: Literal["last", "nearest"] = "last"
    stamp: Literal["start", "end"] | None = None
    id: str | list[str] | None = None
    fill_down: str | list[str] | None = None
    wide: str | dict[str, str] | None = None
    rows: Literal["periods", "lines"] = "periods"
    combine: dict[str, str] = field(default_factory=dict)
    aggregate_to: Unit | None = None
    partial: Literal["leave out", "keep"] = "leave out"
    gaps: Literal["refuse", "leave"] = "refuse"
    until: str | date | None = None
    release_delay: str | int | None = None
    released: str | None = None
    unit: dict[str, str] = field(default_factory=dict)
    label: dict[str, str] = field(default_factory=dict)
    note: str = ""
    later_rows: LaterRows | None = None
    name: str | None = None

    def __post_init__(self) -> None:
        allowed: dict[str, Sequence[object]] = {
            "later_rows": (None, "plan", "actual"),
            "rows": ("periods", "lines"),
            "gaps": ("refuse", "leave"),
            "totals": ("check", "skip", "keep"),
            "partial": ("leave out", "keep"),
            "decimal": (None, ".", ","),
        }
        for key, values in allowed.items():
            if getattr(self, key) not in values:
                named = " or ".join(f'"{each}"' for each in values if each is not None)
                raise InputError(f"found {getattr(self, key)!r}", f"Give {named}.", key=key)
        if self.rows == "lines" and not (self.combine and (self.frequency or self.aggregate_to)):
            raise InputError(
                "lines are gathered into periods, and it is not stated into which or how",
                'State frequency = "month" and combine = { amount = "sum" }, say.',
                key="rows",
            )
        if self.aggregate_to is not None and not self.combine:
            raise InputError(
                "it is not stated how the values of a period become one",
                'State combine = { sold = "sum", price = "mean" }, say.',
                key="aggregate_to",
            )
        if self.combine and self.rows == "periods" and self.aggregate_to is None:
            raise InputError(
                "there is nothing to combine", 'State rows = "lines", or aggregate_to = "month", say.', key="combine"
            )
        Combine(self.combine)
        if self.released is not None and (self.rows == "lines" or self.aggregate_to or self.wide):
            raise InputError(
                "releases are stated by the row of a period", "Give one row a period and release.", key="released"
            )
        if self.holidays is not None and "business day" not in (self.frequency, self.aggregate_to):
            raise InputError(
                "a source's holidays are those on which no business day falls",
                'State frequency = "business day"; for their effects, use a term of holidays.',
                key="holidays",
            )
        if self.service is not None and self.series is None:
            raise InputError(
                "a statistics service needs the key of a series", 'State series = "FLOW/KEY".', key="series"
            )

    @property
    def timing(self) -> Timing:
        """What is said about the dates."""
        return Timing(
            self.frequency, self.week_ends, self.stamp, self.year_starts, self.weeks, self.year_ends, self.closed
        )

    @property
    def closed(self) -> tuple[int, ...]:
        """Numbers of the days that are holidays of business days: of a table, or of a country by its code."""
        if self.holidays is None:
            return ()
        if isinstance(self.holidays, str) and re.fullmatch(r"[A-Za-z]{2}(-\w+)?", self.holidays):
            country, _, subdivision = self.holidays.upper().partition("-")
            days = country_days(country, subdivision or None, *_COUNTRY_YEARS)
        else:
            days = read_days(self.holidays)
        return tuple(days.days[days.shares >= 1.0].tolist())

    @property
    def layouts(self) -> tuple[str, ...]:
        """The ways in which dates are written, where stated."""
        stated = self.time_format
        return () if stated is None else (stated,) if isinstance(stated, str) else tuple(stated)

    @property
    def missing_words(self) -> frozenset[str]:
        """Further words that mean that nothing is known, in lower case."""
        return frozenset(str(each).strip().lower() for each in self.missing)

    def settled(self, marks: Marks | None) -> Marks | None:
        """The marks with what the stated locale says of numbers that could be read in two ways."""
        if marks is None or not marks.doubtful or self.locale is None:
            return marks
        mark = decimal_of(self.locale)
        return Marks(mark, {",": ".", ".": ","}[mark]) if mark in (".", ",") else marks

    def within(self, folder: Path) -> Self:
        """The same with paths relative to a folder."""
        paths: dict[str, Any] = {
            key: str(folder / value)
            for key in ("holidays", "downloads")
            if isinstance(value := getattr(self, key), str) and re.fullmatch(r"[A-Za-z]{2}(-\w+)?", value) is None
        }
        return replace(self, **paths)

    @classmethod
    def keys(cls) -> dict[str, Any]:
        """The type of every parameter, by its name."""
        hints = get_type_hints(cls)
        return {each.name: hints[each.name] for each in fields(Reading)}

    @property
    def ids(self) -> tuple[str, ...]:
        """The columns that identifies series."""
        return () if self.id is None else (self.id,) if isinstance(self.id, str) else tuple(self.id)

    @property
    def filled(self) -> tuple[str, ...]:
        """The columns whose empty cells hold what stands above."""
        stated = self.fill_down
        return () if stated is None else (stated,) if isinstance(stated, str) else tuple(stated)

    def said(self) -> dict[str, Any]:
        """What Tables carry on from the reading."""
        return {
            "units": dict(self.unit),
            "labels": dict(self.label),
            "note": self.note,
            "later_rows": self.later_rows,
            "delay": Delay.stated(self.release_delay),
        }

    def coarse(self, zone: str | None) -> Frequency:
        """The frequency to aggregate to."""
        unit = str(self.aggregate_to)
        return replace(self.timing, frequency=unit, stamp=None).of_unit(unit, zone)
