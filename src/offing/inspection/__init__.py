"""What is in the data, before any model: tables and figures."""

from offing.inspection.file_detection import Guess, guess_sources
from offing.inspection.survey import Survey, inspect
from offing.inspection.views import Coverage, Echoes, History, Scatter, Seasons, Years

__all__ = [
    "Coverage",
    "Echoes",
    "Guess",
    "History",
    "Scatter",
    "Seasons",
    "Survey",
    "Years",
    "guess_sources",
    "inspect",
]
