"""What a search tried, what it found, and what more tries may bring."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from offing.base import count
from offing.base.results import Result
from offing.base.text import number, percent, rounded, text_table
from offing.evaluation.backtest import Backtest
from offing.evaluation.fold_results import Basis
from offing.evaluation.origins import Origins
from offing.evaluation.scoring import SCORES, score_of
from offing.evaluation.search_log import Tried
from offing.evaluation.search_loop import STATED, best_of
from offing.evaluation.search_space import Space
from offing.model import Fit, Model
from offing.tables import Panel, Table


@dataclass(frozen=True)
class Search(Result, figure="judging.draw_search"):
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
        return best_of(self.tried)

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
        return self._on_held(STATED) if any(run.name == STATED for run in self.held.own) else None

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
        rows = [
            {
                **{key: _spelt(value) for key, value in self.space.named(each.digits).items()},
                "score": each.score,
                "origins": each.folds,
                "columns": each.columns,
                "seconds": each.seconds,
                "why": each.why,
            }
            for each in self.tried
        ]
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

    @cached_property
    def by_try(self) -> pd.DataFrame:
        """One row a candidate scored on all origins, in the order of trying: ``try, score, best``."""
        own = [each.score for each in self.tried if each.folds == self.origins and np.isfinite(each.score)]
        best = np.minimum.accumulate(own) if own else np.zeros(0)
        return pd.DataFrame({"try": np.arange(1, len(own) + 1), "score": own, "best": best})

    def gain_of(self, more: int = 25) -> tuple[float, float]:
        """By how much a number of further candidates may lower the score: expected, and what only one in twenty passes.

        Candidates come in an order drawn at random, so that a further one is better than the best of n with a
        probability of 1 / (n + 1). How far it goes beyond is taken from the gaps between the best ones, whose
        distances from a threshold are nearly exponential (Weissman 1978). The search's own score, not the honest one.
        """
        scores = np.sort(self.by_try["score"].to_numpy())
        n, left = len(scores), min(more, self.space.size - len(self.tried))
        if n < _FEWEST_TRIES or left < 1:
            return 0.0, 0.0
        nearest_ = max(min(n // 4, 20), 3)
        spread = float((scores[nearest_] - scores[:nearest_]).mean())
        rare = 1.0 - 0.95 ** (1.0 / left)
        return spread * float(np.log1p(left / n)), spread * max(float(np.log(1.0 / ((n + 1.0) * rare))), 0.0)

    @property
    def never_varied(self) -> list[str]:
        """Terms, and fields of the model, of which the search had no choice."""
        said = {key.rpartition(".")[0] or key for key in self.space.choices} | set(self.space.optional)
        terms = [str(term.name) for term in self.space.model.terms if str(term.name) not in said]
        return [*terms, *(key for key in ("scale", "errors") if key not in said)]

    def _more(self) -> str:
        """What further tries may bring, and what was never varied."""
        words = []
        if len(self.by_try) >= _FEWEST_TRIES and len(self.tried) < self.space.size:
            expected, most = self.gain_of(_MORE)
            unit = f" {self.held.unit}" if self.held.unit and SCORES[self.score].unit else ""
            words.append(
                f"{_MORE} more candidates would lower the score by about {number(expected)}{unit} (0 to "
                f"{number(most)} in 95 %)."
            )
        if self.never_varied:
            words.append(f"Never varied: {', '.join(self.never_varied)}.")
        return " ".join(words)

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
        shown_of = f"{percent(self.optimism)} on new periods, {why}"
        lines = [
            f"Best of {tried}: {choice}.",
            f"Honest {self.score}, on the {periods} that the search never saw: {number(self.honest)}{unit}. In the "
            f"search it had {number(self.found)}{unit}: {shown_of}.",
            f"The search took {self.seconds:.1f} s.{expected}"
            + (f" {failed} candidates could not be fitted." if failed else "")
            + (f" {self.stopped}" if self.stopped else ""),
        ]
        if self.as_stated is not None and self.model != self.space.model:
            gain = 1.0 - self.honest / self.as_stated
            noted = f"; the search gained {percent(gain)}" if gain > 0.0 else ", which is no worse: keep it"
            lines.insert(2, f"The model as stated has {number(self.as_stated)}{unit} there{noted}.")
        lines += [self._more()] if self._more() else []
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
        columns += [
            rounded(rows["score"]),
            [str(each) for each in rows["origins"]],
            ["" if np.isnan(each) else f"{each:.0f}" for each in rows["columns"]],
        ]
        return text_table([*names, self.score, "origins", "columns"], columns)


#: The gain of 25 further candidates is reported; from fewer than twelve tries its interval would be too wide to use.
_MORE, _FEWEST_TRIES = 25, 12


def _or_last(score: float) -> float:
    return score if np.isfinite(score) else float("inf")


def _spelt(value: Any) -> str:
    """A choice in words."""
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(_spelt(each) for each in value) + "]"
    return "none" if value is None else str(value)
