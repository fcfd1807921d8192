"""The information set of a fit: what one series' model may draw on at an origin."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from offing.calendar import Axis
from offing.tables.point_in_time import Goal, Sources, View
from offing.tables.table import Table

#: Columns by table and name.
Columns = frozenset[tuple[str, str]]


@dataclass(frozen=True)
class Information:
    """What a fit may draw on. ``Model.fit_at`` takes one, and nothing else fits or refits a model.

    Attributes
    ----------
    tables
        One series' tables by name.
    series
        Its id, or an empty text.
    as_of
        The origin, as a date or an instant: only what was known then counts. By default the moment at which the last
        values became known.
    plans
        The drivers' plans by the name of the table that each continues.
    known_ahead
        Columns whose later values count as known, as they stand today. Where this is stated, if only as an empty set,
        the origin is one of the past, and rows that are called a plan count only if they say when they were made.
    window
        How many of the newest periods are fitted; by default as many as the model says.
    """

    tables: Mapping[str, Table]
    series: str = ""
    as_of: object = None
    plans: Mapping[str, Table] = field(default_factory=dict)
    known_ahead: Columns | None = None
    window: int | None = None

    @property
    def sources(self) -> Sources:
        """The tables and the plans that continue them."""
        return Sources(self.tables, self.plans)

    def at(self, origin: object, *, known_ahead: Columns | None = None) -> Information:
        """The same data at another origin, with other columns whose later values count as known, if any are given."""
        return replace(self, as_of=origin, known_ahead=self.known_ahead if known_ahead is None else known_ahead)

    def view(self, origin: int, axis: Axis, goal: Goal) -> View:
        """What is known at an instant; a fit sees the periods of `axis`."""
        return self.sources.cut(origin, axis, goal, self.known_ahead)
