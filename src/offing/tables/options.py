"""All that can be said about a source: the parameters of `offing.read`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from offing.base import InputError
from offing.calendar import Frequency
from offing.tables.aggregate import PARTIAL
from offing.tables.combine import Combine
from offing.tables.regular import Timing
from offing.tables.table import Delay, LaterRows


@dataclass(frozen=True)
class Reading:
    """All that can be said about a source; the parameters of `read`."""

    database: str | None = field(default=None, repr=False)
    table: str | None = None
    query: str | None = field(default=None, repr=False)
    parameters: Mapping[str, Any] = field(default_factory=dict, repr=False)
    folders: Sequence[str] = ()
    separator: str | None = None
    decimal: Literal[".", ","] | None = None
    thousands: str | None = None
    encoding: str | None = None
    sheet: str | None = None
    header_row: int = 1
    time: str | Sequence[str] | None = None
    time_format: str | None = None
    zone: str | None = None
    frequency: str | None = None
    week_ends: str | None = None
    year_starts: str = "january"
    weeks: str | None = None
    year_ends: str = "last"
    stamp: str | None = None
    id: str | Sequence[str] | None = None
    wide: str | None = None
    rows: Literal["periods", "lines"] = "periods"
    combine: Mapping[str, str] = field(default_factory=dict)
    aggregate_to: str | None = None
    partial: str = "leave out"
    gaps: Literal["refuse", "leave"] = "refuse"
    release_delay: str | int | None = None
    released: str | None = None
    unit: Mapping[str, str] | None = None
    label: Mapping[str, str] | None = None
    note: str = ""
    later_rows: LaterRows | None = None
    name: str | None = None

    def __post_init__(self) -> None:
        allowed: dict[str, Sequence[object]] = {
            "later_rows": (None, "plan", "actual"),
            "rows": ("periods", "lines"),
            "gaps": ("refuse", "leave"),
            "partial": PARTIAL,
            "decimal": (None, ".", ","),
        }
        for key, values in allowed.items():
            if getattr(self, key) not in values:
                named = " or ".join(f'"{each}"' for each in values if each is not None)
                raise InputError(f"found {getattr(self, key)!r}", f"Give {named}.", key=key)
        if self.rows == "lines" and not (self.combine and (self.frequency or self.aggregate_to)):
            raise InputError(
                "lines are gathered into periods, and it is not stated into which or how",
                'State frequency = "month" and combine = { amount = "sum" }, say.', key="rows",
            )  # fmt: skip
        if self.aggregate_to is not None and not self.combine:
            raise InputError(
                "it is not stated how the values of a period become one",
                'State combine = { sold = "sum", price = "mean" }, say.', key="aggregate_to",
            )  # fmt: skip
        if self.combine and self.rows == "periods" and self.aggregate_to is None:
            raise InputError(
                "there is nothing to combine", 'State rows = "lines", or aggregate_to = "month", say.', key="combine"
            )
        Combine(self.combine)
        if self.released is not None and (self.rows == "lines" or self.aggregate_to or self.wide):
            raise InputError("releases are told by the row of a period", "Give one row a period and release.",
                             key="released")  # fmt: skip

    @property
    def timing(self) -> Timing:
        """What is said about the dates."""
        return Timing(self.frequency, self.week_ends, self.stamp, self.year_starts, self.weeks, self.year_ends)

    @property
    def ids(self) -> tuple[str, ...]:
        """The columns that tell series apart."""
        return () if self.id is None else (self.id,) if isinstance(self.id, str) else tuple(self.id)

    def said(self) -> dict[str, Any]:
        """What Tables carry on from the reading."""
        return {
            "units": dict(self.unit or {}),
            "labels": dict(self.label or {}),
            "note": self.note,
            "later_rows": self.later_rows,
            "delay": Delay.stated(self.release_delay),
        }

    def coarse(self, zone: str | None) -> Frequency:
        """The frequency to aggregate to."""
        unit = str(self.aggregate_to)
        return replace(self.timing, frequency=unit, stamp=None).of_unit(unit, zone)
