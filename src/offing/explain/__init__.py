"""What a fit or a forecast says, asked from one side each: functions that take a result and give a table to read."""

from offing.explain.agreement import Agreed, agree
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
from offing.explain.what_if.chances import Paths, Reach, paths
from offing.explain.what_if.goal import Sought, seek
from offing.explain.what_if.overrides import Overridden, Override, override
from offing.explain.what_if.scenarios import Scenarios, scenarios
from offing.explain.what_if.sensitivity import Sensitivity, sensitivity
from offing.explain.why.importance import Importance, importance
from offing.explain.why.story import Story, story
from offing.explain.why.walk import Walk
from offing.explain.why.walking import LAST_YEAR, MEAN, walk
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
