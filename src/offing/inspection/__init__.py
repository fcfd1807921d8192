"""What is in the data, before any model: tables and figures."""

from offing.inspection.file_detection import Guess, guess_sources
from offing.inspection.survey import Survey, inspect
from offing.inspection.views import Coverage, History, LeadLags, Scatter, Seasons, Years

__all__ = [
    "Coverage",
    "Guess",
    "History",
    "LeadLags",
    "Scatter",
    "Seasons",
    "Survey",
    "Years",
    "guess_sources",
    "inspect",
]
