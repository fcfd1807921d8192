"""Findings: remarks in plain language, made from arrays and names."""

from offing.checks.design import left_out
from offing.checks.jumps import jumps
from offing.checks.ranges import beyond_range
from offing.checks.residuals import autocorrelation
from offing.checks.rows import missing_drivers
from offing.checks.shapes import untold_shapes

__all__ = ["autocorrelation", "beyond_range", "jumps", "left_out", "missing_drivers", "untold_shapes"]
