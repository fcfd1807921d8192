"""A term's columns at all origins, and how a candidate did."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.drafting.candidate import Candidate
from offing.engine.trials import Trials


@dataclass(frozen=True)
class Laid:
    """A term's columns (n, k) on all rows, those of the periods ahead (F, h, k), and the groups (k,) they belong to.

    `ends` (F,) are the rows whose values were known at each origin: fewer than the target's where a driver comes late.
    """

    columns: Array
    ahead: Array
    shrinkage_groups: tuple[str, ...]
    ends: NDArray[np.intp]


@dataclass(frozen=True)
class Scored:
    """How a candidate did: forecasts (F, h), and the mean absolute error (F,) of each origin; why there are none."""

    candidate: Candidate
    forecast: Array
    errors: Array
    found: Trials | None = field(default=None, repr=False)
    names: tuple[str, ...] = ()
    owners: tuple[str, ...] = ()
    why: str = ""

    @property
    def score(self) -> float:
        """The mean absolute error over the origins."""
        return float(self.errors.mean()) if len(self.errors) and np.isfinite(self.errors).all() else float("inf")
