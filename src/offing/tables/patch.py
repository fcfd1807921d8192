"""What a treatment learnt: new values of some periods, which a view puts in place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, Treatment
from offing.base.arrays import Array
from offing.calendar import Axis


@dataclass(frozen=True)
class Patch:
    """What a treatment learnt: new values (m,) of the periods `ordinals` (m,), NaN where a value is not to be used.

    `pulses` are ordinals whose values get terms of their own; `window` the periods of a smoothing mean, `smoothed`
    the smoothed history from the ordinal `first` on where it is centred.
    """

    source: str
    column: str
    ordinals: NDArray[np.int64]
    values: Array
    pulses: tuple[int, ...] = ()
    window: int = 1
    first: int = 0
    smoothed: Array | None = None
    log: tuple[Treatment, ...] = ()
    findings: tuple[Finding, ...] = ()

    def applied(self, axis: Axis, values: Array) -> Array:
        """The values (n,) of `axis` with the new ones in place, not yet smoothed."""
        treated = values.copy()
        inside = (self.ordinals >= axis.first) & (self.ordinals < axis.first + axis.n)
        treated[self.ordinals[inside] - axis.first] = self.values[inside]
        return treated
