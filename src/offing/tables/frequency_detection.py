"""From stamps to a regular axis: which frequency, which period each stamp names, no gaps, no doubles."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, count, nearest
from offing.calendar import UNITS, WEEKDAYS, Axis, Frequency, month_named, weekday_named
from offing.calendar.frequency import DAY, HOUR
from offing.tables.changing_clocks import Ints, on_changing_clock, zones_of
from offing.tables.date_parsing import Stamps

#: Ten days at random would all miss Saturday and Sunday in (5/7)¹⁰ = 3 % of cases.
_FEWEST_BUSINESS_DAYS = 10
#: Fewer months than these with one date in each may be any irregular dates.
_FEWEST_MONTHS = 6


class SeveralRowsError(InputError):
    """Several rows stand for one period: lines, or several series."""


class NoFrequencyError(InputError):
    """The dates follow no frequency: lines, perhaps."""


@dataclass(frozen=True)
class Timing:
    """What the user says about a source's dates; None where it is to be found."""

    frequency: str | None = None
    week_ends: str | None = None
    stamp: str | None = None
    year_starts: str = "january"
    weeks: str | None = None
    year_ends: str = "last"
    closed: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        if self.frequency is not None and self.frequency not in UNITS:
            raise InputError(f"found {self.frequency!r}", nearest(str(self.frequency), UNITS), key="frequency")
        if self.stamp not in (None, "start", "end"):
            raise InputError(
                f"found {self.stamp!r}", 'Give "start" or "end": which of them the dates name.', key="stamp"
            )
        if self.week_ends is not None:
            weekday_named(self.week_ends, "week_ends")
        if self.weeks is not None and self.frequency is None:
            raise InputError('weeks needs its frequency, "month" say', key="weeks")

    def of_unit(self, unit: str, zone: str | None) -> Frequency:
        """The frequency with this unit."""
        closing = self.week_ends or "sunday"
        return Frequency(unit, closing, zone, self.year_starts, self.weeks, self.year_ends, self.closed)  # type: ignore[arg-type]


def place(
    stamps: Stamps, timing: Timing, file: str, rows: pd.Index, header: str = ""
) -> tuple[Frequency, Ints, tuple[Finding, ...]]:
    """Find the frequency and each stamp's ordinal (n,); findings show what was assumed.

    Raises
    ------
    InputError
        If no frequency fits, or what was stated contradicts the dates, or they can be read in two ways.
    """
    found = stamps.precision if stamps.precision != "instant" else None
    unit = timing.frequency or found or _unit(stamps.wall, timing, file)
    if unit == "week":
        return _weeks(stamps, timing, file, header)
    frequency = timing.of_unit(unit, stamps.zone)
    if unit == "hour" and stamps.zone is not None and stamps.instants is None:
        instants = on_changing_clock(stamps, file, rows)
    else:
        instants = stamps.on(frequency)
    findings = []
    if unit == "business day":
        _check_business_days(instants, frequency, file, rows)
        if timing.frequency is None:
            message = f"{file}: no row is of a Saturday or Sunday, so the days are read as business days."
            advice = 'State frequency = "business day", or "day" if other days are missing.'
            findings.append(Finding("business days", "note", message, advice=advice))
    inner = frequency.wall(instants)
    if unit == "month" and timing.frequency is None and stamps.precision == "instant" and _inside_months(inner):
        message = f"{file}: there is one date in each month, so they are read as months."
        findings.append(Finding("months", "note", message, advice='State frequency = "month".'))
    if timing.stamp == "end":
        instants = _from_ends(instants, frequency, file)
    elif unit == "hour" and timing.stamp is None:
        message = f"{file}: a stamp such as 13:00 is read as the hour that starts then."
        findings.append(Finding("stamp", "note", message, advice='State stamp = "start" or "end".'))
    if frequency.weeks is not None:
        _check_edges(instants, frequency, timing, file, rows)
    return frequency, frequency.ordinals(instants), tuple(findings)


