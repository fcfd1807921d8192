"""Time: frequencies, runs of periods, positions in a cycle, days of holidays. Knows no values and no files.

Instants are int64 microseconds since 1970-01-01: of UTC where a frequency has a zone, of the wall clock otherwise.
"""

from offing.calendar.axis import Axis
from offing.calendar.frequency import DAY, MONTHS, UNITS, WEEKDAYS, Frequency, month_named, weekday_named
from offing.calendar.holiday_days import Days, country_days, day_shares
from offing.calendar.positions import CYCLES, Cycle, cycle_of

__all__ = [
    "CYCLES",
    "DAY",
    "MONTHS",
    "UNITS",
    "WEEKDAYS",
    "Axis",
    "Cycle",
    "Days",
    "Frequency",
    "country_days",
    "cycle_of",
    "day_shares",
    "month_named",
    "weekday_named",
]
