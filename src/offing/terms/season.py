"""Seasons: what comes back every year, week or day."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from offing.base import InputError
from offing.calendar import CYCLES, Axis, Cycle, cycle_of
from offing.tables import View
from offing.terms.term import Block, Readout, Reference, Term


@dataclass(frozen=True)
class SeasonState:
    """The cycle at the series' frequency, and the positions that the fitted periods hold, in order."""

    cycle: Cycle
    seen: tuple[int, ...]


@dataclass(frozen=True)
class Season(Term):
    """A pattern that repeats with a cycle of the calendar. Its effects average to zero over the cycle.

    Parameters
    ----------
    cycle
        ``year``, ``quarter``, ``month``, ``week`` or ``day``, longer than the series' periods.
    harmonics
        Number of sine and cosine pairs: a smooth pattern with two coefficients a pair.
    style
        ``harmonics`` or ``dummies``, one effect for each position of the cycle. By default harmonics if their
        number is given, else dummies.
    by
        What dummies tell apart: ``hour``, ``day``, ``week``, ``month`` or ``quarter``. By default the series' own
        periods, and months of the year where these would be more than 31. A period belongs where its middle lies.
    name
        By default ``season`` for the year and such as ``season in week`` for shorter cycles.

    Raises
    ------
    InputError
        If `harmonics` and `style` contradict each other, or later if the cycle does not suit the frequency.

    Examples
    --------
    >>> import offing as of
    >>> of.Season("year", harmonics=3).name, of.Season("week").name
    ('season', 'season in week')
    """

    cycle: str = "year"
    harmonics: int | None = None
    style: Literal["harmonics", "dummies"] | None = None
    by: str | None = None
    name: str | None = None

    def __post_init__(self) -> None:
        if self.name is None:
            self._set(name="season" if self.cycle == "year" else f"season in {self.cycle}")
        super().__post_init__()
        if self.cycle not in CYCLES:
            raise InputError(f"found {self.cycle!r}", f"Known cycles: {', '.join(CYCLES)}.", key="cycle")
        if self.style not in (None, "harmonics", "dummies"):
            raise InputError(f"found {self.style!r}", 'Give "harmonics" or "dummies".', key="style")
        if self.harmonics is not None and (isinstance(self.harmonics, bool) or self.harmonics < 1):
            raise InputError(f"found {self.harmonics!r}", "Give a whole number from 1 on.", key="harmonics")
        if (self.style == "harmonics") != (self.harmonics is not None) and self.style is not None:
            raise InputError(
                "style and harmonics contradict each other",
                'Give harmonics = 3, say, or style = "dummies".',
                key="style",
            )
        if self.by is not None and self.harmonics is not None:
            raise InputError("by belongs to dummies, not to harmonics", "Remove one of them.", key="by")

    def learn(self, view: View) -> SeasonState:
        """Find the positions that the fitted periods hold.

        Raises
        ------
        InputError
            If the cycle or its positions cannot be seen at this frequency, or there are more harmonics than
            the frequency can tell apart.
        """
        cycle = cycle_of(self.cycle, view.rows.frequency, self.by)
        if self.harmonics is not None and self.harmonics > cycle.harmonics_at_most:
            raise InputError(
                f"a series by {cycle.frequency.unit} tells at most {cycle.harmonics_at_most} harmonics "
                f"of a {self.cycle} apart",
                key="harmonics",
            )
        return SeasonState(cycle, tuple(np.unique(cycle.positions(view.rows)).tolist()))

    def block(self, view: View, axis: Axis, state: SeasonState) -> Block:
        """Harmonics, or dummies coded so that the effects of all positions sum to zero."""
        if self.harmonics is not None:
            return self._harmonics(axis, state, self.harmonics)
        return self._dummies(axis, state)

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return "an average season"

    def reference_on(self, view: View, axis: Axis, state: SeasonState) -> Reference:
        """The season's mean, which is zero by its coding."""
        k = len(state.seen) - 1 if self.harmonics is None else len(self._kept(state, self.harmonics))
        return Reference(np.zeros((1, k)))

    def _kept(self, state: SeasonState, harmonics: int) -> list[tuple[str, int]]:
        """Kind and number of the harmonics that are not zero everywhere."""
        pairs = [(kind, h) for h in range(1, harmonics + 1) for kind in ("sin", "cos")]
        # With an even number of periods a cycle, the fastest sine is zero at every one of them.
        at_limit = state.cycle.regular and 2 * harmonics == len(state.cycle.names)
        return [pair for pair in pairs if not (at_limit and pair == ("sin", harmonics))]

    def _harmonics(self, axis: Axis, state: SeasonState, harmonics: int) -> Block:
        angles = 2.0 * np.pi * state.cycle.phases(axis)
        kept = self._kept(state, harmonics)
        columns = [(np.sin if kind == "sin" else np.cos)(h * angles) for kind, h in kept]
        return Block(np.column_stack(columns), tuple(f"{self.name}: {kind} {h}" for kind, h in kept))

    def _dummies(self, axis: Axis, state: SeasonState) -> Block:
        positions = state.cycle.positions(axis)
        seen = np.array(state.seen)
        names = tuple(f"{self.name}: {state.cycle.names[i]}" for i in state.seen)
        unseen = np.flatnonzero(~np.isin(positions, seen))
        if len(unseen):
            first = int(unseen[0])
            raise InputError(
                f"{state.cycle.names[positions[first]]} never occurs in the fitted periods, so its effect is unknown",
                "Fit more data, use harmonics, or leave out the term.",
                period=axis.part(first, first + 1).labels()[0],
            )
        k = len(seen) - 1
        # Effect coding: the last position is minus the sum of the others.
        coding = np.vstack([np.eye(k), -np.ones((1, k))])
        columns = coding[np.searchsorted(seen, positions)]
        return Block(columns, names[:-1], Readout(names, coding))
