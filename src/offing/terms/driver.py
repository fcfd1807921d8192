"""Drivers: outside series that help to explain the target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from offing.base import InputError
from offing.calendar import Axis
from offing.tables import View
from offing.terms.term import Array, Block, Reference, Term, whole_numbers
from offing.terms.transforms import Log, Stated, Step, evaluate, reach, steps_of


@dataclass(frozen=True)
class Driver(Term):
    """An outside series of the target's frequency, with its effects at once and in later periods.

    Parameters
    ----------
    data
        The column, as ``column`` or ``table.column``.
    transform
        What becomes of the values first, step by step: ``log`` (on the log scale the coefficient is then an
        elasticity), ``difference``, ``seasonal difference``, ``log difference`` (times 100), ``growth`` (percent on the
        year before), ``per working day``; and with a value ``{"difference": 4}``, ``{"index": "2020"}`` (that
        period = 100), ``{"times": 0.001}``, ``{"deflate": "prices.index", "base": "2020"}``,
        ``{"per": "people.number"}``, ``{"per working day": "NO"}`` (a country's holidays are none).
    lags
        After how many periods it acts; 0 is at once. One column each.
    name
        By default the column's name.

    Raises
    ------
    InputError
        For an unknown transformation or lags that are not whole numbers from 0 on. Later: for a value that is not
        positive where the logarithm is asked for.

    Examples
    --------
    >>> import offing as of
    >>> of.Driver("weather.storm hours", lags=[0, 1]).name
    'storm hours'
    """

    data: str
    transform: Sequence[Stated] = ()
    lags: Sequence[int] = (0,)
    name: str | None = None

    def __post_init__(self) -> None:
        if not isinstance(self.data, str) or not self.data:
            raise InputError(f"found {self.data!r}", "Give a column's name.", key="data")
        if self.name is None:
            self._set(name=self.data.partition(".")[2] or self.data)
        super().__post_init__()
        steps = steps_of(self.transform)
        self._set(transform=tuple(self.transform), lags=whole_numbers(self.lags, "lags"))
        if not self.lags:
            raise InputError("there are no lags", "Give lags = [0] for an effect at once.", key="lags")
        if sum(isinstance(step, Log) for step in steps) > 1:
            raise InputError("the logarithm is taken twice", "Give it once.", key="transform")

    @cached_property
    def steps(self) -> tuple[Step, ...]:
        """The transformations."""
        return steps_of(self.transform)

    def needs(self) -> tuple[str, ...]:
        """The driver's column, and those that its transformations look at."""
        return (self.data, *(column for step in self.steps for column in step.needs()))

    def learn(self, view: View) -> None:
        """Nothing: the columns hold the values themselves. An unknown column is told here."""
        for reference in self.needs():
            source, column = view.sources.find(reference)
            view.sources.tables[source].values(column)

    def block(self, view: View, axis: Axis, state: None) -> Block:
        """The values, one column a lag."""
        stem = " ".join((*(step.name for step in reversed(self.steps)), str(self.name)))
        names = tuple(stem if lag == 0 else f"{stem} (lag {lag})" for lag in self.lags)
        columns = [self.transformed(view, axis.shifted(-lag)) for lag in self.lags]
        return Block(np.column_stack(columns), names)

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The earliest value needed by any of the lags and transformations that is unknown."""
        lags = sorted({lag + back for lag in self.lags for back in reach(self.steps, axis.frequency)})
        for reference in self.needs():
            needed = Axis(axis.frequency, axis.first - lags[-1], axis.n + lags[-1] - lags[0])
            wanted = np.isin(needed.ordinals, [axis.ordinals - lag for lag in lags])
            unknown = np.flatnonzero(np.isnan(view.known(reference, needed).values) & wanted)
            if len(unknown):
                return reference, needed.part(int(unknown[0]), int(unknown[0]) + 1)
        return None

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "every driver at its mean over the fitted periods"

    def reference_on(self, view: View, axis: Axis, state: None) -> Reference:
        """The mean over the fit's rows."""
        return Reference(None)

    def transformed(self, view: View, axis: Axis) -> Array:
        """The driver's values (n,) on `axis` after its transformations, without lags."""
        try:
            return evaluate(lambda each: view.known(self.data, each).values, self.steps, view, axis)
        except InputError as error:
            error.column = error.column or self.data
            raise
