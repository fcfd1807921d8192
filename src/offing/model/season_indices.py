"""Season indices: what each position of a cycle is worth, beside the two classical arithmetics."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import Finding, InputError, nearest
from offing.calendar import Cycle, Frequency
from offing.engine import quantile
from offing.model.words import as_html, percent, signed, text_table, wrapped
from offing.tables.table import Array
from offing.terms.season import Season, SeasonState

if TYPE_CHECKING:
    from offing.model.fit import Fit

#: Ratios bent by more than this share are worth a word.
_BENT = 0.01


@dataclass(frozen=True)
class SeasonIndices:
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
        How far each position is above or below the average, as a share of it (m,).
    own_year, grand
        Mean ratio to the average of the own cycle, and ratio of means to the grand average (m,), over whole cycles; NaN
        where there is no whole one or the target is not positive.
    bend
        What those ratios to the own cycle's average would be without any season, less 1 (m,).

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
                "bent ratios", "note",
                f"Ratios to the own {self.cycle.split()[-1]}'s average would be up to {percent(worst).lstrip('+')} off "
                f"({at}) if there were no season at all: growth and drivers are in them, and not in the indices.",
                self.term,
                "Use the indices.",
                {"bend": worst},
            ),
        )  # fmt: skip

    @property
    def sentence(self) -> str:
        """What the indices say first."""
        top, low = int(np.argmax(self.index)), int(np.argmin(self.index))
        return (
            f"{self.target} by {self.cycle}: highest in {self.positions[top]} "
            f"({percent(float(self.share[top]))} against the average), lowest in {self.positions[low]} "
            f"({percent(float(self.share[low]))})."
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

    def _repr_html_(self) -> str:
        return as_html(self.sentence, self.table)


def indices(fit: Fit, term: str | None = None) -> SeasonIndices:
    """Indices of a season: on the log scale factors that average to 1, on the level scale effects that sum to 0.

    Beside them stand two arithmetics that use the target alone, over whole cycles: the mean of its ratios to the
    average of the own cycle, and the ratio of its means to the grand average. Growth bends both; the indices are
    estimated together with the trend and all drivers. Effects of a log season sum to zero, so that its factors have a
    geometric mean of 1; they are divided by their plain mean in this table only, and the intervals count that.

    Parameters
    ----------
    term
        The season's name; needed where there are several.

    Raises
    ------
    InputError
        If there is no such season, or several and none is named.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([0.1, -0.1], 35), days, name="load")
    >>> week = of.indices(of.Model("load", terms=[of.Season("week")]).fit(load))
    >>> week.table.set_index("position")["index"].round(2)["Sunday"]
    np.float64(3.57)
    """
    season = _chosen(fit, term)
    state: SeasonState = fit.states[str(season.name)]
    slot = next(slot for slot in fit.layout.slots if slot.term == season.name)
    at = state.cycle.positions(fit.axis)
    seen = np.unique(at[fit.used])
    functions = np.zeros((len(seen), fit.layout.k))
    for i, position in enumerate(seen):
        functions[i, slot.columns] = fit.design[fit.used & (at == position), slot.columns].mean(axis=0)
    effects = functions @ fit.estimate.beta
    reach = float(quantile(0.975, fit.estimate.dof))
    log = fit.scale.log
    # The weights by which the mean of the factors (or of the effects) follows each of them.
    weights = np.exp(effects) / np.exp(effects).sum() if log else np.full(len(seen), 1.0 / len(seen))
    spread = reach * fit.estimate.standard_errors(functions - weights @ functions)
    season_by_row = fit.design[:, slot.columns] @ fit.estimate.beta[slot.columns]
    if log:
        index = np.exp(effects) / np.exp(effects).mean()
        low, high, share = index * np.exp(-spread), index * np.exp(spread), index - 1.0
        rest = fit.means / np.exp(season_by_row)
    else:
        index = effects - effects.mean()
        level = float(np.mean(fit.target[fit.used]))
        low, high = index - spread, index + spread
        share = index / level if level > 0.0 else np.full(len(seen), np.nan)
        rest = fit.means - season_by_row
    own, grand = _ratios(fit, state.cycle, at, seen, fit.target)
    bend, _ = _ratios(fit, state.cycle, at, seen, rest)
    names = tuple(state.cycle.names[i] for i in seen)
    words = f"{state.cycle.step} of the {state.cycle.unit}"
    return SeasonIndices(
        str(season.name), fit.label, fit.unit, words, log, names, index, low, high, share, own, grand, bend - 1.0
    )  # fmt: skip


def _chosen(fit: Fit, term: str | None) -> Season:
    seasons = {str(each.name): each for each in fit.model.terms if isinstance(each, Season)}
    if term is None and len(seasons) == 1:
        return next(iter(seasons.values()))
    if term is None:
        found = "there are several seasons" if seasons else "the model has no season"
        raise InputError(found, nearest("", seasons), key="term")
    if term not in seasons:
        raise InputError(f"there is no season {term!r}", nearest(term, seasons), key="term")
    return seasons[term]


def _ratios(fit: Fit, cycle: Cycle, at: NDArray[np.intp], seen: NDArray[np.intp], values: Array) -> tuple[Array, Array]:
    """Mean ratio to the own cycle's average and ratio of means to the grand average, by position, over whole cycles."""
    owners = Frequency(cycle.unit).ordinals(fit.axis.middles)
    sums: list[Array] = []
    for owner in np.unique(owners):
        mine = owners == owner
        own = np.array([values[mine & (at == position)].mean() if (mine & (at == position)).any() else np.nan
                        for position in seen])  # fmt: skip
        if np.isfinite(own).all() and (own > 0.0).all():
            sums.append(own)
    if not sums:
        return np.full(len(seen), np.nan), np.full(len(seen), np.nan)
    whole = np.array(sums)
    return (whole / whole.mean(axis=1, keepdims=True)).mean(axis=0), whole.mean(axis=0) / whole.mean()
