"""`figure`: one function a kind of result."""

from __future__ import annotations

from functools import singledispatch

from offing.base import InputError
from offing.drafting import Draft
from offing.draw.contributions import draw_contributions
from offing.draw.cycle import draw_cycle
from offing.draw.draft import draw_draft
from offing.draw.effects import draw_effects
from offing.draw.holidays import draw_holidays
from offing.draw.indices import draw_indices
from offing.draw.judging import (
    draw_backtest,
    draw_by_horizon,
    draw_calibration,
    draw_comparison,
    draw_member_weights,
    draw_search,
    draw_timeline,
)
from offing.draw.lag_weights import draw_lag_weights
from offing.draw.residuals import draw_residuals, draw_stability
from offing.draw.responses import draw_lag_profile, draw_response
from offing.draw.running import draw_combination, draw_inputs, draw_running
from offing.draw.screening import draw_screening
from offing.draw.series import draw_fit, draw_forecast
from offing.draw.style import Picture, styled, unbroken_dates
from offing.draw.survey import (
    draw_coverage,
    draw_echoes,
    draw_history,
    draw_scatter,
    draw_seasons,
    draw_years,
)
from offing.draw.totals import draw_agreed, draw_reach, draw_split, draw_totals
from offing.draw.trend import draw_trend
from offing.draw.walks import draw_walk
from offing.draw.what_if import draw_scenarios, draw_sensitivity, draw_year_of_days
from offing.evaluation import (
    Backtest,
    ByHorizon,
    Calibration,
    Combination,
    Comparison,
    MemberWeights,
    Screening,
    Search,
    Timeline,
)
from offing.explain import (
    CycleShape,
    Exceedance,
    HolidayEffects,
    Inputs,
    LagCurve,
    LagProfile,
    Nowcast,
    ParameterStability,
    Reconciled,
    Residuals,
    Response,
    Scenarios,
    SeasonIndices,
    Sensitivity,
    Split,
    Totals,
    TrendPath,
    Walk,
    YearOfDays,
)
from offing.inspection import Coverage, Echoes, History, Scatter, Seasons, Survey, Years
from offing.model import Contributions, Effects, Fit, Forecast


def figure(result: object) -> Picture:
    """Draw a result: a fit, a forecast, contributions, effects, or a view of a survey.

    Parameters
    ----------
    result
        A `Fit` (history and fitted line), a `Forecast` (history and fan), `Contributions` (signed stacks),
        `Effects` (what each driver does), `TrendPath`, `CycleShape`, `HolidayEffects`, `SeasonIndices` (a table),
        `Totals` (years), a `Response`, `LagProfile` or `LagCurve` of a driver, the `Inputs` of a period, a
        `Nowcast`, a `Combination`, `Residuals` from one side, `ParameterStability`, a
        `Screening`, a `Backtest` (forecasts of all origins over the history) or its ``by_horizon()``, ``timeline`` or
        ``member_weights()``, a `Comparison`, a `Calibration`, a `Search`, an `Exceedance`, a `Split`, a
        `Reconciled` forecast, a `Walk` (a waterfall, or a stack a span), `Scenarios`, a `Sensitivity`, a `YearOfDays`,
        a `Draft`, or a view of a `Survey`: its ``history``, ``years``, ``seasons``, ``scatter``, ``echoes`` or
        ``coverage``. A survey itself is drawn as its history.

    Returns
    -------
    Picture
        A Matplotlib figure of 12.8 x 8 inches, shown by notebooks and saved with ``savefig``.

    Raises
    ------
    InputError
        If there is no figure of such a thing, or nothing to draw.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 4.0, 6.0, 6.5], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> of.figure(of.Model("sold", terms=[of.Trend()]).fit(sold)).get_size_inches().tolist()
    [12.8, 8.0]
    """
    with styled():
        return unbroken_dates(_draw(result))


@singledispatch
def _draw(result: object) -> Picture:
    raise InputError(
        f"there is no figure of a {type(result).__name__}",
        "Give a Fit, a Forecast, Contributions, Effects or a view of a Survey.",
    )


_draw.register(Fit, draw_fit)
_draw.register(Forecast, draw_forecast)
_draw.register(Contributions, draw_contributions)
_draw.register(Effects, draw_effects)
_draw.register(Response, draw_response)
_draw.register(LagProfile, draw_lag_profile)
_draw.register(LagCurve, draw_lag_weights)
_draw.register(Inputs, draw_inputs)
_draw.register(Nowcast, draw_running)
_draw.register(Combination, draw_combination)
_draw.register(Residuals, draw_residuals)
_draw.register(ParameterStability, draw_stability)
_draw.register(Screening, draw_screening)
_draw.register(Backtest, draw_backtest)
_draw.register(ByHorizon, draw_by_horizon)
_draw.register(Comparison, draw_comparison)
_draw.register(Calibration, draw_calibration)
_draw.register(Search, draw_search)
_draw.register(MemberWeights, draw_member_weights)
_draw.register(Timeline, draw_timeline)
_draw.register(SeasonIndices, draw_indices)
_draw.register(CycleShape, draw_cycle)
_draw.register(TrendPath, draw_trend)
_draw.register(HolidayEffects, draw_holidays)
_draw.register(Totals, draw_totals)
_draw.register(Split, draw_split)
_draw.register(Exceedance, draw_reach)
_draw.register(Reconciled, draw_agreed)
_draw.register(Walk, draw_walk)
_draw.register(Scenarios, draw_scenarios)
_draw.register(Sensitivity, draw_sensitivity)
_draw.register(YearOfDays, draw_year_of_days)
_draw.register(Draft, draw_draft)
_draw.register(History, draw_history)
_draw.register(Years, draw_years)
_draw.register(Seasons, draw_seasons)
_draw.register(Scatter, draw_scatter)
_draw.register(Echoes, draw_echoes)
_draw.register(Coverage, draw_coverage)
_draw.register(Survey, lambda survey: draw_history(survey.history))
