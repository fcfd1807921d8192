"""What a change of a model is worth, origin by origin: two versions, or a model without each of its terms."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.results import Result
from offing.base.text import number, percent, rounded, text_table, wrapped
from offing.evaluation.comparison import FEWEST, Comparison, contains, p_text, significance
from offing.evaluation.scoring import SCORES, all_parts, scored
from offing.model import Model

if TYPE_CHECKING:
    from offing.engine import AccuracyTest


@dataclass(frozen=True)
class Change(Result, figure="bars.draw_change"):
    """Two versions of a forecast compared with each other. Made by `offing.change`.

    Attributes
    ----------
    before, after
        Their names.
    score, unit
        What is compared, and its unit.
    by_origin, by_horizon
        The score of both: ``before, after, change`` as a share of before.
    overall
        The score of both over all forecasts.
    test
        Whether they differ significantly; of models of which one contains the other, whether the larger one
        forecasts better.
    nested
        Which of the two tests it is.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 9.0], pd.period_range("2024-01", periods=8, freq="M"))
    >>> models = [of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")]
    >>> found = of.change(of.backtest(models, sold.rename("sold"), horizon=1, origins=3).compare(), "plain", "trend")
    >>> found.by_origin["change"].round(2).tolist()
    [-0.63, 0.2, -0.52]
    """

    before: str
    after: str
    score: str
    unit: str
    by_origin: pd.DataFrame
    by_horizon: pd.DataFrame
    overall: tuple[float, float]
    test: AccuracyTest
    nested: bool

    @property
    def share(self) -> float:
        """By which share the score has changed; below zero is better."""
        return self.overall[1] / self.overall[0] - 1.0

    @property
    def sentence(self) -> str:
        """What became of the score, and whether that is chance."""
        better = int((self.by_origin["change"] < 0.0).sum())
        n = len(self.by_origin)
        p = self.test.p
        known = n >= FEWEST and bool(np.isfinite(p))
        freedom = f"Student's t with {count(self.test.dof, 'degree')} of freedom"
        sure = f"p {p_text(p, equal=True)} by {freedom}, {significance(p)}" if known else "too few origins for a test"
        return (
            f"From '{self.before}' to '{self.after}' {self.score} goes from {number(self.overall[0])} to "
            f"{number(self.overall[1])}{self.unit} ({percent(self.share)}), better at {better} of {n} origins ({sure})."
        )

    def __str__(self) -> str:
        rows = self.by_origin
        columns = [
            [f"{day:%Y-%m-%d}" for day in rows.index],
            rounded(rows["before"]),
            rounded(rows["after"]),
            [percent(each) for each in rows["change"]],
        ]
        return f"{wrapped(self.sentence)}\n\n{text_table(['origin', self.before, self.after, 'change'], columns)}"

    @property
    def table(self) -> pd.DataFrame:
        """The same as `by_origin`."""
        return self.by_origin


def change(comparison: Comparison, before: str, after: str) -> Change:
    """Hold two candidates or references of a comparison against each other, origin by origin and horizon by horizon.

    Raises
    ------
    InputError
        For an unknown name.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 9.0], pd.period_range("2024-01", periods=8, freq="M"))
    >>> models = [of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")]
    >>> found = of.backtest(models, sold.rename("sold"), horizon=1, origins=3).compare()
    >>> round(of.change(found, "plain", "trend").share, 2)
    -0.49
    """
    test = comparison.test(before, after)
    models = {model.name: model for model in comparison.backtest.models}
    nested = False
    if before in models and after in models:
        for small, large in ((before, after), (after, before)):
            if contains(models[large], models[small]):
                test, nested = comparison.nested(small, large), True
    parts = all_parts(comparison.backtest)
    parts = parts[(parts["basis"] == comparison.basis) & parts["model"].isin([before, after])]
    by_series = scored(parts, ["horizon", "model", "series"], [comparison.score])[comparison.score]
    means = by_series.groupby(level=["horizon", "model"]).mean()
    horizons = pd.DataFrame({name: means.xs(name, level="model") for name in (before, after)})
    unit = f" {comparison.backtest.unit}" if comparison.backtest.unit and SCORES[comparison.score].unit else ""
    overall = (float(comparison.overall[before]), float(comparison.overall[after]))
    origins, steps = (_both(frame, before, after) for frame in (comparison.by_origin, horizons))
    return Change(before, after, comparison.score, unit, origins, steps, overall, test, nested)


def _both(frame: pd.DataFrame, before: str, after: str) -> pd.DataFrame:
    found = pd.DataFrame({"before": frame[before], "after": frame[after]})
    return found.assign(change=found["after"] / found["before"] - 1.0)


def without_each(model: Model) -> list[Model]:
    """The model, and one without each of its terms, called ``without NAME``; interactions go with their terms.

    Raises
    ------
    InputError
        If it has no terms.

    Examples
    --------
    >>> import offing as of
    >>> [each.name for each in of.without_each(of.Model("sold", [of.Trend(), of.Season("year")]))]
    ['main', 'without trend', 'without season']
    """
    if not model.terms:
        raise InputError("the model has no terms", key="terms")
    found = [model]
    for term in model.terms:
        left = [each for each in model.terms if each is not term and term not in each.parts]
        chosen = [name for name in model.chosen if name in {str(each.name) for each in left}]
        found.append(replace(model, name=f"without {term.name}", terms=left, chosen=chosen))
    return found


@dataclass(frozen=True)
class TermGain(Result, figure="bars.draw_term_gain"):
    """What each term is worth: by how much the score is worse without it. Made by `offing.term_gain`.

    Attributes
    ----------
    model, score
        Whose terms, and what is compared.
    table
        One row a term, the dearest first: ``term, score`` without it, ``change`` as a share, ``p`` with which the model
        is no better than that without it (Clark & West 2007, Student's t), its degrees of freedom ``dof``, and
        ``origins_better`` at which the term helps.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2019-01", periods=72, freq="M")
    >>> noise = np.random.default_rng(2).normal(size=72)
    >>> sold = pd.Series(100.0 + np.arange(72) + 10 * (months.month == 12) + noise, months, name="sold")
    >>> model = of.Model("sold", [of.Trend(), of.Season("year", style="dummies")])
    >>> found = of.term_gain(of.backtest(of.without_each(model), sold, horizon=3, origins=10).compare())
    >>> found.table["term"].tolist()
    ['trend', 'season']
    """

    model: str
    score: str
    table: pd.DataFrame
    origins: int

    @property
    def sentence(self) -> str:
        """Which term is worth most, and which nothing."""
        rows = self.table
        top = rows.iloc[0]
        useless = rows.loc[rows["change"] <= 0.0, "term"].tolist()
        noted = (
            f"Without '{top['term']}' {self.score} would be {percent(float(top['change']))} ({self.origins} origins)."
        )
        if useless:
            noted += f" Without {', '.join(useless)} it would be no worse."
        return noted

    def __str__(self) -> str:
        rows = self.table
        columns = [
            rows["term"].tolist(),
            rounded(rows["score"]),
            [percent(each) for each in rows["change"]],
            [p_text(each) for each in rows["p"]],
            [str(each) for each in rows["origins_better"]],
        ]
        heads = ["without", self.score, "change", "p", "term helps at"]
        note = f"p: one-sided, by Student's t with {count(self.origins - 1, 'degree')} of freedom."
        return f"{wrapped(self.sentence)}\n\n{text_table(heads, columns)}\n\n{note}"


def term_gain(comparison: Comparison, model: str | None = None) -> TermGain:
    """What each term of a model is worth, from a comparison that holds the model without it: see `without_each`.

    Raises
    ------
    InputError
        If there is no model without any of its terms.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 9.0], pd.period_range("2024-01", periods=8, freq="M"))
    >>> models = of.without_each(of.Model("sold", [of.Trend()]))
    >>> print(of.term_gain(of.backtest(models, sold.rename("sold"), horizon=1, origins=3).compare()).sentence)
    Without 'trend' RMSE would be +95 % (3 origins).
    """
    name = model or comparison.backtest.models[0].name
    whole = next((each for each in comparison.backtest.models if each.name == name), None)
    terms = [str(term.name) for term in (whole.terms if whole is not None else ())]
    pairs = [(term, f"without {term}") for term in terms if f"without {term}" in comparison.losses.columns]
    if not pairs:
        raise InputError(f"there is no model without a term of '{name}'", "Back-test without_each(model).", key="model")
    rows = []
    for term, other in pairs:
        found = change(comparison, other, name)
        better = int((found.by_origin["change"] < 0.0).sum())
        rows.append(
            (term, found.overall[0], found.overall[0] / found.overall[1] - 1.0, found.test.p, found.test.dof, better)
        )
    table = pd.DataFrame(rows, columns=["term", "score", "change", "p", "dof", "origins_better"])
    table = table.sort_values("change", ascending=False, kind="stable", ignore_index=True)
    return TermGain(name, comparison.score, table, len(comparison.losses))
