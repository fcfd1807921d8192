"""Findings: remarks in plain language, made from arrays and names."""

from offing.diagnostics.constraints import after_choice, bounds_met, surprises
from offing.diagnostics.extrapolation import beyond_range, beyond_target, wide_on_log_scale
from offing.diagnostics.identification import unidentified_shapes
from offing.diagnostics.influence import crowded, entangled, influential, uneven
from offing.diagnostics.interventions import jumps
from offing.diagnostics.leaks import exact, identities, uninformative
from offing.diagnostics.missing_rows import missing_drivers
from offing.diagnostics.noise_tests import bent, crooked, drifting, lagged_noise, lasting, tied
from offing.diagnostics.plans import contradicted, holds_target, unused
from offing.diagnostics.rank import left_out
from offing.diagnostics.residual_tests import autocorrelation

__all__ = [
    "after_choice",
    "autocorrelation",
    "bent",
    "beyond_range",
    "beyond_target",
    "bounds_met",
    "contradicted",
    "crooked",
    "crowded",
    "drifting",
    "entangled",
    "exact",
    "holds_target",
    "identities",
    "influential",
    "jumps",
    "lagged_noise",
    "lasting",
    "left_out",
    "missing_drivers",
    "surprises",
    "tied",
    "uneven",
    "unidentified_shapes",
    "uninformative",
    "unused",
    "wide_on_log_scale",
]
