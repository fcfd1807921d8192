"""Where each term's columns stand among all, with their groups, bounds and constraints."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.terms import Constraints, Readout


@dataclass(frozen=True)
class Slot:
    """A term's place among the coefficients: `places` (m,) are its own, the last `curved` of them shape parameters.

    `factor` says that its columns are shares of the level: then all its coefficients are shape parameters to the
    solver, though they are linear ones to people. `level` marks a trend, which is part of it; `centred` one that is
    measured from its mean, with which it has a part in it. The shape parameters of a `borrowed` one are another term's.
    """

    term: str
    places: NDArray[np.intp]
    names: tuple[str, ...]
    readout: Readout
    groups: tuple[str, ...]
    curved: int = 0
    factor: bool = False
    level: bool = False
    centred: bool = False
    constraints: Constraints | None = None
    rising: Array | None = None
    borrowed: bool = False

    @property
    def linear(self) -> NDArray[np.intp]:
        """The places of its columns' coefficients."""
        return self.places[: len(self.places) - self.curved]

    @property
    def shapes(self) -> NDArray[np.intp]:
        """The places of its shape parameters."""
        return self.places[len(self.places) - self.curved :]

    @property
    def own(self) -> NDArray[np.intp]:
        """The places that are no other term's."""
        return self.linear if self.borrowed else self.places


@dataclass(frozen=True)
class Layout:
    """The slots of all terms. Coefficients are the constant, then all linear ones, then shape parameters.

    `linear` is how many of them (k,) the solver takes as linear; `constant` is false where a term holds the level.
    """

    slots: tuple[Slot, ...]
    linear: int
    constant: bool

    @cached_property
    def names(self) -> list[str]:
        """Name of every coefficient (k,)."""
        return self._placed(CONSTANT, [(slot, slot.names) for slot in self.slots])

    @cached_property
    def owners(self) -> list[str]:
        """Name of the term that owns each coefficient (k,)."""
        return self._placed(CONSTANT, [(slot, (slot.term,) * len(slot.own)) for slot in self.slots])

    @cached_property
    def shrinkage_groups(self) -> list[str]:
        """Name of the group (k,) with which each coefficient is shrunk, an empty text where it is free."""
        return self._placed("", [(slot, slot.groups) for slot in self.slots])

    @cached_property
    def groups(self) -> tuple[NDArray[np.intp], tuple[str, ...]]:
        """The group (k,) with which each coefficient is shrunk, −1 where it is free, and the groups' names."""
        words = self.shrinkage_groups
        names = tuple(dict.fromkeys(word for word in words if word))
        return np.array([names.index(word) if word else -1 for word in words], dtype=np.intp), names

    @cached_property
    def constraints(self) -> Constraints | None:
        """What is asked of all coefficients (k,), if anything is of any."""
        if all(slot.constraints is None for slot in self.slots):
            return None
        whole = Constraints.none(self.k)
        found = [np.array(each) for each in (whole.lower, whole.upper, whole.towards, whole.scales)]
        for slot in self.slots:
            if slot.constraints is not None:
                own = slot.places[: len(slot.constraints.lower)]
                requested = (
                    slot.constraints.lower,
                    slot.constraints.upper,
                    slot.constraints.towards,
                    slot.constraints.scales,
                )
                for each, values in zip(found, requested, strict=True):
                    each[own] = values
        return Constraints(*(tuple(each.tolist()) for each in found))

    @cached_property
    def rising(self) -> Array | None:
        """Functions (m, k) of the coefficients that must not be negative, if there are any."""
        parts = []
        for slot in self.slots:
            if slot.rising is not None:
                wide = np.zeros((len(slot.rising), self.k))
                wide[:, slot.places[: slot.rising.shape[1]]] = slot.rising
                parts.append(wide)
        return np.vstack(parts) if parts else None

    def _placed(self, first: str, parts: Sequence[tuple[Slot, tuple[str, ...]]]) -> list[str]:
        placed = [first] * self.k
        for slot, words in parts:
            for at, word in zip(slot.own.tolist(), words[: len(slot.own)], strict=True):
                placed[at] = word
        return placed

    @property
    def k(self) -> int:
        """Number of coefficients, the constant included."""
        return 1 + sum(len(slot.own) for slot in self.slots)

    @property
    def plain(self) -> bool:
        """Whether the model is linear in all its coefficients."""
        return self.linear == self.k

    def readout(self) -> list[tuple[str, str, str, Array]]:
        """Term, name, kind and function (k,) of the coefficients of every row of the table of coefficients."""
        rows: list[tuple[str, str, str, Array]] = []
        if self.constant:
            whole = np.eye(1, self.k)[0]
            for slot in self.slots:
                if slot.readout.base is not None:
                    whole[slot.places[: len(slot.readout.base)]] += slot.readout.base
            rows.append((CONSTANT, CONSTANT, "linear", whole))
        for slot in self.slots:
            shapes = len(slot.readout.names) - (0 if slot.borrowed else slot.curved)
            for i, (name, function) in enumerate(zip(slot.readout.names, slot.readout.matrix, strict=True)):
                row = np.zeros(self.k)
                row[slot.places] = function
                rows.append((slot.term, name, "linear" if i < shapes else "shape", row))
        return rows


CONSTANT = "constant"
