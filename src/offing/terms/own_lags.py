"""The target's own past values as columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.tables import View
from offing.terms.term import Block, Reference, Term, Written, whole_numbers


@dataclass(frozen=True)
class OwnLags(Term):
    """The target some periods before, on the scale that is fitted: what happened lives on in later periods.

    A forecast of several periods takes its own earlier values where the target is not known yet. In the contributions
    every other term keeps what it does later through the lags, and has no row for the lags themselves; what they carry
    on of what no term explains is the row ``autoregressive error``.

    Parameters
    ----------
    lags
        How many periods before, one column each: ``[1]``, or ``[1, 52]`` for the week and the year before.
    name
        By default ``own lags``.

    Raises
    ------
    InputError
        For lags that are not whole numbers from 1 on. Later: where the last values of the target are missing.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> sold = 8.0 * 0.5 ** np.arange(12.0) + 4.0 + np.tile([0.01, -0.01, 0.0], 4)
    >>> months = pd.period_range("2024-01", periods=12, freq="M")
    >>> fit = of.Model("sold", terms=[of.OwnLags([1])]).fit(pd.Series(sold, months, name="sold"))
    >>> fit.coefficients[["column", "coefficient"]].round(1).to_numpy().tolist()
    [['constant', 2.0], ['own lags: lag 1', 0.5]]
    """

    lags: Sequence[int] = (1,)
    name: str | None = "own lags"
    recursive: ClassVar[bool] = True
    own_course: ClassVar[bool] = True

    def __post_init__(self) -> None:
        super().__post_init__()
        self._set(lags=whole_numbers(self.lags, "lags", 1))
        if not self.lags:
            raise InputError("there are no lags", "Give lags = [1] for the period before.", key="lags")

    @property
    def phi_places(self) -> tuple[int, ...]:
        """Place of each lag's coefficient among those of a recursion, from 0 on."""
        return tuple(lag - 1 for lag in self.lags)

    def at_horizon(self, h: int) -> OwnLags:
        """The same lags, counted from the origin."""
        return replace(self, lags=tuple(lag + h - 1 for lag in self.lags))

    def learn(self, view: View) -> None:
        """Nothing: the lags are given."""

    def block(self, view: View, axis: Axis, state: None) -> Block:
        """The target at each lag, NaN where it is not known."""
        columns = np.column_stack([view.past(axis.shifted(-lag)) for lag in self.lags])
        return Block(columns, tuple(f"{self.name}: lag {lag}" for lag in self.lags))

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The first value before `axis` that the lags need and that is missing."""
        for lag in sorted(self.lags, reverse=True):
            before = Axis(axis.frequency, axis.first - lag, min(lag, axis.n))
            unknown = np.flatnonzero(np.isnan(view.past(before)))
            if len(unknown):
                return view.goal.target, before.part(int(unknown[0]), int(unknown[0]) + 1)
        return None

    def written(self, view: View, state: None, beta: Array) -> list[Written]:
        """The target at each lag."""
        unit = view.rows.frequency.unit
        return [
            Written(f"{self.name}: lag {lag}", value, f"the target {count(lag, unit)} before")
            for lag, value in zip(self.lags, beta.tolist(), strict=True)
        ]

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "the level to which the target comes back"

    def reference_on(self, view: View, axis: Axis, state: None) -> Reference:
        """None of its own: what the lags carry on belongs to the other terms."""
        return Reference(np.zeros((1, len(self.lags))))
