"""Several values of one period made one: sums, means and the like, in parts that can be joined."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, nearest
from offing.base.arrays import Array
from offing.tables.column_kinds import AVERAGED, FLOWS, RATES, STATES

HOWS = ("sum", "mean", "last", "first", "max", "min", "count")
_WEIGHTED = "mean weighted by "
#: Names of the key columns of partial results.
KEYS = ["id", "ordinal"]


@dataclass(frozen=True)
class Combine:
    """How each column's values of a period become one: by a name of `HOWS`, or ``mean weighted by COLUMN``."""

    how: Mapping[str, str]

    def __post_init__(self) -> None:
        for column, how in self.how.items():
            if how not in HOWS and not how.startswith(_WEIGHTED):
                raise InputError(
                    f"found {how!r} for {column!r}", nearest(how, (*HOWS, f"{_WEIGHTED}COLUMN")), key="combine"
                )

    @property
    def weights(self) -> dict[str, str]:
        """Column of weights by the column whose mean they weigh."""
        return {c: how.removeprefix(_WEIGHTED) for c, how in self.how.items() if how.startswith(_WEIGHTED)}

    @property
    def counted(self) -> list[str]:
        """Columns whose cells are only counted, so that they may hold text."""
        return [column for column, how in self.how.items() if how == "count" and column not in self.weights.values()]

    @property
    def numbers(self) -> list[str]:
        """Columns that must hold numbers."""
        needed = [*(column for column in self.how if column not in self.counted), *self.weights.values()]
        return list(dict.fromkeys(needed))

    def part(self, rows: pd.DataFrame) -> pd.DataFrame:
        """What is to be known of some rows: one line a period and series.

        `rows` has the columns of `KEYS`, ``at`` (the instant of each row) and the values; empty cells are skipped.
        """
        codes, index = _grouped(rows)
        pieces: dict[str, pd.Series] = {}

        def total(values: Array) -> pd.Series:
            """Sums by group; missing where a group has no value."""
            known = np.isfinite(values)
            whole = bool(known.all())
            sums = np.bincount(codes, values if whole else np.where(known, values, 0.0), len(index))
            some = whole or np.bincount(codes[known], minlength=len(index)) > 0
            return pd.Series(np.where(some, sums, np.nan), index)

        for column, how in self.how.items():
            if how in ("mean", "count"):
                known = rows[column].notna().to_numpy()
                some = codes if known.all() else codes[known]
                pieces[f"{column}|count"] = pd.Series(np.bincount(some, minlength=len(index)), index)
            if how in ("sum", "mean"):
                pieces[f"{column}|sum"] = total(rows[column].to_numpy())
            if how in ("max", "min"):
                pieces[f"{column}|{how}"] = getattr(rows.groupby(KEYS, sort=False)[column], how)()
            if how in ("last", "first"):
                pieces |= _end(rows, column, how)
        for column, weight in self.weights.items():
            values, heavy = rows[column].to_numpy(), rows[weight].to_numpy()
            both = np.isfinite(values) & np.isfinite(heavy)
            pieces[f"{column}|product"] = total(np.where(both, values * heavy, np.nan))
            pieces[f"{column}|weight"] = total(np.where(both, heavy, np.nan))
        return pd.DataFrame(pieces)

    def joined(self, parts: list[pd.DataFrame]) -> pd.DataFrame:
        """The combined values, one line a period and series, of all parts together."""
        together = pd.concat(parts)
        groups = together.groupby(level=[0, 1])
        found: dict[str, pd.Series] = {}
        for column, how in self.how.items():
            if how in ("sum", "mean"):
                found[column] = groups[f"{column}|sum"].sum(min_count=1)
            if how == "mean":
                found[column] = found[column] / groups[f"{column}|count"].sum().where(lambda n: n > 0)
            if how == "count":
                found[column] = groups[f"{column}|count"].sum().astype(float)
            if how in ("max", "min"):
                found[column] = getattr(groups[f"{column}|{how}"], how)()
            if how in ("last", "first"):
                found[column] = _outermost(together, column, how)
            if column in self.weights:
                weight = groups[f"{column}|weight"].sum(min_count=1)
                found[column] = groups[f"{column}|product"].sum(min_count=1) / weight.where(weight != 0.0)
        return pd.DataFrame(found)


