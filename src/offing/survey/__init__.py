"""What is in the data, before any model: tables, figures, and a suggested study."""

from offing.survey.guess import Guess, guess_sources
from offing.survey.survey import Survey, inspect
from offing.survey.views import Coverage, Echoes, History, Scatter, Seasons, Years
from offing.survey.write import script_text, study_text

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
    "script_text",
    "study_text",
]
