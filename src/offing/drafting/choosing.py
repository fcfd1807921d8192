"""The course of a draft: one thing after the other is chosen by forecasts from past origins."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base import InputError, Progress
from offing.drafting.candidate import LEVEL, LINE, STRUCTURES, WANDERING, Candidate, Scale, Structure
from offing.drafting.materials import Materials, Offered
from offing.drafting.past import Past, Scored
from offing.engine.evidence import Base
from offing.engine.jumps import chance_limit
from offing.tables.table import Array
from offing.terms import Driver, Event, Season, Term

#: A richer candidate is taken where the mean gain passes this many of its standard errors, a plainer one where the mean
#: loss stays below.
SUPPORT = 0.5
#: The same where many alike are tried, of which the best would pass by chance: lags.
CAREFUL = 1.0
#: The same for a term of which the rows are no evidence.
DOUBTFUL = 2.0
#: Fewer origins than this choose nothing alone.
FEWEST = 4
#: So many drivers are tried together; of more the clearest are.
MOST_DRIVERS = 12
#: Twice the gain of log-likelihood that a column needs to be looked at more closely, beside the logarithm of the tries.
_WORTH_A_LOOK = 3.0
#: |t| from which a column that no origin could judge is taken.
CLEAR = 3.5
#: So many forms of a driver, the best by evidence, are judged by forecasts.
_FORMS = 3
#: A column that moves in fewer rows than this before an origin is not judged there.
_MOVES = 2
_TURNS = 2
#: Noise that comes back after a season is tried for seasons of at most so many periods.
_MOST_SEASONAL = 53
#: At most so many steps of the level are looked for, beside noise that carries on by no more than this.
_MOST_STEPS, _CARRIED_BY_STEPS = 5, 0.5
#: Jumps and bends are looked for in histories of more than twice so many periods.
_SHORTEST = 15


@dataclass(frozen=True)
class Step:
    """One decision: what was asked, how many candidates were compared, and what became of it."""

    about: str
    tried: int
    taken: str
    gain: float


class OutOfTimeError(Exception):
    """The budget is spent."""


@dataclass(eq=False)
class Chooser:
    """Chooses the ingredients of one model."""

    past: Past
    materials: Materials
    deadline: float = float("inf")
    tell: Callable[[float], object] = lambda share: None
    steps: list[Step] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    unjudged: list[str] = field(default_factory=list)
    stopped: str = ""
    started: float = field(default_factory=time.monotonic)
    current: Scored | None = None

    def score(self, candidate: Candidate) -> Scored:
        """How a candidate does.

        Raises
        ------
        OutOfTimeError
            If the budget is spent.
        """
        if candidate.key not in self.past.scored and time.monotonic() > self.deadline and self.past.scored:
            raise OutOfTimeError
        return self.past.score(candidate)

    def run(self) -> Scored:
        """The candidate at the end of all steps, or the best so far where time was up or somebody stopped it."""
        course = list(self.course())
        with Progress("drafting") as progress:
            try:
                for done, (about, step) in enumerate(course):
                    self.about = about
                    step()
                    clock = (time.monotonic() - self.started) / max(self.deadline - self.started, 1e-9)
                    progress.update(max((done + 1) / len(course), min(clock, 1.0)))
            except OutOfTimeError:
                self.stopped = (
                    f"The time was up while {self.about} {'were' if self.about.endswith('s') else 'was'} chosen."
                )
            except KeyboardInterrupt:
                self.stopped = f"It was interrupted while {self.about} was chosen: this is the best so far."
        if self.current is None:
            self.current = self.past.score(self.safest())
        return self.current

    def course(self) -> Iterator[tuple[str, Callable[[], None]]]:
        """The steps in their order, which a budget cuts short."""
        yield "the start", self.start
        for turn in range(_TURNS):
            yield "the structure", self.structure
            yield "the season", self.season
            yield "the calendar", self.calendar
            if self.offered:
                yield "the drivers", self.drivers
                yield "the drivers' forms", self.forms
            if turn == 0:
                yield "jumps and bends", self.jumps
        yield "the structure", self.structure
        yield "the scale", self.scale
        yield "what may go", self.prune

    @property
    def offered(self) -> list[Offered]:
        """The columns that may serve as drivers."""
        return self.materials.offered

    def scales(self) -> list[Scale]:
        """The scales that the target allows."""
        known = self.past.target[np.isfinite(self.past.target)]
        found = [Scale()]
        if known.min() > 0.0 and known.max() > 1.3 * known.min():
            found.append(Scale("log"))
        elif known.min() == 0.0 and known.max() > 0.0:
            middle = float(np.median(known[known > 0.0]))
            size = 10.0 ** np.floor(np.log10(0.2 * middle))
            found.append(Scale("log", float(f"{round(0.2 * middle / size) * size:.6g}")))
        return found

    def safest(self) -> Candidate:
        """What is forecast where nothing can be judged: a level that wanders, with the season."""
        season = self.materials.seasons[0]
        candidate = Candidate(structure=WANDERING, seasons=season, days=self.materials.calendars[0])
        return candidate if np.isfinite(self.past.score(candidate).score) else Candidate(seasons=())

    # -- steps ------------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """All scales and a few structures, with the usual season, and no, all, or all logged drivers."""
        best: Scored | None = None
        tried = 0
        late = [each for each in self.offered if self._usable(each) and self._only_later(self.plain(each))]
        sets = [tuple(term for term in each if not any(term is self.plain(other) for other in late))
                for each in self.driver_sets()]  # fmt: skip
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
            each for each in STRUCTURES
            if (returning or not each.seasonal) and fits[each.change] and (each.size < 3 or n >= 30)
        ]  # fmt: skip

    def season(self) -> None:
        """Which seasons, and whether their shape drifts."""
        own = self._now.candidate
        options = [replace(own, seasons=each) for each in self.materials.seasons]
        self._step(
            "the season", options, lambda each: _size(each.seasons), lambda each: _names(each.seasons, "no season")
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
        drifting = replace(season, drift=True)
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
            "the calendar", options, lambda each: _size(each.days), lambda each: _names(each.days, "no calendar")
        )

    def _by_evidence(self, options: Sequence[Candidate]) -> None:
        base = self._base(replace(self._now.candidate, days=(), structure=LEVEL))
        worth = {}
        for each in options:
            try:
                columns = [self.past.columns(term).columns for term in each.days]
            except InputError as error:
                self.remarks.append(f"{_names(each.days, 'the calendar')}: {error.found}")
                continue
            wide = np.hstack(columns) if columns else np.zeros((len(self.past.target), 0))
            moving = int((np.abs(np.nan_to_num(wide)) > 0.0).any(axis=0).sum())
            worth[each.key] = (base.gain(wide) if moving else 0.0) - moving * np.log(len(base.rows))
        best = max((each for each in options if each.key in worth), key=lambda each: worth[each.key])
        found = self.score(best)
        if np.isfinite(found.score):
            self.current = found
        self.steps.append(Step("the calendar", len(worth), _names(best.days, "no calendar"), float("nan")))

    def scale(self) -> None:
        """Amounts or percentages."""
        own = self._now.candidate
        options = [replace(own, scale=each) for each in self.scales()]
        self._step("the scale", options, lambda each: 0, lambda each: each.scale.words)

    # -- drivers ----------------------------------------------------------------------------------------------------

    def driver_sets(self) -> list[tuple[Term, ...]]:
        """The sets of drivers to start from: none, all that are known ahead, all, and all of these logged."""
        sets: list[tuple[Term, ...]] = [()]
        usable = [each for each in self.offered if self._usable(each)]
        if len(usable) > MOST_DRIVERS:
            return [*sets, *([self._screened(usable)] if usable else [])]
        planned = [each for each in usable if each.future >= self.past.rows.shape[1]]
        for chosen in (planned, usable):
            if chosen:
                sets.append(tuple(self.plain(each) for each in chosen))
        if usable and len(self.scales()) > 1:
            logged = tuple(self._logged(each) for each in planned or usable)
            sets.append(logged)
        return list({tuple(map(id, each)): each for each in sets}.values())

    def _usable(self, offered: Offered) -> bool:
        """Whether a driver's columns can be made at all origins."""
        try:
            self.past.columns(self.plain(offered))
        except InputError as error:
            note = f"{offered.name}: {error.found}"
            if note not in self.remarks:
                self.remarks.append(note)
            return False
        return True

    def plain(self, offered: Offered) -> Term:
        """The simplest form of a driver, made once."""
        return self._made.setdefault((offered.reference, "plain"), self.materials.plain(offered))

    @property
    def _made(self) -> dict[tuple[str, str], Term]:
        if not hasattr(self, "_terms"):
            self._terms: dict[tuple[str, str], Term] = {}
        return self._terms

    def _form(self, term: Term) -> Term:
        """A form made once: the same keywords give the same term, whose columns are kept."""
        return self._made.setdefault((repr(term), "form"), term)

    def _logged(self, offered: Offered) -> Term:
        known = np.zeros(0) if offered.values is None else offered.values[np.isfinite(offered.values)]
        if len(known) and known.min() > 0.0 and len(np.unique(known)) > 10:
            return self._form(Driver(offered.reference, transform=["log"], name=offered.name))
        return self.plain(offered)

    def _screened(self, usable: Sequence[Offered]) -> tuple[Term, ...]:
        """Of many drivers those with the clearest evidence, at their best lag, one after the other."""
        own = Candidate(structure=LINE, seasons=self.materials.seasons[0], days=self.materials.calendars[0])
        if not np.isfinite(self.past.score(own).score):
            own = Candidate(structure=LINE)
        pool: list[tuple[Offered, Term, Array]] = []
        for each in usable:
            for lag in range(self.materials.most_lags + 1):
                term = self._form(self.materials.lagged(self.materials.plain(each), [lag]))
                if lag and term is self._form(self.materials.plain(each)):
                    break
                try:
                    pool.append((each, term, self.past.columns(term).columns))
                except InputError:
                    continue
        chosen: list[Term] = []
        limit = _WORTH_A_LOOK + 2.0 * np.log(max(len(pool), 1))
        while pool and len(chosen) < MOST_DRIVERS:
            base = self._base(replace(own, drivers=tuple(chosen)))
            gains = [base.gain(columns) for _, _, columns in pool]
            best = int(np.argmax(gains))
            if gains[best] < limit:
                break
            each, term, _ = pool.pop(best)
            at = next((i for i, other in enumerate(chosen) if other.name == term.name), None)
            if at is None:
                chosen.append(term)
            else:  # the same column at one more lag
                lags = sorted({*getattr(chosen[at], "lags", (0,)), *getattr(term, "lags", (0,))})
                chosen[at] = self._form(self.materials.lagged(self.materials.plain(each), lags))
        return tuple(chosen)

    def drivers(self) -> None:
        """Which drivers help: leaving out one at a time, then adding one at a time."""
        dropped = True
        while dropped and self._now.candidate.drivers:
            own = self._now.candidate
            options = [replace(own, drivers=tuple(other for other in own.drivers if other is not term))
                       for term in own.drivers if str(term.name) not in self.unjudged]  # fmt: skip
            before = self._now
            if options:
                self._step("the drivers", options, lambda each: len(each.drivers), partial(_gone, own))
            dropped = self._now is not before
        self._add()

    def _add(self) -> None:
        tried = 0
        while True:
            own = self._now.candidate
            names = {str(term.name) for term in own.drivers}
            left = [each for each in self.offered if each.name not in names and self._usable(each)]
            if not left or len(names) >= MOST_DRIVERS:
                return
            base = self._base(own)
            ranked = sorted(left, key=lambda each: -base.gain(self.past.columns(self.plain(each)).columns))
            options = []
            for each in ranked[:6]:
                for term in {id(form): form for form in self._first_forms(each)}.values():
                    if self._only_later(term):
                        self._take_unjudged(term, base)
                    elif base.gain(self.past.columns(term).columns) > _WORTH_A_LOOK:
                        options.append(replace(own, drivers=(*own.drivers, term)))
            tried += len(options)
            before = self._now
            if options:
                self._step("the drivers", options, lambda each: len(each.drivers),
                           lambda each: f"with {each.drivers[-1].name}")  # fmt: skip
            if self._now is before or tried > 60:
                return

    def _first_forms(self, offered: Offered) -> list[Term]:
        """The forms in which a driver is tried before it is in."""
        if offered.faster > 1:
            every = [self.plain(offered), *map(self._form, self.materials.forms(offered, log=False))]
            return [term for term in every if self._possible(term)]
        first = [self.plain(offered), self._logged(offered)]
        if offered.future < self.past.rows.shape[1] and not offered.words:
            # Of a driver without a plan what is known at the origin acts as far ahead as its lag.
            first.append(self._form(self.materials.lagged(self.plain(offered), [self.past.rows.shape[1]])))
        return [term for term in first if self._possible(term)]

    def _possible(self, term: Term) -> bool:
        """Whether a term's columns can be made at all origins."""
        try:
            self.past.columns(term)
        except InputError:
            return False
        return True

    def _only_later(self, term: Term) -> bool:
        """Whether a driver has not moved before the last origin, so that no origin can judge it."""
        columns = self.past.columns(term).columns[: int(self.past.ends[-1])]
        known = columns[np.isfinite(columns).all(axis=1)]
        return len(known) < 2 or int((np.abs(known - np.median(known, axis=0)) > 0.0).any(axis=1).sum()) < _MOVES

    def _take_unjudged(self, term: Term, base: Base) -> None:
        """Take a driver that no origin can judge where the test on all rows is clear."""
        t = float(np.abs(base.t(self.past.columns(term).columns)).max(initial=0.0))
        note = f"{term.name}: it moved only after the newest past origin, so that no forecast could judge it"
        if t > CLEAR and str(term.name) not in self.unjudged:
            self.unjudged.append(str(term.name))
            own = self._now.candidate
            self.current = self.score(replace(own, drivers=(*own.drivers, term)))
            note += f"; it is in, since the evidence of all rows is clear (t = {t:.1f})"
        if note not in self.remarks:
            self.remarks.append(note)

    def forms(self) -> None:
        """The form of each driver, then its lags."""
        by_name = {each.name: each for each in self.offered}
        for name in [str(term.name) for term in self._now.candidate.drivers]:
            offered = by_name.get(name)
            if offered is None or name in self.unjudged:
                continue
            log = self._now.candidate.scale.name == "log"
            self._best_forms(name, [self.plain(offered), *map(self._form, self.materials.forms(offered, log=log))],
                             "the form of")  # fmt: skip
            self._lags(name)

    def _lags(self, name: str) -> None:
        own = next((term for term in self._now.candidate.drivers if str(term.name) == name), None)
        if not isinstance(own, Driver) or own.carry_over is not None or self.materials.most_lags < 1:
            return
        most = self.materials.most_lags
        wanted = [[0], *([0, lag] for lag in range(1, most + 1)), *([lag] for lag in range(1, most + 1)),
                  [0, 1, 2][: most + 1], list(own.lags)]  # fmt: skip
        now = self._now.candidate
        base = self._base(replace(now, drivers=tuple(term for term in now.drivers if term is not own)))
        simple = base.gain(self.past.columns(own).columns)
        # The best of many lags looks good by chance: only what is beyond that is judged by forecasts.
        least = simple + _WORTH_A_LOOK + 2.0 * np.log(most)
        options = [self._form(self.materials.lagged(own, lags)) for lags in wanted]
        options = [term for term in options if self._possible(term)]
        self._best_forms(
            name, [term for term in options if base.gain(self.past.columns(term).columns) > least or len(own.lags) > 1],
            "the lags of",
        )  # fmt: skip

    def _best_forms(self, name: str, options: Sequence[Term], about: str) -> None:
        """Of some forms of one driver those with most evidence, judged by forecasts."""
        own = self._now.candidate
        place = next((i for i, term in enumerate(own.drivers) if str(term.name) == name), None)
        if place is None:
            return
        without = replace(own, drivers=tuple(term for i, term in enumerate(own.drivers) if i != place))
        base = self._base(without)
        worth: dict[int, tuple[float, Term]] = {}
        for term in options:
            try:
                columns = self.past.columns(term).columns
            except InputError:
                continue
            worth[id(term)] = (base.gain(columns) - columns.shape[1] * np.log(len(base.rows)) / 2.0, term)
        ranked = sorted(worth.values(), key=lambda each: -each[0])[:_FORMS]
        candidates = [replace(own, drivers=tuple(term if i == place else other for i, other in enumerate(own.drivers)))
                      for _, term in ranked if term is not own.drivers[place]]  # fmt: skip
        if candidates:
            self._step(f"{about} {name}", candidates, lambda each: self._width(each.drivers[place]),
                       lambda each: form_words(each.drivers[place]))  # fmt: skip

    def _width(self, term: Term) -> int:
        """How many columns a term has."""
        return int(self.past.columns(term).columns.shape[1])

    # -- jumps ------------------------------------------------------------------------------------------------------

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
        tests = self._base(replace(own, structure=LINE, knots=())).t(np.maximum(t - places, 0.0))
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
                if int((self.past.ends > places[best] + 1).sum()) < _MOVES:
                    late = event
                plain = replace(plain, events=(*plain.events, event))
                options += [plain, replace(own, events=plain.events)]
        if options:
            self._step("steps of the level", options, lambda each: each.structure.size + len(each.events),
                       lambda each: f"{len(each.events)} steps, {each.structure.words}")  # fmt: skip
        if late is not None and late not in self._now.candidate.events:
            self._late_step(late)

    def _late_step(self, event: Term) -> None:
        """A step that no origin could judge is in where it is clear under noise that carries on as it does."""
        own = self._now.candidate
        size = float(np.abs(self._base(own).t(self.past.columns(event).columns)).max(initial=0.0))
        found = self.score(replace(own, events=(*own.events, event)))
        if size > CLEAR and np.isfinite(found.score):
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
                gain = self._base(without).gain(columns)
                # The place of a step was looked for, which counts as one thing more for each that was tried.
                searched = 2.0 * np.log(len(self.past.target)) if kind == "events" else 0.0
                if str(term.name) in self.unjudged or gain > searched + columns.shape[1] * np.log(
                    len(self.past.target)
                ):
                    continue
                found = self.score(without)
                if self.supported(self._now, found, -1, DOUBTFUL):
                    worse = found.score / self._now.score - 1.0 if self._now.score > 0.0 else 0.0
                    self.steps.append(Step("what may go", 1, f"without {term.name}", -worse))
                    self.current = found

    # -- rules ------------------------------------------------------------------------------------------------------

    @property
    def _now(self) -> Scored:
        if self.current is None:
            raise RuntimeError("nothing was chosen yet")
        return self.current

    def _base(self, candidate: Candidate, most: float = 0.9) -> Base:
        """The regression of a candidate on all rows, as a base for further columns: free columns alone."""
        plain = replace(candidate, structure=LINE if candidate.structure.size > 1 else candidate.structure)
        if plain.structure.trend is not None and "form" in plain.structure.trend:
            plain = replace(plain, structure=LINE)
        found = self.score(plain)
        share = 0.5 if found.found is None else float(found.found.share[-1])
        terms = plain.terms(self.past.ingredients)
        columns = np.hstack([np.ones((len(self.past.target), 1)), *(self.past.columns(term).columns for term in terms)])
        return Base.of(columns, self.past.working(plain.scale), min(share, most))

    def _step(
        self, about: str, options: Sequence[Candidate], size: Callable[[Candidate], int],
        words: Callable[[Candidate], str],
    ) -> None:  # fmt: skip
        """Take the best option that past forecasts support against what there is."""
        now = self._now
        found = sorted((self.score(each) for each in options if each.key != now.candidate.key),
                       key=lambda each: each.score)  # fmt: skip
        for other in found:
            if not np.isfinite(other.score):
                break
            strict = CAREFUL if about.startswith("the lags") else SUPPORT
            if self.supported(now, other, size(other.candidate) - size(now.candidate), strict):
                gain = 1.0 - other.score / now.score if now.score > 0.0 else 0.0
                self.steps.append(Step(about, len(found), words(other.candidate), gain))
                self.current = other
                return
        self.steps.append(Step(about, len(found), "", 0.0))

    @staticmethod
    def supported(now: Scored, other: Scored, richer: int, strict: float = SUPPORT) -> bool:
        """Whether past forecasts support another candidate, origin by origin."""
        if not (np.isfinite(now.score) and np.isfinite(other.score)):
            return bool(np.isfinite(other.score))
        gains = now.errors - other.errors
        error = float(gains.std(ddof=1) / np.sqrt(len(gains))) if len(gains) > 1 else 0.0
        if len(gains) < FEWEST and richer > 0:
            return float(gains.mean()) > 2.0 * error and float(gains.min()) > 0.0
        return float(gains.mean()) > strict * error * float(np.sign(richer))


