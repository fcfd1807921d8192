"""Which candidate forecasts best, by how much, and whether that is significant."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.text import number, percent, rounded, text_table, wrapped
from offing.engine import AccuracyTest, best_set, equal_accuracy, nested_accuracy
from offing.evaluation.fold_results import Basis
from offing.evaluation.past_forecasts import PastForecasts
from offing.evaluation.scoring import SCORES, all_parts, check_score, scored
from offing.model import Model

Loss = Literal["squared", "absolute"]
#: The level of every test: of two forecasts, and of whether a candidate belongs to the set of the best ones.
LEVEL = 0.05
#: Fewer origins than this show nothing about chance.
FEWEST = 5
#: Scores that differ by a smaller share are the same but for rounding.
_SAME = 1e-9


@dataclass(frozen=True)
class Comparison(Result, figure="comparison.draw_comparison"):
    """Candidates and references compared with each other on the same periods. Made by `Backtest.compare`.

    Attributes
    ----------
    backtest
        The forecasts.
    basis, score
        What is compared.
    losses
        Mean loss (f, m) of each origin's forecasts, by candidate: squared errors for scores that square, else
        absolute ones; over all series.
    table
        One row a candidate: ``model, kind, <score>, spread, rank, worst rank, skill, among_best, p_best, columns,
        seconds``.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2019-01", periods=72, freq="M")
    >>> noise = np.random.default_rng(2).normal(size=72)
    >>> sold = pd.Series(100.0 + np.arange(72) + 10 * (months.month == 12) + noise, months, name="sold")
    >>> models = [of.Model("sold", [of.Trend()], name="line"),
    ...           of.Model("sold", [of.Trend(), of.Season("year", style="dummies")], name="with season")]
    >>> found = of.backtest(models, sold, horizon=3, origins=10).compare()
    >>> found.best, found.table.set_index("model").loc["with season", "among_best"].item()
    ('with season', True)
    """

    backtest: PastForecasts
    basis: Basis
    score: str
    losses: pd.DataFrame
    by_origin: pd.DataFrame
    overall: pd.Series
    absent: dict[str, str]

    @property
    def candidates(self) -> list[str]:
        """Names of what is judged: models, forecasts made elsewhere, combinations."""
        return [name for name in self.losses.columns if self._kind(name) != "reference"]

    @property
    def references(self) -> list[str]:
        """Names of the plain references that can be compared with them."""
        return [name for name in self.losses.columns if self._kind(name) == "reference"]

    @property
    def best(self) -> str:
        """The candidate with the best score."""
        return str(self.overall[self.candidates].idxmin())

    @property
    def best_reference(self) -> str | None:
        """The reference with the best score."""
        return str(self.overall[self.references].idxmin()) if self.references else None

    @property
    def skill(self) -> float:
        """By which share the best candidate's score is below the best reference's."""
        return float("nan") if self.best_reference is None else self._skill(self.best)

    def _skill(self, name: str) -> float:
        """The share by which a score is below the best reference's; differences of rounding count as none."""
        own, theirs = float(self.overall[name]), float(self.overall[self.references].min())
        if abs(own - theirs) <= _SAME * abs(theirs):
            return 0.0
        return 1.0 - own / theirs if theirs > 0.0 else -np.inf

    @property
    def same_as_reference(self) -> bool:
        """Whether the best candidate and the best reference make the same errors, to rounding."""
        if self.best_reference is None:
            return False
        one, other = self.by_origin[self.best].to_numpy(), self.by_origin[self.best_reference].to_numpy()
        return bool(np.allclose(one, other, rtol=_SAME, atol=0.0))

    @property
    def overlap(self) -> int:
        """How many later origins share outcomes with one."""
        return max(job.cuts.overlap for job in self.backtest.jobs.values())

    @property
    def ranks(self) -> pd.DataFrame:
        """The rank of every candidate at each origin, 1 being the best."""
        return self.by_origin.rank(axis=1)

    @cached_property
    def p_best(self) -> pd.Series:
        """With which p each belongs to the best ones; see `offing.engine.best_set`."""
        if len(self.losses) < FEWEST:
            return pd.Series(np.nan, self.losses.columns)
        p = best_set(self.losses.to_numpy(), block=self.overlap + 1)
        return pd.Series(p, self.losses.columns)

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a candidate or reference, the best one first."""
        ranks = self.ranks
        ahead = self.best_reference
        rows = []
        for name in self.overall.sort_values(kind="stable").index:
            own = [run for run in self.backtest.chosen(self.basis) if run.name == name]
            columns = [np.nanmean(each.columns) for each in own if each.columns is not None]
            rows.append(
                {
                    "model": name,
                    "kind": own[0].kind,
                    self.score: self.overall[name],
                    "spread": self.by_origin[name].std(ddof=1) if len(self.by_origin) > 1 else np.nan,
                    "rank": ranks[name].mean(),
                    "worst_rank": ranks[name].max(),
                    "skill": np.nan if ahead is None else self._skill(name),
                    "p_best": self.p_best[name],
                    "among_best": bool(self.p_best[name] >= LEVEL),
                    "columns": np.mean(columns) if columns else np.nan,
                    "seconds": sum(each.seconds for each in own),
                }
            )
        return pd.DataFrame(rows)

    def test(self, first: str, second: str) -> AccuracyTest:
        """Whether two candidates have the same expected loss (Diebold & Mariano 1995; Harvey et al. 1997), two-sided.

        Of a model that contains the other, use `nested`.

        Raises
        ------
        InputError
            For an unknown name.
        """
        for name in (first, second):
            if name not in self.losses.columns:
                raise InputError(
                    f"there is no forecast {name!r} to compare",
                    f"Allowed: {', '.join(self.losses.columns)}.",
                    key="model",
                )
        return equal_accuracy(self.losses[first].to_numpy(), self.losses[second].to_numpy(), self.overlap)

    def nested(self, small: str, large: str) -> AccuracyTest:
        """Whether a larger model forecasts better than one that it contains (Clark & West 2007), one-sided.

        Raises
        ------
        InputError
            For an unknown name.
        """
        self.test(small, large)
        runs = {name: [run for run in self.backtest.chosen(self.basis) if run.name == name] for name in (small, large)}
        apart = _mean_of_folds([np.square(one.mean - other.mean) for one, other in zip(*runs.values(), strict=True)])
        squares = [_mean_of_folds([np.square(run.error) for run in runs[name]]) for name in (small, large)]
        there = np.isfinite(np.sum([apart, *squares], axis=0))
        return nested_accuracy(squares[0][there], squares[1][there], apart[there], self.overlap)

    @cached_property
    def tests(self) -> pd.DataFrame:
        """Every candidate against the best one, and against the best reference.

        ``model, against, test, difference, statistic, dof, p``: the test is that of equal accuracy, or for models of
        which one contains the other that of a larger model, both by Student's t. A positive difference is a larger loss
        of `model`.
        """
        rows = []
        for against in [self.best, *([self.best_reference] if self.best_reference else [])]:
            for name in [*self.candidates, *self.references]:
                if name == against:
                    continue
                small, large = self._nested(name, against)
                if small is not None and large is not None:
                    found = self.nested(small, large)
                    sign = 1.0 if small == name else -1.0
                    rows.append(
                        (name, against, "nested", sign * found.difference, sign * found.statistic, found.dof, found.p)
                    )
                else:
                    found = self.test(name, against)
                    rows.append((name, against, "equal", found.difference, found.statistic, found.dof, found.p))
        return pd.DataFrame(rows, columns=["model", "against", "test", "difference", "statistic", "dof", "p"])

    def _nested(self, first: str, second: str) -> tuple[str | None, str | None]:
        """Of two models the smaller and the larger, where one contains the other's terms."""
        models = {model.name: model for model in self.backtest.models}
        if first not in models or second not in models:
            return None, None
        one, other = models[first], models[second]
        if contains(one, other):
            return second, first
        return (first, second) if contains(other, one) else (None, None)

    def _kind(self, name: str) -> str:
        return next(run.kind for run in self.backtest.runs if run.name == name)

    @property
    def verdict(self) -> str:
        """The first line: whether the best candidate beats the best plain reference, and whether that is chance."""
        backtest, best, ahead = self.backtest, self.best, self.best_reference
        unit = f" {backtest.unit}" if backtest.unit and SCORES[self.score].unit else ""
        own = f"{self.score} {number(float(self.overall[best]))}{unit}"
        over = f"over {len(self.losses)} origins" if len(self.losses) > 1 else "over one origin"
        basis = f"{self.basis}, {_horizons(backtest)}"
        if ahead is None:
            return f"'{best}' has {own} {over} ({basis}); no plain reference could be compared with it."
        theirs = f"{number(float(self.overall[ahead]))}"
        if self.same_as_reference:
            return f"'{best}' forecasts the same as the plain reference '{ahead}': {own} {over} ({basis})."
        if not self.skill > 0.0:
            return f"'{best}' does not beat the plain reference '{ahead}': {own} against {theirs} {over} ({basis})."
        found = self.test(best, ahead)
        sure = (
            "too few origins for a test"
            if len(self.losses) < FEWEST or not np.isfinite(found.p)
            else f"p {p_text(found.p, equal=True)}, {significance(found.p)}"
        )
        return (
            f"'{best}' beats the best plain reference, '{ahead}', by {100.0 * self.skill:.0f} %: {own} against "
            f"{theirs} {over} ({basis}; {sure})."
        )

    @property
    def sentences(self) -> str:
        """The verdict, which others cannot be separated from the best, and where the best one fails."""
        lines = [self.verdict]
        others = [name for name in self.table.loc[self.table["among_best"], "model"] if name != self.best]
        if len(self.losses) < FEWEST:
            lines.append(f"{count(len(self.losses), 'origin')} cannot separate candidates; {FEWEST} are the least.")
        elif others:
            lines.append(f"With 95 % probability the best is among '{self.best}', {', '.join(map(repr, others))}.")
        else:
            lines.append(f"All others are significantly worse than '{self.best}' at 5 %.")
        if len(self.losses) > 1 and self.best_reference is not None:
            own, theirs = self.by_origin[self.best], self.by_origin[self.best_reference]
            lost, worst = int((own > theirs).sum()), pd.Timestamp(str(own.idxmax()))
            lines.append(
                f"At {lost} of {len(own)} origins that reference was better; the worst origin of '{self.best}' is "
                f"{worst:%Y-%m-%d} ({self.score} {number(float(own[worst]))}, the reference "
                f"{number(float(theirs[worst]))})."
            )
        if self.absent:
            lines.append("Not compared: " + "; ".join(f"{name} ({why})" for name, why in self.absent.items()) + ".")
        return "\n".join([*lines, *self.backtest.remarks])

    def text_table(self) -> str:
        """The table to read."""
        rows = self.table
        marks = ["*" if each else "" for each in rows["among_best"]]
        named = [f"{name} (reference)" if name in self.references else name for name in rows["model"]]
        skills = [percent(each) if np.isfinite(each) else "" for each in rows["skill"]]
        columns = [
            named,
            rounded(rows[self.score]),
            rounded(rows["spread"]),
            [f"{each:.1f}" for each in rows["rank"]],
            [f"{each:.0f}" for each in rows["worst_rank"]],
            skills,
            ["" if np.isnan(each) else f"{each:.2f}" for each in rows["p_best"]],
            marks,
            ["" if np.isnan(each) else f"{each:.0f}" for each in rows["columns"]],
            ["" if np.isnan(each) else f"{each:.2f}" for each in rows["seconds"]],
        ]
        heads = ["", self.score, "spread", "rank", "worst", "skill", "p best", "", "columns", "seconds"]
        return text_table(heads, columns)

    def __str__(self) -> str:
        note = (
            "Spread: standard deviation over origins. Rank: mean over origins, 1 is best. Skill: against the best "
            "reference. p best and *: whether one belongs to the set that holds the best of all with 95 % probability, "
            "which asks of all at once; the first line asks of two alone, so that the two may differ."
        )
        return f"{wrapped(self.sentences)}\n\n{self.text_table()}\n\n{wrapped(note)}"


