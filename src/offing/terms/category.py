"""Categories: a column of words, whose levels have an effect each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from offing.base import Finding, InputError, count, nearest
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine.expressions import Words
from offing.tables import View
from offing.terms.formulas import Rows, Summand
from offing.terms.term import Block, Readout, Reference, Term, Written
from offing.terms.transform_step import input_of

#: Levels seen less often than this on average make a column that separates rows and explains nothing.
_OFTEN = 3.0


@dataclass(frozen=True)
class CategoryState:
    """The levels seen in the fitted periods, by name, and how often (L,)."""

    levels: tuple[str, ...]
    counts: tuple[int, ...]


@dataclass(frozen=True)
class Category(Term):
    """A column of words, such as the timetable in force or the ship that sails, with an effect for each.

    Parameters
    ----------
    data
        The column, as ``column`` or ``table.column``. Numbers count as words.
    compared_with
        ``mean``: effects are differences from the average over the fitted periods, each level counted as often as it
        comes. Or a level, which then has no effect of its own.
    unseen
        What a level means that the fitted periods never had: ``refuse``, since nothing is known of its effect; or
        ``mean``, the average over the fitted periods, with a warning.
    name
        By default the column's name.

    Raises
    ------
    InputError
        Later: if there is but one level; or if a forecast meets a level that the fitted periods never had, and these
        are refused.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=6, freq="D")
    >>> data = pd.DataFrame({"sold": [3.0, 5.0, 4.1, 6.0, 2.9, 5.1], "ship": ["Tern", "Auk"] * 3}, days)
    >>> fit = of.Model("sold", terms=[of.Category("ship")]).fit(data)
    >>> fit.coefficients[["column", "coefficient"]].round(2).to_numpy().tolist()
    [['constant', 4.35], ['ship: Auk', 1.02], ['ship: Tern', -1.02]]
    """

    data: str
    compared_with: str = "mean"
    unseen: Literal["refuse", "mean"] = "refuse"
    name: str | None = None

    def __post_init__(self) -> None:
        if not isinstance(self.data, str) or not self.data:
            raise InputError(f"found {self.data!r}", "Give a column's name.", key="data")
        if not isinstance(self.compared_with, str) or not self.compared_with:
            raise InputError(f"found {self.compared_with!r}", 'Give "mean" or a level.', key="compared_with")
        if self.unseen not in ("refuse", "mean"):
            raise InputError(f"found {self.unseen!r}", 'Give "refuse" or "mean".', key="unseen")
        if self.name is None:
            self._set(name=self.data.partition(".")[2] or self.data)
        super().__post_init__()

    def needs(self) -> tuple[str, ...]:
        """The column."""
        return (self.data,)

    def learn(self, view: View) -> CategoryState:
        """The levels in the fitted periods.

        Raises
        ------
        InputError
            If there is but one, or the one to compare with is not among them.
        """
        words = view.words(self.data, view.rows)
        levels, counts = np.unique(words[words != ""].astype(str), return_counts=True)
        if len(levels) < 2:
            found = f"it is {levels[0]!r} throughout" if len(levels) else "it has no value in the fitted periods"
            raise InputError(found, "Leave out the term.", column=self.data)
        if self.compared_with != "mean" and self.compared_with not in levels:
            raise InputError(
                f"there is no level {self.compared_with!r} in the fitted periods",
                nearest(self.compared_with, levels.tolist()),
                column=self.data,
                key="compared_with",
            )
        return CategoryState(tuple(levels.tolist()), tuple(counts.tolist()))

    def block(self, view: View, axis: Axis, state: CategoryState) -> Block:
        """One column a level but the one that the others are reported from."""
        words = view.words(self.data, axis)
        new = self._unseen(words, state)
        if self.unseen == "refuse":
            self._check_known(words, new, axis, state)
        dummies = (words[:, None] == np.array(state.levels, dtype=object)).astype(np.float64)
        dummies[new] = np.array(state.counts) / sum(state.counts)
        dummies[words == ""] = np.nan
        spans = self._spans(state)
        names = tuple(f"{self.name}: {level}" for level in state.levels)
        if self.compared_with == "mean":
            return Block(dummies @ spans, names[:-1], Readout(names, spans))
        kept = tuple(name for name, level in zip(names, state.levels, strict=True) if level != self.compared_with)
        return Block(dummies @ spans, kept)

    def _spans(self, state: CategoryState) -> Array:
        """What turns coefficients (L − 1,) into effects (L,): the weighted sum of these is zero, or one of them is."""
        eye = np.eye(len(state.levels))
        if self.compared_with != "mean":
            return np.delete(eye, state.levels.index(self.compared_with), axis=1)
        counts = np.array(state.counts, dtype=np.float64)
        spans = eye[:, :-1]
        spans[-1] = -counts[:-1] / counts[-1]
        return np.asarray(spans)

    def _unseen(self, words: np.ndarray, state: CategoryState) -> np.ndarray:
        return np.flatnonzero(~np.isin(words.astype(str), [*state.levels, ""]))

    def _check_known(self, words: np.ndarray, new: np.ndarray, axis: Axis, state: CategoryState) -> None:
        if len(new):
            at = int(new[0])
            raise InputError(
                f"{words[at]!r} never came in the fitted periods, so that nothing is known of its effect",
                f"Known are {', '.join(state.levels[:8])}{' …' if len(state.levels) > 8 else ''}: use one of these, "
                'fit periods that have it, or state unseen = "mean".',
                period=axis.part(at, at + 1).labels()[0],
                column=self.data,
            )

    def written(self, view: View, state: CategoryState, beta: Array) -> list[Written]:
        """The effect of every level."""
        effects = self._spans(state) @ beta
        return [
            Written(f"{self.name}: {level}", value, f"1 where '{self.data}' is '{level}', else 0")
            for level, value in zip(state.levels, effects.tolist(), strict=True)
        ]

    def summands(self, view: View, rows: Rows, state: CategoryState, beta: Array) -> list[Summand]:
        """The effect of every level, where it stands; of an unseen word what each has in the average."""
        effects, column = self._spans(state) @ beta, input_of(view, self.data)
        found = []
        for level, often, effect in zip(state.levels, state.counts, effects.tolist(), strict=True):
            other = None if self.unseen == "refuse" else often / sum(state.counts)
            here = {each: float(each == level) for each in state.levels}
            found.append(Summand(f"{self.name}: {level}", effect, Words(column, here, other)))
        return found

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The first period without a word."""
        unknown = np.flatnonzero(view.words(self.data, axis) == "")
        return (self.data, axis.part(int(unknown[0]), int(unknown[0]) + 1)) if len(unknown) else None

    @property
    def measured_from(self) -> str:
        """The reference in words."""
        return f"the average of every '{self.name}'" if self.compared_with == "mean" else f"'{self.compared_with}'"

    def reference_on(self, view: View, axis: Axis, state: CategoryState) -> Reference:
        """The average, or the level that the others are compared with."""
        return Reference(np.zeros((1, len(state.levels) - 1)))

    def remarks_ahead(self, view: View, axis: Axis, state: CategoryState) -> tuple[Finding, ...]:
        """Levels of which nothing is known."""
        words = view.words(self.data, axis)
        new = self._unseen(words, state)
        if not len(new):
            return ()
        named = ", ".join(repr(each) for each in dict.fromkeys(words[new].tolist()))
        message = (
            f"{named} of '{self.name}' never came in the fitted periods: in "
            f"{count(len(new), axis.frequency.unit)} of the forecast the average effect stands for it, and the "
            "intervals do not count what is not known of it."
        )
        return (
            Finding(
                "unseen level",
                "warning",
                message,
                str(self.name),
                "Fit periods that have it, when there are.",
                {"periods": float(len(new))},
            ),
        )

    def remarks(self, view: View, state: CategoryState) -> tuple[Finding, ...]:
        """Whether its levels name rows rather than kinds of them, as there are nearly as many."""
        often = sum(state.counts) / len(state.levels)
        if often >= _OFTEN:
            return ()
        message = (
            f"'{self.name}' has {len(state.levels)} levels in {sum(state.counts)} periods: it names single periods "
            "rather than kinds of them, and explains them by themselves."
        )
        advice = "Leave it out, or group its levels."
        return (Finding("many levels", "serious", message, str(self.name), advice, {"periods_a_level": often}),)
