"""Offing: forecasts of sales and energy series, split into what each driver contributes.

>>> import offing as of
>>> of.Model("sold", scale="log", terms=[of.Trend(), of.Season("year", harmonics=3)]).name
'main'
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from offing.base import Finding, InputError, OffingError, Treatment
    from offing.calendar import Axis, Frequency
    from offing.draw import figure
    from offing.explain import (
        Agreed,
        CycleShape,
        HolidayEffects,
        Inputs,
        LagCurve,
        LagProfile,
        Residuals,
        Response,
        RunningEstimate,
        SeasonIndices,
        Shares,
        Split,
        Stability,
        TermTests,
        Totals,
        TrendPath,
        agree,
        cycle,
        holiday_effects,
        indices,
        inputs,
        lag_profile,
        lag_weights,
        residuals,
        response,
        running_estimate,
        shares,
        split,
        stability,
        term_tests,
        totals,
        trend,
    )
    from offing.judging import (
        Backtest,
        Combination,
        Comparison,
        Origins,
        Outside,
        Screening,
        backtest,
        candidates,
        combine,
        compare,
        outside,
        scores,
        screen,
    )
    from offing.model import Contributions, Effects, Elasticities, Fit, Forecast, Model, effects, elasticities
    from offing.study import Study, open_study
    from offing.survey import Survey, inspect
    from offing.tables import Panel, Table, Treat, aggregate, read
    from offing.terms import Category, Driver, Event, Holidays, Interaction, OwnLags, Season, Trend, WorkingTime

__version__ = "0.1.0"

#: The public names by the room that holds each. They are loaded when first used, so that importing the package
#: and asking the command line for help stay light.
_ROOMS = {
    "base": ("Finding", "InputError", "OffingError", "Treatment"),
    "calendar": ("Axis", "Frequency"),
    "draw": ("figure",),
    "explain": (
        "Agreed",
        "CycleShape",
        "HolidayEffects",
        "Inputs",
        "LagCurve",
        "LagProfile",
        "Residuals",
        "Response",
        "RunningEstimate",
        "SeasonIndices",
        "Shares",
        "Split",
        "Stability",
        "TermTests",
        "Totals",
        "TrendPath",
        "agree",
        "cycle",
        "holiday_effects",
        "indices",
        "inputs",
        "lag_profile",
        "lag_weights",
        "residuals",
        "response",
        "running_estimate",
        "shares",
        "split",
        "stability",
        "term_tests",
        "totals",
        "trend",
    ),
    "judging": (
        "Backtest",
        "Combination",
        "Comparison",
        "Origins",
        "Outside",
        "Screening",
        "backtest",
        "candidates",
        "combine",
        "compare",
        "outside",
        "scores",
        "screen",
    ),
    "model": ("Contributions", "Effects", "Elasticities", "Fit", "Forecast", "Model", "effects", "elasticities"),
    "study": ("Study", "open_study"),
    "survey": ("Survey", "inspect"),
    "tables": ("Panel", "Table", "Treat", "aggregate", "read"),
    "terms": ("Category", "Driver", "Event", "Holidays", "Interaction", "OwnLags", "Season", "Trend", "WorkingTime"),
}
_HOME = {name: room for room, names in _ROOMS.items() for name in names}

__all__ = [
    "Agreed",
    "Axis",
    "Backtest",
    "Category",
    "Combination",
    "Comparison",
    "Contributions",
    "CycleShape",
    "Driver",
    "Effects",
    "Elasticities",
    "Event",
    "Finding",
    "Fit",
    "Forecast",
    "Frequency",
    "HolidayEffects",
    "Holidays",
    "InputError",
    "Inputs",
    "Interaction",
    "LagCurve",
    "LagProfile",
    "Model",
    "OffingError",
    "Origins",
    "Outside",
    "OwnLags",
    "Panel",
    "Residuals",
    "Response",
    "RunningEstimate",
    "Screening",
    "Season",
    "SeasonIndices",
    "Shares",
    "Split",
    "Stability",
    "Study",
    "Survey",
    "Table",
    "TermTests",
    "Totals",
    "Treat",
    "Treatment",
    "Trend",
    "TrendPath",
    "WorkingTime",
    "__version__",
    "aggregate",
    "agree",
    "backtest",
    "candidates",
    "combine",
    "compare",
    "cycle",
    "effects",
    "elasticities",
    "figure",
    "holiday_effects",
    "indices",
    "inputs",
    "inspect",
    "lag_profile",
    "lag_weights",
    "open_study",
    "outside",
    "read",
    "residuals",
    "response",
    "running_estimate",
    "scores",
    "screen",
    "shares",
    "split",
    "stability",
    "term_tests",
    "totals",
    "trend",
]


def __getattr__(name: str) -> Any:
    if name not in _HOME:
        raise AttributeError(f"module 'offing' has no attribute {name!r}")
    value = getattr(import_module(f"offing.{_HOME[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