def _check_business_days(instants: Ints, frequency: Frequency, file: str, rows: pd.Index) -> None:
    """Refuse a row of a day that is no business day."""
    days = frequency.wall(instants) // DAY
    wrong = np.flatnonzero(days != frequency.wall(frequency.starts(frequency.ordinals(instants))) // DAY)
    if len(wrong):
        i = int(wrong[0])
        weekday = WEEKDAYS[int((days[i] + 3) % 7)].title()
        closed = int(days[i]) in frequency.closed
        raise InputError(
            f"{np.datetime64(int(days[i]), 'D')} is a {weekday}{' and a holiday' if closed else ''}, no business day",
            'Remove the row, or state frequency = "day"; or state rows = "lines" and combine, to count it with the '
            "business day before.",
            file=file,
            row=int(rows[i]),
        )


@dataclass(frozen=True)
class Rows:
    """What messages call the rows of a source: its file, their numbers, and the header of the dates."""

    file: str
    numbers: pd.Index
    header: str


def placed_rows(
    stamps: Stamps, timing: Timing, names: NDArray[np.object_] | None, rows: Rows
) -> tuple[Frequency, NDArray[np.int64], tuple[Finding, ...], dict[str, InputError]]:
    """Frequency and ordinals (n,) of the rows, what was assumed, and why the dates of some series do not fit.

    Where the dates of all rows together fit no frequency, that of most series counts.
    """
    try:
        return *place(stamps, timing, rows.file, rows.numbers, rows.header), {}
    except InputError:
        if names is None:
            raise
    codes, different = pd.factorize(names)
    found: dict[str, tuple[Frequency, NDArray[np.int64], tuple[Finding, ...]]] = {}
    refused: dict[str, InputError] = {}
    first: InputError | None = None
    for code, name in enumerate(different.tolist()):
        at = np.flatnonzero(codes == code)
        try:
            found[str(name)] = place(stamps.take(at), timing, rows.file, rows.numbers[at], rows.header)
        except InputError as error:
            first = first or error
            refused[str(name)] = error
    if not found and first is not None:
        raise first
    frequency = Counter(each[0] for each in found.values()).most_common(1)[0][0]
    ordinals = np.zeros(len(codes), dtype=np.int64)
    findings: tuple[Finding, ...] = ()
    for code, name in enumerate(different.tolist()):
        if str(name) in found:
            own, at, noted = found[str(name)]
            if own == frequency:
                ordinals[codes == code], findings = at, noted
            else:
                refused[str(name)] = InputError(
                    f"its rows are by {own}, those of most series by {frequency}", "Read it by itself.", file=rows.file
                )
    return frequency, ordinals, findings, refused


def _check_edges(instants: Ints, frequency: Frequency, timing: Timing, file: str, rows: pd.Index) -> None:
    """Dates of a calendar of weeks must be where its periods start (or end): else the calendar is another one."""
    ordinals = frequency.ordinals(instants)
    starts, ends = frequency.starts(ordinals), frequency.starts(ordinals + 1)
    fit = (ends - instants <= DAY) if timing.stamp == "end" else starts == instants
    wrong = np.flatnonzero(~fit)
    if len(wrong):
        i = int(wrong[0])
        lies = (instants[i] - starts[i]) // DAY + 1
        raise InputError(
            f"{str(instants[i].astype('M8[us]'))[:10]} is day {lies} of a {frequency}, not where one "
            f"{'ends' if timing.stamp == 'end' else 'starts'}",
            "Check weeks, week_ends, year_starts and year_ends, or stamp.",
            file=file,
            row=int(rows[i]),
        )


def axis_of(
    frequency: Frequency, ordinals: Ints, rows: NDArray[np.int64], file: str, *, leave_gaps: bool = False
) -> tuple[Axis, Ints]:
    """Axis that the `ordinals` (n,) span without doubles and gaps, and the order (n,) that sorts the rows.

    With `leave_gaps` periods may be missing.

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
        many = len(doubled) - 1
        if frequency.unit == "hour" and frequency.zone is None and (zones := zones_of(inner[doubled])):
            raise InputError(
                f"the hour stands twice, in rows {both[0]} and {both[1]}, as on a clock that is put back in autumn",
                f"State the zone of the clock: {' or '.join(f'zone = {chr(34)}{zone}{chr(34)}' for zone in zones)}.",
                file=file,
                period=Axis(frequency, int(inner[i]), 1).labels()[0],
            )
        raise SeveralRowsError(
            f"rows {both[0]} and {both[1]} both stand for it"
            + (f", and {count(many, 'more row repeats', 'more rows repeat')} a period" if many else ""),
            'Keep one row a period; or, if they are lines to be added up, state rows = "lines" and how to combine '
            "them; if they are several series, name the column that separates them, as id.",
            file=file,
            period=Axis(frequency, int(inner[i]), 1).labels()[0],
        )
    missing = span - len(inner)
    if missing > len(inner) and leave_gaps and len(inner) > 4:
        _check_lonely(frequency, inner, rows[order], file)
    if missing and not (leave_gaps and missing <= len(inner)):
        raise InputError(
            f"{count(missing, f'{frequency.unit} is', f'{frequency.unit}s are')} missing between the first "
            "and the last: "
            f"{spelt_runs(frequency, gaps_in(inner))}",
            'Add a row for each, with empty cells where nothing is known, or state gaps = "leave" to have them so.'
            + (
                ' If these are holidays, state holidays = "days.csv", a table of them, or a country\'s code.'
                if frequency.unit == "business day"
                else ""
            )
            if not leave_gaps
            else "More is missing than there is, so the frequency or a date must be wrong; state the frequency.",
            file=file,
        )
    return Axis(frequency, first, span), order


def _check_lonely(frequency: Frequency, inner: Ints, rows: NDArray[np.int64], file: str) -> None:
    """Refuse one date far from all others, which is a slip, by its row."""
    at = int(np.argmax(np.diff(inner)))
    for lonely, near in ((at, at + 1), (at + 1, at)):
        if lonely in (0, len(inner) - 1) and abs(inner[lonely] - inner[near]) > len(inner):
            far, other = (Axis(frequency, int(inner[i]), 1).labels()[0] for i in (lonely, near))
            raise InputError(
                f"{far} is {count(abs(int(inner[lonely] - inner[near])), frequency.unit)} from the nearest "
                f"other date, {other}",
                "Correct it, or remove the row.",
                file=file,
                row=int(rows[lonely]),
            )


def gaps_in(ordinals: Ints) -> list[tuple[int, int]]:
    """First ordinal and length of every run that is missing between sorted `ordinals`."""
    before = np.flatnonzero(np.diff(ordinals) > 1)
    return [(int(ordinals[i]) + 1, int(ordinals[i + 1] - ordinals[i]) - 1) for i in before]


def spelt_runs(frequency: Frequency, runs: list[tuple[int, int]], most: int = 3) -> str:
    """Runs of periods in words, such as ``2024-03, 2024-05 to 2024-07, …``."""
    words = []
    for first, length in runs[:most]:
        ends = [Axis(frequency, at, 1).labels()[0] for at in dict.fromkeys((first, first + length - 1))]
        words.append(" to ".join(ends))
    return ", ".join([*words, *(["…"] if len(runs) > most else [])])


def _unit(wall: Ints, timing: Timing, file: str) -> str:
    moments = wall if (np.diff(wall) > 0).all() else np.unique(wall)
    if len(moments) < 2:
        raise InputError(
            "one date alone does not show the frequency", 'State it, such as frequency = "week".', file=file
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
        if (
            unit is not None
            and not len(uneven)
            and (months[0] - month_named(timing.year_starts, "year_starts")) % step == 0
        ):
            return unit
        even = unit is not None and not len(uneven)
        error = _no_frequency(moments, int(uneven[0]) if len(uneven) else int(gaps.argmin()), file)
        if even:
            error.advice += f' For a {unit} of a year that starts elsewhere, state year_starts = "february", say.'
        raise error
    if smallest == DAY:
        weekend = bool(((moments // DAY + 3) % 7 >= 5).any())
        return "day" if weekend or len(moments) < _FEWEST_BUSINESS_DAYS else "business day"
    uneven = np.flatnonzero(gaps % (7 * DAY))
    if smallest == 7 * DAY and not len(uneven):
        return "week"
    if _one_a_month(days):
        return "month"
    raise _no_frequency(moments, int(uneven[0]) if smallest == 7 * DAY else int(gaps.argmin()), file)


def _inside_months(wall: Ints) -> bool:
    """Whether dates are neither all the first nor all the last days of their months."""
    days = wall.astype("datetime64[us]").astype("datetime64[D]")
    first, after = days.astype("datetime64[M]"), (days + 1).astype("datetime64[M]")
    return not (days == first.astype("datetime64[D]")).all() and not (after != first).all()


def _one_a_month(days: NDArray[np.datetime64]) -> bool:
    """Whether there is one date in each of consecutive months, six at least, such as the last working day."""
    months = days.astype("datetime64[M]").astype(np.int64)
    return len(months) >= _FEWEST_MONTHS and bool((np.diff(months) == 1).all())


def _no_frequency(moments: Ints, i: int, file: str) -> NoFrequencyError:
    """An error that names the two neighbouring dates, the `i`-th and the next, that fit no frequency."""
    pair = [
        str(each).replace("T", " ").removesuffix(" 00:00:00")
        for each in moments[i : i + 2].astype("M8[us]").astype("M8[s]")
    ]
    return NoFrequencyError(
        f"no frequency fits the dates {pair[0]} and {pair[1]}",
        f"Give one row for each {', '.join(UNITS[:-1])} or {UNITS[-1]}, or state the frequency.",
        file=file,
    )


def _from_ends(instants: Ints, frequency: Frequency, file: str) -> Ints:
    if frequency.per_day:
        raise InputError("a date names its own day", "Remove stamp.", file=file, key="stamp")
    opens = frequency.starts(frequency.ordinals(instants)) == instants
    # 2024-01-31 as the end of January is a day that January holds; 2024-02-01 is the instant when it ends.
    return instants - 1 if opens.all() or frequency.unit == "hour" else instants


def _weeks(stamps: Stamps, timing: Timing, file: str, header: str = "") -> tuple[Frequency, Ints, tuple[Finding, ...]]:
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
        closing, findings = _closing_day(int(weekdays[0]), _with_header(timing, header), file)
    frequency = Frequency("week", WEEKDAYS[closing], stamps.zone)
    return frequency, frequency.ordinals(stamps.on(frequency)), findings


#: What headers call a date that ends its week, and one that starts it.
_ENDS = re.compile(r"\b(end(s|ing|ed)?|to|until|till|w/?e)\b", re.IGNORECASE)
_STARTS = re.compile(r"\b(start(s|ing)?|begin(s|ning)?|commencing|from|w/?c|w/?b|opens)\b", re.IGNORECASE)


def _with_header(timing: Timing, header: str) -> Timing:
    """The timing with what the name of the column of dates leaves no doubt of."""
    words = header.replace("_", " ")
    if (
        timing.stamp is not None
        or timing.week_ends is not None
        or bool(_ENDS.search(words)) == bool(_STARTS.search(words))
    ):
        return timing
    return replace(timing, stamp="end" if _ENDS.search(words) else "start")


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
