"""A model watched: how far each new value lay from what was expected, and how near that is to an alarm."""

from __future__ import annotations

import numpy as np

from offing.base.palette import INK, QUIET, WARM
from offing.calendar import Axis
from offing.draw.style import Picture, legend, stacked, times_of
from offing.explain.monitoring import Monitoring

#: The statistics' colours and forms, so that they can be separated without colour.
_LINES = {"level": (WARM, "-", "D"), "effects": (INK, "--", "o"), "spread": (QUIET, ":", "s")}


def draw_monitoring(found: Monitoring) -> Picture:
    """Errors in standard deviations above, the statistics over their bounds below; what passes 1 is an alarm."""
    axis = Axis(found.axis.frequency, found.axis.first, found.axis.n)
    times = times_of(axis)[found.places - axis.first]
    picture, above, below = stacked(
        found.sentence,
        "Above: outcome less what was expected just before, in standard deviations; 95 % lie between the lines "
        "where nothing changes. Below: what passes 1 is an alarm; where nothing changes, in at most 5 % of years.",
        upper=0.5,
    )
    days = np.diff(times).astype(float) / 86_400e6  # a bar's width is in days
    width = 0.6 * float(days.min()) if len(days) else 0.6
    above.bar(times, found.residuals, color=INK, width=width)
    for edge in (-1.96, 1.96):
        above.axhline(edge, color=QUIET, lw=1.0, dashes=(4, 2))
    above.axhline(0.0, color=INK, lw=0.8)
    above.set_ylabel("error (sd)")
    for name, values in found.ratios.items():
        color, line, mark = _LINES[name]
        below.plot(times, values, color=color, ls=line, marker=mark, ms=3.5, lw=1.6, label=name)
    below.axhline(1.0, color=WARM, lw=1.2)
    below.set_ylim(bottom=0.0)
    below.set_ylabel("of the bound")
    legend(below)
    return picture
