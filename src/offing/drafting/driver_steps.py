"""Steps about drivers: which help, in which form, at which lags."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.drafting.candidate import LINE, Candidate
from offing.drafting.materials import Offered
from offing.drafting.rules import CAREFUL, CLEAR, SUPPORT, Rules
from offing.drafting.words import form_words, without
from offing.engine.added_columns import Base
from offing.terms import Driver, Term

#: Drivers that are tried together; of more the clearest are, since every form of each is judged beside the others.
MOST_DRIVERS = 12
#: Twice the gain of log-likelihood that a column needs to be looked at more closely, beside the logarithm of the tries.
_WORTH_A_LOOK = 3.0
#: Forms of a driver, the best by evidence, that are judged by forecasts: with more the best is good by chance.
_FORMS = 3
#: A column that moves in fewer rows than this before an origin is not judged there.
MOVES = 2


class DriverSteps(Rules):
    """The steps about drivers."""

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
            options = [
                replace(own, drivers=tuple(other for other in own.drivers if other is not term))
                for term in own.drivers
                if str(term.name) not in self.unjudged
            ]
            before = self._now
            if options:
                self._step("the drivers", options, lambda each: len(each.drivers), partial(without, own))
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
                self._step(
                    "the drivers", options, lambda each: len(each.drivers), lambda each: f"with {each.drivers[-1].name}"
                )
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

    def _only_later(self, term: Term) -> bool:
        """Whether a driver has not moved before the last origin, so that no origin can judge it."""
        columns = self.past.columns(term).columns[: int(self.past.ends[-1])]
        known = columns[np.isfinite(columns).all(axis=1)]
        return len(known) < 2 or int((np.abs(known - np.median(known, axis=0)) > 0.0).any(axis=1).sum()) < MOVES

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
            self._best_forms(
                name,
                [self.plain(offered), *map(self._form, self.materials.forms(offered, log=log))],
                "the form of",
                strict=CAREFUL,
            )
            self._closer(name, offered)
            self._lags(name)

    def _closer(self, name: str, offered: Offered) -> None:
        """A base of a driver, one after the other, at the place of most evidence between those that were tried."""
        for side in ("below", "above"):
            own = next((term for term in self._now.candidate.drivers if str(term.name) == name), None)
            if isinstance(own, Driver) and isinstance(getattr(own, side), float) and tuple(own.lags) == (0,):
                near = [self._form(each) for each in self.materials.closer(offered, own, side)]
                self._best_forms(name, near, "the base of", 1)

    def _lags(self, name: str) -> None:
        own = next((term for term in self._now.candidate.drivers if str(term.name) == name), None)
        if not isinstance(own, Driver) or own.carry_over is not None or self.materials.most_lags < 1:
            return
        most = self.materials.most_lags
        wanted = [
            [0],
            *([0, lag] for lag in range(1, most + 1)),
            *([lag] for lag in range(1, most + 1)),
            [0, 1, 2][: most + 1],
            list(own.lags),
        ]
        now = self._now.candidate
        base = self._base(replace(now, drivers=tuple(term for term in now.drivers if term is not own)))
        simple = base.gain(self.past.columns(own).columns)
        # The best of many lags looks good by chance: only what is beyond that is judged by forecasts.
        least = simple + _WORTH_A_LOOK + 2.0 * np.log(most)
        options = [self._form(self.materials.lagged(own, lags)) for lags in wanted]
        options = [term for term in options if self._possible(term)]
        self._best_forms(
            name,
            [term for term in options if base.gain(self.past.columns(term).columns) > least or len(own.lags) > 1],
            "the lags of",
            strict=CAREFUL,
        )

    def _best_forms(
        self, name: str, options: Sequence[Term], about: str, most: int = _FORMS, *, strict: float = SUPPORT
    ) -> None:
        """Of some forms of one driver those with most evidence, judged by forecasts."""
        own = self._now.candidate
        place = next((i for i, term in enumerate(own.drivers) if str(term.name) == name), None)
        if place is None:
            return
        possible = list({id(term): term for term in options if self._possible(term)}.values())
        candidates = []
        # A form that suits one scale may hide on another: forms are looked at on all of them.
        for scale in self.forms_of_target() if about == "the form of" else [own.scale]:
            here = replace(own, scale=scale, days=() if scale.per == "working day" else own.days)
            base = self._base(replace(here, drivers=tuple(each for i, each in enumerate(own.drivers) if i != place)))
            gains = [base.gain(self.past.columns(term).columns) for term in possible]
            worth = [
                gain - self._width(term) * np.log(len(base.rows)) for gain, term in zip(gains, possible, strict=True)
            ]
            # The best of many forms is better than the plain one, which is the first, by chance already.
            least = worth[0] + 2.0 * np.log(len(possible)) if about == "the form of" else -np.inf
            ranked = sorted((i for i in range(len(possible)) if i == 0 or worth[i] > least), key=lambda i: -worth[i])
            for i in ranked[:most]:
                drivers = tuple(possible[i] if at == place else each for at, each in enumerate(own.drivers))
                candidates.append(replace(here, drivers=drivers))
        if candidates:
            self._step(
                f"{about} {name}",
                candidates,
                lambda each: self._width(each.drivers[place]),
                lambda each: (
                    form_words(each.drivers[place]) + (f"; {each.scale.words}" if each.scale != own.scale else "")
                ),
                strict,
            )
