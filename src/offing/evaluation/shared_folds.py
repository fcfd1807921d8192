"""Folds that share their columns: plain regressions, of which one design serves all origins and candidates.

Whatever is not plain, or not sure in a fold, is left to be refitted.
"""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError
from offing.base.arrays import Array
from offing.calendar import Axis
from offing.engine import AWAY, Choice, Refits, quantile, refits
from offing.evaluation.fold_results import PROBABILITIES, Run
from offing.evaluation.origins import Cuts
from offing.evaluation.refit import Job
from offing.model import Model
from offing.tables import View
from offing.terms import STATED, Block, Term

Mask = NDArray[np.bool_]


def fitted_together(jobs: Sequence[Job]) -> list[tuple[Run, Mask] | None]:
    """The runs of jobs that share columns, on one series with the same origins, and which folds (f,) are sure.

    None where all must be refitted. What a fold gives, and whether it is sure, depends on what it may see alone.
    """
    started = time.perf_counter()
    found: list[tuple[Run, Mask] | None] = [None] * len(jobs)
    groups: dict[tuple[object, ...], list[int]] = {}
    for i, job in enumerate(jobs):
        if is_plain(job.model) and job.cuts.plan.window is None and job.cuts.table.vintages is None:
            groups.setdefault((job.model.scale, job.model.offset, job.basis, job.known_ahead), []).append(i)
    for members in groups.values():
        shared = _Shared([jobs[i] for i in members])
        for i, run in zip(members, shared.runs(), strict=True):
            found[i] = run
    taken = (time.perf_counter() - started) / max(sum(each is not None for each in found), 1)
    return [None if each is None else (replace(each[0], seconds=taken), each[1]) for each in found]


def is_plain(model: Model) -> bool:
    """Whether a model is a regression of the target as it is, with nothing else that is learnt."""
    return not (
        model.driver_selection is not None
        or model.dynamics is not None
        or model.loss != "squares"
        or model.half_life is not None
        or model.steps
        or model.treatments
        or model.covariance != "classical"
        or model.window is not None
        or any(
            term.learning == "again" or term.multiplies_trend or term.holds_level or term.recursive
            for term in model.terms
        )
    )


