"""Forecasts of an archive: one as it was made, and all of them over time."""

from __future__ import annotations

from offing.archiving.archive import Archive
from offing.archiving.archived import ArchivedForecast
from offing.base import count
from offing.base.palette import FAN, QUIET, WARM
from offing.base.text import in_units
from offing.draw.style import Picture, canvas, legend, thousands, times_of
from offing.model.forecast import AS_PLANNED

#: Lines of more forecasts cannot be separated; the newest are drawn.
_MOST = 24


def draw_archived(found: ArchivedForecast) -> Picture:
    """The means of a forecast with its bands, as it was made."""
    picture, axes = canvas(found.sentence, "The bands held 50, 80 and 95 % of outcomes, as far as was known then.")
    times, table = times_of(found.axis), found.table
    for tone, low, high, level in zip(
        FAN, ("q0.025", "q0.1", "q0.25"), ("q0.975", "q0.9", "q0.75"), (95, 80, 50), strict=True
    ):
        below, above = (table[each].to_numpy(dtype=float) for each in (low, high))
        axes.fill_between(times, below, above, color=tone, lw=0, label=f"{level} % band")
    axes.plot(times, found.mean, color=WARM, lw=2.2, marker="D", ms=3.5, label="forecast (mean)")
    axes.set_ylabel(in_units(found.target, found.unit))
    thousands(axes.yaxis)
    legend(axes)
    return picture


def draw_archive(found: Archive) -> Picture:
    """The means of the newest forecasts of one series and model, a line an origin, the older ones paler."""
    listed = found.table
    planned = listed[listed["scenario"] == AS_PLANNED]
    newest = (planned if len(planned) else listed).iloc[-1]
    own = listed[(listed[["series", "model", "scenario"]] == newest[["series", "model", "scenario"]]).all(axis=1)]
    origins = list(dict.fromkeys(own["origin"]))[-_MOST:]
    keys = {name: str(newest[name]) for name in ("series", "model", "scenario")}
    kept = [found.forecast(each, **keys) for each in origins]
    last = kept[-1]
    picture, axes = canvas(
        f"{last.target}: {count(len(kept), 'forecast')} by '{last.model}', made from {origins[0]} to {origins[-1]}",
        "A line is a forecast as it was made, the newest the darkest; where lines lie apart, forecasts of the same "
        "periods were changed.",
    )
    for place, each in enumerate(kept):
        newest_one = each is last
        axes.plot(
            times_of(each.axis),
            each.mean,
            color=WARM if newest_one else QUIET,
            alpha=1.0 if newest_one else 0.25 + 0.75 * (place + 1) / len(kept),
            lw=2.2 if newest_one else 1.2,
            marker="D" if newest_one else None,
            ms=3.5,
            label=f"of {each.origin}" if newest_one or place == 0 else None,
        )
    axes.set_ylabel(in_units(last.target, last.unit))
    thousands(axes.yaxis)
    legend(axes)
    return picture