def compare(backtest: PastForecasts, *, basis: Basis | None = None, score: str = "RMSE") -> Comparison:
    """Candidates and references compared; see `Backtest.compare`."""
    check_score(score)
    if SCORES[score].better != "low":
        raise InputError(
            f"found {score!r}, which is best at a value and not the lower the better",
            "Give RMSE, MAE, MASE or CRPS, say.",
            key="score",
        )
    if basis is None:
        basis = backtest.bases[-1] if backtest.bases else "ex-ante"
    if backtest.bases and basis not in backtest.bases:
        raise InputError(f"there is nothing {basis}", f"Allowed: {', '.join(backtest.bases)}.", key="basis")
    parts = all_parts(backtest)
    parts = parts[parts["basis"] == basis]
    needed = list(SCORES[score].parts)
    parts = parts.dropna(subset=needed)
    absent = {run.name: run.why for run in backtest.runs if run.why}
    parts, incomplete = _same_cells(parts, backtest)
    absent |= incomplete
    there = set(parts["model"])
    names = [run.name for run in backtest.chosen(basis) if run.name in there]
    names = list(dict.fromkeys(names))
    if not names:
        raise InputError(f"no forecast has a {score}", "Choose another score.", key="score")
    by_series = scored(parts, ["model", "series"], [score])[score]
    overall = by_series.groupby(level="model").mean().reindex(names)
    folds = scored(parts, ["model", "fold", "series"], [score])[score]
    several = len(parts["series"].unique()) > 1
    loss = "scaled square" if several and score in ("RMSE", "RMSSE") else "square" if score == "RMSE" else needed[0]
    loss = "scaled" if several and score == "MAE" else loss
    losses = _wide(parts.groupby(["fold", "model"])[loss].mean(), names)
    origins = parts.groupby("fold")["origin"].min()
    by_origin = _wide(folds.groupby(level=["fold", "model"]).mean(), names)
    losses.index = by_origin.index = pd.DatetimeIndex(origins.to_numpy(), name="origin")
    return Comparison(backtest, basis, score, losses, by_origin, overall, absent)


