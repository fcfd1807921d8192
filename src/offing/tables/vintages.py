"""Values by the date of their release: what a table held at any moment."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array

Instants = NDArray[np.int64]


@dataclass(frozen=True)
class Vintages:
    """Values (m,) by column as they were released at the instants `at` (m,), in that order, of the rows `row` (m,)."""

    at: Instants
    row: NDArray[np.intp]
    values: Mapping[str, Array]

    def before(self, n: int) -> Vintages:
        """The releases of the first `n` periods."""
        kept = self.row < n
        return Vintages(self.at[kept], self.row[kept], {name: each[kept] for name, each in self.values.items()})

    def first(self, n: int, ends: Instants) -> Instants:
        """When each of `n` rows were first released; a row that never did, at its period's end."""
        found = ends.copy()
        found[self.row[::-1]] = self.at[::-1]
        return found

    def column(self, name: str, n: int, origin: int) -> Array:
        """A column (n,) as it was known at an instant, NaN where nothing was."""
        found = np.full(n, np.nan)
        out = self.at <= origin
        found[self.row[out]] = self.values[name][out]  # of several the last one counts
        return found
