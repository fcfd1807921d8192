"""What a survey computes: spans, drivers, gaps, outliers, cycles, and what its views show."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import Finding, InputError, Treatment
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.inspection import seasonality, view_builders, views
from offing.inspection.columns import faster_of, known_after, references_of
from offing.inspection.file_detection import Guess
from offing.tables import Goal, Information, Panel, Sources, Table, split_series
from offing.tables.aggregation_rules import rule_for
from offing.tables.outliers import Judged, judge
from offing.tables.treatments import zero_question
from offing.terms import Holidays

#: Series of a panel in which outliers are looked for: more cannot be looked at.
_MOST_JUDGED = 60


@dataclass(frozen=True)
class SurveyData:
    """What was looked at, and all that is computed from it.

    Attributes
    ----------
    tables, plans
        What was looked at.
    source, column, series
        The target, and the series of it that is looked at where there are several.
    holidays
        The table of holidays, if one was given.
    guess
        How bare files were read, if they were.

    """

    tables: Mapping[str, Table | Panel]
    plans: Mapping[str, Table | Panel]
    source: str
    column: str
    series: str
    holidays: str | Path | pd.DataFrame | None = None
    guess: Guess | None = field(default=None, compare=False)

    @cached_property
    def own(self) -> dict[str, Table]:
        """The tables of the series that is looked at."""
        return split_series(self.tables, self.target)[self.series]

    @property
    def target(self) -> str:
        """The target as ``source.column``."""
        return f"{self.source}.{self.column}"

    @property
    def label(self) -> str:
        """What people call the target."""
        named = self.own[self.source].labels.get(self.column, self.column)
        return f"{named}, {self._rule} of {self.members:,} series" if self.members > 1 else named

    @property
    def unit(self) -> str:
        """The target's unit."""
        return self.own[self.source].units.get(self.column, "")

    @property
    def members(self) -> int:
        """How many series the target has."""
        table = self.tables[self.source]
        return len(table) if isinstance(table, Panel) else 1

    @property
    def _rule(self) -> str:
        """How several series are looked at as one: their sum, or the mean of what is not added up."""
        return "sum" if rule_for(self.column, self.unit).how == "sum" else "mean"

    @cached_property
    def span(self) -> tuple[Axis, Array]:
        """The periods from the target's first value to its last, and its values; of several series all together."""
        table = self.tables[self.source]
        if isinstance(table, Panel) and len(table) > 1:
            axis, values = _together(table, self.column, self._rule)
        else:
            axis, values = self.own[self.source].axis, self.own[self.source].values(self.column)
        known = np.flatnonzero(np.isfinite(values))
        low, high = int(known[0]), int(known[-1]) + 1
        return axis.part(low, high), values[low:high]

    @cached_property
    def drivers(self) -> dict[str, tuple[str, str, Array]]:
        """Label, unit and values (n,) on the target's periods of each column that may be a driver, by reference."""
        axis, _ = self.span
        view = Information(self.own).view(int(self.own[self.source].axis.ends[-1]), axis, Goal())
        references = references_of(self.own, self.source, self.column, axis.frequency)
        found = {}
        for reference, label in references.items():
            if self.own[view.sources.find(reference)[0]].uses.get(view.sources.find(reference)[1]):
                continue  # totals and ids are no drivers
            values = view.known(reference, axis).values
            if np.isfinite(values).any():
                found[reference] = (label, view.sources.unit(reference), values)
        return found

    @cached_property
    def overview(self) -> pd.DataFrame:
        """One row a series and column: periods, range, missing values, zeros, outliers."""
        every = {**self.tables, **{f"{name} (plan)": plan for name, plan in self.plans.items()}}
        return seasonality.overview(every, self.outliers, {each[:3] for each in self._judged()})

    @cached_property
    def gaps(self) -> pd.DataFrame:
        """One row a run of missing values: ``source, column, from, to, periods``."""
        return pd.concat([seasonality.gaps(*each) for each in self._columns()], ignore_index=True)

    @cached_property
    def outliers(self) -> pd.DataFrame:
        """One row per outlier: ``source, id, column, period, value, usual, score``.

        Of several series the target is looked at, in the largest ones.
        """
        found = []
        for source, series, column, axis, values in self._judged():
            of_target = (source, column) == (self.source, self.column)
            if of_target and self.members == 1:
                found.append(seasonality.outliers((source, series, column), *self.span, self.judged))
            else:
                judged = judge(axis, values, self._explained(axis) if of_target else None)
                found.append(seasonality.outliers((source, series, column), axis, values, judged))
        return pd.concat(found, ignore_index=True)

    @cached_property
    def variance(self) -> pd.DataFrame:
        """Share of the target's variance that trend and each cycle take: ``part, share``."""
        return seasonality.variance_shares(self.span[0], self.working)

    @cached_property
    def cycles(self) -> pd.DataFrame:
        """Cycles that stand out, named or not: ``periods, name, share, seen, verdict``."""
        return seasonality.found_cycles(self.span[0], self.working)

    @property
    def faster(self) -> list[str]:
        """References of the columns of higher frequency than the target."""
        return faster_of(self.own, self.span[0].frequency)

    def known_ahead(self, reference: str) -> int:
        """How many periods after the target's end a driver is known for."""
        axis, _ = self.span
        return self._future(reference, axis.first + axis.n)

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What reading noticed, and what must be asked."""
        found = [finding for table in self.tables.values() for finding in table.findings]
        axis, values = self.span
        return tuple(dict.fromkeys([*found, *zero_question(self.column, axis, values)]))

    @property
    def treatments(self) -> tuple[Treatment, ...]:
        """What reading changed."""
        return tuple(entry for table in self.tables.values() for entry in table.treatments)

    @property
    def history(self) -> views.History:
        """The target through time, at its own and at a coarser frequency."""
        return view_builders.history(self.label, self.unit, *self.span, self.judged)

    @property
    def years(self) -> views.Years | None:
        """The target's years over each other."""
        return view_builders.years(self.label, self.unit, *self.span)

    @property
    def seasons(self) -> views.Seasons | None:
        """The target's spread at each position of a cycle."""
        return view_builders.seasons(self.label, self.unit, *self.span, self.judged)

    @property
    def scatter(self) -> views.Scatter | None:
        """The target against each driver."""
        if not self.drivers:
            return None
        return view_builders.scatter(self.label, self.unit, self.span[1], self.drivers)

    @property
    def lead_lags(self) -> views.LeadLags | None:
        """Correlation of target and drivers over leads and lags, without trend and season."""
        if not self.drivers or self.span[0].n < 12:
            return None
        return view_builders.lead_lags(self.label, self.span[0], self.working, self.drivers)

    @property
    def coverage(self) -> views.Coverage:
        """When each source is known."""
        return view_builders.coverage(self.tables, self.plans, int(self.span[0].edges[-1]))

    def views(self) -> dict[str, Any]:
        """All views that there are, by name."""
        names = ("history", "years", "seasons", "scatter", "lead_lags", "coverage")
        found = {name: getattr(self, name) for name in names}
        return {name: view for name, view in found.items() if view is not None}

    @cached_property
    def working(self) -> Array:
        """The target as logarithms where it varies by ratios, else as it is."""
        _, values = self.span
        return np.log(values) if self.judged is not None and self.judged.by_ratio else values

    def _columns(self) -> Iterator[tuple[str, str, str, Axis, Array]]:
        for source, series, table in seasonality.flat(self.tables):
            for column, values in table.columns.items():
                yield source, series, column, table.axis, values

    @cached_property
    def judged(self) -> Judged | None:
        """How far each value of the target, of several series all together, is from what is expected."""
        axis, values = self.span
        return judge(axis, values, self._explained(axis))

    def _judged(self) -> list[tuple[str, str, str, Axis, Array]]:
        """The columns in which outliers are looked for."""
        every = list(self._columns())
        alone = [each for each in every if not isinstance(self.tables[each[0]], Panel)]
        panel = isinstance(self.tables[self.source], Panel)
        series = [each for each in every if panel and each[0] == self.source and each[2] == self.column]
        largest = sorted(series, key=lambda each: -float(np.nansum(np.abs(each[4]))))[:_MOST_JUDGED]
        return [*alone, *largest]

    def _explained(self, axis: Axis) -> Array | None:
        """Columns (n, k) of holidays on some periods: a value on one of them is no outlier."""
        if self.holidays is None:
            return None
        term = Holidays(table=self.holidays)
        view = Information(self.own).view(int(self.own[self.source].axis.ends[-1]), axis, Goal())
        try:
            return term.block(view, axis, term.learn(view)).columns
        except InputError:
            return None  # a table that does not list all years

    def _future(self, reference: str, first: int) -> int:
        """How many periods from the ordinal `first` on a driver is known for."""
        source, column = Sources(self.own).find(reference)
        table = self.own[source]
        own = known_after(table.values(column), table.axis, first) if table.later_rows else 0
        plan = self.plans.get(source)
        if isinstance(plan, Panel):
            plan = plan[self.series]
        if plan is None or column not in plan.columns:
            return own
        return max(own, known_after(plan.values(column), plan.axis, first))

    @cached_property
    def accounts(self) -> pd.DataFrame:
        """One row per column of every source: ``source, column, use``."""
        every = {**self.tables, **{f"{name} (plan)": plan for name, plan in self.plans.items()}}
        return pd.concat([table.accounts.assign(source=name) for name, table in every.items()], ignore_index=True)[
            ["source", "column", "use"]
        ]


def _together(panel: Panel, column: str, how: str) -> tuple[Axis, Array]:
    """Sum or mean (n,) of a column of all series, on the periods of any; missing where no series has a value."""
    tables = [table for table in panel.values() if column in table.columns]
    frequency = tables[0].axis.frequency
    tables = [table for table in tables if table.axis.frequency == frequency]
    first = min(table.axis.first for table in tables)
    axis = Axis(frequency, first, max(table.axis.first + table.axis.n for table in tables) - first)
    sums, counts = np.zeros(axis.n), np.zeros(axis.n)
    for table in tables:
        part = slice(table.axis.first - first, table.axis.first - first + table.axis.n)
        known = np.isfinite(table.columns[column])
        sums[part] += np.where(known, table.columns[column], 0.0)
        counts[part] += known
    total = np.where(counts > 0, sums if how == "sum" else sums / np.maximum(counts, 1.0), np.nan)
    return axis, total
