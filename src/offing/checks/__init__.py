"""Findings: remarks in plain language, made from arrays and names."""

from offing.checks.design import left_out
from offing.checks.influence import crowded, entangled, influential, uneven
from offing.checks.jumps import jumps
from offing.checks.leaks import exact, identities, uninformative
from offing.checks.noise import bent, crooked, drifting, lagged_noise, lasting, tied
from offing.checks.plans import contradicted, holds_target, unused
from offing.checks.ranges import beyond_range, beyond_target, wide_on_log_scale
from offing.checks.residuals import autocorrelation
from offing.checks.rows import missing_drivers
from offing.checks.shapes import untold_shapes
from offing.checks.wishes import after_choice, bounds_met, surprises

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
    "uninformative",
    "untold_shapes",
    "unused",
    "wide_on_log_scale",
]
