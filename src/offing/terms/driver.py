"""Drivers: outside series that help to explain the target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from offing.base import InputError, nearest
from offing.calendar import Axis
from offing.tables import View
from offing.terms.term import Array, Block, Reference, Term, names_of, whole_numbers

TRANSFORMS = ("log",)


@dataclass(frozen=True)
class Driver(Term):
    """An outside series of the target's frequency, with its effects at once and in later periods.

    Parameters
    ----------
    data
        The column, as ``column`` or ``table.column``.
    transform
        ``["log"]`` for the natural logarithm: on the log scale the coefficient is then an elasticity.
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
    transform: Sequence[str] = ()
    lags: Sequence[int] = (0,)
    name: str | None = None

    def __post_init__(self) -> None:
        if not isinstance(self.data, str) or not self.data:
            raise InputError(f"found {self.data!r}", "Give a column's name.", key="data")
        if self.name is None:
            self._set(name=self.data.partition(".")[2] or self.data)
        super().__post_init__()
        self._set(transform=names_of(self.transform, "transform"), lags=whole_numbers(self.lags, "lags"))
        if not self.lags:
            raise InputError("there are no lags", "Give lags = [0] for an effect at once.", key="lags")
        for each in self.transform:
            if each not in TRANSFORMS:
                raise InputError(f"found {each!r}", nearest(each, TRANSFORMS), key="transform")
        if len(self.transform) > 1:
            raise InputError("the logarithm is taken twice", "Give it once.", key="transform")

    def needs(self) -> tuple[str, ...]:
        """The driver's column."""
        return (self.data,)

    def learn(self, view: View) -> None:
        """Nothing: the columns hold the values themselves. An unknown column is told here."""
        source, column = view.sources.find(self.data)
        view.sources.tables[source].values(column)

    def block(self, view: View, axis: Axis, state: None) -> Block:
        """The values, one column a lag."""
        stem = " ".join((*self.transform, str(self.name)))
        names = tuple(stem if lag == 0 else f"{stem} (lag {lag})" for lag in self.lags)
        columns = [self._transformed(view, axis.shifted(-lag)) for lag in self.lags]
        return Block(np.column_stack(columns), names)

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The earliest value needed by any of the lags that is unknown."""
        needed = Axis(axis.frequency, axis.first - max(self.lags), axis.n + max(self.lags) - min(self.lags))
        wanted = np.isin(needed.ordinals, [axis.ordinals - lag for lag in self.lags])
        unknown = np.flatnonzero(np.isnan(view.known(self.data, needed).values) & wanted)
        if not len(unknown):
            return None
        return self.data, needed.part(int(unknown[0]), int(unknown[0]) + 1)

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "every driver at its mean over the fitted periods"

    def reference_on(self, view: View, axis: Axis, state: None) -> Reference:
        """The mean over the fit's rows."""
        return Reference(None)

    def _transformed(self, view: View, axis: Axis) -> Array:
        values = view.known(self.data, axis).values
        if not self.transform:
            return values
        wrong = np.flatnonzero(values <= 0.0)
        if len(wrong):
            i = int(wrong[0])
            raise InputError(
                f"found {values[i]:g}, of which there is no logarithm",
                "Leave out transform, or correct the value.",
                column=self.data,
                period=axis.part(i, i + 1).labels()[0],
            )
        return np.asarray(np.log(values))
