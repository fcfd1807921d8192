"""From files and frames to regular series with units, and the one door through which models see them."""

from offing.tables.aggregate import aggregate
from offing.tables.delay import Delay
from offing.tables.downloads import released_at
from offing.tables.holiday_table import read_days
from offing.tables.information import Columns, Information
from offing.tables.overlay import ACTUAL, MARKS, MISSING, PLAN, Known
from offing.tables.patch import Patch
from offing.tables.point_in_time import Goal, Sources, View, not_in_all, split_series
from offing.tables.reading import read
from offing.tables.table import LaterRows, Panel, Table
from offing.tables.treatments import Treat
from offing.tables.vintages import Vintages

__all__ = [
    "ACTUAL",
    "MARKS",
    "MISSING",
    "PLAN",
    "Columns",
    "Delay",
    "Goal",
    "Information",
    "Known",
    "LaterRows",
    "Panel",
    "Patch",
    "Sources",
    "Table",
    "Treat",
    "View",
    "Vintages",
    "aggregate",
    "not_in_all",
    "read",
    "read_days",
    "released_at",
    "split_series",
]
