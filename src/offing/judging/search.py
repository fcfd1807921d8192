"""Searching for a better model in a stated time, and an honest figure of how good the winner is."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, Literal, get_args

import numpy as np
import pandas as pd

from offing.base import InputError, Progress, count, nearest
from offing.judging.anew import Job
from offing.judging.backtest import Backtest, bases_of, jobs_of
from offing.judging.origins import Origins
from offing.judging.record import Record, Tried, mark_of
from offing.judging.routes import attempt_all, run_all
from offing.judging.run import Basis, Run
from offing.judging.scoring import SCORES, check_score, score_of
from offing.judging.space import Space
from offing.model import Fit, Model
from offing.model.model import Data, tables_of
from offing.model.words import as_html, number, percent, rounded, text_table, wrapped
from offing.tables import Panel, Table, split_series

Way = Literal["grid", "random", "narrowing"]
#: Of each round of narrowing a third is kept, and the origins are trebled (Jamieson & Talwalkar 2016).
_KEPT = 3
#: The first batch of candidates, whose cost tells how many fit; later ones take about this share of the time.
_FIRST, _SLICE = 4, 0.03
#: Without a time budget batches are of so many.
_BATCH = 256
#: Share of the budget that is kept for the winner's last test and fit, beside what they are measured to cost.
_RESERVE = 0.02


@dataclass(frozen=True)
class Search:
    """What was tried, which candidate won, and how good it is on periods that the search never saw.

    Made by `offing.search`; printed, the winner and its honest score.

    Attributes
    ----------
    space
        What could be chosen.
    tried
        One entry a candidate, with its score on the most origins that it was given.
    plan, basis, score
        How candidates were scored.
    held_back
        How many of the newest periods were kept from the search.
    held
        The back-test of the winner and of the model as stated, on these.
    first
        How many candidates were expected to fit, before the search began; None without a budget.
    seconds
        How long all took.
    stopped
        Why it ended early, if it did.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> generator = np.random.default_rng(5)
    >>> data = pd.DataFrame(generator.normal(size=(200, 3)), pd.date_range("2024-01-01", periods=200), list("abc"))
    >>> data["sold"] = 5.0 + 2.0 * data["b"] + generator.normal(size=200)
    >>> model = of.Model("sold", [of.Driver(name) for name in "abc"])
    >>> found = of.search(model, data, optional=list("abc"), horizon=5, basis="ex-post")
    >>> found.chosen["b"], found.honest > 0.0
    ('in', True)
    """

    space: Space
    tried: tuple[Tried, ...]
    plan: Origins
    basis: Basis
    score: str
    held_back: int
    held: Backtest
    origins: int
    first: int | None
    seconds: float
    stopped: str = ""
    data: Mapping[str, Table | Panel] = field(default_factory=dict, repr=False)

    @property
    def winner(self) -> Tried:
        """The candidate with the best score over all origins."""
        return _best(self.tried)

    @property
    def chosen(self) -> dict[str, Any]:
        """What the winner chooses."""
        return self.space.named(self.winner.digits)

    @cached_property
    def model(self) -> Model:
        """The winner."""
        return self.space.built(self.winner.digits, {})

    @cached_property
    def fits(self) -> dict[str, Fit]:
        """The winner, fitted to everything, by series."""
        return self.model.fit_each(self.data)

    @property
    def found(self) -> float:
        """The winner's score in the search: too good, as it is the best of many."""
        return self.winner.score

    @cached_property
    def honest(self) -> float:
        """The winner's score on the periods that were held back."""
        return self._on_held(self.model.name)

    @property
    def as_stated(self) -> float | None:
        """The score of the model as stated, on the periods that were held back; None if it was not to choose from."""
        return self._on_held(_STATED) if any(run.name == _STATED for run in self.held.own) else None

    @property
    def optimism(self) -> float:
        """By which share the honest score is above that of the search."""
        return self.honest / self.found - 1.0

    @property
    def share(self) -> float:
        """The share of all candidates that was tried."""
        return len(self.tried) / self.space.size

    def _on_held(self, name: str) -> float:
        runs = [run for run in self.held.own if run.name == name]
        return float(np.mean([score_of(run, self.score) for run in runs]))

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a candidate, the best first: its choices, ``score, origins, columns, seconds, why``."""
        rows = [{**{key: _spelt(value) for key, value in self.space.named(each.digits).items()}, "score": each.score,
                 "origins": each.folds, "columns": each.columns, "seconds": each.seconds, "why": each.why}
                for each in self.tried]  # fmt: skip
        order = sorted(range(len(rows)), key=lambda i: (-self.tried[i].folds, _or_last(self.tried[i].score)))
        return pd.DataFrame([rows[i] for i in order])

    @cached_property
    def by_size(self) -> pd.DataFrame:
        """The best candidate of each number of coefficients, of those scored on all origins: ``columns, score``."""
        own = [each for each in self.tried if each.folds == self.origins and np.isfinite(each.score)]
        sizes: dict[int, float] = {}
        for each in own:
            size = round(each.columns)
            sizes[size] = min(sizes.get(size, np.inf), each.score)
        return pd.DataFrame(sorted(sizes.items()), columns=["columns", "score"])

    @property
    def sentences(self) -> str:
        """The winner, both of its scores, and how much of the space was tried."""
        unit = f" {self.held.unit}" if self.held.unit and SCORES[self.score].unit else ""
        choice = ", ".join(f"{key} {_spelt(value)}" for key, value in self.chosen.items())
        tried = f"{len(self.tried):,} of {self.space.size:,} candidates ({100 * self.share:.3g} %)"
        failed = sum(1 for each in self.tried if each.why)
        expected = "" if self.first is None else f" About {self.first:,} had been expected to fit into the time."
        periods = count(self.held_back, self.held.cuts().table.axis.frequency.unit)
        why = "as the best of many looks better than it is" if self.optimism > 0.0 else "which were easier"
        told_of = f"{percent(self.optimism)} on new periods, {why}"
        lines = [
            f"Best of {tried}: {choice}.",
            f"Honest {self.score}, on the {periods} that the search never saw: {number(self.honest)}{unit}. In the "
            f"search it had {number(self.found)}{unit}: {told_of}.",
            f"The search took {self.seconds:.1f} s.{expected}"
            + (f" {failed} candidates could not be fitted." if failed else "")
            + (f" {self.stopped}" if self.stopped else ""),
        ]
        if self.as_stated is not None and self.model != self.space.model:
            gain = 1.0 - self.honest / self.as_stated
            told = f"; the search gained {percent(gain)}" if gain > 0.0 else ", which is no worse: keep it"
            lines.insert(2, f"The model as stated has {number(self.as_stated)}{unit} there{told}.")
        ahead = self._best_reference
        if ahead is not None:
            name, value = ahead
            verb = "beats" if self.honest < value else "does not beat"
            lines.insert(1, f"There it {verb} the best plain reference, '{name}' ({number(value)}{unit}).")
        return "\n".join(lines)

    @property
    def _best_reference(self) -> tuple[str, float] | None:
        """The reference with the best score on the periods held back."""
        names = list(dict.fromkeys(run.name for run in self.held.references if not run.why))
        found = {}
        for name in names:
            values = [score_of(run, self.score) for run in self.held.references if run.name == name]
            found[name] = float(np.mean(values))
        found = {name: value for name, value in found.items() if np.isfinite(value)}
        if not found:
            return None
        best = min(found, key=lambda name: found[name])
        return best, found[best]

    def text_table(self) -> str:
        """The ten best candidates to read."""
        rows = self.table.head(10)
        names = list(self.space.named(self.winner.digits))
        columns = [[str(each) for each in rows[name]] for name in names]
        columns += [rounded(rows["score"]), [str(each) for each in rows["origins"]],
                    ["" if np.isnan(each) else f"{each:.0f}" for each in rows["columns"]]]  # fmt: skip
        return text_table([*names, self.score, "origins", "columns"], columns)

    def __str__(self) -> str:
        return f"{wrapped(self.sentences)}\n\n{self.text_table()}"

    def _repr_html_(self) -> str:
        return as_html(self.sentences, self.table)


_STATED = "as stated"


def search(
    model: Model,
    data: Data,
    choices: Mapping[str, Sequence[Any]] | None = None,
    *,
    optional: Sequence[str] = (),
    horizon: int,
    budget: float | None = None,
    way: Way = "grid",
    tries: int | None = None,
    seed: int = 0,
    score: str = "RMSE",
    held_back: int | None = None,
    origins: int | None = None,
    first_origin: object = None,
    every: int | None = None,
    gap: int = 0,
    basis: Basis | None = None,
    planned: Sequence[str] = (),
    plans: Mapping[str, Table | Panel] | None = None,
    record: str | Path | None = None,
    tell: Callable[[str], object] | None = None,
    executor: Executor | None = None,
) -> Search:
    """Search for a better model among stated choices, and score the winner once on periods that were held back.

    Parameters
    ----------
    model, data
        What the choices start from, and what it is fitted to.
    choices
        Values to choose from, by ``TERM.FIELD`` such as ``season.harmonics``, or by a field of the model: ``scale``,
        ``errors``, ``order``, ``loss``, ``half_life``, ``window`` (how many of the newest periods are fitted) and so
        on.
    optional
        Names of terms that may be left out.
    horizon, origins, first_origin, every, gap, basis, planned, plans
        As for `offing.backtest`; of ``basis`` only one, ex-ante by default where there are drivers.
    budget
        Seconds for everything. The first candidates tell what one costs, and how many fit is told (`tell`) before the
        others are tried. By default there is no limit.
    way
        ``grid``: all of them, in an order drawn at random, so that any part of them is a fair sample. ``random``:
        `tries` of them. ``narrowing``: few origins for all (or `tries`) of them, then thrice as many origins for the
        best third, and so on (Jamieson & Talwalkar 2016).
    tries
        How many candidates at most.
    seed
        Of the order.
    score
        What is to be small.
    held_back
        How many of the newest periods the search never sees; by default twice the horizon.
    record
        A file in which all that was tried is kept, and from which a search that was stopped goes on.
    tell
        Called with a line on how many candidates fit into the time.
    executor
        As for `offing.backtest`.

    Raises
    ------
    InputError
        For unknown choices or words, too short a history, a record of another search, or if no candidate can be
        fitted.

    Notes
    -----
    An interruption from the keyboard leaves the best so far. Plain regressions among the candidates share one design
    (see `offing.backtest`).

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2012-01", periods=144, freq="M")
    >>> wave = 10 * np.sin(2 * np.pi * np.arange(144) / 12) + np.random.default_rng(1).normal(size=144)
    >>> sold = pd.Series(100.0 + wave, months, name="sold")
    >>> model = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)])
    >>> of.search(model, sold, {"season.harmonics": [1, 2, 3]}, optional=["trend"], horizon=6).chosen
    {'season.harmonics': 1, 'trend': 'out'}
    """
    started = time.monotonic()
    if way not in get_args(Way):
        raise InputError(f"found {way!r}", nearest(str(way), get_args(Way)), key="way")
    if budget is not None and not budget > 0.0:
        raise InputError(f"found {budget!r}", "Give a number of seconds.", key="budget")
    if way == "random" and tries is None and budget is None:
        raise InputError("a random search needs an end", "Give tries or a budget.", key="tries")
    if SCORES[check_score(score)].better != "low":
        raise InputError(
            f"found {score!r}, which is not the better the smaller", "Give RMSE or CRPS, say.", key="score"
        )
    held_back = 2 * horizon if held_back is None else held_back
    if isinstance(held_back, bool) or held_back < horizon:
        raise InputError(f"found {held_back!r}", f"Hold back at least the horizon, {horizon}.", key="held_back")
    space = Space(model, choices or {}, tuple(optional))
    series = split_series(tables_of(data), model.target)
    chosen = bases_of([model], basis)[-1]
    plan = Origins(horizon, origins, first_origin, every, gap)
    scene = _Scene(space, series, plan, chosen, score, held_back, tuple(planned), plans or {}, executor)
    mark = mark_of(space, series, (plan, chosen, score, held_back, tuple(planned)))
    with Record(record, mark) as kept:
        hunt = _Hunt(scene, kept, started, budget, tell)
        try:
            hunt.run(way, tries, seed)
        except KeyboardInterrupt:
            hunt.stopped = "It was interrupted: this is the best so far."
        tried = hunt.latest()
    if not any(np.isfinite(each.score) for each in tried):
        why = next((each.why for each in tried if each.why), "no time was left")
        raise InputError(f"no candidate could be scored: {why}", "Give other choices, or more time.", key="choices")
    held = scene.held(_best(tried))
    return Search(space, tuple(tried), plan, chosen, score, held_back, held, scene.folds, hunt.expected,
                  time.monotonic() - started, hunt.stopped, tables_of(data))  # fmt: skip


@dataclass
class _Scene:
    """What all candidates of a search share."""

    space: Space
    series: Mapping[str, dict[str, Table]]
    plan: Origins
    basis: Basis
    score: str
    held_back: int
    planned: tuple[str, ...]
    plans: Mapping[str, Table | Panel]
    executor: Executor | None
    terms: dict[tuple[str, tuple[Any, ...]], Any] = field(default_factory=dict)

    @cached_property
    def stage(self) -> list[Job]:
        """A job of every series, from origins whose outcomes lie before what is held back."""
        return jobs_of([self.space.model], self.series, self.plan, [self.basis], planned=self.planned,
                       plans=self.plans, hidden=self.held_back)  # fmt: skip

    @property
    def folds(self) -> int:
        """How many origins there are."""
        return max(len(job.cuts.moments) for job in self.stage)

    def part(self, folds: int) -> list[list[int]]:
        """So many origins of each series, spread over all."""
        return [sorted({round(x) for x in np.linspace(0, len(job.cuts.moments) - 1, min(folds, len(job.cuts.moments)))})
                for job in self.stage]  # fmt: skip

    def tried(self, choices: Sequence[tuple[int, ...]], folds: int) -> list[Tried]:
        """What became of some candidates on so many origins."""
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
            Tried(digits, folds, float("nan") if why else float(np.mean(own)),
                  float("nan") if why else float(np.mean(sizes)), each, why)
            for digits, own, sizes, why in zip(choices, scores, columns, whys, strict=True)
        ]  # fmt: skip

    def _runs(self, jobs: Mapping[int, Job]) -> dict[int, Run | InputError]:
        """The runs of one series' candidates, or why there is none."""
        return dict(zip(jobs, attempt_all(list(jobs.values()), self.executor), strict=True))

    def held(self, winner: Tried) -> Backtest:
        """The winner and the model as stated on what was held back."""
        every, first = self.plan.usual_step, self.plan.first_origin
        origins = max((self.held_back - self.plan.gap - self.plan.horizon) // every + 1, 1)
        plan = replace(self.plan, origins=None if first is not None else origins, every=every)
        models = [self.space.built(winner.digits, self.terms)]
        if self.space.stated() not in (None, winner.digits):
            models.append(replace(self.space.model, name=_STATED))
        jobs = jobs_of(models, self.series, plan, [self.basis], planned=self.planned, plans=self.plans)
        if first is not None:
            jobs = [self._newest(job) for job in jobs]
        runs = run_all(jobs, self.executor)
        first = {series: next(job for job in jobs if job.series == series) for series in self.series}
        return Backtest(tuple(models), plan, tuple(runs), first)

    def _newest(self, job: Job) -> Job:
        """The job from those origins alone whose outcomes all lie in what was held back."""
        values = job.cuts.table.values(job.cuts.column)
        start = int(np.flatnonzero(np.isfinite(values))[-1]) + 1 - self.held_back
        folds = np.flatnonzero(job.cuts.rows[:, 0] >= start).tolist()
        return replace(job, cuts=job.cuts.only(folds or [len(job.cuts.ends) - 1]))


@dataclass
class _Hunt:
    """The course of a search."""

    scene: _Scene
    record: Record
    started: float
    budget: float | None
    tell: Callable[[str], object] | None
    found: dict[tuple[tuple[int, ...], int], Tried] = field(default_factory=dict)
    expected: int | None = None
    stopped: str = ""
    reserve: float = 0.0

    @property
    def left(self) -> float:
        """Seconds that are left for candidates."""
        if self.budget is None:
            return float("inf")
        return self.budget * (1.0 - _RESERVE) - (time.monotonic() - self.started) - self.reserve

    def latest(self) -> list[Tried]:
        """Each candidate with its score on the most origins."""
        best: dict[tuple[int, ...], Tried] = {}
        for each in self.found.values():
            if each.digits not in best or best[each.digits].folds < each.folds:
                best[each.digits] = each
        return list(best.values())

    def run(self, way: Way, tries: int | None, seed: int) -> None:
        """Try candidates until all are tried or the time is up."""
        self.found = {(each.digits, each.folds): each for each in self.record.known()}
        order = list(_limited(self.scene.space, tries, seed))
        with Progress("searching") as progress:
            if way != "narrowing":
                self._all(order, self.scene.folds, progress, (0.0, 1.0))
                return
            rounds = [self.scene.folds]
            while rounds[0] > _KEPT and len(order) // _KEPT ** len(rounds) >= 2:
                rounds.insert(0, max(2, -(-rounds[0] // _KEPT)))
            for i, folds in enumerate(rounds):
                last = i == len(rounds) - 1
                # Each round may take its share of the time, so that the last one is reached.
                self._all(order, folds, progress, (i / len(rounds), (i + 1) / len(rounds)))
                own = [self.found[digits, folds] for digits in order if (digits, folds) in self.found]
                own = sorted((each for each in own if np.isfinite(each.score)), key=lambda each: each.score)
                if not last:
                    order = [each.digits for each in own[: max(len(own) // _KEPT, 1)]]

    def _all(self, order: Sequence[tuple[int, ...]], folds: int, progress: Progress, span: tuple[float, float]) -> None:
        """Try candidates in their order on so many origins, within a span of the time."""
        todo = [digits for digits in order if (digits, folds) not in self.found]
        size, whole = (_FIRST if self.budget is not None else _BATCH), len(todo)
        until = float("inf") if self.budget is None else self.budget * span[1]
        tried, spent = 0, 0.0
        while todo:
            room = min(self.left, until - (time.monotonic() - self.started))
            if tried and room < max(spent / tried, 0.0):
                self.stopped = "The time was up before all were tried." if span[1] == 1.0 else self.stopped
                return
            batch, todo = todo[:size], todo[size:]
            started = time.monotonic()
            new = self.scene.tried(batch, folds)
            taken = time.monotonic() - started
            self.record.add(new)
            self.found |= {(each.digits, folds): each for each in new}
            tried, spent = tried + len(batch), spent + taken
            if self.budget is not None:
                # Candidates differ in cost: the dearest so far is what one may take, and batches grow slowly.
                one = max(taken / len(batch), spent / tried)
                # The winner and the model as stated are yet to be forecast from the origins held back.
                self.reserve = max(self.reserve, 2.0 * one)
                if self.expected is None:
                    room = min(self.left, until - (time.monotonic() - self.started))
                    self._announce(tried + max(int(room / max(one, 1e-9)), 0), one)
                share = max(_SLICE * self.budget, one)
                size = max(1, min(int(share / max(one, 1e-9)), 2 * len(batch), _BATCH))
            done = (whole - len(todo)) / whole
            clock = 0.0 if self.budget is None else (time.monotonic() - self.started) / self.budget
            progress.update(max(span[0] + (span[1] - span[0]) * done, clock))

    def _announce(self, fits: int, taken: float) -> None:
        size = self.scene.space.size
        self.expected = min(fits, size)
        if self.tell is not None and self.budget is not None:
            part = "all" if fits >= size else f"about {fits:,} of"
            self.tell(f"A candidate takes {taken:.3g} s: {part} {size:,} fit into {self.budget:g} s.")


def _limited(space: Space, tries: int | None, seed: int) -> list[tuple[int, ...]]:
    most = 100_000 if tries is None else tries
    return list(space.ordered(most, np.random.default_rng(seed)))


def _best(tried: Sequence[Tried]) -> Tried:
    most = max(each.folds for each in tried if np.isfinite(each.score))
    return min((each for each in tried if each.folds == most and np.isfinite(each.score)), key=lambda each: each.score)


def _or_last(score: float) -> float:
    return score if np.isfinite(score) else float("inf")


def _spelt(value: Any) -> str:
    """A choice in words."""
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(_spelt(each) for each in value) + "]"
    return "none" if value is None else str(value)
