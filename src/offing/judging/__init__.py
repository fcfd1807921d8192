"""How good a model is on periods that it has not seen."""

from offing.judging.backtest import Backtest, backtest
from offing.judging.candidates import candidates
from offing.judging.combination import Combination, combine
from offing.judging.comparison import Comparison, compare
from offing.judging.origins import Origins
from offing.judging.outside import Outside, outside
from offing.judging.scoring import scores
from offing.judging.screening import Screening, screen

__all__ = [
    "Backtest",
    "Combination",
    "Comparison",
    "Origins",
    "Outside",
    "Screening",
    "backtest",
    "candidates",
    "combine",
    "compare",
    "outside",
    "scores",
    "screen",
]
