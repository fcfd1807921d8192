"""Counts, shares of variance and cycles of series, as tables."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.calendar import Axis, Frequency, cycle_of
from offing.engine import least_squares, peaks
from offing.tables import Panel, Table
from offing.tables.outliers import Judged
from offing.tables.treatments import missing_runs

#: Cycles worth naming at each frequency, the longest first, and how many pairs of harmonics stand for each at most.
CYCLES: dict[str, tuple[tuple[str, int], ...]] = {
    "hour": (("year", 3), ("week", 0), ("day", 12)),
    "day": (("year", 6), ("week", 3)),
    "business day": (("year", 6), ("week", 2)),
    "week": (("year", 8),),
    "month": (("year", 6),),
    "quarter": (("year", 2),),
    "year": (),
}


def flat(tables: Mapping[str, Table | Panel]) -> list[tuple[str, str, Table]]:
    """Source, series id and Table of every series."""
    return [
        (name, series, each)
        for name, table in tables.items()
        for series, each in (table.items() if isinstance(table, Panel) else [("", table)])
    ]


def overview(
    tables: Mapping[str, Table | Panel], outliers: pd.DataFrame, judged: set[tuple[str, str, str]]
) -> pd.DataFrame:
    """One row per series and column: periods, range, what is missing or zero, and outliers where they were looked for.

    Parameters
    ----------
    outliers
        The table of outliers, and in `judged` source, series and column of all values that it is about.
    """
    rows = []
    far = outliers.groupby(["source", "id", "column"]).size().to_dict()
    for source, series, table in flat(tables):
        for column, values in table.columns.items():
            known = values[np.isfinite(values)]
            place = (source, series, column)
            lows = [float(f(known)) if len(known) else np.nan for f in (np.min, np.median, np.max)]
            rows.append(
                {
                    "source": source,
                    "id": series,
                    "column": column,
                    "unit": table.units.get(column, ""),
                    "frequency": table.axis.frequency.unit,
                    "first": table.axis.labels()[0],
                    "last": table.axis.labels()[-1],
                    "periods": table.axis.n,
                    "missing": int(np.isnan(values).sum()),
                    "zeros": int((known == 0.0).sum()),
                    "outliers": float(far.get(place, 0)) if place in judged else np.nan,
                    "min": lows[0],
                    "median": lows[1],
                    "max": lows[2],
                }
            )
    return pd.DataFrame(rows)


def outliers(place: tuple[str, str, str], axis: Axis, values: Array, judged: Judged | None) -> pd.DataFrame:
    """One row per outlier, the farthest first: ``source, id, column, period, value, usual, score``."""
    at = np.array([], dtype=np.intp) if judged is None else judged.beyond()
    rows = [
        (*place, axis.part(i, i + 1).labels()[0], values[i], judged.usual[i], judged.scores[i])
        for i in at.tolist()
        if judged is not None
    ]
    found = pd.DataFrame(rows, columns=["source", "id", "column", "period", "value", "usual", "score"])
    return found.sort_values("score", key=np.abs, ascending=False, ignore_index=True)


def gaps(source: str, series: str, column: str, axis: Axis, values: Array) -> pd.DataFrame:
    """One row a run of missing values between known ones: ``source, id, column, from, to, periods``."""
    known = np.flatnonzero(np.isfinite(values))
    low, high = (int(known[0]), int(known[-1]) + 1) if len(known) else (0, 0)
    rows = []
    for start, length in missing_runs(values[low:high]):
        labels = axis.part(low + start, low + start + length).labels()
        rows.append((source, series, column, labels[0], labels[-1], length))
    return pd.DataFrame(rows, columns=["source", "id", "column", "from", "to", "periods"])


def cycle_columns(axis: Axis, cycle: str, most: int) -> Array:
    """Columns (n, k) of a named cycle: harmonics, or the hours of the week where `most` is 0."""
    if cycle == "week" and axis.frequency.unit == "hour":
        week = cycle_of("week", axis.frequency, "day").positions(axis)
        day = cycle_of("day", axis.frequency).positions(axis)
        return np.asarray(np.eye(168)[24 * week + day][:, 1:])
    found = cycle_of(cycle, axis.frequency)
    pairs = min(most, found.harmonics_at_most)
    angles = 2.0 * np.pi * np.outer(found.phases(axis), np.arange(1, pairs + 1))
    return np.hstack([np.sin(angles), np.cos(angles)])


def seen_cycles(axis: Axis) -> dict[str, float]:
    """How often each named cycle is seen in `axis`."""
    a_year = axis.frequency.periods_a_year
    return {
        cycle: axis.n * Frequency(cycle).periods_a_year / a_year  # type: ignore[arg-type]
        for cycle, _ in CYCLES[axis.frequency.unit]
    }


def trend_columns(axis: Axis) -> Array:
    """A line that may bend each year, (n, k)."""
    years = np.arange(axis.n) / axis.frequency.periods_a_year
    bends = np.arange(1.0, np.floor(years[-1] - 0.5) + 1.0) if axis.n > 1 else np.array([])
    return np.column_stack([years, np.maximum(years[:, None] - bends[:12], 0.0)])


def variance_shares(axis: Axis, values: Array) -> pd.DataFrame:
    """Shares of the variance of `values` (n,) that the trend and each cycle seen twice take: ``part, share``.

    A part's share is its covariance with the series over the series' variance (Pratt 1987), all fitted together; the
    shares and that of the rest add up to 1.
    """
    known = np.isfinite(values)
    parts = {"trend": trend_columns(axis)}
    seen = seen_cycles(axis)
    for cycle, most in CYCLES[axis.frequency.unit]:
        if seen[cycle] >= 2.0:
            parts[f"cycle of a {cycle}"] = cycle_columns(axis, cycle, most)
    design = np.column_stack([np.ones(axis.n), *parts.values()])
    y = values[known]
    variance = float(np.var(y)) if len(y) else 0.0
    if len(y) <= design.shape[1] + 2 or variance == 0.0:
        return pd.DataFrame({"part": [], "share": []})
    beta = least_squares(design[known], y).beta
    shares, at = {}, 1
    for name, columns in parts.items():
        component = columns[known] @ beta[at : at + columns.shape[1]]
        shares[name] = float(np.mean((component - component.mean()) * (y - y.mean()))) / variance
        at += columns.shape[1]
    shares["rest"] = 1.0 - sum(shares.values())
    return pd.DataFrame({"part": list(shares), "share": list(shares.values())})


def found_cycles(axis: Axis, values: Array) -> pd.DataFrame:
    """Cycles that stand out, whether the calendar names them or not: ``periods, name, share, seen, verdict``."""
    known = np.flatnonzero(np.isfinite(values))
    if len(known) < 16:
        return pd.DataFrame(columns=["periods", "name", "share", "seen", "verdict"])
    inner = values[known[0] : known[-1] + 1]
    at = np.arange(len(inner))
    filled = np.interp(at, at[np.isfinite(inner)], inner[np.isfinite(inner)])
    # A trend that bends each year would take a part of the year's cycle with it.
    design = np.vander(at / len(at), 3)
    rest = filled - design @ np.linalg.lstsq(design, filled, rcond=None)[0]
    rows = []
    for peak in peaks(rest):
        seen = len(inner) / peak.length
        name = _calendar_name(peak.length, len(inner), axis.frequency)
        verdict = "usable" if seen >= 2.0 else "refused: seen less than twice"
        rows.append((peak.length, name, peak.share, seen, verdict))
    return pd.DataFrame(rows, columns=["periods", "name", "share", "seen", "verdict"])


def _calendar_name(length: float, n: int, frequency: Frequency) -> str:
    """What the calendar calls a cycle of this length, as far as `n` periods can separate it from others."""
    for unit in ("year", "quarter", "month", "week", "day"):
        periods = frequency.periods_a_year / Frequency(unit).periods_a_year
        for parts, words in ((1, f"a {unit}"), (2, f"half a {unit}"), (3, f"a third of a {unit}")):
            if periods / parts > 1.9 and abs(1.0 / length - parts / periods) < 0.7 / n:
                return words
    return ""
