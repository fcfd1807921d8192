"""Treatments that the user asks for: of missing values, zeros, outliers and noise. Learnt again by every fit."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal, get_args

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, Keywords, Treatment, count
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.tables.frequency_detection import spelt_runs
from offing.tables.outliers import Judged, judge
from offing.tables.patch import Patch

if TYPE_CHECKING:
    from offing.tables.point_in_time import View

Missing = Literal["leave", "zero", "linear", "same season", "last"]
Zeros = Literal["no sale", "closed", "sold out"]
Outliers = Literal["flag", "exclude", "replace", "pulse"]
#: Periods of the season that lends a value to ``same season``.
_SEASON = {"hour": 168, "day": 7, "business day": 5, "week": 52, "month": 12, "quarter": 4}


@dataclass(frozen=True)
class Treat(Keywords):
    """How one column is treated before any term sees it. Only what is asked for is changed, and each change is logged.

    Parameters
    ----------
    data
        The column, as ``column`` or ``table.column``.
    missing
        What becomes of missing values between known ones: ``leave``, ``zero``, ``linear``, ``same season`` (the
        value of the week, or the year, before; else after) or ``last``.
    longest
        Longest run of missing periods to fill; longer ones stay missing. By default 4, since a long line drawn through
        nothing is no knowledge; for ``zero`` any.
    zeros
        What zeros mean: ``no sale`` (they count), ``closed`` (they are missing) or ``sold out`` (the demand was
        higher than what was sold: censored, so they are not used in fitting).
    outliers
        ``flag`` only shows; ``exclude`` makes them missing; ``replace`` puts what is expected;
        ``pulse`` gives each a column of its own, so that its size is estimated.
    threshold
        Standard deviations from what is expected that make an outlier. By default as many as one series in a hundred
        of pure noise of this length has anywhere: 3.5 for 24 values, 4.9 for a year of hours.
    smooth
        Number of periods of a moving mean, for noisy drivers. It looks back only, so as to mean the same later on.
    centred
        Let the mean look both ways inside the history. Near the origin its window is cut; beyond, it looks back only.

    Raises
    ------
    InputError
        For words or numbers that are not allowed.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, None, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=5, freq="M"), name="sold")
    >>> fit = of.Model("sold", treatments=[of.Treat("sold", missing="linear")]).fit(sold)
    >>> fit.target.tolist(), fit.treatments[0].reason
    ([3.0, 4.0, 5.0, 4.0, 6.0], 'missing: linear')
    """

    data: str
    missing: Missing = "leave"
    longest: int | None = None
    zeros: Zeros | None = None
    outliers: Outliers = "flag"
    threshold: float | None = None
    smooth: int = 1
    centred: bool = False

    def __post_init__(self) -> None:
        if not isinstance(self.data, str) or not self.data:
            raise InputError(f"found {self.data!r}", "Give a column's name.", key="data")
        for key, kind in (("missing", Missing), ("zeros", Zeros), ("outliers", Outliers)):
            value = getattr(self, key)
            if value not in get_args(kind) and not (key == "zeros" and value is None):
                raise InputError(f"found {value!r}", f"Allowed: {', '.join(get_args(kind))}.", key=key)
        for key, least in (("longest", 1), ("smooth", 1)):
            value = getattr(self, key)
            if value is not None and (isinstance(value, bool) or not isinstance(value, int) or value < least):
                raise InputError(f"found {value!r}", "Give a whole number from 1 on.", key=key)
        if self.threshold is not None and not self.threshold > 0:
            raise InputError(f"found {self.threshold!r}", "Give a number above 0.", key="threshold")

    def learn(self, view: View, explained: Array | None = None) -> Patch:
        """Treat what was known at the view's origin; values after it play no part.

        `explained` holds columns, on the periods that the fit sees, of what a model's terms explain of the column.
        """
        source, column = view.sources.find(self.data)
        table = view.sources.tables[source]
        axis = table.axis
        values = view.actual(self.data, axis)
        known = np.flatnonzero(np.isfinite(values))
        if not len(known):
            return Patch(source, column, np.array([], dtype=np.int64), np.array([]))
        axis = axis.part(int(known[0]), int(known[-1]) + 1)
        work = _Work(table.name, column, axis, values[known[0] : known[-1] + 1])
        self._zeros(work)
        pulses = self._outliers(work, _on(axis, view.rows, explained))
        self._missing(work)
        changed = np.flatnonzero(~((work.values == work.before) | (np.isnan(work.values) & np.isnan(work.before))))
        patch = Patch(
            source,
            column,
            axis.ordinals[changed],
            work.values[changed],
            pulses,
            self.smooth,
            log=tuple(work.log),
            findings=tuple(work.findings),
        )
        if self.smooth > 1:
            patch = self._smooth(patch, work)
        return patch

    def _zeros(self, work: _Work) -> None:
        at = np.flatnonzero(work.values == 0.0)
        if not len(at):
            return
        if self.zeros is None:
            work.findings += zero_question(work.column, work.axis, work.values)
        elif self.zeros != "no sale":
            why = {"closed": "zero: closed", "sold out": "zero: sold out, so the demand is not known"}[self.zeros]
            work.put(at, np.full(len(at), np.nan), why)

    def _outliers(self, work: _Work, explained: Array | None) -> tuple[int, ...]:
        judged = judge(work.axis, work.values, explained, self.threshold)
        at = np.array([], dtype=np.intp) if judged is None else judged.beyond(self.threshold)
        if judged is None or not len(at):
            return ()
        work.findings.append(outlier_finding(work.column, work.axis, work.values, judged, at))
        if self.outliers == "exclude":
            work.put(at, np.full(len(at), np.nan), "outlier: excluded", judged)
        if self.outliers == "replace":
            work.put(at, judged.usual[at], "outlier: replaced by what is usual", judged)
        return tuple(work.axis.ordinals[at].tolist()) if self.outliers == "pulse" else ()

    def _missing(self, work: _Work) -> None:
        runs = missing_runs(work.values)
        if not runs:
            return
        limit = self.longest or (len(work.values) if self.missing == "zero" else 4)
        left = runs if self.missing == "leave" else [run for run in runs if run[1] > limit]
        if left:
            spelt = spelt_runs(work.axis.frequency, [(work.axis.first + start, length) for start, length in left])
            total = sum(length for _, length in left)
            work.findings.append(
                Finding(
                    "missing values",
                    "note",
                    f"'{work.column}' is missing in {count(total, work.axis.frequency.unit)}: {spelt}.",
                    advice="" if self.missing == "leave" else f"Runs of more than {limit} are not filled; see longest.",
                    evidence={"periods": float(total), "runs": float(len(left))},
                )
            )
        if self.missing == "leave":
            return
        filled = _fills(self.missing, work.values, work.axis)
        for start, length in runs:
            if length <= limit:
                at = np.arange(start, start + length)
                at = at[np.isfinite(filled[at])]
                work.put(at, filled[at], f"missing: {self.missing}")

    def _smooth(self, patch: Patch, work: _Work) -> Patch:
        """The patch with its history smoothed, and one entry in the log for all of it."""
        method = "centred" if self.centred else "looking back"
        entry = Treatment(
            work.file,
            work.column,
            work.axis.spell(),
            "as read",
            f"mean of {self.smooth} periods, {method}",
            "smoothing",
        )
        patch = replace(patch, log=(*patch.log, entry))
        if not self.centred:
            return patch
        mean = pd.Series(work.values).rolling(self.smooth, center=True, min_periods=1).mean().to_numpy()
        return replace(patch, first=work.axis.first, smoothed=np.where(np.isnan(work.values), np.nan, mean))


def _on(axis: Axis, rows: Axis, explained: Array | None) -> Array | None:
    """Columns of the periods `rows` on those of `axis`, zero where there are none."""
    if explained is None or axis.frequency != rows.frequency:
        return None
    found = np.zeros((axis.n, explained.shape[1]))
    low, high = max(axis.first, rows.first), min(axis.first + axis.n, rows.first + rows.n)
    if high > low:
        found[low - axis.first : high - axis.first] = explained[low - rows.first : high - rows.first]
    return found


class _Work:
    """A column being treated: values before and now, what was changed and what was noticed."""

    def __init__(self, file: str, column: str, axis: Axis, values: Array) -> None:
        self.file, self.column, self.axis = file, column, axis
        self.before, self.values = values, values.copy()
        self.log: list[Treatment] = []
        self.findings: list[Finding] = []

    def put(self, at: NDArray[np.intp], values: Array, why: str, judged: Judged | None = None) -> None:
        """Put new values in the periods `at`, each with an entry in the log."""
        for i, value in zip(at.tolist(), values.tolist(), strict=True):
            before, after = (f"{each:.10g}" if np.isfinite(each) else "missing" for each in (self.values[i], value))
            label = self.axis.part(i, i + 1).labels()[0]
            reason = why if judged is None else f"{why} (score {judged.scores[i]:.1f})"
            self.log.append(Treatment(self.file, self.column, label, before, after, reason))
            self.values[i] = value


def missing_runs(values: Array) -> list[tuple[int, int]]:
    """Start and length of every run of NaN in `values` (n,)."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], np.isnan(values), [False]]).astype(np.int8)))
    return [(int(low), int(high - low)) for low, high in edges.reshape(-1, 2)]


