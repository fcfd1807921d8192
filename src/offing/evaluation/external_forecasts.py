"""Forecasts made elsewhere, as a table of origins, periods and values."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.calendar.axis import instant_of
from offing.evaluation.fold_results import PROBABILITIES, Run
from offing.evaluation.origins import Cuts
from offing.tables.sources import CsvFile

_QUANTILE = re.compile(r"q(0\.\d+)")


@dataclass(frozen=True)
class ExternalForecast:
    """A forecast that was made elsewhere. Made by `offing.external_forecast`.

    Attributes
    ----------
    name
        What it is called.
    rows
        ``origin, period, forecast``, ``series`` where there are several, and quantiles such as ``q0.1``.
    role
        ``candidate``, or ``reference`` that models are compared with.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> rows = pd.DataFrame({"origin": ["2024-05-01"], "period": ["2024-05"], "forecast": [5.0]})
    >>> of.external_forecast(rows, "planning office").name
    'planning office'
    """

    name: str
    rows: pd.DataFrame
    role: Literal["candidate", "reference"] = "candidate"


def external_forecast(
    rows: pd.DataFrame | str | Path, name: str, *, role: Literal["candidate", "reference"] = "candidate"
) -> ExternalForecast:
    """Take in a forecast that was made elsewhere.

    Parameters
    ----------
    rows
        A table or a CSV file with the columns ``origin`` (the date on which it was made), ``period`` (a date in the
        period that it is about) and ``forecast``; ``series`` where there are several, and quantiles such as ``q0.1`` if
        there are any.
    name
        What it is to be called.
    role
        ``candidate``; or ``reference``, so that models are compared with it.

    Raises
    ------
    InputError
        If a column is missing, or a value is no number.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> rows = pd.DataFrame({"origin": ["2024-05-01"], "period": ["2024-05"], "forecast": ["five"]})
    >>> of.external_forecast(rows, "planning office")
    Traceback (most recent call last):
    offing.base.errors.InputError: planning office, row 1, column 'forecast': found 'five', which is not a number.
    """
    file = name
    if role not in ("candidate", "reference"):
        raise InputError(f"found {role!r}", 'Give "candidate" or "reference".', key="role")
    if not isinstance(rows, pd.DataFrame):
        file = str(rows)
        rows = CsvFile(Path(rows), file).whole().fillna("")
    for column in ("origin", "period", "forecast"):
        if column not in rows.columns:
            raise InputError(
                f"there is no column {column!r}", nearest(column, [str(each) for each in rows.columns]), file=file
            )
    kept = rows.copy()
    for column in ["forecast", *(each for each in rows.columns if _QUANTILE.fullmatch(str(each)))]:
        kept[column] = _numbers(rows[column], file, str(column))
    return ExternalForecast(name, kept, role)


def _numbers(cells: pd.Series, file: str, column: str) -> Array:
    values = pd.to_numeric(cells.replace("", np.nan), errors="coerce").to_numpy(dtype=float)
    wrong = np.flatnonzero(~np.isfinite(values) & cells.notna().to_numpy() & (cells.astype(str) != "").to_numpy())
    if len(wrong):
        at = int(wrong[0])
        raise InputError(f"found {cells.iloc[at]!r}, which is not a number", file=file, row=at + 1, column=column)
    return values


def external_run(given: ExternalForecast, series: str, cuts: Cuts) -> Run:
    """What it says from every origin: of each period the newest forecast that was made by then, after the one before.

    Raises
    ------
    InputError
        If a date cannot be read, or it says nothing of any origin.
    """
    rows = given.rows
    if "series" in rows.columns and series:
        rows = rows[rows["series"].astype(str) == series]
    axis = cuts.table.axis
    origins = _instants(rows["origin"], given.name, "origin", cuts)
    periods = axis.frequency.ordinals(_instants(rows["period"], given.name, "period", cuts)) - axis.first
    forecasts = rows["forecast"].to_numpy(dtype=float)
    columns = {
        float(str(name)[1:]): rows[name].to_numpy(dtype=float)
        for name in rows.columns
        if _QUANTILE.fullmatch(str(name))
    }
    mean = np.full(cuts.rows.shape, np.nan)
    quantiles = {p: mean.copy() for p in columns}
    step = int(np.diff(cuts.moments).min()) if len(cuts.moments) > 1 else 2**62
    before = np.concatenate([[int(cuts.moments[0]) - step], cuts.moments[:-1]])
    for fold, (after, by) in enumerate(zip(before.tolist(), cuts.moments.tolist(), strict=True)):
        made = np.flatnonzero((origins > after) & (origins <= by))
        for i in made[np.argsort(origins[made], kind="stable")].tolist():
            at = int(periods[i]) - int(cuts.rows[fold, 0])
            if 0 <= at < cuts.plan.horizon:
                mean[fold, at] = forecasts[i]
                for p, values in columns.items():
                    quantiles[p][fold, at] = values[i]
    if not np.isfinite(mean).any():
        days = ", ".join(f"{day:%Y-%m-%d}" for day in cuts.origins[:3])
        raise InputError(
            f"nothing in it was made for the origins {days} ... and their periods",
            "Give forecasts made on these dates or shortly before.",
            file=given.name,
        )
    kind: Literal["reference", "external"] = "reference" if given.role == "reference" else "external"
    return Run(series, given.name, "ex-ante", kind, cuts, mean, _Interpolated(quantiles) if quantiles else None)


def _instants(cells: pd.Series, file: str, column: str, cuts: Cuts) -> np.ndarray:
    found = np.empty(len(cells), dtype=np.int64)
    seen: dict[str, int] = {}
    for i, cell in enumerate(cells.tolist()):
        key = str(cell)
        if key not in seen:
            try:
                seen[key] = int(instant_of(cell, cuts.table.axis.frequency)[0])
            except (ValueError, TypeError) as error:
                raise InputError(f"found {cell!r}, which is not a date", file=file, row=i + 1, column=column) from error
        found[i] = seen[key]
    return found


@dataclass(frozen=True)
class _Interpolated:
    """Quantiles at all probabilities from a few: straight between them; beyond the outermost there are none."""

    given: Mapping[float, Array]

    def __call__(self) -> Array:
        p = sorted(self.given)
        values = np.stack([self.given[each] for each in p], axis=-1)
        flat = values.reshape(-1, len(p))
        found = np.array([np.interp(PROBABILITIES, p, row, left=np.nan, right=np.nan) for row in flat])
        return found.reshape(*values.shape[:-1], len(PROBABILITIES))
