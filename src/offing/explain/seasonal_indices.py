"""Season indices: what each position of a cycle is worth, beside the two classical arithmetics."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, nearest
from offing.base.arrays import Array
from offing.base.results import Entry, Result, register
from offing.base.text import percent, signed, text_table, wrapped
from offing.engine import quantile
from offing.explain.term_lookup import of_terms, term_named
from offing.model.fitted import Fitted
from offing.model.rows import keyed
from offing.terms.season import Season, SeasonState

#: Ratios bent by more than this share are worth a word.
_BENT = 0.01


@dataclass(frozen=True)
class SeasonIndices(Result, figure="indices.draw_indices"):
    """Indices of one season. Made by `offing.indices`; the figure of one is drawn by `offing.figure`.

    Attributes
    ----------
    term, target, unit, cycle
        The season's name, what is forecast with its unit, and the cycle in words.
    multiplies
        Whether indices average to 1 (log scale), or effects sum to 0 (level scale).
    positions
        Names of the positions (m,).
    index, low, high
        Index, or effect in the target's unit, of each position (m,), with 95 % intervals.
    share
        How far each position is above or below what is measured from, as a share of it (m,); effects as a share of the
        target's mean.
    own_year, grand
        Mean ratio to the average of the own cycle, and ratio of means to the grand average (m,), over whole cycles; NaN
        where there is no whole one or the target is not positive.
    bend
        What those ratios to the own cycle's average would be without any season, less 1 (m,).
    against
        The position from which indices are measured, or an empty text: their mean.
    kinds
        Kinds of day that the positions separate, if any.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> quarters = pd.period_range("2019Q1", periods=20, freq="Q")
    >>> sold = pd.Series(100.0 * np.tile([0.8, 1.0, 1.4, 0.8], 5) * 1.001 ** np.arange(20), quarters, name="sold")
    >>> fit = of.Model("sold", terms=[of.Trend(), of.Season()], scale="log").fit(sold)
    >>> of.indices(fit).table["index"].round(3).tolist()
    [0.8, 1.0, 1.4, 0.8]
    """

    term: str
    target: str
    unit: str
    cycle: str
    multiplies: bool
    positions: tuple[str, ...]
    index: Array
    low: Array
    high: Array
    share: Array
    own_year: Array
    grand: Array
    bend: Array
    against: str = ""
    kinds: tuple[str, ...] = ()

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a position: ``position, index, low, high, percent, own_year, grand``."""
        return pd.DataFrame(
            {
                "position": list(self.positions),
                "index": self.index,
                "low": self.low,
                "high": self.high,
                "percent": 100.0 * self.share,
                "own_year": self.own_year,
                "grand": self.grand,
            }
        )

    @property
    def findings(self) -> tuple[Finding, ...]:
        """A remark where growth or anything else beside the season has bent the classical ratios."""
        worst = float(np.nanmax(np.abs(self.bend))) if np.isfinite(self.bend).any() else 0.0
        if worst <= _BENT:
            return ()
        at = self.positions[int(np.nanargmax(np.abs(self.bend)))]
        return (
            Finding(
                "bent ratios",
                "note",
                f"Ratios to the own {self.cycle.split()[-1]}'s average would be up to {percent(worst).lstrip('+')} off "
                f"({at}) if there were no season at all: growth and drivers are in them, and not in the indices.",
                self.term,
                "Use the indices.",
                {"bend": worst},
            ),
        )

    @property
    def sentence(self) -> str:
        """What the indices say first."""
        top, low = int(np.argmax(self.index)), int(np.argmin(self.index))
        return (
            f"{self.target} by {self.cycle}: highest in {self.positions[top]} "
            f"({percent(float(self.share[top]))} against {self.against or 'the average'}), lowest in "
            f"{self.positions[low]} ({percent(float(self.share[low]))})."
        )

    def __str__(self) -> str:
        lines = [self.sentence, *(str(finding) for finding in self.findings)]
        shown = (self.index, self.low, self.high)
        heads = ["position", "index" if self.multiplies else "effect", "low", "high", "percent", "own year", "grand"]
        columns = [
            list(self.positions),
            *([f"{each:.3f}" if self.multiplies else signed(each) for each in values] for values in shown),
            [signed(100.0 * each) for each in self.share],
            *(
                [f"{each:.3f}" if np.isfinite(each) else "" for each in values]
                for values in (self.own_year, self.grand)
            ),
        ]
        return f"{wrapped(chr(10).join(lines))}\n\n{text_table(heads, columns)}"


