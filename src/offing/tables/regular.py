"""From stamps to a regular axis: which frequency, which period each stamp names, no gaps, no doubles."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, count, nearest
from offing.calendar import UNITS, WEEKDAYS, Axis, Frequency, weekday_named
from offing.calendar.frequency import DAY, HOUR
from offing.tables.dates import Stamps

Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Timing:
    """What the user says about a source's dates; None where it is to be found."""

    frequency: str | None = None
    week_ends: str | None = None
    stamp: str | None = None

    def __post_init__(self) -> None:
        if self.frequency is not None and self.frequency not in UNITS:
            raise InputError(f"found {self.frequency!r}", nearest(str(self.frequency), UNITS), key="frequency")
        if self.stamp not in (None, "start", "end"):
            raise InputError(
                f"found {self.stamp!r}", 'Give "start" or "end": which of them the dates name.', key="stamp"
            )
        if self.week_ends is not None:
            weekday_named(self.week_ends, "week_ends")


def place(stamps: Stamps, timing: Timing, file: str) -> tuple[Frequency, Ints, tuple[Finding, ...]]:
    """Find the frequency and each stamp's ordinal (n,); findings tell what was assumed.

    Raises
    ------
    InputError
        If no frequency fits, or what was stated contradicts the dates, or they can be read in two ways.
    """
    unit = timing.frequency or (stamps.precision if stamps.precision != "instant" else _unit(stamps.wall, file))
    if unit == "week":
        return _weeks(stamps, timing, file)
    frequency = Frequency(unit, zone=stamps.zone)  # type: ignore[arg-type]
    instants, findings = stamps.on(frequency), []
    if timing.stamp == "end":
        instants = _from_ends(instants, frequency, file)
    elif unit == "hour" and timing.stamp is None:
        message = f"{file}: a stamp such as 13:00 is read as the hour that starts then."
        findings.append(Finding("stamp", "note", message, advice='State stamp = "start" or "end".'))
    return frequency, frequency.ordinals(instants), tuple(findings)


def axis_of(frequency: Frequency, ordinals: Ints, rows: pd.Index, file: str) -> tuple[Axis, Ints]:
    """Axis that sorted `ordinals` fill without doubles and gaps, and the order (n,) that sorts the rows.

    Raises
    ------
    InputError
        Naming the doubled or missing periods.
    """
    order = np.argsort(ordinals, kind="stable")
    inner = ordinals[order]
    first, span = int(inner[0]), int(inner[-1] - inner[0]) + 1
    doubled = np.flatnonzero(np.diff(inner) == 0)
    if len(doubled):
        i = int(doubled[0])
        both = sorted((rows[order[i]], rows[order[i + 1]]), key=str)
        raise InputError(
            f"rows {both[0]} and {both[1]} both stand for it"
            + (
                f", and {count(len(doubled) - 1, 'more row repeats', 'more rows repeat')} a period"
                if len(doubled) > 1
                else ""
            ),
            "Keep one row a period, or add the rows up first.",
            file=file,
            period=Axis(frequency, int(inner[i]), 1).labels()[0],
        )
    if span != len(inner):
        before = np.flatnonzero(np.diff(inner) > 1)[:4]
        gaps = [gap for i in before for gap in range(int(inner[i]) + 1, min(int(inner[i + 1]), int(inner[i]) + 5))]
        named = ", ".join(Axis(frequency, gap, 1).labels()[0] for gap in gaps[:3])
        raise InputError(
            f"{count(span - len(inner), f'{frequency.unit} is', f'{frequency.unit}s are')} missing between the "
            f"first and the last: {named}{', …' if len(gaps) > 3 else ''}",
            "Add a row for each, with empty cells where nothing is known, or state the frequency.",
            file=file,
        )
    return Axis(frequency, first, span), order


