"""A forecast in other shapes: a row a series, or just as somebody's sample has it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from offing.base import InputError, nearest
from offing.tables.sources import text_cells

_KEYS = ["series", "model", "scenario", "origin"]
#: A column of a sample that stands for a number of periods ahead: 1, h1, F12, step 3.
_HORIZON = re.compile(r"(?:[^\W\d]+[ _.-]?)?(\d{1,5})")


def wide(rows: pd.DataFrame, by: str) -> pd.DataFrame:
    """A row a series, model and scenario, and a column a period, called by its ``horizon`` or its ``date``."""
    column = rows["horizon"].map("h{:d}".format) if by == "horizon" else rows["period"]
    order = list(dict.fromkeys(column.sort_values(key=lambda each: rows.loc[each.index, "horizon"], kind="stable")))
    if by == "date":
        order = sorted(order)
    found = rows.assign(column=column).pivot_table("forecast", _KEYS, "column", sort=False)
    return found[order].rename_axis(columns=None).reset_index()


@dataclass(frozen=True)
class Sample:
    """A sample of the table that somebody asks for, and which of its columns are what.

    Attributes
    ----------
    file
        The sample, a CSV.
    series, period
        The columns of ids and of dates; by default those that hold series and periods of the forecast.
    forecast
        The column to be filled with forecasts, ``mean``, or of a quantile by its name; by default the one left over.
    filler
        What stands in rows that the forecast does not reach; by default such a sample is refused.
    """

    file: Path
    series: str | None = None
    period: str | None = None
    forecast: str | None = None
    filler: int | float | str | None = None

    def filled(self, rows: pd.DataFrame) -> pd.DataFrame:
        """The sample with its ids, columns and order, and the forecast's values.

        Raises
        ------
        InputError
            If the sample cannot be read, it is not clear what its columns are, or a row or column is not forecast.
        """
        cells, file = text_cells(self.file, "sample")
        cells = cells.reset_index(drop=True)
        models = rows[["model", "scenario"]].drop_duplicates()
        if len(models) > 1:
            first = models.iloc[0]
            rows = rows[(rows[["model", "scenario"]] == first).all(axis=1)]
        ids = self._ids(cells, rows, file)
        dates = self._dates(cells, rows, file)
        return self._long(cells, rows, ids, dates, file) if dates else self._wide(cells, rows, ids, file)

    def _ids(self, cells: pd.DataFrame, rows: pd.DataFrame, file: str) -> str | None:
        if self.series is not None:
            return _one_of(self.series, cells, file, "series")
        known = set(rows["series"].astype(str))
        found = [str(name) for name in cells if len(cells) and set(cells[name]) & known]
        if not found and len(known) > 1:
            raise InputError(
                "no column holds the names of the series",
                f"They are {', '.join(sorted(known)[:6])}. State like.series.",
                file=file,
            )
        return found[0] if found else None

    def _dates(self, cells: pd.DataFrame, rows: pd.DataFrame, file: str) -> str | None:
        if self.period is not None:
            return _one_of(self.period, cells, file, "period")
        known = set(rows["period"])
        return next((str(name) for name in cells if len(cells) and set(cells[name]) & known), None)

    def _long(self, cells: pd.DataFrame, rows: pd.DataFrame, ids: str | None, dates: str, file: str) -> pd.DataFrame:
        """Rows of ids and dates: the columns that are neither are filled."""
        filled = self._columns(cells, rows, [ids, dates], file)
        keys = ["series", "period"] if ids else ["period"]
        values = rows.astype({"series": str}).set_index(keys)
        wanted = pd.MultiIndex.from_frame(cells[[ids, dates]]) if ids else pd.Index(cells[dates])
        if values.index.has_duplicates:
            raise InputError(f"several forecasts have the same {' and '.join(keys)}", "State like.series.", file=file)
        missing = ~wanted.isin(values.index)
        self._check(bool(missing.any()), "row", int(np.argmax(missing)) + 2, file)
        found = cells.copy()
        for name, source in filled.items():
            found[name] = self._or_filler(values[source].reindex(wanted).to_numpy(), missing)
        return found

    def _columns(self, cells: pd.DataFrame, rows: pd.DataFrame, keys: list[str | None], file: str) -> dict[str, str]:
        """The columns that are filled, each with that of the forecast which fills it."""
        left = [str(name) for name in cells if name not in keys]
        filled = {name: name for name in left if name in rows and name.startswith("q")}
        others = [name for name in left if name not in filled]
        if self.forecast is not None:
            filled[_one_of(self.forecast, cells, file, "forecast")] = "forecast"
        elif len(others) == 1:
            filled[others[0]] = "forecast"
        elif not filled:
            several = f"{others[0]!r} and {others[1]!r} may both be" if others else "no column is"
            raise InputError(f"{several} the forecast's", "State like.forecast.", file=file)
        return filled

    def _wide(self, cells: pd.DataFrame, rows: pd.DataFrame, ids: str | None, file: str) -> pd.DataFrame:
        """A row a series: columns that are dates or horizons are filled."""
        by_period = set(rows["period"])
        columns: dict[str, tuple[str, object]] = {}
        for name in cells:
            noted = _HORIZON.fullmatch(str(name))
            if str(name) in by_period:
                columns[str(name)] = ("period", str(name))
            elif noted is not None and str(name) != ids:
                columns[str(name)] = ("horizon", int(noted[1]))
        if not columns:
            raise InputError(
                "no column holds dates of the forecast or is called after a horizon", "State like.period.", file=file
            )
        found = cells.copy()
        for name, (key, value) in columns.items():
            own = rows[rows[key] == value]
            values = own.set_index(own["series"].astype(str))["forecast"]
            if ids is None:
                self._check(not len(values), "column", name, file)
                picked = np.repeat(values.to_numpy()[:1] if len(values) else np.nan, len(cells))
                missing = np.repeat(not len(values), len(cells))
            else:
                picked, missing = values.reindex(cells[ids]).to_numpy(), ~cells[ids].isin(values.index).to_numpy()
                self._check(bool(missing.any()), "column", name, file)
            found[name] = self._or_filler(picked, missing)
        return found

    def _or_filler(self, values: np.ndarray, missing: np.ndarray) -> np.ndarray:
        if self.filler is None or not missing.any():
            return values
        return np.where(missing, self.filler, values.astype(object))

    def _check(self, beyond: bool, what: str, which: object, file: str) -> None:
        if beyond and self.filler is None:
            raise InputError(
                f"{what} {which} asks for what is not forecast",
                "Forecast further, or state what stands there instead: like.filler.",
                file=file,
            )


def _one_of(name: str, cells: pd.DataFrame, file: str, key: str) -> str:
    if name not in cells:
        raise InputError(
            f"there is no column {name!r}", nearest(name, [str(each) for each in cells]), file=file, key=f"like.{key}"
        )
    return name


def sample_of(stated: str | Mapping[str, object], folder: Path) -> Sample:
    """A sample as a study states it: its file, or a table with what its columns are."""
    if isinstance(stated, str):
        return Sample(folder / stated)
    return Sample(folder / str(stated["file"]), **{key: each for key, each in stated.items() if key != "file"})  # type: ignore[arg-type]
