"""The arithmetic: arrays in, arrays out. No dates, no tables, no names of columns, no printing.

Sizes are written n (rows), k (columns of the design), q (targets), J (terms).
"""

from offing.engine.ar_estimation import Dynamics, NoiseFit
from offing.engine.ar_filter import Chain, Phi, combined, impulse_response, multiplied, partial, running
from offing.engine.bic_selection import Menu, choose
from offing.engine.binomial import binomial_limits, binomial_p
from offing.engine.break_interval import place_interval
from offing.engine.combining import (
    TRIMMED,
    averaged_quantiles,
    inverse_squares,
    least_squares_weights,
    middle_weights,
    mixed_quantiles,
)
from offing.engine.comparison_tests import AccuracyTest, best_set, equal_accuracy, nested_accuracy
from offing.engine.correlation import cross_correlation
from offing.engine.decomposition import attribute, logarithmic_mean, paired
from offing.engine.disaggregation import spread_smoothly
from offing.engine.fit_statistics import FitStatistics, autocorrelations, fit_figures, lag_one_correlation
from offing.engine.fold_updating import Choice, Refits, refits
from offing.engine.forecast_scores import interval_score, naive_change, pinball, position_in, ranked_probability
from offing.engine.intervention_tests import Jump, chance_limit, largest_pulse, largest_step
from offing.engine.lag_weights import Beta, Exponential, Pinned, WeightCurve, pins, polynomial, smooth, steps
from offing.engine.least_squares import Estimate, Reduced, TooFewRowsError, least_squares
from offing.engine.outlier_tests import Departures, departures, limit_of
from offing.engine.periodogram import Peak, peaks
from offing.engine.qr import Solution, explain_dependence, join, solve, take, triangle
from offing.engine.robust import group_medians
from offing.engine.robust_covariance import Covariance, sandwiched
from offing.engine.robust_loss import Loss
from offing.engine.shapes import Bent, Grid, Shapes
from offing.engine.simulation import SEED, accumulate, accumulated, difference_weights, growth_paths
from offing.engine.solver import Problem, Solved, regress
from offing.engine.t_distribution import quantile, two_sided_p
from offing.engine.variance_components import AWAY, FREE, SHARED

__all__ = [
    "AWAY",
    "FREE",
    "SEED",
    "SHARED",
    "TRIMMED",
    "AccuracyTest",
    "Bent",
    "Beta",
    "Chain",
    "Choice",
    "Covariance",
    "Departures",
    "Dynamics",
    "Estimate",
    "Exponential",
    "FitStatistics",
    "Grid",
    "Jump",
    "Loss",
    "Menu",
    "NoiseFit",
    "Peak",
    "Phi",
    "Pinned",
    "Problem",
    "Reduced",
    "Refits",
    "Shapes",
    "Solution",
    "Solved",
    "TooFewRowsError",
    "WeightCurve",
    "accumulate",
    "accumulated",
    "attribute",
    "autocorrelations",
    "averaged_quantiles",
    "best_set",
    "binomial_limits",
    "binomial_p",
    "chance_limit",
    "choose",
    "combined",
    "cross_correlation",
    "departures",
    "difference_weights",
    "equal_accuracy",
    "explain_dependence",
    "fit_figures",
    "group_medians",
    "growth_paths",
    "impulse_response",
    "interval_score",
    "inverse_squares",
    "join",
    "lag_one_correlation",
    "largest_pulse",
    "largest_step",
    "least_squares",
    "least_squares_weights",
    "limit_of",
    "logarithmic_mean",
    "middle_weights",
    "mixed_quantiles",
    "multiplied",
    "naive_change",
    "nested_accuracy",
    "paired",
    "partial",
    "peaks",
    "pinball",
    "pins",
    "place_interval",
    "polynomial",
    "position_in",
    "quantile",
    "ranked_probability",
    "refits",
    "regress",
    "running",
    "sandwiched",
    "smooth",
    "solve",
    "spread_smoothly",
    "steps",
    "take",
    "triangle",
    "two_sided_p",
]
