"""Results as the rows of the contract's files: the key columns ``series, model, scenario`` first."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import pandas as pd

from offing.base import InputError, Treatment
from offing.evaluation import Combination, Screening
from offing.evaluation.fold_results import SHOWN
from offing.explain import (
    Exceedance,
    HolidayEffects,
    LagCurve,
    Nowcast,
    Reconciled,
    SeasonIndices,
    Split,
    Totals,
    TrendPath,
)
from offing.model import Contributions, Forecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.writers.files import iso_words

#: The scenario of a forecast that was brought to stated totals.
RECONCILED = "reconciled"

_TREATMENT = ["source", "column", "period", "before", "after", "reason"]


def coefficient_rows(fit: Fitted) -> pd.DataFrame:
    """Rows of ``coefficients.csv``."""
    return keyed(fit.coefficients, fit, "")


def screening_rows(found: Screening) -> pd.DataFrame:
    """Rows of ``screening.csv``: one a size."""
    rows = found.table.assign(proposed=found.table["size"] == found.size)
    return keyed(rows, found.base, "")


def stability_rows(found: Screening) -> pd.DataFrame:
    """Rows of ``stability.csv``: one a candidate."""
    return keyed(found.stability, found.base, "")


def weight_rows(found: LagCurve, fit: Fitted) -> pd.DataFrame:
    """Rows of ``weights.csv``: one a lag of a driver."""
    rows = found.table.copy()
    rows.insert(0, "term", found.driver)
    return keyed(rows, fit, "")


def running_rows(found: Nowcast) -> pd.DataFrame:
    """Rows of ``running.csv``: one a date."""
    fit = found.forecasts[-1].fit
    rows = found.table.reset_index(names="origin").assign(period=iso(found.forecasts[-1].axis.index[-1:], fit)[0])
    rows["origin"] = iso(rows["origin"], fit)
    head = ["origin", "period"]
    return keyed(rows[[*head, *(name for name in rows.columns if name not in head)]], fit, AS_PLANNED)


def release_rows(found: Nowcast) -> pd.DataFrame:
    """Rows of ``releases.csv``: what moved the estimate from one date to the next."""
    fit = found.forecasts[-1].fit
    rows = found.steps.copy()
    for column in ("from", "to", "released"):
        rows[column] = ["" if pd.isna(each) else iso([each], fit)[0] for each in rows[column]]
    return keyed(rows, fit, AS_PLANNED)


def combined_rows(found: Combination) -> pd.DataFrame:
    """Rows of ``combined.csv``: one a period and member, and one for the mean of all."""
    fit = next(iter(found.members.values())).fit
    weights = {**dict(zip(found.members, found.pointwise.T, strict=True)), "combined": 1.0}
    parts = [
        pd.DataFrame({"period": iso(found.axis.index, fit), "member": name, "weight": weights[name],
                      "forecast": found.table[name].to_numpy()})
        for name in found.table.columns
    ]  # fmt: skip
    rows = keyed(pd.concat(parts, ignore_index=True), fit, AS_PLANNED)
    return rows.assign(model="all")


def combined_forecast_rows(found: Combination) -> pd.DataFrame:
    """Rows of ``forecast.csv`` of a combination, whose model is called ``all``."""
    first = next(iter(found.members.values()))
    table = pd.DataFrame({"horizon": first.table["horizon"], "forecast": found.mean}).join(found.at(SHOWN))
    rows = _stamped(table, first.fit)
    rows.insert(0, "origin", iso([first.origin], first.fit)[0])
    return keyed(rows, first.fit, AS_PLANNED).assign(model="all")


def combined_contribution_rows(found: Combination) -> pd.DataFrame:
    """Rows of ``contributions.csv`` of a combination, whose model is called ``all``."""
    first = next(iter(found.members.values()))
    return contribution_rows(found.contributions, first.fit, of_forecast=True).assign(model="all")


def fitted_rows(fit: Fitted) -> pd.DataFrame:
    """Rows of ``fitted.csv``."""
    return keyed(_stamped(fit.fitted, fit), fit, "")


def forecast_rows(forecast: Forecast) -> pd.DataFrame:
    """Rows of ``forecast.csv``: origin, period, horizon, forecast and the contract's quantiles."""
    table = forecast.table[["horizon", "forecast"]].join(forecast.quantiles(SHOWN))
    # Quantiles that the user asked for beside those of the contract come after them.
    table = table.join(forecast.table[[name for name in forecast.table.columns if name not in table.columns]])
    rows = _stamped(table, forecast.fit)
    rows.insert(0, "origin", iso([forecast.origin], forecast.fit)[0])
    return keyed(rows, forecast.fit, forecast.scenario)


