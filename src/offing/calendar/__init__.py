"""Time: frequencies, runs of periods, positions in a cycle, days of holidays. Knows no values and no files.

Instants are int64 microseconds since 1970-01-01: of UTC where a frequency has a zone, of the wall clock otherwise.
"""

from offing.calendar.alignment import holding, inside, newest_ended, on_clock_of
from offing.calendar.axis import Axis
from offing.calendar.cycles import CYCLES, Cycle, Span, cycle_of, length_of, span_of
from offing.calendar.frequency import (
    DAY,
    MONTHS,
    UNITS,
    WEEKDAYS,
    Frequency,
    coarser_than,
    month_named,
    rank_of,
    weekday_named,
)
from offing.calendar.holiday_days import ALWAYS, Days, country_days, day_shares, grouped, joined
from offing.calendar.working_days import Calendar, calendar_of, easter_days, weekdays_of

__all__ = [
    "ALWAYS",
    "CYCLES",
    "DAY",
    "MONTHS",
    "UNITS",
    "WEEKDAYS",
    "Axis",
    "Calendar",
    "Cycle",
    "Days",
    "Frequency",
    "Span",
    "calendar_of",
    "coarser_than",
    "country_days",
    "cycle_of",
    "day_shares",
    "easter_days",
    "grouped",
    "holding",
    "inside",
    "joined",
    "length_of",
    "month_named",
    "newest_ended",
    "on_clock_of",
    "rank_of",
    "span_of",
    "weekday_named",
    "weekdays_of",
]