@dataclass
class _Shared:
    """The columns of all jobs on all periods up to the last outcome; the same ones are kept once."""

    jobs: list[Job]
    columns: list[Array] = field(default_factory=list)
    places: dict[bytes, int] = field(default_factory=dict)
    of_term: dict[int, _Laid | None] = field(default_factory=dict)

    @property
    def cuts(self) -> Cuts:
        return self.jobs[0].cuts

    @cached_property
    def axis(self) -> Axis:
        """From the target's first value to the last period that is forecast."""
        cuts = self.cuts
        return Axis(
            cuts.table.axis.frequency, cuts.table.axis.first + cuts.first, int(cuts.rows.max()) + 1 - cuts.first
        )

    def view(self, fold: int) -> View:
        """What a fold's fit may see."""
        job, end = self.jobs[0], int(self.cuts.ends[fold]) - self.cuts.first
        return job.information(fold).view(int(self.cuts.moments[fold]), self.axis.part(0, end), job.model.goal)

    @cached_property
    def ends(self) -> tuple[View, View]:
        """The views of the first fold and of the last."""
        return self.view(0), self.view(len(self.cuts.ends) - 1)

    def place(self, column: Array) -> int:
        """The place of a column among all, where it is put if it is new."""
        column = np.ascontiguousarray(column)
        key = column.tobytes()
        if key not in self.places:
            self.places[key] = len(self.columns)
            self.columns.append(column)
        return self.places[key]

    def laid(self, term: Term) -> _Laid | None:
        """A term's columns; None where they change from fold to fold or need more than least squares."""
        if id(term) not in self.of_term:
            self.of_term[id(term)] = self._lay(term)
        return self.of_term[id(term)]

    def _lay(self, term: Term) -> _Laid | None:
        try:
            return self._learnt(term)
        except InputError:
            return None  # refitted, the fold concerned shows what is wrong, and at which origin

    def _learnt(self, term: Term) -> _Laid | None:
        job = self.jobs[0]
        first, last = self.ends
        places = [first.sources.find(reference) for reference in term.needs()]
        frequencies = {job.tables[source].axis.frequency for source, _ in places}
        if not set(places) <= job.known_ahead or not frequencies <= {self.axis.frequency}:
            return None
        # The first fold sees the least: what cannot be learnt is reported from there.
        block = term.block(last, self.axis, term.learn(first))
        if term.learning == "more" and not _same(block, term.block(last, self.axis, term.learn(last))):
            return None
        if block.curve is not None or block.rising is not None or STATED in block.shrinkage_groups:
            return None
        # What only later periods have must not be known by its spread alone.
        later = self.axis.part(int(self.cuts.ends[0]) - self.cuts.first, self.axis.n)
        if any(block.shrinkage_groups) and term.future_columns(first, later, term.learn(first)):
            return None
        k = block.columns.shape[1]
        lower, upper = np.full(k, -np.inf), np.full(k, np.inf)
        if block.constraints is not None:
            lower, upper = np.array(block.constraints.lower), np.array(block.constraints.upper)
            if any(each != 1.0 for each in block.constraints.scales) or any(block.constraints.towards):
                return None
        return _Laid(tuple(self.place(column) for column in block.columns.T), lower, upper, block.shrinkage_groups)

    def runs(self) -> list[tuple[Run, Mask] | None]:
        """The runs of all jobs."""
        found: list[tuple[Run, Mask] | None] = [None] * len(self.jobs)
        target = self._target()
        if target is None:
            return found
        laid = [self._whole(job.model) for job in self.jobs]
        columns = np.array(self.columns).T
        last = int(self.cuts.ends[-1]) - self.cuts.first
        holes = np.isnan(columns[:last]) & np.isfinite(target[:last])[:, None]
        masks: dict[bytes, list[int]] = {}
        for i, each in enumerate(laid):
            if each is not None:
                masks.setdefault(holes[:, each.places].any(axis=1).tobytes(), []).append(i)
        for members in masks.values():
            own = [each for each in (laid[i] for i in members) if each is not None]
            made = self._made(columns, target, holes, own)
            for place, (i, each) in enumerate(zip(members, own, strict=True)):
                found[i] = _run(self.jobs[i], replace(made, place=place), each.lower, each.upper)
        return found

    def _whole(self, model: Model) -> _Laid | None:
        """A model's columns, the constant first; None if any term's are not to be shared."""
        parts = [self.laid(term) for term in model.terms]
        whole = [part for part in parts if part is not None]
        if len(whole) < len(parts):
            return None
        return _Laid(
            (self.place(np.ones(self.axis.n)), *(at for part in whole for at in part.places)),
            np.concatenate([[-np.inf], *(part.lower for part in whole)]),
            np.concatenate([[np.inf], *(part.upper for part in whole)]),
            ("", *(name for part in whole for name in part.shrinkage_groups)),
        )

    def _made(self, columns: Array, target: Array, holes: Mask, laid: Sequence[_Laid]) -> _Made:
        """The regressions on choices of columns that are known in the same rows."""
        cuts, last = self.cuts, len(holes)
        used = sorted({at for each in laid for at in each.places})
        gone = np.flatnonzero(holes[:, laid[0].places].any(axis=1))
        aim, own = target.copy(), columns[:, used]
        # A row that lacks a value is not fitted; what stands in it must only be a number.
        aim[gone], own[gone] = np.nan, np.nan_to_num(own[gone])
        own[:last] = np.where(np.isnan(target[:last])[:, None], np.nan_to_num(own[:last]), own[:last])
        where = {at: i for i, at in enumerate(used)}
        starts = np.zeros(len(cuts.ends), dtype=np.intp)
        made = refits(
            own,
            aim,
            starts=starts,
            ends=cuts.ends - cuts.first,
            ahead=cuts.rows - cuts.first,
            choices=[each.choice(where) for each in laid],
        )
        # The numbers that stand in for missing ones must not be forecast from.
        unknown = np.asarray(np.isnan(columns[:, used]).any(axis=1))
        missing = unknown[cuts.rows - cuts.first].any(axis=1)
        return _Made(made, 0, own, aim, self.logged & ~missing)

    def _target(self) -> Array | None:
        """What is fitted (n,) on all periods, NaN where it is unknown or no fold may see it."""
        cuts, model = self.cuts, self.jobs[0].model
        last = int(cuts.ends[-1])
        values = np.full(self.axis.n, np.nan)
        values[: last - cuts.first] = cuts.table.values(cuts.column)[cuts.first : last]
        if model.scale == "log":
            # Without a logarithm a fold is not sure: the fit itself says what to do.
            values = np.log(np.where(values + model.offset > 0.0, values + model.offset, np.nan))
        first = values[: cuts.ends[0] - cuts.first]
        known = first[np.isfinite(first)]
        return values if len(known) and known.min() < known.max() else None

    @cached_property
    def logged(self) -> Mask:
        """Which folds (f,) have a logarithm of every value, where one is taken."""
        cuts, model = self.cuts, self.jobs[0].model
        values = cuts.table.values(cuts.column)[cuts.first : int(cuts.ends[-1])]
        wrong = np.flatnonzero(values + model.offset <= 0.0) if model.scale == "log" else np.zeros(0)
        return cuts.ends - cuts.first <= (wrong[0] if len(wrong) else np.inf)