def _unit(wall: Ints, file: str) -> str:
    moments = np.unique(wall)
    if len(moments) < 2:
        raise InputError(
            "one date alone does not tell the frequency", 'State it, such as frequency = "week".', file=file
        )
    gaps = np.diff(moments)
    smallest = int(gaps.min())
    if (moments % DAY).any():
        if smallest == HOUR and not (moments % HOUR).any():
            return "hour"
        raise _no_frequency(moments, int(gaps.argmin()), file)
    days = moments.astype("datetime64[us]").astype("datetime64[D]")
    opens = bool((days == days.astype("datetime64[M]").astype("datetime64[D]")).all())
    closes = bool(((days + 1).astype("datetime64[M]").astype("datetime64[D]") == days + 1).all())
    if opens or closes:
        months = days.astype("datetime64[M]").astype(np.int64) + closes
        step = int(np.diff(months).min())
        unit = {1: "month", 3: "quarter", 12: "year"}.get(step)
        uneven = np.flatnonzero(np.diff(months % step))
        if unit is None or len(uneven) or months[0] % step:
            raise _no_frequency(moments, int(uneven[0]) if len(uneven) else int(gaps.argmin()), file)
        return unit
    if smallest == DAY:
        return "day"
    uneven = np.flatnonzero(gaps % (7 * DAY))
    if smallest == 7 * DAY and not len(uneven):
        return "week"
    raise _no_frequency(moments, int(uneven[0]) if smallest == 7 * DAY else int(gaps.argmin()), file)


def _no_frequency(moments: Ints, i: int, file: str) -> InputError:
    """An error that names the two neighbouring dates, the `i`-th and the next, that fit no frequency."""
    pair = [
        str(each).replace("T", " ").removesuffix(" 00:00:00")
        for each in moments[i : i + 2].astype("M8[us]").astype("M8[s]")
    ]
    return InputError(
        f"no frequency fits the dates {pair[0]} and {pair[1]}",
        f"Give one row for each {', '.join(UNITS[:-1])} or {UNITS[-1]}, or state the frequency.",
        file=file,
    )


def _from_ends(instants: Ints, frequency: Frequency, file: str) -> Ints:
    if frequency.unit == "day":
        raise InputError("a date names its own day", "Remove stamp.", file=file, key="stamp")
    opens = frequency.starts(frequency.ordinals(instants)) == instants
    # 2024-01-31 as the end of January is a day that January holds; 2024-02-01 is the instant when it ends.
    return instants - 1 if opens.all() or frequency.unit == "hour" else instants


def _weeks(stamps: Stamps, timing: Timing, file: str) -> tuple[Frequency, Ints, tuple[Finding, ...]]:
    weekdays = np.unique((stamps.wall // DAY + 3) % 7)  # 1970-01-01 was a Thursday
    findings: tuple[Finding, ...] = ()
    if stamps.precision == "week":
        closing = 6  # ISO 8601
    elif len(weekdays) > 1:
        if timing.week_ends is None:
            raise InputError(
                "the dates fall on different days of the week",
                'State the closing day, such as week_ends = "sunday".',
                file=file,
            )
        closing = WEEKDAYS.index(timing.week_ends.lower())
    else:
        closing, findings = _closing_day(int(weekdays[0]), timing, file)
    frequency = Frequency("week", WEEKDAYS[closing], stamps.zone)
    return frequency, frequency.ordinals(stamps.on(frequency)), findings


def _closing_day(weekday: int, timing: Timing, file: str) -> tuple[int, tuple[Finding, ...]]:
    """Closing day of weeks that are all dated on one `weekday`."""
    name = WEEKDAYS[weekday].title()
    by_stamp = {"start": (weekday + 6) % 7, "end": weekday}
    if timing.week_ends is not None:
        closing = WEEKDAYS.index(timing.week_ends.lower())
        allowed = [by_stamp[timing.stamp]] if timing.stamp else list(by_stamp.values())
        if closing not in allowed:
            raise InputError(
                f"the dates are {name}s, which is not the {timing.stamp or 'start or end'} of weeks ending on "
                f"{timing.week_ends.title()}",
                file=file,
                key="week_ends",
            )
        return closing, ()
    if timing.stamp is not None:
        return by_stamp[timing.stamp], ()
    if weekday != 0:
        raise InputError(
            f"the dates are {name}s, which may open a week or close it",
            'State stamp = "start" or stamp = "end".',
            file=file,
        )
    message = f"{file}: the Mondays are read as the first days of weeks."
    return 6, (Finding("stamp", "note", message, advice='State stamp = "start", or "end" if they close them.'),)
