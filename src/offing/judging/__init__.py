"""How good a model is on periods that it has not seen."""

from offing.judging.candidates import candidates
from offing.judging.combination import Combination, combine
from offing.judging.screening import Screening, screen

__all__ = [
    "Combination",
    "Screening",
    "candidates",
    "combine",
    "screen",
]
