"""The numbers behind the figures of a survey; drawing them is another room's business."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import count
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import number, signed
from offing.calendar import Axis

#: First and last instant of each of several runs.
Runs = tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class History(Result, figure="survey.draw_history"):
    """A series at its own frequency and as means of a coarser one, with its outliers (their places)."""

    label: str
    unit: str
    axis: Axis
    values: Array
    coarse: Axis | None
    means: Array
    outliers: NDArray[np.intp]

    @property
    def sentence(self) -> str:
        """From where to where the series goes, and over which time."""
        unit = f" {self.unit}" if self.unit else ""
        low, high = (number(float(each)) for each in (np.nanmin(self.values), np.nanmax(self.values)))
        return f"{self.label}: {low} to {high}{unit} in {self.axis.spell()}."

    @property
    def table(self) -> pd.DataFrame:
        """One row a period: ``value`` and whether it is an ``outlier``."""
        far = np.isin(np.arange(self.axis.n), self.outliers)
        return pd.DataFrame({"value": self.values, "outlier": far}, index=self.axis.index)


@dataclass(frozen=True)
class Years(Result, figure="survey.draw_years"):
    """Each year's values by the share of the year that has passed: ``(year, shares, values)``."""

    label: str
    unit: str
    frequency: str
    years: tuple[tuple[int, Array, Array], ...]

    @property
    def sentence(self) -> str:
        """Which years are compared."""
        first, last = self.years[0][0], self.years[-1][0]
        return f"{self.label} by {self.frequency} in {count(len(self.years), 'year')}, {first} to {last}."

    @property
    def table(self) -> pd.DataFrame:
        """One row a value: ``year``, the ``share`` of it that has passed, and the ``value``."""
        rows = [
            (year, share, value)
            for year, shares, values in self.years
            for share, value in zip(shares.tolist(), values.tolist(), strict=True)
        ]
        return pd.DataFrame(rows, columns=["year", "share", "value"])


@dataclass(frozen=True)
class Seasons(Result, figure="survey.draw_seasons"):
    """Values less the level (as a ratio to it where `by_ratio`) by position in a cycle; outliers marked.

    `positions` names them, `at` (n,) is each value's, `values` (n,) what is drawn, `far` (n,) whether it is an outlier.
    """

    label: str
    unit: str
    cycle: str
    positions: tuple[str, ...]
    at: NDArray[np.intp]
    values: Array
    far: NDArray[np.bool_]
    by_ratio: bool

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a position: the ``median`` of what lies there less the level, in per cent of it where `by_ratio`."""
        medians = pd.Series(self.values).groupby(self.at).median().reindex(range(len(self.positions)))
        return pd.DataFrame({"position": list(self.positions), "median": medians.to_numpy()})

    @property
    def sentence(self) -> str:
        """Where in the cycle the series lies highest and lowest."""
        rows = self.table.set_index("position")["median"]
        return f"{self.label} by {self.cycle}: highest in {rows.idxmax()}, lowest in {rows.idxmin()}."


@dataclass(frozen=True)
class Scatter(Result, figure="survey.draw_scatter"):
    """The target (n,) against each driver: ``(label, unit, values (n,), correlation)``."""

    label: str
    unit: str
    target: Array
    drivers: tuple[tuple[str, str, Array, float], ...]

    @property
    def sentence(self) -> str:
        """With which driver the target goes most closely."""
        name, _, _, r = max(self.drivers, key=lambda each: abs(each[3]))
        return f"{self.label} goes most closely with '{name}': correlation {signed(r, 2)}."

    @property
    def table(self) -> pd.DataFrame:
        """One row a driver: its ``correlation`` with the target."""
        return pd.DataFrame([(name, r) for name, _, _, r in self.drivers], columns=["driver", "correlation"])


@dataclass(frozen=True)
class LeadLags(Result, figure="survey.draw_lead_lags"):
    """Correlation of target and drivers over leads and lags without trend and season: ``(label, lags, r, band)``."""

    label: str
    period: str
    drivers: tuple[tuple[str, NDArray[np.int64], Array, float], ...]

    @property
    def sentence(self) -> str:
        """Which driver's correlation is largest, and at which lag."""
        name, lags, r, _ = max(self.drivers, key=lambda each: float(np.nanmax(np.abs(each[2]))))
        at = int(np.nanargmax(np.abs(r)))
        most = signed(float(r[at]), 2)
        return f"{self.label} goes most closely with '{name}' at lag {int(lags[at])}: correlation {most}."

    @property
    def table(self) -> pd.DataFrame:
        """One row a driver and lag: ``correlation``, and the ``band`` that chance stays within in 99 % of cases."""
        return pd.concat(
            [
                pd.DataFrame({"driver": name, "lag": lags, "correlation": r, "band": band})
                for name, lags, r, band in self.drivers
            ],
            ignore_index=True,
        )


@dataclass(frozen=True)
class Coverage(Result, figure="survey.draw_coverage"):
    """When each column is known: ``(source, column, frequency, runs, plan)`` with runs of instants.

    `runs` are those of actual values, `plan` those of a plan.
    """

    bars: tuple[tuple[str, str, str, Runs, Runs], ...]

    @property
    def sentence(self) -> str:
        """How many columns there are, and how many have gaps."""
        gaps = sum(len(runs) > 1 for _, _, _, runs, _ in self.bars)
        return f"{count(len(self.bars), 'column')}, {gaps} of them with gaps."

    @property
    def table(self) -> pd.DataFrame:
        """One row a run of known values: ``source, column, frequency, from, to, plan``."""
        rows = [
            (source, column, frequency, *(pd.Timestamp(each, unit="us") for each in run), plan)
            for source, column, frequency, known, planned in self.bars
            for plan, runs in ((False, known), (True, planned))
            for run in runs
        ]
        return pd.DataFrame(rows, columns=["source", "column", "frequency", "from", "to", "plan"])
