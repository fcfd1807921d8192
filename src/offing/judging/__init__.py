"""How good a model is on periods that it has not seen."""

from offing.judging.backtest import Backtest, backtest
from offing.judging.calibration import CalibratedForecast, Calibration, calibration, recalibrate
from offing.judging.candidates import candidates
from offing.judging.combination import Combination, combine, combined
from offing.judging.comparison import Comparison, compare
from offing.judging.origins import Origins
from offing.judging.outside import Outside, outside
from offing.judging.scoring import scores
from offing.judging.screening import DriverSelection, Screening, screen
from offing.judging.search import Search, search
from offing.judging.views import ByHorizon, MemberWeights, Timeline
from offing.judging.worth import Change, Worth, change, without_each, worth

__all__ = [
    "Backtest",
    "ByHorizon",
    "CalibratedForecast",
    "Calibration",
    "Change",
    "Combination",
    "Comparison",
    "DriverSelection",
    "MemberWeights",
    "Origins",
    "Outside",
    "Screening",
    "Search",
    "Timeline",
    "Worth",
    "backtest",
    "calibration",
    "candidates",
    "change",
    "combine",
    "combined",
    "compare",
    "outside",
    "recalibrate",
    "scores",
    "screen",
    "search",
    "without_each",
    "worth",
]
