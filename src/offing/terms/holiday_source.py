"""Where a term's holidays come from: a table of the user's, a country, or several calendars with weights."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.calendar import Axis, Days, country_days, joined
from offing.tables import read_days

Stated = str | Path | pd.DataFrame
_KEYS = ("table", "country", "subdivision", "weight")


@dataclass(frozen=True)
class Source:
    """One calendar: the days of a table, or a country's, and how much it counts."""

    table: Days | None
    country: str
    subdivision: str | None
    weight: float
    half_days: bool

    def days(self, low: int, high: int) -> Days:
        """All its days from the year `low` to `high`.

        Raises
        ------
        InputError
            If it does not show these years.
        """
        if self.table is None:
            return country_days(self.country, self.subdivision, low, high, self.half_days)
        if high > self.table.last_year:
            raise InputError(
                f"the table of holidays ends in {self.table.last_year}, but the periods reach into {high}",
                f"Add the days of {high} to it.",
                key="table",
            )
        return self.table


@dataclass(frozen=True)
class DaySource:
    """Calendars as a term states them."""

    sources: tuple[Source, ...]

    def days(self, axis: Axis, before: int = 0, after: int = 0) -> Days:
        """All holidays in the years of `axis`, `before` days earlier and `after` days later included."""
        first, beyond = axis.days
        ends = np.array([first[0] - before, beyond[-1] - 1 + after]).astype("datetime64[D]")
        low, high = (int(year) for year in ends.astype("datetime64[Y]").astype(int) + 1970)
        try:
            return joined(each.days(low, high).weighted(each.weight) for each in self.sources)
        except InputError as error:
            if error.key == "table":
                error.found = error.found.replace("the periods reach", f"{axis.spell()} reach")
            raise

    def known_at(self, day: int) -> DaySource:
        """The same without the days of which one did not know on that day."""
        known = [
            each
            if each.table is None
            else Source(
                each.table.part(each.table.known_from <= day),
                each.country,
                each.subdivision,
                each.weight,
                each.half_days,
            )
            for each in self.sources
        ]
        return DaySource(tuple(known))

    @property
    def tables(self) -> tuple[Days, ...]:
        """The days of the tables among them."""
        return tuple(each.table for each in self.sources if each.table is not None)


def check_source(
    table: object, country: str | None, subdivision: str | None, calendars: Sequence[Mapping[str, Any]] = ()
) -> None:
    """Refuse calendars that are not reported in exactly one way.

    Raises
    ------
    InputError
        Saying what to give.
    """
    ways = [table is not None, country is not None, bool(calendars)]
    if sum(ways) != 1:
        raise InputError(
            "holidays come from a table or from a country", "Give one of them, or several as calendars.", key="table"
        )
    if subdivision is not None and country is None:
        raise InputError("a subdivision needs its country", key="subdivision")
    for each in calendars:
        for key in each:
            if key not in _KEYS:
                raise InputError(f"there is no key {key!r} in a calendar", nearest(key, _KEYS), key="calendars")
        weight = each.get("weight", 1.0)
        if ("table" in each) == ("country" in each):
            raise InputError("a calendar is a table or a country", "Give one of them.", key="calendars")
        if isinstance(weight, bool) or not isinstance(weight, (int, float)) or not 0.0 < weight < np.inf:
            raise InputError(f"found the weight {weight!r}", "Give a number above 0.", key="calendars")


def day_source(
    table: Stated | None,
    country: str | None,
    subdivision: str | None,
    calendars: Sequence[Mapping[str, Any]] = (),
    *,
    half_days: bool = False,
) -> DaySource:
    """Read the tables of what `check_source` has passed; weights of several calendars become shares of their sum."""
    if not calendars:
        days = None if table is None else read_days(table)
        return DaySource((Source(days, str(country), subdivision, 1.0, half_days),))
    total = sum(float(each.get("weight", 1.0)) for each in calendars)
    return DaySource(
        tuple(
            Source(
                read_days(each["table"]) if "table" in each else None,
                str(each.get("country")),
                each.get("subdivision"),
                float(each.get("weight", 1.0)) / total,
                half_days,
            )
            for each in calendars
        )
    )


def tables_within(calendars: Sequence[Mapping[str, Any]], folder: Path) -> tuple[Mapping[str, Any], ...]:
    """The calendars with their tables' paths taken from `folder`."""
    return tuple(
        {**each, "table": folder / each["table"]} if isinstance(each.get("table"), (str, Path)) else each
        for each in calendars
    )