def indices(fit: Fitted, term: str | None = None, *, against: str | None = None) -> SeasonIndices:
    """Indices of a season: factors that average to 1 where effects multiply, effects that sum to 0 where they add.

    Beside them stand two arithmetics that use the target alone, over whole cycles: the mean of its ratios to the
    average of the own cycle, and the ratio of its means to the grand average. Growth bends both; the indices are
    estimated together with the trend and all drivers. Effects of a log season sum to zero, so that its factors have a
    geometric mean of 1; they are divided by their plain mean in this table only, and the intervals count that.

    Parameters
    ----------
    term
        The season's name; needed where there are several.
    against
        A position such as ``January``: factors and effects are then measured from it, where it is 1 or 0.

    Raises
    ------
    InputError
        If there is no such season or position, or several seasons and none is named.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([0.1, -0.1], 35), days, name="load")
    >>> week = of.indices(of.Model("load", terms=[of.Season("week")]).fit(load))
    >>> week.table.set_index("position")["index"].round(2)["Sunday"]
    np.float64(3.57)
    """
    season = asked_season(fit, term)
    state: SeasonState = fit.states[str(season.name)]
    place = [slot.term for slot in fit.layout.slots].index(str(season.name))
    slot, columns = fit.layout.slots[place], fit.rows.blocks[place].columns
    at = state.places.positions(fit.axis)
    seen = np.unique(at[fit.used])
    names = tuple(state.places.names[i] for i in seen)
    functions = np.zeros((len(seen), fit.layout.k))
    for i, position in enumerate(seen):
        functions[i, slot.places] = columns[fit.used & (at == position)].mean(axis=0)
    found = measured_from(fit, functions, slot.factor, _place_of(against, names))
    added = fit.rows.part(place, fit.estimate.beta).value
    rest = fit.means / np.exp(added) if fit.scale.log else fit.means - added / fit.factor
    owners = state.places.cycle.owners(fit.axis)
    own, grand = _ratios(owners, at, seen, fit.target)
    bend, _ = _ratios(owners, at, seen, rest)
    return SeasonIndices(
        str(season.name),
        fit.label,
        fit.unit,
        state.places.words,
        fit.scale.log or slot.factor,
        names,
        *found,
        own,
        grand,
        bend - 1.0,
        "" if against is None else against,
        state.places.kinds,
    )


def _place_of(against: str | None, names: tuple[str, ...]) -> int | None:
    if against is None:
        return None
    if against not in names:
        raise InputError(f"there is no position {against!r}", nearest(against, names), key="against")
    return names.index(against)


def measured_from(fit: Fitted, functions: Array, factor: bool, place: int | None) -> tuple[Array, Array, Array, Array]:
    """Index, low, high and share (m,), of the mean or of a position, from functions (m, k) that give the effects."""
    effects = functions @ fit.estimate.beta
    reach = float(quantile(0.975, fit.estimate.dof))
    factors = np.exp(effects) if fit.scale.log else 1.0 + effects
    # The weights by which what is measured from follows each of the effects.
    even = np.full(len(effects), 1.0 / len(effects))
    weights = factors / factors.sum() if fit.scale.log else even
    if place is not None:
        weights = np.eye(1, len(effects), place)[0]
    if fit.scale.log or factor:
        base = factors.mean() if place is None else factors[place]
        index = factors / base
        if fit.scale.log:
            spread = reach * fit.estimate.standard_errors(functions - weights @ functions)
            return index, index * np.exp(-spread), index * np.exp(spread), index - 1.0
        # A ratio's derivative: (df_i − index_i df_base) / base.
        spread = reach * fit.estimate.standard_errors((functions - index[:, None] * (weights @ functions)) / base)
        return index, index - spread, index + spread, index - 1.0
    index = effects - weights @ effects
    spread = reach * fit.estimate.standard_errors(functions - weights @ functions)
    level = float(np.mean(fit.target[fit.used]))
    return index, index - spread, index + spread, index / level if level > 0.0 else np.full(len(index), np.nan)


def asked_season(fit: Fitted, term: str | None) -> Season:
    """The season of a name, or the only one, if the data kept it."""
    season = term_named(fit, Season, term, "season")
    if not fit.states[str(season.name)].whole:
        raise InputError(
            f"'{season.name}' was left out: the data are no evidence of it", "Leave out evidence.", key="term"
        )
    return season


def _ratios(
    owners: NDArray[np.int64], at: NDArray[np.intp], seen: NDArray[np.intp], values: Array
) -> tuple[Array, Array]:
    """Mean ratio to the own cycle's average and ratio of means to the grand average, by position, over whole cycles."""
    place = np.searchsorted(seen, at)
    cycles, row = np.unique(owners, return_inverse=True)
    inside = np.isin(at, seen)
    flat = row[inside] * len(seen) + place[inside]
    size = len(cycles) * len(seen)
    held = np.bincount(flat, minlength=size)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = (np.bincount(flat, values[inside], minlength=size) / held).reshape(len(cycles), len(seen))
    good = means[np.isfinite(means).all(axis=1) & (means > 0.0).all(axis=1)]
    if not len(good):
        return np.full(len(seen), np.nan), np.full(len(seen), np.nan)
    return (good / good.mean(axis=1, keepdims=True)).mean(axis=0), good.mean(axis=0) / good.mean()


def index_rows(found: SeasonIndices, fit: Fitted) -> pd.DataFrame:
    """Rows of ``indices.csv``: one a position of the season."""
    rows = found.table.copy()
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, "")


register(
    Entry(
        "indices",
        title="Season indices",
        of=lambda study, name: of_terms(study.forecasts[name], Season, lambda ahead, term: indices(ahead.fit, term)),
        figure_for=["explain"],
        files={"indices": index_rows},
        files_for=["explain"],
        rank=18,
    )
)
