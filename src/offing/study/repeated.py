"""What has changed since the run whose results lie in a folder: rows, revised values, the plan, and so the forecast."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from offing.archiving.archived import QUANTILES, ArchivedForecast
from offing.base import InputError, count
from offing.base.text import number, wrapped
from offing.explain import walk
from offing.model import Fit, Forecast
from offing.model.forecast import AS_PLANNED
from offing.model.rows import driver_rows, fitted_rows, iso
from offing.study.study import Study
from offing.writers import whole

#: Fits whose changes stand one by one, and revised values that are named.
_FITS, _NAMED = 3, 3
#: Values that differ by a smaller share are the same but for how a file writes them.
_SAME = 1e-12


@dataclass(frozen=True)
class Before:
    """The results that lie in a folder, as the run before has written them."""

    forecast: pd.DataFrame
    contributions: pd.DataFrame
    fitted: pd.DataFrame
    drivers: pd.DataFrame

    @classmethod
    def read(cls, folder: Path) -> Before | None:
        """The results in a folder; None where there are none of one whole run."""
        if not whole(folder):
            return None
        found = [_rows(folder, name) for name in ("forecast", "contributions", "fitted", "drivers")]
        forecast, contributions, fitted, drivers = found
        if forecast is None or contributions is None or fitted is None:
            return None
        return cls(forecast, contributions, fitted, pd.DataFrame() if drivers is None else drivers)

    def archived(self, ahead: Forecast) -> ArchivedForecast | None:
        """The forecast that stands there of the series and model of another one."""
        fit = ahead.fit
        rows, shares = (
            each[
                (each["series"].astype(str) == fit.series_name)
                & (each["model"].astype(str) == fit.model.name)
                & (each["scenario"] == AS_PLANNED)
            ]
            for each in (self.forecast, self.contributions)
        )
        if not len(rows):
            return None
        labels = {str(term.name): fit.label_of(term) for term in fit.model.terms}
        shares = shares.assign(label=[labels.get(name, name) for name in shares["term"]])
        columns = ["period", "horizon", "forecast", *QUANTILES]
        return ArchivedForecast(
            fit.series_name,
            fit.model.name,
            AS_PLANNED,
            fit.label,
            fit.unit,
            fit.axis.frequency,
            str(rows["origin"].iloc[0]),
            "",
            "",
            rows[columns].reset_index(drop=True),
            shares[["period", "term", "label", "contribution", "low", "high"]],
        )


def _rows(folder: Path, name: str) -> pd.DataFrame | None:
    """The rows of a file of the contract, as CSV or Parquet; None where it is not there."""
    if (folder / f"{name}.csv").exists():
        return pd.read_csv(folder / f"{name}.csv", dtype={"series": str, "model": str, "scenario": str})
    if (folder / f"{name}.parquet").exists():
        return pd.read_parquet(folder / f"{name}.parquet")
    return None


def changes_since(study: Study, folder: Path) -> str:
    """What has changed since the results in a folder were written; an empty text where there are none.

    Of each fit three lines, new rows, revised values and the plan, and the walk from the forecast that stands there.
    """
    try:
        before = Before.read(folder)
    except (OSError, ValueError, KeyError) as error:
        return f"The results in {folder} cannot be compared with: {type(error).__name__} on reading them."
    if before is None:
        return ""
    parts = []
    for name, ahead in list(study.forecasts.items())[:_FITS]:
        then = before.archived(ahead)
        if then is not None:
            head = f"Since the forecast of {then.origin}" + (f", {name}" if len(study.forecasts) > 1 else "")
            parts.append(f"{head}:\n" + "\n".join(_lines(study, name, ahead, before, then)))
    if len(study.forecasts) > _FITS:
        parts.append(f"{count(len(study.forecasts) - _FITS, 'more fit is', 'more fits are')} not compared one by one.")
    return "\n\n".join(parts)


def _lines(study: Study, name: str, ahead: Forecast, before: Before, then: ArchivedForecast) -> list[str]:
    """Rows, revised values, plan, and the walk."""
    fit = study.fits[name]
    lines = [_new_rows(fit, before), _revised(fit, before), _planned(ahead, before)]
    if then.origin == iso([ahead.origin], fit)[0] and np.array_equal(then.mean, ahead.mean):
        return [*map(wrapped, lines), "The forecast is the same."]
    try:
        walked = walk(ahead, then)
    except InputError as error:
        return [*map(wrapped, lines), wrapped(f"The forecasts cannot be compared: {error.found}.")]
    return [*map(wrapped, [*lines, walked.sentence, *walked.statements()])]


def _history(fit: Fit, before: Before) -> tuple[pd.Series, pd.Series]:
    """The target by period, as it was and as it is."""
    old = before.fitted
    old = old[(old["series"].astype(str) == fit.series_name) & (old["model"].astype(str) == fit.model.name)]
    then, now = (rows.set_index("period")["target"].astype(float) for rows in (old, fitted_rows(fit)))
    return then, now


def _new_rows(fit: Fit, before: Before) -> str:
    then, now = _history(fit, before)
    added = [period for period in now.index if period not in then.index and np.isfinite(now[period])]
    gone = int((~then.index.isin(now.index)).sum())
    lost = f" {count(gone, fit.axis.frequency.unit)} before {now.index[0]} are no longer there." if gone else ""
    if not added:
        return f"No new rows of {fit.label}.{lost}"
    return f"{count(len(added), f'new {fit.axis.frequency.unit}')} of {fit.label}, up to {added[-1]}.{lost}"


def _revised(fit: Fit, before: Before) -> str:
    then, now = _history(fit, before)
    both = then.index.intersection(now.index)
    moved = [period for period in both if _differs(then[period], now[period])]
    if not moved:
        return "No value of the past was revised."
    named = [f"{period} from {number(then[period], 6)} to {number(now[period], 6)}" for period in moved[:_NAMED]]
    more = f", and {len(moved) - _NAMED:,} more" if len(moved) > _NAMED else ""
    return f"{count(len(moved), 'value')} of the past revised: {', '.join(named)}{more}."


def _planned(ahead: Forecast, before: Before) -> str:
    """How the drivers' values of the periods ahead differ from those of the run before."""
    rows, old = driver_rows(ahead), before.drivers
    if not len(old) or not len(rows):
        return "No driver has a plan."
    keys = ["driver", "period"]
    old = old[
        (old["series"].astype(str) == ahead.fit.series_name)
        & (old["model"].astype(str) == ahead.fit.model.name)
        & (old["scenario"] == AS_PLANNED)
    ]
    both = rows.merge(old[[*keys, "value"]], on=keys, suffixes=("", "_before"))
    moved = both[[_differs(a, b) for a, b in zip(both["value_before"], both["value"], strict=True)]]
    if not len(moved):
        return "The plan of the drivers is the same."
    unit = ahead.axis.frequency.unit
    said = [f"'{name}' in {count(int(n), unit)}" for name, n in moved["driver"].value_counts(sort=False).items()]
    return f"The plan has changed: {', '.join(said)}."


def _differs(one: float, other: float) -> bool:
    if np.isnan(one) or np.isnan(other):
        return bool(np.isnan(one) != np.isnan(other))
    return abs(one - other) > _SAME * max(abs(one), abs(other))
