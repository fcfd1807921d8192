"""What a fit or a forecast says, asked from one side each: functions that take a result and give a table to read."""

from offing.explain.allocation import Split, allocate
from offing.explain.holiday_effects import HolidayEffects, holiday_effects
from offing.explain.inputs import Inputs, inputs
from offing.explain.lag_weights import LagCurve, lag_weights
from offing.explain.nowcast import Nowcast, nowcast
from offing.explain.parameter_stability import ParameterStability, parameter_stability
from offing.explain.reconciliation import Reconciled, reconcile
from offing.explain.releases import REESTIMATED
from offing.explain.residuals import Residuals, residuals
from offing.explain.responses import LagProfile, Response, lag_profile, response
from offing.explain.seasonal_cycle import CycleShape, cycle
from offing.explain.seasonal_indices import SeasonIndices, indices
from offing.explain.term_tests import TermTests, term_tests
from offing.explain.totals import Totals, totals
from offing.explain.trend import TrendPath, trend
from offing.explain.variance_shares import VarianceShares, variance_shares
from offing.explain.what_if.adjustment import Adjustment
from offing.explain.what_if.forecast_adjustments import AdjustedForecast, adjust_forecast
from offing.explain.what_if.paths import Exceedance, Paths, paths
from offing.explain.what_if.scenarios import Scenarios, scenarios
from offing.explain.what_if.sensitivity import Sensitivity, sensitivity
from offing.explain.what_if.stock import Stock, stock
from offing.explain.what_if.target_solver import Solution, solve_for
from offing.explain.why.importance import Importance, importance
from offing.explain.why.story import Story, story
from offing.explain.why.walk import Walk
from offing.explain.why.walk_builder import walk
from offing.explain.why.walk_sides import LAST_YEAR, MEAN
from offing.explain.why.year_of_days import YearOfDays, year_of_days

__all__ = [
    "LAST_YEAR",
    "MEAN",
    "REESTIMATED",
    "AdjustedForecast",
    "Adjustment",
    "CycleShape",
    "Exceedance",
    "HolidayEffects",
    "Importance",
    "Inputs",
    "LagCurve",
    "LagProfile",
    "Nowcast",
    "ParameterStability",
    "Paths",
    "Reconciled",
    "Residuals",
    "Response",
    "Scenarios",
    "SeasonIndices",
    "Sensitivity",
    "Solution",
    "Split",
    "Stock",
    "Story",
    "TermTests",
    "Totals",
    "TrendPath",
    "VarianceShares",
    "Walk",
    "YearOfDays",
    "adjust_forecast",
    "allocate",
    "cycle",
    "holiday_effects",
    "importance",
    "indices",
    "inputs",
    "lag_profile",
    "lag_weights",
    "nowcast",
    "parameter_stability",
    "paths",
    "reconcile",
    "residuals",
    "response",
    "scenarios",
    "sensitivity",
    "solve_for",
    "stock",
    "story",
    "term_tests",
    "totals",
    "trend",
    "variance_shares",
    "walk",
    "year_of_days",
]
