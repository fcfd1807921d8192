"""What a fit or a forecast says, asked from one side each: functions that take a result and give a table to read."""

from offing.explain.allocation import Split, split
from offing.explain.holiday_effects import HolidayEffects, holiday_effects
from offing.explain.inputs import Inputs, inputs
from offing.explain.lag_weights import LagCurve, lag_weights
from offing.explain.nowcast import ANEW, RunningEstimate, running_estimate
from offing.explain.parameter_stability import Stability, stability
from offing.explain.reconciliation import Agreed, agree
from offing.explain.residuals import Residuals, residuals
from offing.explain.responses import LagProfile, Response, lag_profile, response
from offing.explain.seasonal_cycle import CycleShape, cycle
from offing.explain.seasonal_indices import SeasonIndices, indices
from offing.explain.shares import Shares, shares
from offing.explain.term_tests import TermTests, term_tests
from offing.explain.totals import Totals, totals
from offing.explain.trend import TrendPath, trend
from offing.explain.what_if.forecast_adjustments import Overridden, Override, override
from offing.explain.what_if.probabilities import Paths, Reach, paths
from offing.explain.what_if.scenarios import Scenarios, scenarios
from offing.explain.what_if.sensitivity import Sensitivity, sensitivity
from offing.explain.what_if.target_solver import Sought, seek
from offing.explain.why.importance import Importance, importance
from offing.explain.why.story import Story, story
from offing.explain.why.walk import Walk
from offing.explain.why.walk_builder import LAST_YEAR, MEAN, walk
from offing.explain.why.year_of_days import YearOfDays, year_of_days

__all__ = [
    "ANEW",
    "LAST_YEAR",
    "MEAN",
    "Agreed",
    "CycleShape",
    "HolidayEffects",
    "Importance",
    "Inputs",
    "LagCurve",
    "LagProfile",
    "Overridden",
    "Override",
    "Paths",
    "Reach",
    "Residuals",
    "Response",
    "RunningEstimate",
    "Scenarios",
    "SeasonIndices",
    "Sensitivity",
    "Shares",
    "Sought",
    "Split",
    "Stability",
    "Story",
    "TermTests",
    "Totals",
    "TrendPath",
    "Walk",
    "YearOfDays",
    "agree",
    "cycle",
    "holiday_effects",
    "importance",
    "indices",
    "inputs",
    "lag_profile",
    "lag_weights",
    "override",
    "paths",
    "residuals",
    "response",
    "running_estimate",
    "scenarios",
    "seek",
    "sensitivity",
    "shares",
    "split",
    "stability",
    "story",
    "term_tests",
    "totals",
    "trend",
    "walk",
    "year_of_days",
]
