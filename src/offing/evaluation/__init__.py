"""How good a model is on periods that it has not seen."""

from offing.evaluation.backtest import Backtest
from offing.evaluation.backtest_views import ByHorizon, MemberWeights, Timeline
from offing.evaluation.backtesting import backtest
from offing.evaluation.calibration import Calibration
from offing.evaluation.candidates import candidates
from offing.evaluation.combination import Combination, combine
from offing.evaluation.comparison import Comparison
from offing.evaluation.external_forecasts import ExternalForecast, external_forecast
from offing.evaluation.origins import Origins
from offing.evaluation.recalibration import CalibratedForecast, recalibrate
from offing.evaluation.screening import DriverSelection, Screening, screen
from offing.evaluation.search import search
from offing.evaluation.search_result import Search
from offing.evaluation.term_gain import Change, TermGain, change, term_gain, without_each

__all__ = [
    "Backtest",
    "ByHorizon",
    "CalibratedForecast",
    "Calibration",
    "Change",
    "Combination",
    "Comparison",
    "DriverSelection",
    "ExternalForecast",
    "MemberWeights",
    "Origins",
    "Screening",
    "Search",
    "TermGain",
    "Timeline",
    "backtest",
    "candidates",
    "change",
    "combine",
    "external_forecast",
    "recalibrate",
    "screen",
    "search",
    "term_gain",
    "without_each",
]
