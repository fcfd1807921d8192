"""The course of a draft: one thing after the other is chosen by forecasts from past origins."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, Progress
from offing.drafting.candidate import LEVEL, LINE, STRUCTURES, WANDERING, Candidate, Structure
from offing.drafting.driver_steps import MOVES, DriverSteps
from offing.drafting.rules import CAREFUL, CLEAR, DOUBTFUL, OutOfTimeError, Step
from offing.drafting.scored import Scored
from offing.drafting.words import named, size_of
from offing.engine.intervention_tests import chance_limit
from offing.terms import Event, Season, Term

#: How often the steps are gone through.
_TURNS = 2
#: Noise that comes back after a season is tried for years of weeks and months; of hours a season back is a week.
_MOST_SEASONAL = 53
#: Standard errors that the gain of a window must pass: of four windows one is often better by chance.
_WINDOWED = 2.0
#: Steps of the level that are looked for at most, beside noise with at most this autocorrelation: see `_level_steps`.
_MOST_STEPS, _CARRIED_BY_STEPS = 5, 0.5
#: Whether a step is more than a walk makes by itself is asked beside noise that carries on by so much.
_WALKING = 0.975
#: Jumps and bends are looked for in histories of more than twice as many periods: on both sides of one there must be
#: enough to estimate a level and a slope.
_SHORTEST = 15


class Chooser(DriverSteps):
    """Chooses the ingredients of one model."""

    def run(self) -> Scored:
        """The candidate at the end of all steps, or the best so far where time was up or somebody stopped it."""
        course, now = list(self.course()), "the start"
        with Progress("drafting") as progress:
            try:
                for done, (about, step) in enumerate(course):
                    now = about
                    step()
                    clock = (time.monotonic() - self.started) / max(self.deadline - self.started, 1e-9)
                    progress.update(max((done + 1) / len(course), min(clock, 1.0)))
            except OutOfTimeError:
                self.stopped = f"The time was up at the choice of {now}."
            except KeyboardInterrupt:
                self.stopped = f"It was interrupted at the choice of {now}: this is the best so far."
        if self.current is None:
            self.current = self.past.score(self.safest())
        return self.current

    def course(self) -> Iterator[tuple[str, Callable[[], None]]]:
        """The steps in their order, which a budget cuts short."""
        yield "the start", self.start
        for turn in range(_TURNS):
            yield "the structure", self.structure
            yield "the season", self.season
            yield "the scale", self.scale
            yield "the calendar", self.calendar
            if self.offered:
                yield "the drivers", self.drivers
                yield "the drivers' forms", self.forms
                yield "the scale", self.scale
            yield "the window", self.window
            if turn == 0:
                yield "jumps and bends", self.jumps
        yield "the structure", self.structure
        yield "what may go", self.prune

    def safest(self) -> Candidate:
        """What is forecast where nothing can be judged: a level that wanders, with the season."""
        season = self.materials.seasons[0]
        candidate = Candidate(structure=WANDERING, seasons=season, days=self.materials.calendars[0])
        return candidate if np.isfinite(self.past.score(candidate).score) else Candidate(seasons=())

    def start(self) -> None:
        """All scales and a few structures, with the usual season, and no, all, or all logged drivers."""
        best: Scored | None = None
        tried = 0
        late = [each for each in self.offered if self._usable(each) and self._only_later(self.plain(each))]
        sets = [
            tuple(term for term in each if not any(term is self.plain(other) for other in late))
            for each in self.driver_sets()
        ]
        seasons, days = self.materials.seasons[0], self.materials.calendars[0]
        if self.materials.unit in ("month", "quarter"):
            days = ()  # of what a month holds of days, a forecast must show that it helps
        for scale in self.scales():
            for structure in (WANDERING, LEVEL, LINE):
                for drivers in sets:
                    found = self.score(Candidate(scale, structure, seasons, days, drivers))
                    tried += 1
                    richer = 0 if best is None else len(found.candidate.drivers) - len(best.candidate.drivers)
                    if best is None or self.supported(best, found, richer):
                        best = found
                    self.current = best
        if best is None or not np.isfinite(best.score):
            best = self.past.score(self.safest())
        self.current = best
        self.steps.append(Step("the start", tried, best.candidate.structure.words, float("nan")))

    def structure(self) -> None:
        """How the level moves."""
        own = self._now.candidate
        options = [replace(own, structure=each, knots=()) for each in self.structures()]
        self._step("the structure", options, lambda each: each.structure.size, lambda each: each.structure.words)

    def structures(self) -> list[Structure]:
        """The structures that the history allows."""
        n, season = self.past.ends[0], self.materials.season_length
        h = self.past.rows.shape[1]
        returning = 1 < season <= _MOST_SEASONAL and n >= 4 * season and h <= season
        fits = {"": True, "season": n >= 3 * season and season > 1, "period": h <= max(season, 4)}
        return [
            each
            for each in STRUCTURES
            if (returning or not each.seasonal) and fits[each.change] and (each.size < 3 or n >= 30)
        ]

    def season(self) -> None:
        """Which seasons, and whether their shape drifts."""
        own = self._now.candidate
        options = [replace(own, seasons=each) for each in self.materials.seasons]
        self._step(
            "the season", options, lambda each: size_of(each.seasons), lambda each: named(each.seasons, "no season")
        )
        self._drift()

    def _drift(self) -> None:
        """A season whose shape drifts, where its sizes have changed steadily."""
        own = self._now.candidate
        yearly = [term for term in own.seasons if isinstance(term, Season) and term.cycle == "year" and not term.drift]
        if not yearly or self.materials.cycles(self.materials.year) < 4.0 or self.materials.unit in ("hour", "day"):
            return
        season = yearly[0]
        columns = self.past.columns(season).columns
        time_ = np.linspace(-1.0, 1.0, len(columns))[:, None]
        gain = self._base(replace(own, structure=LINE)).gain(columns * time_)
        if gain < columns.shape[1] + 3.0 * np.sqrt(2.0 * columns.shape[1]):
            return
        drifting = self._form(replace(season, drift=True))
        options = [replace(own, seasons=tuple(drifting if term is season else term for term in own.seasons))]
        self._step("a drift of the season", options, lambda each: 5, lambda each: "the season's shape drifts")

    def calendar(self) -> None:
        """Holidays and working days. Of days, origins hold hardly any holiday: the evidence of all rows counts."""
        own = self._now.candidate
        options = [replace(own, days=each) for each in self.materials.calendars]
        if len(options) < 2:
            return
        if self.materials.days and self.materials.unit in ("hour", "day", "business day"):
            self._by_evidence(options)
            return
        self._step(
            "the calendar", options, lambda each: size_of(each.days), lambda each: named(each.days, "no calendar")
        )

    def _by_evidence(self, options: Sequence[Candidate]) -> None:
        base = self._base(replace(self._now.candidate, days=(), structure=LEVEL))
        worth = {}
        for each in options:
            try:
                columns = [self.past.columns(term).columns for term in each.days]
            except InputError as error:
                self.remarks.append(f"{named(each.days, 'the calendar')}: {error.found}")
                continue
            wide = np.hstack(columns) if columns else np.zeros((len(self.past.target), 0))
            moving = int((np.abs(np.nan_to_num(wide)) > 0.0).any(axis=0).sum())
            worth[each.key] = (base.gain(wide) if moving else 0.0) - moving * np.log(len(base.rows))
        best = max((each for each in options if each.key in worth), key=lambda each: worth[each.key])
        found = self.score(best)
        if np.isfinite(found.score):
            self.current = found
        self.steps.append(Step("the calendar", len(worth), named(best.days, "no calendar"), float("nan")))

    def scale(self) -> None:
        """Amounts or percentages; of sums of months and quarters also those per day, or per working day."""
        own = self._now.candidate
        options = [
            replace(own, scale=each, days=() if each.per == "working day" else own.days)
            for each in self.forms_of_target()
        ]
        self._step(
            "the scale", options, lambda each: 1 if each.scale.per else 0, lambda each: each.scale.words, CAREFUL
        )

    def window(self) -> None:
        """Whether the newest half or third of the rows forecasts better than all: what was so long ago may mislead."""
        own, n, season = self._now.candidate, len(self.past.target), self.materials.season_length
        if own.events or own.knots:
            return
        lengths = [length for length in (n // 2, n // 3) if 2 * _SHORTEST <= length < int(self.past.ends[0])]
        # A driver whose effect has turned around shows none in all rows: the usual sets of them are tried as well.
        sets = [own.drivers, *self.driver_sets()[1:2]] if self.offered else [own.drivers]
        options = [
            replace(own, window=length, drivers=drivers, seasons=own.seasons if length >= 2 * season + 2 else ())
            for length in lengths
            for drivers in sets
        ]
        if own.window is not None:
            options.append(replace(own, window=None))
        self._step(
            "the window",
            options,
            lambda each: (0 if each.window is None else 2) + len(each.drivers),
            lambda each: (
                f"learnt from the newest {each.window} periods alone" if each.window else "learnt from all periods"
            ),
            _WINDOWED,
        )

    def jumps(self) -> None:
        """Steps of the level, or a sharp bend of the line, where the rows show them clearly."""
        n = len(self.past.target)
        margin = max(n // 20, 4)
        if n <= 2 * _SHORTEST:
            return
        places = np.unique(np.linspace(margin, n - margin, min(n - 2 * margin, 300)).astype(int))
        self._level_steps(places)
        t = np.arange(n)[:, None]
        own = self._now.candidate
        tests = self._base(replace(own, structure=LINE, knots=()), _WALKING).t(np.maximum(t - places, 0.0))
        best = int(np.argmax(np.abs(tests)))
        if abs(tests[best]) > CLEAR:
            day = self._day(int(places[best]))
            options = [replace(own, structure=LINE, knots=(day,))]
            self._step("a sharp bend", options, lambda each: 2, lambda each: f"a sharp bend at {day}")

    def _level_steps(self, places: NDArray[np.intp]) -> None:
        """Steps found one after the other beside a level or a line; each number of them is judged by forecasts.

        Unexplained steps make neighbours alike, so that noise is taken to carry on by half at most while they are
        looked for.
        """
        t, own, limit = np.arange(len(self.past.target))[:, None], self._now.candidate, chance_limit(len(places), 0.01)
        options, late = [], None
        for structure in (LEVEL, LINE):
            plain = replace(own, structure=structure, knots=())
            for _ in range(_MOST_STEPS):
                tests = self._base(plain, _CARRIED_BY_STEPS).t((t >= places).astype(float))
                best = int(np.argmax(np.abs(tests)))
                if abs(tests[best]) < max(limit, CLEAR):
                    break
                day = self._day(int(places[best]))
                event = self._form(Event(f"step {day}", dates=day, form="step"))
                if event in plain.events:
                    break
                if int((self.past.ends > places[best] + 1).sum()) < MOVES:
                    late = event
                plain = replace(plain, events=(*plain.events, event))
                options += [plain, replace(own, events=plain.events)]
        if options:
            self._step(
                "steps of the level",
                options,
                lambda each: each.structure.size + len(each.events),
                lambda each: f"{len(each.events)} steps, {each.structure.words}",
            )
        if late is not None and late not in self._now.candidate.events:
            self._late_step(late)

    def _late_step(self, event: Term) -> None:
        """A step that no origin could judge is in where it is clear under noise that carries on as it does."""
        own = self._now.candidate
        size = float(np.abs(self._base(own, _WALKING).t(self.past.columns(event).columns)).max(initial=0.0))
        found = self.score(replace(own, events=(*own.events, event)))
        if size > max(CLEAR, chance_limit(len(self.past.target), 0.01)) and np.isfinite(found.score):
            self.current = found
            self.unjudged.append(str(event.name))
            late = "too late for a past forecast to judge it; it is in"
            self.remarks.append(f"{event.name}: the level moved there (t = {size:.1f}), {late}")

    def _day(self, row: int) -> str:
        axis = self.past.axis
        return f"{axis.frequency.index(axis.starts[row : row + 1])[0]:%Y-%m-%d}"

    def prune(self) -> None:
        """Leave out terms of which the rows are no evidence, unless past forecasts were clearly better with them.

        Of a few origins some term of noise always looks useful; it must show on all rows as well (Schwarz 1978).
        """
        for kind in ("drivers", "days", "seasons", "events"):
            for term in getattr(self._now.candidate, kind):
                own = self._now.candidate
                rest: dict[str, Any] = {kind: tuple(other for other in getattr(own, kind) if other is not term)}
                without = replace(own, **rest)
                columns = self.past.columns(term).columns
                gain = self._base(without, _WALKING if kind == "events" else 0.9).gain(columns)
                # What was looked for counts as chosen among many (Chen & Chen 2008): a step among all places, any
                # other term among those that are offered.
                among = len(self.past.target) if kind == "events" else len(self.offered) + 4
                searched = 2.0 * np.log(among)
                if str(term.name) in self.unjudged or gain > searched + columns.shape[1] * np.log(
                    len(self.past.target)
                ):
                    continue
                found = self.score(without)
                if self.supported(self._now, found, -1, DOUBTFUL):
                    worse = found.score / self._now.score - 1.0 if self._now.score > 0.0 else 0.0
                    self.steps.append(Step("what may go", 1, f"without {term.name}", -worse))
                    self.current = found
