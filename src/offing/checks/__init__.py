"""Findings: remarks in plain language, made from arrays and names."""

from offing.checks.design import left_out
from offing.checks.influence import copies, crowded, entangled, influential, uneven
from offing.checks.jumps import jumps
from offing.checks.ranges import beyond_range
from offing.checks.residuals import autocorrelation
from offing.checks.rows import missing_drivers
from offing.checks.shapes import untold_shapes
from offing.checks.wishes import after_choice, bounds_met, surprises

__all__ = [
    "after_choice",
    "autocorrelation",
    "beyond_range",
    "bounds_met",
    "copies",
    "crowded",
    "entangled",
    "influential",
    "jumps",
    "left_out",
    "missing_drivers",
    "surprises",
    "uneven",
    "untold_shapes",
]
