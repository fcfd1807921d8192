"""The forecasts of one candidate from all origins of one series."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import numpy as np

from offing.base.arrays import Array
from offing.engine import ranked_probability
from offing.evaluation.origins import Cuts

Basis = Literal["ex-post", "ex-ante"]
Kind = Literal["model", "reference", "external", "combination"]

#: Probabilities of the quantiles that are kept of every forecast: hundredths, and those of the 95 % interval.
PROBABILITIES = np.sort(np.append(np.arange(1, 100) / 100.0, [0.025, 0.975]))


@dataclass(frozen=True)
class Run:
    """The forecasts of one candidate from all origins of one series.

    Attributes
    ----------
    series, name, basis, kind
        Whose forecasts they are. A reference that looks at no driver has the basis of what it is compared with.
    cuts
        The origins.
    mean
        Forecast means (f, h), NaN where there is none.
    made
        Makes the quantiles (f, h, q) when they are first asked for; None where there are none.
    trained
        Makes the mean absolute and root mean squared error (f, 2) of each fold's fit on the rows it was fitted to.
    columns
        How many coefficients (f,) each fit has.
    seconds
        How long all took.
    why
        Why there is none, where that is so.
    members, weights
        Of a combination the names of its members, and their weights (f, h, m).
    """

    series: str
    name: str
    basis: Basis
    kind: Kind
    cuts: Cuts
    mean: Array
    made: Callable[[], Array] | None = field(default=None, repr=False)
    trained: Callable[[], Array] | None = field(default=None, repr=False)
    columns: Array | None = None
    seconds: float = float("nan")
    why: str = ""
    members: tuple[str, ...] = ()
    weights: Array | None = field(default=None, repr=False)

    def is_of(self, basis: Basis) -> bool:
        """Whether it belongs to a basis: to both, if it looks at no driver."""
        return self.basis == basis or self.kind in ("reference", "external")

    @cached_property
    def quantiles(self) -> Array | None:
        """Quantiles (f, h, q) at `PROBABILITIES`."""
        return None if self.made is None else self.made()

    @cached_property
    def train(self) -> Array | None:
        """Mean absolute and root mean squared error (f, 2) of each fold's fit on its own rows."""
        return None if self.trained is None else self.trained()

    @property
    def unfinished(self) -> int:
        """How many folds have not been forecast, as the work was interrupted: their fits have no coefficients."""
        return 0 if self.columns is None else int(np.isnan(self.columns).sum())

    @property
    def error(self) -> Array:
        """Forecast less outcome (f, h)."""
        return self.mean - self.cuts.outcome

    @cached_property
    def ranked(self) -> Array:
        """Continuous ranked probability scores (f, h)."""
        if self.quantiles is None:
            return np.full(self.mean.shape, np.nan)
        flat = self.quantiles.reshape(-1, len(PROBABILITIES))
        return ranked_probability(self.cuts.outcome.ravel(), flat, PROBABILITIES).reshape(self.mean.shape)

    def at(self, *probabilities: float) -> Array:
        """Quantiles (f, h, m) at some of the `PROBABILITIES`; NaN where there are none."""
        if self.quantiles is None:
            return np.full((*self.mean.shape, len(probabilities)), np.nan)
        places = [int(np.argmin(np.abs(PROBABILITIES - each))) for each in probabilities]
        return np.asarray(self.quantiles[:, :, places])