def _wide(values: pd.Series, names: Sequence[str]) -> pd.DataFrame:
    """Values by fold and model as one column a model."""
    return pd.DataFrame({name: values.xs(name, level="model") for name in names})


def _same_cells(parts: pd.DataFrame, backtest: PastForecasts) -> tuple[pd.DataFrame, dict[str, str]]:
    """Rows of the forecasts that all models have, and of those others that have all of these."""
    cells = ["series", "fold", "horizon"]
    keys = {str(name): set(map(tuple, own[cells].to_numpy().tolist())) for name, own in parts.groupby("model")}
    models = [model.name for model in backtest.models if model.name in keys]
    judged = [*models, *(each.name for each in backtest.external if each.name in keys and each.role == "candidate")]
    shared = set.intersection(*(keys[name] for name in judged)) if judged else set.union(*keys.values())
    kept = [name for name, own in keys.items() if shared <= own]
    absent = {name: "it lacks some of the periods" for name in keys if name not in kept}
    inside = [tuple(row) in shared for row in parts[cells].to_numpy().tolist()]
    return parts[np.array(inside, dtype=bool) & parts["model"].isin(kept).to_numpy()], absent


def significance(p: float) -> str:
    """What a p value means at the one level of every paired test."""
    return f"{'' if p < LEVEL else 'not '}significant at {100 * LEVEL:.0f} %"


