"""How long after their end values are released."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.calendar import Axis
from offing.calendar.frequency import DAY, HOUR


@dataclass(frozen=True)
class Delay:
    """A release delay: microseconds and whole periods of the source."""

    microseconds: int = 0
    periods: int = 0

    @classmethod
    def stated(cls, text: str | int | None) -> Delay:
        """A delay from ``21 days``, ``2 weeks``, ``5 hours``, ``1 period`` or a number of periods.

        Raises
        ------
        InputError
            For anything else.
        """
        if text is None:
            return NO_DELAY
        noted = re.fullmatch(r"(\d+)(?: (hour|day|week|period)s?)?", str(text).strip())
        if noted is None:
            raise InputError(f"found {text!r}", 'Give a number of periods, or such as "21 days".', key="release_delay")
        if noted[2] in (None, "period"):
            return cls(periods=int(noted[1]))
        return cls(microseconds=int(noted[1]) * {"hour": HOUR, "day": DAY, "week": 7 * DAY}[noted[2]])

    def after(self, axis: Axis) -> NDArray[np.int64]:
        """Instants (n,) at which values of the periods of `axis` become known."""
        # An axis keeps its edges, and one shifted by nothing would compute them again for every column of every term.
        ends = axis.shifted(self.periods).ends if self.periods else axis.ends
        return ends + self.microseconds if self.microseconds else ends


NO_DELAY = Delay()
