"""The rules by which a draft takes a step: what past forecasts support, and what the rows are evidence of."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from offing.base import InputError
from offing.drafting.candidate import LINE, Candidate, Scale
from offing.drafting.materials import Materials, Offered
from offing.drafting.past import Past
from offing.drafting.scored import Scored
from offing.engine.added_columns import Base
from offing.terms import Term

#: A richer candidate is taken where the mean gain passes this many of its standard errors, a plainer one where the mean
#: loss stays below.
SUPPORT = 0.5
#: The same where many alike are tried, of which the best would pass by chance: lags.
CAREFUL = 1.0
#: The same for a term of which the rows are no evidence: origins overlap, so that their standard error is too small.
DOUBTFUL = 3.0
#: Fewer origins than this choose nothing alone.
FEWEST = 4
#: |t| from which a column that no origin could judge is taken.
CLEAR = 3.5


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
class Rules:
    """What every step of a draft uses.

    Attributes
    ----------
    past, materials
        What candidates are judged on, and what they are made of.
    deadline, started
        Until when candidates may be tried, and since when they are.
    steps, remarks, unjudged, stopped
        What was decided, what is to be known of it, terms that no origin could judge, and where it was cut short.
    current
        The candidate that the next step starts from.
    """

    past: Past
    materials: Materials
    deadline: float = float("inf")
    steps: list[Step] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    unjudged: list[str] = field(default_factory=list)
    stopped: str = ""
    started: float = field(default_factory=time.monotonic)
    current: Scored | None = None

    made: dict[tuple[str, str], Term] = field(default_factory=dict)

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

    def forms_of_target(self) -> list[Scale]:
        """All scales, of amounts as they are and, of sums over months and quarters, per day and per working day."""
        found, of = self.scales(), self.materials
        if of.unit not in ("month", "quarter") or not of.summed:
            return found
        plain = [each for each in found if not each.offset]
        return [
            *found,
            *(replace(each, per="day") for each in plain),
            *(replace(each, per="working day", country=of.country) for each in plain),
        ]

    def plain(self, offered: Offered) -> Term:
        """The simplest form of a driver, made once."""
        return self.made.setdefault((offered.reference, "plain"), self.materials.plain(offered))

    def _form(self, term: Term) -> Term:
        """A form made once: the same keywords give the same term, whose columns are kept."""
        return self.made.setdefault((repr(term), "form"), term)

    def _possible(self, term: Term) -> bool:
        """Whether a term's columns can be made at all origins."""
        try:
            self.past.columns(term)
        except InputError:
            return False
        return True

    def _width(self, term: Term) -> int:
        """How many columns a term has."""
        return int(self.past.columns(term).columns.shape[1])

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
        target = self.past.transformed(plain.scale).copy()
        if candidate.window is not None:
            target[: len(target) - candidate.window] = np.nan
        return Base.of(columns, target, min(share, most))

    def _step(
        self,
        about: str,
        options: Sequence[Candidate],
        size: Callable[[Candidate], int],
        words: Callable[[Candidate], str],
        strict: float = SUPPORT,
    ) -> None:
        """Take the best option that past forecasts support against what there is."""
        now = self._now
        found = sorted(
            (self.score(each) for each in options if each.key != now.candidate.key), key=lambda each: each.score
        )
        for other in found:
            if not np.isfinite(other.score):
                break
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
        if len(gains) < FEWEST and richer >= 0:
            return len(gains) > 1 and float(gains.mean()) > 2.0 * error and float(gains.min()) > 0.0
        return float(gains.mean()) > strict * error * float(np.sign(richer))