def p_text(p: float, *, equal: bool = False) -> str:
    """A p to read: below a thousandth, digits of it mean nothing."""
    if not np.isfinite(p):
        return ""
    return "< 0.001" if p < 0.001 else f"{'= ' if equal else ''}{number(p, 2)}"


def contains(large: Model, small: Model) -> bool:
    """Whether a model has all terms of another and more, and is otherwise the same."""
    bare = replace(small, terms=(), name="", chosen=()) == replace(large, terms=(), name="", chosen=())
    rest = [term for term in large.terms if all(term != other for other in small.terms)]
    return bare and bool(rest) and all(any(term == other for other in large.terms) for term in small.terms)


def _mean_of_folds(parts: Sequence[Array]) -> Array:
    """Means (f,) over series and horizons; NaN where a fold has none."""
    values = np.array(parts)
    count = np.isfinite(values).sum(axis=(0, 2))
    return np.where(count > 0, np.nansum(values, axis=(0, 2)) / np.maximum(count, 1), np.nan)


def _horizons(backtest: PastForecasts) -> str:
    cuts = backtest.cuts()
    unit = cuts.table.axis.frequency.unit
    first, last = int(cuts.horizons[0]), int(cuts.horizons[-1])
    return (
        f"{first} {unit} ahead"
        if first == last == 1
        else f"{first} {unit}s ahead"
        if first == last
        else (f"{first} to {last} {unit}s ahead")
    )
