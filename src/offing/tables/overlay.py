"""What a view takes instead of what its sources say: one ordered list of changes of columns, the newest on top."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.calendar import Axis

#: Marks of values, and their names in tables.
MISSING, ACTUAL, PLAN, ASSUMED, MODELLED = range(5)
MARKS = ("missing", "actual", "plan", "assumed", "modelled")


@dataclass(frozen=True)
class Known:
    """Values (n,) with NaN where nothing is known, and the mark (n,) of each."""

    values: Array
    marks: NDArray[np.int8]


@dataclass(frozen=True)
class Path:
    """Values from the ordinal `first` on; NaN where none is known."""

    first: int
    values: Array

    def on(self, axis: Axis) -> Array:
        """Its values (n,) on the periods of `axis`."""
        at = axis.ordinals - self.first
        inside = (at >= 0) & (at < len(self.values))
        return np.where(inside, self.values[np.clip(at, 0, len(self.values) - 1)], np.nan)

    @property
    def end(self) -> int:
        """The ordinal after its last period."""
        return self.first + len(self.values)


class Change(ABC):
    """A change of what is known of one column."""

    @abstractmethod
    def over(self, known: Known, axis: Axis) -> Known:
        """What is known (n,) on `axis` with the change."""

    @property
    def end(self) -> int | None:
        """The ordinal after the last period of which it says something; None where it only changes what is there."""
        return None


@dataclass(frozen=True)
class Held(Change):
    """One value throughout: what if it had been so?"""

    value: float

    def over(self, known: Known, axis: Axis) -> Known:
        """The value everywhere."""
        return Known(np.full(axis.n, self.value), np.full(axis.n, ASSUMED, dtype=np.int8))


@dataclass(frozen=True)
class Scaled(Change):
    """The values times a factor throughout."""

    factor: float

    def over(self, known: Known, axis: Axis) -> Known:
        """The values times the factor."""
        return Known(known.values * self.factor, known.marks)


@dataclass(frozen=True)
class Bumped(Change):
    """So much more in one period."""

    ordinal: int
    step: float

    def over(self, known: Known, axis: Axis) -> Known:
        """The values, one of them moved."""
        return Known(known.values + self.step * (axis.ordinals == self.ordinal), known.marks)


@dataclass(frozen=True)
class Expected(Change):
    """What the column's own model expects where no value is known."""

    path: Path

    def over(self, known: Known, axis: Axis) -> Known:
        """The values with the missing ones filled in."""
        expected = self.path.on(axis)
        fill = (known.marks == MISSING) & np.isfinite(expected)
        return Known(np.where(fill, expected, known.values), np.where(fill, MODELLED, known.marks).astype(np.int8))

    @property
    def end(self) -> int:
        """The ordinal after its last period."""
        return self.path.end


@dataclass(frozen=True)
class Assumed(Change):
    """Values that are taken instead of the column's own, NaN where none is; `marks` (n,) say what they are."""

    path: Path
    marks: NDArray[np.int8]

    def over(self, known: Known, axis: Axis) -> Known:
        """What is known with the assumed values in their place."""
        values = self.path.on(axis)
        there = np.isfinite(values)
        at = np.clip(axis.ordinals - self.path.first, 0, len(self.marks) - 1)
        marks = np.where(there, self.marks[at], known.marks)
        return Known(np.where(there, values, known.values), marks.astype(np.int8))

    @property
    def end(self) -> int:
        """The ordinal after its last period."""
        return self.path.end


@dataclass(frozen=True)
class Unplanned(Change):
    """What is planned of the column does not count: a model of its own, of some `terms`, says."""

    terms: object

    def over(self, known: Known, axis: Axis) -> Known:
        """What is known, from which the view leaves out the plan."""
        return known
