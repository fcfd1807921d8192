"""The classes of what Offing answers, for annotations and `isinstance`; functions and methods make them.

>>> import pandas as pd, offing as of
>>> sold = pd.Series([3.0, 4.0, 6.0, 6.5], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
>>> isinstance(of.Model("sold").fit(sold), of.results.Fit)
True
"""

from __future__ import annotations

from offing.archiving.archive import Archive
from offing.archiving.archived import ArchivedForecast
from offing.base import Finding, Treatment
from offing.drafting import Draft
from offing.evaluation import (
    Backtest,
    ByHorizon,
    CalibratedForecast,
    Calibration,
    Change,
    Combination,
    Comparison,
    ExternalForecast,
    MemberWeights,
    Screening,
    Search,
    TermGain,
    Timeline,
)
from offing.explain import (
    AdjustedForecast,
    CycleShape,
    Exceedance,
    HolidayEffects,
    Importance,
    Inputs,
    LagCurve,
    LagProfile,
    Nowcast,
    ParameterStability,
    Paths,
    Reconciled,
    Residuals,
    Response,
    Scenarios,
    SeasonIndices,
    Sensitivity,
    Solution,
    Split,
    Stock,
    Story,
    TermTests,
    Totals,
    TrendPath,
    VarianceShares,
    Walk,
    YearOfDays,
)
from offing.explain.monitoring import Monitoring
from offing.inspection import Survey
from offing.model import Contributions, Effects, Elasticities, Fit, Forecast
from offing.model.direct_forecast import DirectForecast
from offing.study import Study
from offing.tables import Panel, Table

__all__ = [
    "AdjustedForecast",
    "Archive",
    "ArchivedForecast",
    "Backtest",
    "ByHorizon",
    "CalibratedForecast",
    "Calibration",
    "Change",
    "Combination",
    "Comparison",
    "Contributions",
    "CycleShape",
    "DirectForecast",
    "Draft",
    "Effects",
    "Elasticities",
    "Exceedance",
    "ExternalForecast",
    "Finding",
    "Fit",
    "Forecast",
    "HolidayEffects",
    "Importance",
    "Inputs",
    "LagCurve",
    "LagProfile",
    "MemberWeights",
    "Monitoring",
    "Nowcast",
    "Panel",
    "ParameterStability",
    "Paths",
    "Reconciled",
    "Residuals",
    "Response",
    "Scenarios",
    "Screening",
    "Search",
    "SeasonIndices",
    "Sensitivity",
    "Solution",
    "Split",
    "Stock",
    "Story",
    "Study",
    "Survey",
    "Table",
    "TermGain",
    "TermTests",
    "Timeline",
    "Totals",
    "Treatment",
    "TrendPath",
    "VarianceShares",
    "Walk",
    "YearOfDays",
]
