"""A pulse for each value that a treatment set apart."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from offing.base.arrays import Array
from offing.calendar import Axis
from offing.tables import View
from offing.terms.term import Block, Reference, Term, Written


@dataclass(frozen=True)
class Pulses(Term):
    """One column for each of some periods, 1 there and 0 elsewhere, so that the size of what happened is estimated.

    Made by a treatment with ``outliers = "pulse"``.
    """

    own_course: ClassVar[bool] = True
    from_treatment: ClassVar[bool] = True

    ordinals: tuple[int, ...] = ()
    name: str | None = "outliers"

    def learn(self, view: View) -> None:
        """Nothing: the periods are given."""

    def block(self, view: View, axis: Axis, state: None) -> Block:
        """The pulses."""
        labels = [Axis(axis.frequency, at, 1).labels()[0] for at in self.ordinals]
        columns = (axis.ordinals[:, None] == np.array(self.ordinals)).astype(np.float64)
        return Block(columns, tuple(f"{self.name}: {label}" for label in labels))

    def written(self, view: View, state: None, beta: Array) -> list[Written]:
        """1 in its period."""
        names = self.block(view, view.rows, state).names
        return [
            Written(name, value, f"1 in {name.removeprefix(f'{self.name}: ')}, else 0")
            for name, value in zip(names, beta.tolist(), strict=True)
        ]

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "no outlier"

    def reference_on(self, view: View, axis: Axis, state: None) -> Reference:
        """No pulse."""
        return Reference(np.zeros((1, len(self.ordinals))))