def _fills(how: Missing, values: Array, axis: Axis) -> Array:
    """What each missing period (n,) would be filled with; NaN where that is not known either."""
    at, known = np.arange(len(values)), np.isfinite(values)
    if how == "zero":
        return np.zeros(len(values))
    if how == "linear":
        return np.interp(at, at[known], values[known])
    if how == "last":
        return np.asarray(values[np.maximum.accumulate(np.where(known, at, 0))])
    if axis.frequency.unit not in _SEASON:
        raise InputError("years have no season", "Choose another way to fill.", key="missing")
    lag = _SEASON[axis.frequency.unit]
    earlier = np.concatenate([np.full(lag, np.nan), values])[: len(values)]
    later = np.concatenate([values, np.full(lag, np.nan)])[lag:]
    return np.where(np.isfinite(earlier), earlier, later)


def zero_question(column: str, axis: Axis, values: Array) -> tuple[Finding, ...]:
    """The finding that asks what zeros mean, where they stand apart from the other values, none of them negative.

    Zeros next to values just above zero are measurements like these, and no question is needed.
    """
    at = np.flatnonzero(values == 0.0)
    rest = values[np.isfinite(values) & (values != 0.0)]
    if not len(at) or not len(rest) or rest.min() < 0.05 * np.median(rest):
        return ()
    ordinals = np.sort(axis.first + at)
    breaks = np.flatnonzero(np.diff(ordinals) > 1) + 1
    runs = [(int(run[0]), len(run)) for run in np.split(ordinals, breaks)]
    found = Finding(
        "zeros",
        "warning",
        f"'{column}' is 0 in {count(len(at), axis.frequency.unit)}: {spelt_runs(axis.frequency, runs)}.",
        advice='Say what that means: zeros = "no sale", "closed" or "sold out", in a treatment of the column.',
        evidence={"periods": float(len(at))},
    )
    return (found,)


def outlier_finding(column: str, axis: Axis, values: Array, judged: Judged, at: NDArray[np.intp]) -> Finding:
    """The finding that names outliers, the farthest first."""
    farthest = at[np.argsort(-np.abs(judged.scores[at]), kind="stable")]
    noted = [
        f"{axis.part(i, i + 1).labels()[0]} ({values[i]:,.6g} where {judged.usual[i]:,.6g} is usual, "
        f"score {judged.scores[i]:.1f})"
        for i in farthest[:3].tolist()
    ]
    more = f" and {len(at) - 3} more" if len(at) > 3 else ""
    return Finding(
        "outliers",
        "note",
        f"'{column}' has {count(len(at), 'value')} far from what trend, season and neighbours lead to expect: "
        f"{', '.join(noted)}{more}.",
        advice='What is an error can be treated: outliers = "exclude", "replace" or "pulse".',
        evidence={"values": float(len(at)), "highest score": float(np.abs(judged.scores[at]).max())},
    )
