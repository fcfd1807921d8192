"""What is in the data, before any model: tables and figures."""

from offing.survey.guess import Guess, guess_sources
from offing.survey.survey import Survey, inspect
from offing.survey.views import Coverage, Echoes, History, Scatter, Seasons, Years

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
