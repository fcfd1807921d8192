"""The pieces of a model. Each learns what it needs from a view and then makes columns for any periods."""

from offing.terms.category import Category
from offing.terms.driver import Driver, drivers_of
from offing.terms.event import Event
from offing.terms.holidays import Holidays
from offing.terms.interaction import Interaction
from offing.terms.lag_weights import LagWeights, options, undecided
from offing.terms.outlier_dummies import Pulses
from offing.terms.own_lags import OwnLags
from offing.terms.registry import TERMS, register_term, term_kinds
from offing.terms.season import Season
from offing.terms.term import (
    STATED,
    Block,
    Choice,
    Constraints,
    Curve,
    FutureColumns,
    Readout,
    Reference,
    Shaped,
    Term,
    WalkSteps,
    Written,
    naming_term,
)
from offing.terms.trend import Trend
from offing.terms.working_time import WorkingTime

__all__ = [
    "STATED",
    "TERMS",
    "Block",
    "Category",
    "Choice",
    "Constraints",
    "Curve",
    "Driver",
    "Event",
    "FutureColumns",
    "Holidays",
    "Interaction",
    "LagWeights",
    "OwnLags",
    "Pulses",
    "Readout",
    "Reference",
    "Season",
    "Shaped",
    "Term",
    "Trend",
    "WalkSteps",
    "WorkingTime",
    "Written",
    "drivers_of",
    "naming_term",
    "options",
    "register_term",
    "term_kinds",
    "undecided",
]
