"""The course of a search: candidates in batches, within their time."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np

from offing.base import InputError, Progress
from offing.base.parallel import Workers
from offing.evaluation.backtest import Backtest
from offing.evaluation.backtesting import jobs_of
from offing.evaluation.fold_results import Basis, Run
from offing.evaluation.origins import Origins
from offing.evaluation.refit import Job
from offing.evaluation.runner import attempt_all, run_all
from offing.evaluation.scoring import score_of
from offing.evaluation.search_log import Record, Tried
from offing.evaluation.search_space import Space
from offing.evaluation.shared_folds import is_plain
from offing.model import Model
from offing.tables import Panel, Table

Method = Literal["grid", "random", "narrowing"]
#: Of each round of narrowing a third is kept, and the origins are trebled (Jamieson & Talwalkar 2016).
KEPT = 3
#: The first batch of candidates, whose cost shows how many fit; later ones take about this share of the time.
_FIRST, _SLICE = 2, 0.03
#: Candidates that take longer, in seconds, are refitted one by one, by other processes if there are many.
_SLOW = 0.03
#: Candidates of a batch without a time budget: enough to share their columns, and the record is written after each.
_BATCH = 256
#: Share of the budget that is kept for the winner's last test and fit, beside what they are measured to cost.
_RESERVE = 0.02
#: What the model as stated is called beside the winner.
STATED = "as stated"


@dataclass
class SearchContext:
    """What all candidates of a search share."""

    space: Space
    series: Mapping[str, dict[str, Table]]
    plan: Origins
    basis: Basis
    score: str
    held_back: int
    planned: tuple[str, ...]
    plans: Mapping[str, Table | Panel]
    workers: Workers
    terms: dict[tuple[str, tuple[Any, ...]], Any] = field(default_factory=dict)

    @cached_property
    def stage(self) -> list[Job]:
        """A job of every series, from origins whose outcomes lie before what is held back."""
        jobs, _ = jobs_of(
            [self.space.model],
            self.series,
            self.plan,
            [self.basis],
            planned=self.planned,
            plans=self.plans,
            hidden=self.held_back,
        )
        return jobs

    @property
    def folds(self) -> int:
        """How many origins there are."""
        return max(len(job.cuts.moments) for job in self.stage)

    def part(self, folds: int) -> list[list[int]]:
        """A number of origins of each series, spread over all."""
        return [
            sorted({round(x) for x in np.linspace(0, len(job.cuts.moments) - 1, min(folds, len(job.cuts.moments)))})
            for job in self.stage
        ]

    def tried(self, choices: Sequence[tuple[int, ...]], folds: int) -> list[Tried]:
        """What became of some candidates on a number of origins."""
        started = time.perf_counter()
        models: list[Model | str] = []
        for digits in choices:
            try:
                models.append(self.space.built(digits, self.terms))
            except InputError as error:
                models.append(str(error))
        scores: list[list[float]] = [[] for _ in choices]
        columns: list[list[float]] = [[] for _ in choices]
        whys = ["" if isinstance(each, Model) else each for each in models]
        for stage, places in zip(self.stage, self.part(folds), strict=True):
            cuts = stage.cuts.only(places)
            jobs = {
                i: replace(stage, model=each, cuts=cuts) for i, each in enumerate(models) if isinstance(each, Model)
            }
            for i, run in self._runs({i: job for i, job in jobs.items() if not whys[i]}).items():
                if isinstance(run, InputError):
                    whys[i] = str(run)
                else:
                    scores[i].append(score_of(run, self.score))
                    columns[i].append(float(np.mean(np.zeros(1) if run.columns is None else run.columns)))
        each = (time.perf_counter() - started) / max(len(choices), 1)
        return [
            Tried(
                digits,
                folds,
                float("nan") if why else float(np.mean(own)),
                float("nan") if why else float(np.mean(sizes)),
                each,
                why,
            )
            for digits, own, sizes, why in zip(choices, scores, columns, whys, strict=True)
        ]

    def _runs(self, jobs: Mapping[int, Job]) -> dict[int, Run | InputError]:
        """The runs of one series' candidates, or why there is none."""
        return dict(zip(jobs, attempt_all(list(jobs.values()), self.workers.executor), strict=True))

    def held(self, winner: Tried) -> Backtest:
        """The winner and the model as stated on what was held back."""
        every, first = self.plan.usual_step, self.plan.first_origin
        origins = max((self.held_back - self.plan.gap - self.plan.horizon) // every + 1, 1)
        plan = replace(self.plan, origins=None if first is not None else origins, every=every)
        models = [self.space.built(winner.digits, self.terms)]
        if self.space.stated() not in (None, winner.digits):
            models.append(replace(self.space.model, name=STATED))
        jobs, _ = jobs_of(models, self.series, plan, [self.basis], planned=self.planned, plans=self.plans)
        if first is not None:
            jobs = [self._newest(job) for job in jobs]
        runs = run_all(jobs, self.workers.executor)
        first = {series: next(job for job in jobs if job.series == series) for series in self.series}
        return Backtest(tuple(models), plan, tuple(runs), first)

    def _newest(self, job: Job) -> Job:
        """The job from those origins alone whose outcomes all lie in what was held back."""
        values = job.cuts.table.values(job.cuts.column)
        start = int(np.flatnonzero(np.isfinite(values))[-1]) + 1 - self.held_back
        folds = np.flatnonzero(job.cuts.rows[:, 0] >= start).tolist()
        return replace(job, cuts=job.cuts.only(folds or [len(job.cuts.ends) - 1]))


@dataclass
class SearchLoop:
    """The course of a search."""

    context: SearchContext
    record: Record
    started: float
    budget: float | None
    report: Callable[[str], object] | None
    found: dict[tuple[tuple[int, ...], int], Tried] = field(default_factory=dict)
    expected: int | None = None
    stopped: str = ""
    reserve: float = 0.0
    folds: int = 0
    spent: float = 0.0
    dearest: float = 0.0

    @property
    def left(self) -> float:
        """Seconds that are left for candidates."""
        if self.budget is None:
            return float("inf")
        return self.budget * (1.0 - _RESERVE) - self._clock - self.reserve

    def latest(self) -> list[Tried]:
        """Each candidate with its score on the most origins."""
        best: dict[tuple[int, ...], Tried] = {}
        for each in self.found.values():
            if each.digits not in best or best[each.digits].folds < each.folds:
                best[each.digits] = each
        return list(best.values())

    def run(self, method: Method, tries: int | None, seed: int) -> None:
        """Try candidates until all are tried or the time is up."""
        self.found = {(each.digits, each.folds): each for each in self.record.known()}
        order = list(_limited(self.context.space, tries, seed))
        with Progress("searching") as progress:
            if method != "narrowing":
                self._all(order, self.context.folds, progress, (0.0, 1.0))
                return
            rounds = [self.context.folds]
            while rounds[0] > KEPT and len(order) // KEPT ** len(rounds) >= 2:
                rounds.insert(0, max(2, -(-rounds[0] // KEPT)))
            for i, folds in enumerate(rounds):
                last = i == len(rounds) - 1
                # Each round may take its share of the time, so that the last one is reached.
                self._all(order, folds, progress, (i / len(rounds), (i + 1) / len(rounds)))
                own = [self.found[digits, folds] for digits in order if (digits, folds) in self.found]
                own = sorted((each for each in own if np.isfinite(each.score)), key=lambda each: each.score)
                if not last:
                    order = [each.digits for each in own[: max(len(own) // KEPT, 1)]]

    def _all(self, order: Sequence[tuple[int, ...]], folds: int, progress: Progress, span: tuple[float, float]) -> None:
        """Try candidates in their order on a number of origins, within a span of the time."""
        todo = [digits for digits in order if (digits, folds) not in self.found]
        size, whole = (_BATCH if self.budget is None and is_plain(self.context.space.model) else _FIRST), len(todo)
        until = float("inf") if self.budget is None else self.budget * span[1]
        while todo:
            room, one = min(self.left, until - self._clock), self.dearest * folds
            if self.found and room <= one:
                self.stopped = "The time was up before all were tried." if span[1] == 1.0 else self.stopped
                return
            size = size if one == 0.0 or self.budget is None else max(1, min(size, int(room / one)))
            batch, todo = todo[:size], todo[size:]
            self._try(batch, folds)
            one = self.dearest * folds
            if self.budget is not None and self.expected is None:
                more = max(int((min(self.left, until - self._clock)) / max(one, 1e-9)), 0)
                self._announce(len(self.found) + more, one)
            if one > _SLOW and self.context.workers.worth(min(len(todo) * one, self.left) / 2.0):
                self.context.workers.started("offing.evaluation.refit")
            size = self._size(len(batch), one)
            done, clock = (whole - len(todo)) / whole, 0.0 if self.budget is None else self._clock / self.budget
            progress.update(max(span[0] + (span[1] - span[0]) * done, clock))

    @property
    def _clock(self) -> float:
        """Seconds since the search began."""
        return time.monotonic() - self.started

    def _try(self, batch: Sequence[tuple[int, ...]], folds: int) -> None:
        """Try a batch and keep what became of it."""
        started = time.monotonic()
        new = self.context.tried(batch, folds)
        self.record.add(new)
        self.found |= {(each.digits, folds): each for each in new}
        taken = time.monotonic() - started
        self.folds, self.spent = self.folds + folds * len(batch), self.spent + taken
        # Candidates differ in cost: the dearer of the newest and of all so far is what one may take.
        self.dearest = max(taken / (folds * len(batch)), self.spent / self.folds)

    def _size(self, before: int, one: float) -> int:
        """How large the next batch is, given the seconds of a candidate; batches grow slowly."""
        if self.budget is None:
            return min(2 * before, _BATCH)
        # The winner and the model as stated are yet to be forecast from the origins held back.
        self.reserve = max(self.reserve, 2.0 * one)
        return max(1, min(int(max(_SLICE * self.budget, one) / max(one, 1e-9)), 2 * before, _BATCH))

    def _announce(self, fits: int, taken: float) -> None:
        size = self.context.space.size
        self.expected = min(fits, size)
        if self.report is not None and self.budget is not None:
            part = "all" if fits >= size else f"about {fits:,} of"
            self.report(f"A candidate takes {taken:.3g} s: {part} {size:,} fit into {self.budget:.3g} s.")


def _limited(space: Space, tries: int | None, seed: int) -> list[tuple[int, ...]]:
    most = 100_000 if tries is None else tries
    return list(space.ordered(most, np.random.default_rng(seed)))


def best_of(tried: Sequence[Tried]) -> Tried:
    """The best candidate of those that were scored on the most origins."""
    most = max(each.folds for each in tried if np.isfinite(each.score))
    return min((each for each in tried if each.folds == most and np.isfinite(each.score)), key=lambda each: each.score)
