"""Which columns of the design are whose."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from offing.calendar import Axis
from offing.tables import View
from offing.tables.table import Array
from offing.terms import Readout, Term, telling

CONSTANT = "constant"


@dataclass(frozen=True)
class Slot:
    """A term's place in the design: its columns are ``design[:, start:stop]``."""

    term: str
    start: int
    stop: int
    names: tuple[str, ...]
    readout: Readout

    @property
    def columns(self) -> slice:
        """The term's columns in the design."""
        return slice(self.start, self.stop)


@dataclass(frozen=True)
class Layout:
    """The slots of all terms, after the constant in column 0."""

    slots: tuple[Slot, ...]

    @property
    def names(self) -> list[str]:
        """Name of every column of the design (k,)."""
        return [CONSTANT, *(name for slot in self.slots for name in slot.names)]

    @property
    def owners(self) -> list[str]:
        """Name of the term that owns each column (k,)."""
        return [CONSTANT, *(slot.term for slot in self.slots for _ in slot.names)]

    @property
    def k(self) -> int:
        """Number of columns, the constant included."""
        return self.slots[-1].stop if self.slots else 1

    def readout(self) -> list[tuple[str, str, Array]]:
        """Term, name and function (k,) of the coefficients of every row of the table of coefficients."""
        rows: list[tuple[str, str, Array]] = [(CONSTANT, CONSTANT, np.eye(1, self.k)[0])]
        for slot in self.slots:
            for name, function in zip(slot.readout.names, slot.readout.matrix, strict=True):
                row = np.zeros(self.k)
                row[slot.columns] = function
                rows.append((slot.term, name, row))
        return rows


def lay_out(terms: Sequence[Term], view: View, axis: Axis, states: Mapping[str, Any]) -> tuple[Array, Layout]:
    """Design (n, k) for the periods of `axis`, the constant first, and whose columns are whose."""
    blocks = []
    for term in terms:
        with telling(term):
            blocks.append(term.block(view, axis, states[str(term.name)]))
    design = np.empty((axis.n, 1 + sum(len(block.names) for block in blocks)), order="F")
    design[:, 0] = 1.0
    slots, at = [], 1
    for term, block in zip(terms, blocks, strict=True):
        k = len(block.names)
        readout = block.readout or Readout(block.names, np.eye(k))
        slots.append(Slot(str(term.name), at, at + k, block.names, readout))
        design[:, at : at + k] = block.columns
        at += k
    return design, Layout(tuple(slots))
