"""How good forecasts were whose outcomes are known by now: archived ones, plain references, and those of others."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from offing.archiving.archived import ArchivedForecast
from offing.base.arrays import Array
from offing.calendar.axis import instant_of
from offing.engine import binomial_limits
from offing.evaluation import ExternalForecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED

if TYPE_CHECKING:
    from offing.archiving.archive import Archive


#: The intervals whose shares are counted, by their level and the quantiles at their ends.
INTERVALS = {50: ("q0.25", "q0.75"), 80: ("q0.1", "q0.9"), 95: ("q0.025", "q0.975")}


COLUMNS = ["by", "horizon", "forecasts", "MAE", "RMSE", "bias", "inside50"]


COLUMNS += [f"{key}{level}" for level in (80, 95) for key in ("inside", "low", "high")]


def scored(by: str, horizon: str, rows: pd.DataFrame) -> tuple[Any, ...]:
    """A row of scores, under `COLUMNS`, of some rows of `forecast_errors`."""
    errors = (rows["actual"] - rows["forecast"]).to_numpy(dtype=float)
    found = [
        by,
        horizon,
        len(rows),
        float(np.abs(errors).mean()),
        float(np.sqrt(np.square(errors).mean())),
        float(errors.mean()),
    ]
    for level, (low, high) in INTERVALS.items():
        known = rows[rows[low].notna()]
        inside = int(((known["actual"] >= known[low]) & (known["actual"] <= known[high])).sum())
        share = inside / len(known) if len(known) else np.nan
        limits = binomial_limits(inside, len(known)) if len(known) else (np.nan, np.nan)
        found += [share] if level == 50 else [share, *limits]
    return tuple(found)


def forecast_errors(fit: Fitted, archive: Archive | None, external: Sequence[ExternalForecast]) -> pd.DataFrame:
    """One row a forecast of a period whose outcome is known: archived ones, references, and those made elsewhere."""
    ends = [each for pair in INTERVALS.values() for each in pair]
    columns = ["by", "origin", "period", "horizon", "actual", "forecast", *ends]
    actual = pd.Series(fit.target, fit.axis.ordinals)
    rows: list[dict[str, Any]] = []
    references: list[dict[str, Any]] = []
    seen: set[str] = set()
    kept = [] if archive is None else archive.forecasts(series=fit.series_name)
    for each in kept:
        if each.frequency != fit.axis.frequency:
            continue
        by = each.model if each.scenario == AS_PLANNED else f"{each.model} ({each.scenario})"
        known = actual.reindex(each.axis.ordinals).to_numpy(dtype=np.float64)
        for i in np.flatnonzero(np.isfinite(known)).tolist():
            cells = {name: float(each.values[name].iloc[i]) for name in ("forecast", *ends)}
            rows.append({"by": by, **_place(each, i), "actual": float(known[i]), **cells})
        if each.origin not in seen:
            seen.add(each.origin)
            references += _references(each, actual, np.asarray(known))
    for other in external:
        rows += _outside(other, fit, actual)
    return pd.DataFrame([*rows, *references], columns=columns)


def _place(each: ArchivedForecast, i: int) -> dict[str, Any]:
    return {"origin": each.origin, "period": str(each.values["period"].iloc[i]), "horizon": i + 1}


def _references(each: ArchivedForecast, actual: pd.Series, known: Array) -> list[dict[str, Any]]:
    """The last value before a forecast, and the value a year before, for its periods."""
    past = actual[(actual.index < each.axis.first) & actual.notna()]
    year = each.frequency.year_back
    found = []
    for i in np.flatnonzero(np.isfinite(known)).tolist():
        ordinal = each.axis.first + i
        back = next((ordinal - n * year for n in (1, 2, 3) if ordinal - n * year in past.index), None)
        said = {
            "last value": None if past.empty else float(past.iloc[-1]),
            "year before": None if back is None else past[back],
        }
        found += [
            {"by": f"reference: {name}", **_place(each, i), "actual": float(known[i]), "forecast": float(value)}
            for name, value in said.items()
            if value is not None
        ]
    return found


def _outside(other: ExternalForecast, fit: Fitted, actual: pd.Series) -> list[dict[str, Any]]:
    """The forecasts of others whose outcomes are known and came after they were made."""
    rows = other.rows
    if "series" in rows:
        rows = rows[rows["series"].astype(str) == fit.series_name]
    frequency, found = fit.axis.frequency, []
    for origin, period, value in rows[["origin", "period", "forecast"]].itertuples(index=False):
        ordinal = int(frequency.ordinals(instant_of(period, frequency))[0])
        made = int(frequency.ordinals(instant_of(origin, frequency))[0])
        outcome = actual.get(ordinal, np.nan)
        if np.isfinite(outcome):
            place = {"origin": str(origin), "period": str(period), "horizon": ordinal - made + 1}
            found.append({"by": other.name, **place, "actual": float(outcome), "forecast": float(value)})
    return found