def reconciled_rows(reconciled: Reconciled) -> pd.DataFrame:
    """Rows of ``forecast.csv`` of a forecast that was brought to stated totals."""
    forecast = reconciled.forecast
    table = pd.DataFrame({"horizon": forecast.table["horizon"], "forecast": reconciled.mean}).join(
        reconciled.quantiles()
    )
    rows = _stamped(table, forecast.fit)
    rows.insert(0, "origin", iso([forecast.origin], forecast.fit)[0])
    return keyed(rows, forecast.fit, RECONCILED)


def chance_rows(found: Exceedance) -> pd.DataFrame:
    """Rows of ``chances.csv``: one a period, or one of the total."""
    fit = found.paths.forecast.fit
    periods = iso(found.paths.axis.index, fit)
    rows = pd.DataFrame({
        "threshold": found.threshold, "side": found.side, "of": "total" if found.total else "period",
        "period": periods[:1] if found.total else periods, "chance": found.by_period.to_numpy(),
        "first": found.first.to_numpy(),
    })  # fmt: skip
    return keyed(rows, fit, AS_PLANNED)


def split_rows(found: Split, fit: Fitted) -> pd.DataFrame:
    """Rows of ``allocated.csv``: one a period of each total."""
    return keyed(_stamped(found.table, fit), fit, "")


def total_rows(found: Totals, fit: Fitted) -> pd.DataFrame:
    """Rows of ``totals.csv``: one a year, or other group, by its name."""
    rows = found.table.reset_index(drop=True)
    rows.insert(0, "measure", "average" if found.average else "sum")
    rows.insert(1, "by", found.axis.frequency.unit)
    rows.insert(2, "period", found.axis.labels())
    return keyed(rows, fit, AS_PLANNED)


def trend_rows(found: TrendPath, fit: Fitted) -> pd.DataFrame:
    """Rows of ``trend.csv``: one a period."""
    rows = _stamped(found.path.rename(columns={"trend": "value"}), fit)
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, AS_PLANNED)


def bend_rows(found: TrendPath, fit: Fitted) -> pd.DataFrame:
    """Rows of ``bends.csv``: one a slope change."""
    rows = found.table.copy()
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, "")


def holiday_rows(found: HolidayEffects, fit: Fitted) -> pd.DataFrame:
    """Rows of ``holidays.csv``: one a holiday and day around it."""
    rows = found.table.copy()
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, "")


def contribution_rows(
    contributions: Contributions, fit: Fitted, *, of_forecast: bool, scenario: str = AS_PLANNED
) -> pd.DataFrame:
    """Rows of ``contributions.csv``; periods whose drivers are unknown have none."""
    rows = contributions.table.dropna(subset="contribution")
    rows = rows.assign(period=iso(rows["period"], fit))
    return keyed(rows, fit, scenario if of_forecast else "")


def index_rows(found: SeasonIndices, fit: Fitted) -> pd.DataFrame:
    """Rows of ``indices.csv``: one a position of the season."""
    rows = found.table.copy()
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, "")


def treatment_rows(fit: Fitted) -> pd.DataFrame:
    """Rows of ``treatments.csv``."""
    rows = pd.DataFrame([_treated(entry) for entry in fit.treatments], columns=_TREATMENT)
    return keyed(rows, fit, "")


def left_out_rows(left_out: Mapping[str, InputError]) -> pd.DataFrame:
    """Rows of ``treatments.csv`` for series that have no result."""
    rows = [
        {"series": name, "model": "", "scenario": "", "source": error.file or "", "column": error.column or "",
         "period": error.period or "", "before": "the series", "after": "left out", "reason": error.found}
        for name, error in left_out.items()
    ]  # fmt: skip
    return pd.DataFrame(rows)


def _treated(entry: Treatment) -> list[str]:
    return [getattr(entry, name) for name in _TREATMENT]


def _stamped(table: pd.DataFrame, fit: Fitted) -> pd.DataFrame:
    """The index of period starts as a first column ``period`` of ISO 8601 text."""
    rows = table.reset_index(drop=True)
    rows.insert(0, "period", iso(table.index, fit))
    return rows


def iso(stamps: Iterable[pd.Timestamp], fit: Fitted) -> list[str]:
    """Starts of periods: dates where the clock says nothing more, else with the time and the zone's offset."""
    frequency = fit.axis.frequency
    # Rows of several terms repeat the periods: each is written once.
    codes, once = pd.factorize(pd.DatetimeIndex(stamps))  # type: ignore[arg-type]
    timed = frequency.unit == "hour" or frequency.zone is not None
    words = iso_words(pd.DatetimeIndex(once), timed=timed)
    found: list[str] = words[codes].tolist() if len(words) else []
    return found


def keyed(rows: pd.DataFrame, fit: Fitted, scenario: str) -> pd.DataFrame:
    """The rows behind the key columns that all files begin with."""
    keys = {"series": fit.series_name, "model": fit.model.name, "scenario": scenario}
    return pd.concat([pd.DataFrame(keys, index=rows.index), rows], axis=1)
