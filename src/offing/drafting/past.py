"""What every candidate of a draft would have forecast from past origins, quickly."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.drafting.candidate import Candidate, Ingredients, Scale
from offing.drafting.scored import Laid, Scored
from offing.engine.trials import Trials, trials
from offing.evaluation.origins import Cuts
from offing.model.driver_forecasts import own_model
from offing.model.estimation import kept_from_zero
from offing.tables import Goal, Information, View
from offing.terms import Block, OwnLags, Term, Trend
from offing.terms.transform_step import Factor, Stated
from offing.terms.transforms import steps_of

#: Where more than this share of an origin's periods cannot be forecast, the origin does not count.
_LACKING = 0.5
#: A mean of logarithms further from the known ones than this many of their ranges is no forecast.
_WILD = 3.0
#: What is tried of the share of noise that comes back after a season.
_COMING_BACK = (0.3, 0.6, 0.85)


@dataclass(eq=False)
class Past:
    """The data of a draft as they stood at past origins.

    Attributes
    ----------
    information
        One series' tables, plans, and which columns count as known beforehand.
    ingredients
        The terms to choose among.
    cuts
        The origins.
    """

    information: Information
    ingredients: Ingredients
    cuts: Cuts
    laid: dict[int, tuple[Term, Laid | InputError]] = field(default_factory=dict)
    scored: dict[tuple[object, ...], Scored] = field(default_factory=dict)
    expectations: dict[str, list[tuple[int, Array]]] = field(default_factory=dict)

    @cached_property
    def axis(self) -> Axis:
        """From the target's first value to its last."""
        values = self.cuts.table.values(self.cuts.column)
        last = int(np.flatnonzero(np.isfinite(values))[-1]) + 1
        return self.cuts.table.axis.part(self.cuts.first, last)

    @cached_property
    def target(self) -> Array:
        """The target (n,)."""
        return self.cuts.table.values(self.cuts.column)[self.cuts.first : self.cuts.first + self.axis.n]

    @property
    def ends(self) -> NDArray[np.intp]:
        """How many rows (F,) lie before each origin."""
        return self.cuts.ends - self.cuts.first

    @cached_property
    def rows(self) -> NDArray[np.intp]:
        """Rows (F, h) that are forecast."""
        return self.cuts.rows - self.cuts.first

    @cached_property
    def outcome(self) -> Array:
        """Outcomes (F, h)."""
        return self.target[self.rows]

    @cached_property
    def now(self) -> View:
        """What is known today."""
        table = self.cuts.table
        origin = int(table.known_at()[self.cuts.first + self.axis.n - 1])
        return replace(self.information, known_ahead=None).view(origin, self.axis, Goal(self.ingredients.target))

    @cached_property
    def views(self) -> list[View]:
        """What was known at every origin."""
        goal = Goal(self.ingredients.target)
        return [
            self.information.view(int(moment), self.axis.part(0, int(end)), goal)
            for moment, end in zip(self.cuts.moments, self.ends, strict=True)
        ]

    def ahead(self, fold: int) -> Axis:
        """The periods forecast from one origin."""
        return Axis(self.axis.frequency, self.axis.first + int(self.rows[fold, 0]), self.rows.shape[1])

    def columns(self, term: Term) -> Laid:
        """A term's columns; made once.

        Raises
        ------
        InputError
            If the term cannot be learnt or has no column.
        """
        if id(term) not in self.laid:
            try:
                self.laid[id(term)] = (term, self._lay(term))
            except InputError as error:
                self.laid[id(term)] = (term, error)
        found = self.laid[id(term)][1]
        if isinstance(found, InputError):
            raise found
        return found

    def _lay(self, term: Term) -> Laid:
        state = term.learn(self.now)
        block = term.block(self.now, self.axis, state)
        _check_linear(block)
        late = [name for name in term.needs() if not self.known_ahead(name)]
        if not late:
            ahead = block.columns[self.rows]
            if isinstance(term, Trend) and term.damping != 1.0:
                parts = [replace(state, last=self.axis.first + int(end) - 1) for end in self.ends]
                ahead = np.array([term.block(self.now, self.ahead(f), each).columns for f, each in enumerate(parts)])
            return Laid(block.columns, ahead, block.shrinkage_groups, self.ends)
        parts_ahead: list[Array] = []
        ends: list[int] = []
        for fold, view in enumerate(self.views):
            end = int(self.ends[fold])
            known = np.isfinite(term.block(view, self.axis.part(0, end), state).columns).all(axis=1)
            if not known.any():
                raise InputError(f"nothing of '{term.name}' was known at some origin")
            ends.append(int(np.flatnonzero(known)[-1]) + 1)
            for reference in late:
                view = view.expecting(reference, *self.expected(reference, fold))  # noqa: PLW2901
            parts_ahead.append(term.block(view, self.ahead(fold), state).columns)
        return Laid(block.columns, np.array(parts_ahead), block.shrinkage_groups, np.array(ends))

    def known_ahead(self, reference: str) -> bool:
        """Whether a column's later values were known beforehand."""
        known_ahead = self.information.known_ahead or frozenset()
        return self.now.sources.find(reference) in known_ahead

    def expected(self, reference: str, fold: int) -> tuple[int, Array]:
        """What was expected of a column from an origin on: the ordinal from which on, and the values.

        Trend, season and the period before, as the models of drivers' own have them.

        Raises
        ------
        InputError
            If the column holds words, or too few values.
        """
        if reference not in self.expectations:
            self.expectations[reference] = self._expectations(reference)
        return self.expectations[reference][fold]

    def _expectations(self, reference: str) -> list[tuple[int, Array]]:
        if not self.now.numeric(reference):
            raise InputError(f"nothing is known of the words in '{reference}' after the target's end")
        table = self.now.sources.tables[self.now.sources.find(reference)[0]]
        frequency = table.axis.frequency
        ends, lasts = [], []
        for fold, view in enumerate(self.views):
            marks = np.isfinite(view.known(reference, table.axis).values)
            if marks.sum() < 4:
                raise InputError(f"too little of '{reference}' was known at some origin")
            ends.append(int(np.flatnonzero(marks)[-1]) + 1)
            lasts.append(self.views[fold].native(reference, self.ahead(fold)))
        h = max(each.first + each.n - table.axis.first - end for each, end in zip(lasts, ends, strict=True))
        h = max(h, 1)
        values = table.values(self.now.sources.find(reference)[1])
        whole = Axis(frequency, table.axis.first, max(ends) + h)
        blocks = [np.ones((whole.n, 1)), np.linspace(-1.0, 1.0, whole.n)[:, None]]
        view = replace(self.now, rows=table.axis)
        for term in own_model(frequency, ends[0]):
            if not isinstance(term, (OwnLags, Trend)):
                blocks.append(term.block(view, whole, term.learn(view)).columns)
        columns = np.hstack(blocks)
        mean = np.array([_recursed(columns, values, end, h) for end in ends])
        known = values[np.isfinite(values)]
        if (known >= 0.0).all():
            mean = np.maximum(mean, 0.0)
        return [(table.axis.first + end, row) for end, row in zip(ends, mean, strict=True)]

    def score(self, candidate: Candidate) -> Scored:
        """How a candidate did from the past origins."""
        if candidate.key not in self.scored:
            try:
                self.scored[candidate.key] = self._score(candidate)
            except (InputError, np.linalg.LinAlgError) as error:
                none = np.full(len(self.ends), np.inf)
                why = error.found if isinstance(error, InputError) else "its columns cannot be separated"
                self.scored[candidate.key] = Scored(candidate, np.full(self.rows.shape, np.nan), none, why=why)
        return self.scored[candidate.key]

    def _score(self, candidate: Candidate) -> Scored:
        terms = candidate.terms(self.ingredients)
        laid = [self.columns(term) for term in terms]
        transformed, structure = self.transformed(candidate.scale), candidate.structure
        season = self.ingredients.season_length
        lag = self.ingredients.lag(structure)
        columns = np.hstack([np.ones((self.axis.n, 1)), *(each.columns for each in laid)])
        f, h = self.rows.shape
        ahead = np.concatenate([np.ones((f, h, 1)), *(each.ahead for each in laid)], axis=2)
        shrinkage_groups = ("", *(name for each in laid for name in each.shrinkage_groups))
        names = tuple(dict.fromkeys(name for name in shrinkage_groups if name))
        groups = np.array([names.index(name) if name else -1 for name in shrinkage_groups])
        ends = np.min([self.ends, *(each.ends for each in laid)], axis=0)
        starts = np.zeros_like(ends) if candidate.window is None else np.maximum(ends - candidate.window, 0)
        if (ends - starts < (groups < 0).sum() + lag + 3).any():
            raise InputError("too few periods before the first origin for so many terms")
        distance = self.rows - ends[:, None] + 1

        def tried(lag: int, share: float, *, whole: bool) -> Trials:
            """Freed of a share of what was a lag before: the target alone, or the `whole` rows."""
            aim = _freed(transformed, lag, share)
            own, later = columns, ahead
            if whole:
                own = _freed(columns, lag, share)
                later = ahead - share * np.where(
                    (distance <= lag)[:, :, None], columns[self.rows - lag], np.roll(ahead, lag, axis=1)
                )
            return trials(
                own,
                aim,
                ends.tolist(),
                later,
                distance,
                starts=starts.tolist(),
                groups=groups,
                kept=kept_from_zero(names),
                autocorrelated=structure.errors == "ar",
            )

        if structure.seasonal:
            each = {share: tried(season, share, whole=True) for share in _COMING_BACK}
            share = min(each, key=lambda share: float(each[share].deviance[-1]))
            found, mean = each[share], self._levels(each[share], candidate.scale, (season, share), transformed)
        else:
            found = tried(lag, 1.0, whole=False)
            mean = self._levels(found, candidate.scale, (lag, 1.0), transformed)
        error = np.abs(mean - self.outcome)
        there = np.isfinite(self.outcome)
        lacking = (~np.isfinite(error) & there).sum(axis=1) > _LACKING * np.maximum(there.sum(axis=1), 1)
        with np.errstate(invalid="ignore"):
            sums, counts = np.nansum(error, axis=1), np.isfinite(error).sum(axis=1)
        errors = np.where(lacking | (counts == 0), np.inf, sums / np.maximum(counts, 1))
        owners = (
            "constant",
            *(str(term.name) for term, each in zip(terms, laid, strict=True) for _ in each.shrinkage_groups),
        )
        return Scored(candidate, mean, errors, found, shrinkage_groups, owners)

    def transformed(self, scale: Scale) -> Array:
        """The target (n,) on a scale."""
        aim = self.target * self.factor(scale.factors)
        if scale.name == "level":
            return aim
        with np.errstate(invalid="ignore", divide="ignore"):
            found = np.log(aim + scale.offset)
        if np.isneginf(found).any() or (np.isnan(found) & np.isfinite(self.target)).any():
            raise InputError("not all values have a logarithm")
        return found

    def factor(self, transform: Sequence[Stated]) -> Array:
        """What the target (n,) is multiplied by first."""
        factor = np.ones(self.axis.n)
        for step in steps_of(transform):
            if isinstance(step, Factor):
                factor = factor * step.factor(lambda axis: np.ones(axis.n), self.now, self.axis)
        return factor

    def _levels(self, found: Trials, scale: Scale, back: tuple[int, float], transformed: Array) -> Array:
        """Forecasts (F, h) of the target itself from those of what is fitted: with a share of what was a lag before."""
        mean, variance = found.mean.copy(), found.variance.copy()
        lag, share = back
        if lag:
            for fold, end in enumerate(self.ends.tolist()):
                path, spread = transformed[:end].copy(), np.zeros(end)
                path = _filled(path)
                for i in range(mean.shape[1]):
                    path = np.append(path, share * path[-lag] + mean[fold, i])
                    spread = np.append(spread, share**2 * spread[-lag] + variance[fold, i])
                mean[fold], variance[fold] = path[end:], spread[end:]
        back_again = 1.0 / self.factor(scale.factors)[self.rows]
        if scale.name == "level":
            return mean * back_again
        known = transformed[np.isfinite(transformed)]
        wild = np.abs(mean - known.mean()) > _WILD * max(float(np.ptp(known)), 1e-9)
        with np.errstate(over="ignore"):
            levels = np.exp(np.where(wild, np.nan, mean) + np.minimum(variance, 1.0) / 2.0) - scale.offset
        return np.asarray(levels * back_again)


