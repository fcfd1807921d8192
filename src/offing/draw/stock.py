"""What is enough for a lead time, by service level."""

from __future__ import annotations

from typing import Any

from matplotlib.ticker import MaxNLocator

from offing.base.palette import INK, QUIET, TERMS
from offing.base.text import in_units
from offing.draw.style import Picture, canvas


def draw_stock(found: Any) -> Picture:
    """A line a service level over the lead time, and the expected total."""
    forecast = found.paths.forecast
    unit = forecast.axis.frequency.unit
    caption = "Totals of joint paths: the highest line is exceeded least often. The dashed line is what is expected."
    picture, axes = canvas(found.sentence, caption)
    table = found.table
    axes.plot(table.index, table["mean"], color=INK, linestyle="--", linewidth=1.4)
    for i, level in enumerate(found.service):
        color = TERMS[i % len(TERMS)]
        axes.plot(table.index, table[f"{level:g}"], color=color, linewidth=1.8, marker="o", markersize=3)
        last = float(table[f"{level:g}"].iloc[-1])
        axes.annotate(f"{100.0 * level:g} %", (found.longest, last), (6, 0), textcoords="offset points", va="center")
    axes.set_xlabel(f"lead time, {unit}s", color=QUIET)
    axes.set_ylabel(in_units(forecast.fit.label, forecast.fit.sum_unit))
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlim(0.8, found.longest + 0.08 * found.longest + 0.5)
    return picture
