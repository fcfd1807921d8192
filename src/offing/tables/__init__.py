"""From files and frames to regular series with units, and the one door through which models see them."""

from offing.tables.holiday_table import read_days
from offing.tables.reading import read
from offing.tables.table import LaterRows, Table
from offing.tables.view import ACTUAL, MARKS, MISSING, PLAN, Known, Sources, View

__all__ = [
    "ACTUAL",
    "MARKS",
    "MISSING",
    "PLAN",
    "Known",
    "LaterRows",
    "Sources",
    "Table",
    "View",
    "read",
    "read_days",
]