def _recursed(columns: Array, values: Array, end: int, h: int) -> Array:
    """Forecasts (h,) from a row on, by a regression on columns and the value before, each being the next one's past."""
    before = np.append(np.nan, values[: end - 1])
    wide = np.column_stack([columns[:end], before])
    used = np.isfinite(wide).all(axis=1) & np.isfinite(values[:end])
    beta = np.linalg.lstsq(wide[used], values[:end][used], rcond=None)[0]
    found, last = np.empty(h), float(values[end - 1])
    for i in range(h):
        last = float(columns[end + i] @ beta[:-1]) + float(beta[-1]) * last
        found[i] = last
    return found


def _check_linear(block: Block) -> None:
    if block.curve is not None or block.rising is not None or block.constraints is not None:
        raise InputError("its columns have shapes to estimate, which trials do not")


def _freed(rows: Array, lag: int, share: float) -> Array:
    """Rows (n, …) less a share of those a lag before; NaN where there are none."""
    if not lag:
        return rows
    found = rows.copy()
    found[lag:] -= share * rows[:-lag]
    found[:lag] = np.nan
    return found


def _filled(values: Array) -> Array:
    """Values with the last known one in place of those that are missing."""
    known = np.isfinite(values)
    places = np.maximum.accumulate(np.where(known, np.arange(len(values)), 0))
    return values[places]
