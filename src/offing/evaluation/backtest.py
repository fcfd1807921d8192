"""Forecasts from past origins, by models and by plain references, as they would have been made there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import checked_keywords
from offing.base.results import Result
from offing.base.text import as_html, number, percent, rounded, text_table, wrapped
from offing.evaluation.backtest_views import ByHorizon, MemberWeights, Timeline
from offing.evaluation.calibration import Calibration, calibration
from offing.evaluation.combination_methods import Pooling
from offing.evaluation.combined_runs import combined_runs
from offing.evaluation.comparison import Comparison, compare
from offing.evaluation.fold_results import Basis, Run
from offing.evaluation.past_forecasts import PastForecasts
from offing.evaluation.references import (
    spell_origins,
)
from offing.evaluation.scoring import By, scores

#: Rows of tables to read: of horizons, and of origins.
_ROWS, _ORIGINS = 13, 30


@dataclass(frozen=True)
class Backtest(PastForecasts, Result, figure="judging.draw_backtest"):
    """Forecasts from past origins. Made by `offing.backtest`; printed, what they are worth.

    Attributes are those of `PastForecasts`: ``models``, ``plan``, ``own``, ``jobs``, ``table``, ``bases`` and so on.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2019-01", periods=72, freq="M")
    >>> noise = np.random.default_rng(2).normal(size=72)
    >>> sold = pd.Series(100.0 + np.arange(72) + 10 * (months.month == 12) + noise, months, name="sold")
    >>> found = of.backtest(of.Model("sold", [of.Trend(), of.Season("year")]), sold, horizon=6)
    >>> found.table.shape, found.bases
    ((36, 11), ('ex-ante',))
    """

    @checked_keywords
    def scores(
        self,
        *,
        by: By | None = None,
        score: str | None = None,
        series: str | None = None,
        weights: Mapping[str, float] | None = None,
    ) -> pd.DataFrame:
        """Scores of all candidates and references of a back-test.

        Parameters
        ----------
        by
            ``origin``, ``horizon``, ``season`` (the month of weeks, say), ``series``, or ``level``: each series, the
            sums of those that share an id where there are several, and the total. By default one row a candidate.
        score
            One score: then each column is a basis, or with `by` a candidate of both bases. By default all of them.
        series
            One series, or ``total`` for the sum of all; by default the mean over all.
        weights
            What each series counts in the mean; by default all alike.

        Returns
        -------
        DataFrame
            Undefined scores are NaN; the note in ``scores.csv`` says why. Without `by` and with one score a table of
            candidates and bases. Else columns ``basis, model`` and what it is by, then the scores.

        Raises
        ------
        InputError
            For an unknown score, series or way to group.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 9.0], pd.period_range("2024-01", periods=8, freq="M"))
        >>> found = of.backtest(of.Model("sold"), sold.rename("sold"), horizon=1, origins=3)
        >>> found.scores(score="MAE").round(3).loc["main"].tolist()
        [2.419]
        """
        return scores(self, by=by, score=score, series=series, weights=weights)

    @checked_keywords
    def compare(self, *, basis: Basis | None = None, score: str = "RMSE") -> Comparison:
        """Compare candidates and plain references, on periods for which all have forecasts.

        Parameters
        ----------
        basis
            ``ex-ante`` by default where there is one, as that is what forecasts will be like.
        score
            One that is the better the smaller it is, such as ``RMSE``, ``MAE``, ``MASE`` or ``CRPS``.

        Raises
        ------
        InputError
            For an unknown score or basis, one that is not to be minimised, or if nothing can be compared.

        Notes ----- Tests and the set of the best are of mean losses per origin: squared errors for RMSE and RMSSE, for
        others that of the score itself. With several series they are means over these of losses scaled as MASE and
        RMSSE are.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 9.0], pd.period_range("2024-01", periods=8, freq="M"))
        >>> found = of.backtest(of.Model("sold", [of.Trend()]), sold.rename("sold"), horizon=1, origins=3).compare()
        >>> found.best, found.best_reference, round(found.skill, 3)
        ('main', 'trend and season', 0.0)
        """
        return compare(self, basis=basis, score=score)

    @checked_keywords
    def calibration(self, model: str | None = None, *, basis: Basis | None = None) -> Calibration:
        """How often outcomes lay in the intervals of one candidate of a back-test.

        Parameters
        ----------
        model
            Its name; by default the first one.
        basis
            ``ex-ante`` by default where there is one.

        Raises
        ------
        InputError
            For an unknown name or basis, or a candidate without intervals.

        Examples
        --------
        >>> import numpy as np, pandas as pd, offing as of
        >>> noise = np.random.default_rng(4).normal(size=60)
        >>> sold = pd.Series(100.0 + noise, pd.period_range("2019-01", periods=60, freq="M"), name="sold")
        >>> of.backtest(of.Model("sold"), sold, horizon=3, origins=9).calibration().histogram[1].sum().item()
        27
        """
        return calibration(self, model, basis=basis)

    @checked_keywords
    def combined(
        self,
        *,
        method: str = "mean",
        members: Sequence[str] | None = None,
        pooling: Pooling = "quantiles",
        name: str | None = None,
        weights: Mapping[str, float] | None = None,
    ) -> Backtest:
        """The back-test with one more candidate: its members in one, whose weights are learnt again at each origin.

        Parameters
        ----------
        method, pooling
            As for `offing.combine`. Weights come from forecasts whose outcomes were known at the origin; before there
            are four such origins all members count alike.
        members
            Names of candidates or references; by default all models and forecasts made elsewhere.
        name
            What it is called; by default the method.
        weights
            Stated weights by name, the same at every origin, instead of members and a method.

        Raises
        ------
        InputError
            For unknown words or members, or fewer than two of these.

        Examples
        --------
        >>> import pandas as pd, offing as of
        >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0, 6.0, 9.0], pd.period_range("2024-01", periods=8, freq="M"))
        >>> models = [of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")]
        >>> found = of.backtest(models, sold.rename("sold"), horizon=1, origins=3).combined()
        >>> found.scores(score="MAE").round(2)["ex-ante"].loc[["plain", "trend", "mean of models"]].tolist()
        [2.42, 1.32, 1.54]
        """
        return self.with_runs(
            combined_runs(self, method=method, members=members, pooling=pooling, name=name, weights=weights)
        )

    @cached_property
    def compared(self) -> Comparison:
        """The comparison by RMSE on the basis that counts."""
        return self.compare()

    def by_horizon(self, score: str = "RMSE", basis: Basis | None = None) -> ByHorizon:
        """A score by horizon, to be drawn."""
        return ByHorizon.of(self, score, basis)

    def member_weights(self, name: str, basis: Basis | None = None) -> MemberWeights:
        """How a combination weighted its members, to be drawn."""
        return MemberWeights.of(self, name, basis)

    @property
    def timeline(self) -> Timeline:
        """What each origin learns from and forecasts, to be drawn."""
        return Timeline(self)

    @property
    def lead(self) -> str:
        """The candidate with the best RMSE, which everything in words is about."""
        return self.compared.best

    @property
    def unknown_drivers_cost(self) -> float | None:
        """By which share not knowing the drivers raises the root mean squared error of the best candidate."""
        if len(self.bases) < 2 or len(self._errors) < 2:
            return None
        errors = self._errors
        return errors["ex-ante"] / errors["ex-post"] - 1.0 if errors["ex-post"] > 0.0 else None

    @cached_property
    def _errors(self) -> dict[str, float]:
        """Root mean squared error of the best candidate by basis."""
        found = self.scores(score="RMSE").loc[self.lead].dropna()
        return {str(basis): float(value) for basis, value in zip(found.index, found.to_numpy(), strict=True)}

    @property
    def cost_sentence(self) -> str:
        """What not knowing the drivers costs, in words; an empty text where only one basis is known."""
        if self.unknown_drivers_cost is None:
            return ""
        errors = self._errors
        free = " Not knowing them costs nothing here." if self.unknown_drivers_cost <= 0.0 else ""
        return (
            f"Cost of unknown drivers: RMSE {number(errors['ex-ante'])} of '{self.lead}' ex-ante, with "
            f"what was known or expected of them, and {number(errors['ex-post'])} ex-post, with their actual values "
            f"({percent(self.unknown_drivers_cost)}).{free}"
        )

    @property
    def sentences(self) -> str:
        """Whether the model beats plain references, what not knowing the drivers costs, and what its intervals hold."""
        lines = [self.compared.verdict]
        lead, errors = self.lead, self._errors
        if self.unknown_drivers_cost is not None:
            lines.append(self.cost_sentence)
        train = [
            np.nanmean(run.train[:, 1])
            for run in self.own
            if run.name == lead and run.train is not None and run.basis == self.bases[-1]
        ]
        if train:
            unit = self.cuts().table.axis.frequency.unit
            model = next(each for each in self.models if each.name == lead)
            carried = model.dynamics is not None or any(term.recursive for term in model.terms)
            step = f", each given the {unit} before," if carried else ""
            lines.append(
                f"On the {unit}s that it was fitted to{step} '{lead}' misses by {number(float(np.mean(train)))} "
                f"(RMSE), on later ones by {number(errors[self.bases[-1]])}."
            )
        if all(run.made is not None for run in self.own if run.name == lead):
            held = self.calibration(lead)
            lines += [held.sentence] if np.isfinite(held.positions).any() else []
        return "\n".join([*lines, *self.remarks])

    def text_table(self) -> str:
        """The best candidate beside the best reference, by origin and by horizon."""
        found = self.compared
        ahead = found.best_reference
        own = found.by_origin[self.lead]
        days = [f"{day:%Y-%m-%d}" for day in found.by_origin.index]
        places = _spread_out(len(days), _ORIGINS)
        columns = [[days[i] for i in places], [rounded(own)[i] for i in places]]
        heads = ["origin", f"{found.score} of '{self.lead}'"]
        if ahead is not None:
            theirs = found.by_origin[ahead]
            better = ["better" if one < other else "" for one, other in zip(own, theirs, strict=True)]
            columns += [[rounded(theirs)[i] for i in places], [better[i] for i in places]]
            heads += [f"of '{ahead}'", ""]
        return f"{text_table(heads, columns)}\n\n{self._by_horizon(ahead)}"

    def _by_horizon(self, ahead: str | None) -> str:
        rows = self.scores(by="horizon")
        rows = rows[rows["basis"] == self.bases[-1]]
        horizons = sorted(rows["horizon"].unique().tolist())
        horizons = [horizons[i] for i in _spread_out(len(horizons), _ROWS)]
        own, theirs = (
            rows[rows["model"] == name].set_index("horizon").reindex(horizons)
            for name in (self.lead, ahead or self.lead)
        )
        unit = self.cuts().table.axis.frequency.unit
        columns = [
            [str(each) for each in horizons],
            rounded(own["RMSE"]),
            rounded(theirs["RMSE"]),
            rounded(own["MAE"]),
            rounded(own["bias"]),
            [f"{each:.0f}" for each in own["coverage 80 %"]],
        ]
        heads = [f"{unit}s ahead", f"RMSE of '{self.lead}'", f"of '{ahead}'", "MAE", "bias", "80 % held"]
        return text_table(heads, columns)

    def __str__(self) -> str:
        head = f"{self.label}: {spell_origins(self.cuts())}"
        return f"{head}\n{wrapped(self.sentences)}\n\n{self.text_table()}"

    def _repr_html_(self) -> str:
        return as_html(self.sentences, self.scores())

    def with_runs(self, runs: Iterable[Run]) -> Backtest:
        """The same back-test with further runs, such as combinations."""
        return replace(self, own=(*self.own, *runs))


def _spread_out(n: int, most: int) -> list[int]:
    """At most `most` places of n, the first and the last among them."""
    return sorted({round(x) for x in np.linspace(0, n - 1, min(n, most))})