@dataclass(frozen=True)
class _Laid:
    """Places of a term's columns among all, their bounds, and the group with which each is shrunk towards zero."""

    places: tuple[int, ...]
    lower: Array
    upper: Array
    shrinkage_groups: tuple[str, ...]

    def choice(self, where: Mapping[int, int]) -> Choice:
        """The columns for the engine, given `where` each place is."""
        names = tuple(dict.fromkeys(name for name in self.shrinkage_groups if name))
        groups = np.array([names.index(name) if name else -1 for name in self.shrinkage_groups], dtype=np.intp)
        return Choice(np.array([where[at] for at in self.places], dtype=np.intp), groups, np.full(len(names), AWAY))


@dataclass(frozen=True)
class _Made:
    """What became of one choice of columns."""

    refits: Refits
    place: int
    columns: Array
    target: Array
    possible: Mask

    @property
    def choice(self) -> NDArray[np.intp]:
        """The columns chosen."""
        return self.refits.choices[self.place].places


def _same(first: Block, second: Block) -> bool:
    return first.names == second.names and np.array_equal(first.columns, second.columns, equal_nan=True)


def _run(job: Job, made: _Made, lower: Array, upper: Array) -> tuple[Run, Mask]:
    """The run on the target's own scale, and in which folds (f,) it is sure and no coefficient passes its bounds."""
    all_of, c, model = made.refits, made.place, job.model
    beta = all_of.beta[c]
    with np.errstate(invalid="ignore"):
        inside = ((beta >= lower) & (beta <= upper)).all(axis=1)
    sure = made.possible & all_of.sure[c] & np.isfinite(all_of.mean[c]).all(axis=1) & inside
    log = model.scale == "log"
    levels = all_of.mean[c]
    variance, dof = all_of.variance[c][:, None], all_of.dof[c]

    def own(values: Array) -> Array:
        found = np.exp(values) - model.offset if log else values
        return found if model.support is None else np.clip(found, *model.support)

    def quantiles() -> Array:
        deviation = np.sqrt(variance + np.square(all_of.spread(c))) * model.widen_intervals
        t = np.array([quantile(PROBABILITIES, float(each)) for each in dof])
        return own(levels[:, :, None] + deviation[:, :, None] * t[:, None, :])

    with np.errstate(over="ignore"):
        mean = own(levels + variance / 2.0 if log else levels)
    sure &= np.isfinite(mean).all(axis=1)

    def trained() -> Array:
        missed = np.empty((len(beta), 2))
        for f, end in enumerate((job.cuts.ends - job.cuts.first).tolist()):
            fitted = made.columns[:end][:, made.choice] @ beta[f]
            outcome = np.exp(made.target[:end]) - model.offset if log else made.target[:end]
            residual = outcome - own(fitted + float(all_of.variance[c, f]) / 2.0 if log else fitted)
            residual = residual[np.isfinite(residual)]
            missed[f] = np.abs(residual).mean(), np.sqrt(np.square(residual).mean())
        return missed

    counts = np.full(len(beta), float(len(made.choice)))
    return Run(job.series, model.name, job.basis, "model", job.cuts, mean, quantiles, trained, counts), sure
