"""Findings: remarks in plain language, made from arrays and names."""

from offing.diagnostics.constraints import after_choice, bounds_met, contradictions
from offing.diagnostics.extrapolation import beyond_range, beyond_target, wide_on_log_scale
from offing.diagnostics.identification import unidentified_shapes
from offing.diagnostics.influence import collinear, heteroscedastic, influential, over_parameterised
from offing.diagnostics.interventions import jumps
from offing.diagnostics.leaks import exact, identities, uninformative
from offing.diagnostics.missing_rows import missing_drivers
from offing.diagnostics.noise_tests import (
    drifting,
    lagged_noise,
    long_lag_autocorrelation,
    multicollinear,
    non_normal,
    nonlinear,
)
from offing.diagnostics.plans import contradicted, holds_target, unused
from offing.diagnostics.rank import left_out
from offing.diagnostics.residual_tests import autocorrelation

__all__ = [
    "after_choice",
    "autocorrelation",
    "beyond_range",
    "beyond_target",
    "bounds_met",
    "collinear",
    "contradicted",
    "contradictions",
    "drifting",
    "exact",
    "heteroscedastic",
    "holds_target",
    "identities",
    "influential",
    "jumps",
    "lagged_noise",
    "left_out",
    "long_lag_autocorrelation",
    "missing_drivers",
    "multicollinear",
    "non_normal",
    "nonlinear",
    "over-parameterised",
    "over_parameterised",
    "unidentified_shapes",
    "uninformative",
    "unused",
    "wide_on_log_scale",
]