def _grouped(rows: pd.DataFrame) -> tuple[NDArray[np.intp], pd.MultiIndex]:
    """Number (n,) of each row's period and series, and the keys of each number."""
    ids, ordinals = (rows[key].to_numpy() for key in KEYS)
    low, span = int(ordinals.min()), int(np.ptp(ordinals)) + 1
    dense = ids * span + (ordinals - low)
    if span * (int(ids.max()) + 1) <= 4 * len(rows) + 1000:
        # Few periods and series, many rows: counting finds the groups without sorting.
        held = np.flatnonzero(np.bincount(dense))
        places = np.zeros(int(dense.max()) + 1, dtype=np.intp)
        places[held] = np.arange(len(held))
        codes = places[dense]
    else:
        held, codes = np.unique(dense, return_inverse=True)
    return codes, pd.MultiIndex.from_arrays([held // span, held % span + low], names=KEYS)


def _end(rows: pd.DataFrame, column: str, how: str) -> dict[str, pd.Series]:
    """The latest (or earliest) known value of each group, and its instant."""
    known = rows.loc[rows[column].notna(), [*KEYS, "at", column]].sort_values("at", kind="stable")
    ends = getattr(known.groupby(KEYS), how)()
    return {f"{column}|{how}": ends[column], f"{column}|at": ends["at"]}


def _outermost(together: pd.DataFrame, column: str, how: str) -> pd.Series:
    known = together[[f"{column}|{how}", f"{column}|at"]].dropna().sort_values(f"{column}|at", kind="stable")
    outermost: pd.Series = getattr(known.groupby(level=[0, 1])[f"{column}|{how}"], how)()
    return outermost


def looks_like_key(column: str) -> bool:
    """Whether a column's name says that its numbers are keys, which are not added up.

    Examples
    --------
    >>> from offing.tables.aggregation_rules import looks_like_key
    >>> looks_like_key("line no"), looks_like_key("nights")
    (True, False)
    """
    return re.search(r"(^|[ _.-])(id|no|nr|number|key|code)$", column.lower()) is not None


@dataclass(frozen=True)
class Rule:
    """How a column's values become one: `how`, in words `why`, and whether name, unit or behaviour leave no doubt."""

    how: str
    why: str
    sure: bool


def rule_for(
    column: str, unit: str = "", values: Array | None = None, periods: NDArray[np.int64] | None = None
) -> Rule:
    """The rule that a column's name, unit and behaviour suggest: flows are summed, states and rates are not.

    Parameters
    ----------
    values
        Its values (n,), NaN where unknown.
    periods
        Number (n,) of the period in which each lies, where there are several to a period.

    Examples
    --------
    >>> from offing.tables.aggregation_rules import rule_for
    >>> [rule_for(name).how for name in ("fare", "tickets", "stock on hand")]
    ['mean', 'sum', 'last']
    """
    words = set(re.split(r"[\W_]+", column.lower()))
    known = None if values is None else values[np.isfinite(values)]
    if any(mark in f" {unit.lower()} " for mark in RATES) or "%" in column:
        return Rule("mean", f"its unit is {unit or chr(37)}", True)
    for kind, how, why in (
        (AVERAGED, "mean", "a price, rate or state"),
        (STATES, "last", "a stock"),
        (FLOWS, "sum", "a flow"),
    ):
        if words & kind:
            return Rule(how, f"its name says {why}", True)
    if known is None or not len(known):
        return Rule("sum", "nothing says otherwise", False)
    if set(np.unique(known).tolist()) <= {0.0, 1.0}:
        return Rule("mean", "it is 0 or 1", True)
    if (known < 0.0).any():
        return Rule("mean", "it has values below zero", False)
    if values is not None and periods is not None and _constant_within(values, periods):
        return Rule("mean", "it is the same in every row of a date", True)
    if _moves_slowly(known):
        return Rule("mean", "it stays as it is for long, as a price or a stock does", False)
    return Rule("sum", "nothing says otherwise", False)


def _constant_within(values: Array, periods: NDArray[np.int64]) -> bool:
    """Whether nearly every period of several rows has one value in all of them."""
    frame = pd.DataFrame({"at": periods, "value": values}).dropna()
    spread = frame.groupby("at")["value"].agg(["min", "max", "size"])
    several = spread[spread["size"] > 1]
    return (
        len(several) > 2
        and bool((several["min"] == several["max"]).mean() > 0.95)
        and bool(np.ptp(frame["value"]) > 0.0)
    )


def _moves_slowly(values: Array) -> bool:
    """Whether a series changes so little from one value to the next that it may be a level."""
    if len(values) < 12:
        return False
    steps = np.diff(values)
    still = float((steps == 0.0).mean()) > 0.6
    return still or float(np.var(steps)) < 0.02 * 2.0 * float(np.var(values))


def suggested(column: str, unit: str) -> str:
    """The way that a column's name and unit suggest: see `rule_for`.

    Examples
    --------
    >>> from offing.tables.aggregation_rules import suggested
    >>> suggested("fare", "EUR"), suggested("sold", "tickets")
    ('mean', 'sum')
    """
    return rule_for(column, unit).how
