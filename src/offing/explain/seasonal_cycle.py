"""The shape of a season over its cycle, as finely as it was fitted."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base.arrays import Array
from offing.base.results import Entry, Result, register
from offing.base.text import text_table, wrapped
from offing.explain.seasonal_indices import SeasonIndices, asked_season, indices, measured_from
from offing.explain.term_lookup import of_terms
from offing.model.fitted import Fitted
from offing.terms import Season
from offing.terms.season import SeasonState

#: Places of the cycle at which a smooth season is reported: four for each hour of a day.
_FINEST = 96


@dataclass(frozen=True)
class Course:
    """One course through the cycle: when it holds, and at each place (m,) its value with a 95 % interval.

    `phase` (m,) is the share of the cycle that has passed.
    """

    when: str
    positions: tuple[str, ...]
    phase: Array
    value: Array
    low: Array
    high: Array


@dataclass(frozen=True)
class CycleShape(Result, figure="cycle.draw_cycle"):
    """A season's shape. Made by `offing.cycle`; its figure is drawn by `offing.figure`.

    Attributes
    ----------
    indices
        The same season as a table of indices.
    unit
        The cycle: ``year``, ``week``, ``day`` or a stated length.
    courses
        One course; several where the season differs before and after a date, or drifts: its first and its last year.
    kinds
        Kinds of day, each of which has all positions, or none.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([0.1, -0.1], 35), days, name="load")
    >>> shape = of.cycle(of.Model("load", terms=[of.Season("week")]).fit(load))
    >>> shape.table["value"].round(1).tolist()
    [-1.4, -1.4, -1.4, -1.4, -1.4, 3.6, 3.6]
    """

    indices: SeasonIndices
    unit: str
    courses: tuple[Course, ...]
    kinds: tuple[str, ...]

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a place of the cycle: ``when, position, phase, value, low, high``."""
        frames = [
            pd.DataFrame(
                {
                    "when": each.when,
                    "position": list(each.positions),
                    "phase": each.phase,
                    "value": each.value,
                    "low": each.low,
                    "high": each.high,
                }
            )
            for each in self.courses
        ]
        return pd.concat(frames, ignore_index=True)

    @property
    def sentence(self) -> str:
        """Where it is highest and lowest."""
        return self.indices.sentence

    def __str__(self) -> str:
        table = self.table
        shown = [
            f"{when + ': ' if when else ''}{position}"
            for when, position in zip(table["when"], table["position"], strict=True)
        ]
        columns = [shown, *([f"{each:.4g}" for each in table[name]] for name in ("phase", "value", "low", "high"))]
        return f"{wrapped(self.sentence)}\n\n{text_table(['position', 'phase', 'value', 'low', 'high'], columns)}"


def cycle(fit: Fitted, term: str | None = None) -> CycleShape:
    """The shape of a season: factors that average to 1 where effects multiply, effects that sum to 0 where they add.

    Dummies are reported at their positions, harmonics at up to 96 places of the cycle. A season that differs before and
    after a date has a course for each stretch; one that drifts, for its first and its last year.

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
    >>> weeks = pd.date_range("2021-01-04", periods=156, freq="7D")
    >>> sold = pd.Series(100 + 20 * np.sin(2 * np.pi * np.arange(156) / 52.18), weeks, name="sold")
    >>> shape = of.cycle(of.Model("sold", terms=[of.Season("year", harmonics=2)]).fit(sold))
    >>> len(shape.courses[0].value), round(float(shape.courses[0].value.max()))
    (52, 20)
    """
    season = asked_season(fit, term)
    state: SeasonState = fit.states[str(season.name)]
    courses = tuple(_course(fit, season, state, when, rows) for when, rows in _stretches(fit, season, state))
    return CycleShape(indices(fit, str(season.name)), state.places.cycle.unit, courses, state.places.kinds)


def _stretches(fit: Fitted, season: Season, state: SeasonState) -> list[tuple[str, NDArray[np.bool_]]]:
    """Used periods (n,) in which the season is the same, and when that is."""
    ordinals, used = fit.axis.ordinals, fit.used
    if state.changes:
        edges = [state.first, *state.changes, state.last + 1]
        names = [f"until {season.changes[0]}", *(f"from {day}" for day in season.changes)]
        return [
            (name, used & (ordinals >= low) & (ordinals < high))
            for name, low, high in zip(names, edges, edges[1:], strict=False)
        ]
    if state.years:
        return [("first year", used & (ordinals < state.years[0])), ("last year", used & (ordinals >= state.years[-1]))]
    return [("", used)]


def _course(fit: Fitted, season: Season, state: SeasonState, when: str, rows: NDArray[np.bool_]) -> Course:
    place = [slot.term for slot in fit.layout.slots].index(str(season.name))
    slot, columns = fit.layout.slots[place], fit.rows.blocks[place].columns
    coarse, names = state.places.positions(fit.axis), state.places.names
    if state.harmonics is None:
        at, phase = coarse, np.arange(len(names)) % len(state.places.cycle.names) / len(state.places.cycle.names)
    else:
        share = state.places.cycle.phases(fit.axis)
        a_cycle = 2 * state.places.cycle.harmonics_at_most
        count = min(a_cycle + a_cycle % 2, _FINEST)
        at = np.minimum((share * count + 1e-9).astype(np.intp), count - 1)
        phase = np.arange(count) / count
    seen = np.unique(at[rows])
    functions = np.zeros((len(seen), fit.layout.k))
    labels = []
    for i, position in enumerate(seen.tolist()):
        here = rows & (at == position)
        functions[i, slot.places] = columns[here].mean(axis=0)
        labels.append(names[int(coarse[here][0])])
        if state.harmonics is not None:
            phase[position] = share[here].mean()
    value, low, high, _ = measured_from(fit, functions, slot.factor, None)
    return Course(when, tuple(labels), phase[seen], value, low, high)


register(
    Entry(
        "cycle",
        title="The season",
        of=lambda study, name: of_terms(study.forecasts[name], Season, lambda ahead, term: cycle(ahead.fit, term)),
        text={"explain": lambda found: wrapped(found.sentence)},
        joined=True,
        figure_for=["explain"],
        rank=17,
    )
)