def _size(terms: Sequence[Term]) -> int:
    """How rich some seasons or calendars are, roughly: their effects."""
    total = 0
    for term in terms:
        if isinstance(term, Season):
            plain = {"year": 11, "week": 6, "day": 23}.get(term.cycle, 6)
            total += 2 * term.harmonics if isinstance(term.harmonics, int) else plain
            total += 46 if term.across == "kind of day" else 138 if term.across == "weekday" else 0
        else:
            total += 1 + getattr(term, "days_before", 0) + getattr(term, "days_after", 0)
    return total


def _names(terms: Sequence[Term], none: str) -> str:
    return (
        ", ".join(form_words(term) if not isinstance(term, Season) else _season_words(term) for term in terms) or none
    )


def _season_words(term: Season) -> str:
    words = str(term.name)
    if isinstance(term.harmonics, int):
        words += f" ({term.harmonics} harmonics)"
    return words


def _gone(before: Candidate, after: Candidate) -> str:
    kept = {id(term) for term in after.drivers}
    return "without " + ", ".join(str(term.name) for term in before.drivers if id(term) not in kept)


def form_words(term: Term) -> str:
    """A term with its form, in words."""
    if not isinstance(term, Driver):
        return str(term.name)
    words = f"{' '.join(str(each) for each in term.transform)} {term.name}".strip()
    for key in ("below", "above", "carry_over", "saturation"):
        if getattr(term, key) is not None:
            words += f", {key.replace('_', '-')} {getattr(term, key):g}"
    if term.weights is not None:
        words += f", {term.weights} weights over {term.span}"
    if tuple(term.lags) != (0,):
        words += f", lags {', '.join(map(str, term.lags))}"
    return words
