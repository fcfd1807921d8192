"""What a fit or a forecast says, asked from one side each: functions that take a result and give a table to read."""

from offing.explain.agreement import Agreed, agree
from offing.explain.chances import Paths, Reach, paths
from offing.explain.cycle_shape import CycleShape, cycle
from offing.explain.holiday_effects import HolidayEffects, holiday_effects
from offing.explain.inputs import Inputs, inputs
from offing.explain.lag_weights import LagCurve, lag_weights
from offing.explain.residuals import Residuals, residuals
from offing.explain.responses import LagProfile, Response, lag_profile, response
from offing.explain.running import ANEW, RunningEstimate, running_estimate
from offing.explain.season_indices import SeasonIndices, indices
from offing.explain.shares import Shares, shares
from offing.explain.sharing import Split, split
from offing.explain.stability import Stability, stability
from offing.explain.term_tests import TermTests, term_tests
from offing.explain.totals import Totals, totals
from offing.explain.trend_path import TrendPath, trend
from offing.explain.walk import Walk
from offing.explain.walking import walk

__all__ = [
    "ANEW",
    "Agreed",
    "CycleShape",
    "HolidayEffects",
    "Inputs",
    "LagCurve",
    "LagProfile",
    "Paths",
    "Reach",
    "Residuals",
    "Response",
    "RunningEstimate",
    "SeasonIndices",
    "Shares",
    "Split",
    "Stability",
    "TermTests",
    "Totals",
    "TrendPath",
    "Walk",
    "agree",
    "cycle",
    "holiday_effects",
    "indices",
    "inputs",
    "lag_profile",
    "lag_weights",
    "paths",
    "residuals",
    "response",
    "running_estimate",
    "shares",
    "split",
    "stability",
    "term_tests",
    "totals",
    "trend",
    "walk",
]
