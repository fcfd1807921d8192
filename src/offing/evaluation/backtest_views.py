"""Views of a back-test that are drawn: what to plot, without how."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.results import Result
from offing.base.text import number
from offing.evaluation.fold_results import Basis
from offing.evaluation.past_forecasts import PastForecasts
from offing.evaluation.scoring import SCORES, check_score, scores


@dataclass(frozen=True)
class ByHorizon(Result, figure="judging.draw_by_horizon"):
    """A score by horizon: one column a candidate or reference. Made by ``backtest.by_horizon``.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0], pd.period_range("2024-01", periods=6, freq="M"), name="sold")
    >>> found = of.backtest(of.Model("sold"), sold, horizon=2, origins=1)
    >>> found.by_horizon("MAE").table["main"].round(2).tolist()
    [0.5, 2.5]
    """

    backtest: PastForecasts
    basis: Basis
    score: str
    table: pd.DataFrame

    @classmethod
    def of(cls, backtest: PastForecasts, score: str = "RMSE", basis: Basis | None = None) -> ByHorizon:
        """The view of a back-test."""
        basis = basis or backtest.bases[-1]
        rows = scores(backtest, by="horizon", score=check_score(score))
        rows = rows[rows["basis"] == basis]
        names = [name for name in dict.fromkeys(run.name for run in backtest.runs) if name in set(rows["model"])]
        columns = {name: rows[rows["model"] == name].set_index("horizon")[score] for name in names}
        return cls(backtest, basis, score, pd.DataFrame(columns))

    @property
    def sentence(self) -> str:
        """Which candidate or reference errs least at the nearest horizon, and which at the farthest."""
        horizons = self.table.index.to_numpy()
        rows = {int(horizons[i]): self.table.iloc[i] for i in (0, -1)}
        words = [
            f"'{row.idxmin()}' {count(ahead, 'period')} ahead ({number(float(row.min()))})"
            for ahead, row in rows.items()
        ]
        return f"{self.score} by horizon is least for {' and '.join(words)}."

    @property
    def unit(self) -> str:
        """The unit of the score."""
        return self.backtest.unit if SCORES[self.score].unit else "%" if SCORES[self.score].percent else ""


@dataclass(frozen=True)
class Timeline(Result, figure="judging.draw_timeline"):
    """Which periods each origin learns from, leaves out and forecasts. Made by ``backtest.timeline``.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0], pd.period_range("2024-01", periods=6, freq="M"), name="sold")
    >>> found = of.backtest(of.Model("sold"), sold, horizon=2, origins=1)
    >>> [str(day.date()) for day in found.timeline.table.iloc[0]]
    ['2024-01-01', '2024-04-01', '2024-05-01', '2024-06-01']
    """

    backtest: PastForecasts

    @property
    def sentence(self) -> str:
        """From how many origins how far was forecast."""
        cuts = self.backtest.cuts()
        first, last = (f"{each:%Y-%m-%d}" for each in cuts.origins[[0, -1]])
        ahead = count(cuts.rows.shape[1], "period")
        return f"{count(len(cuts.origins), 'origin')} from {first} to {last}, each with {ahead} ahead."

    @property
    def table(self) -> pd.DataFrame:
        """One row an origin: first and last period that is learnt from, first and last that is forecast."""
        cuts = self.backtest.cuts()
        axis, window = cuts.table.axis, cuts.plan.window
        starts = [cuts.first if window is None else max(cuts.first, int(end) - window) for end in cuts.ends]
        places = np.column_stack([starts, cuts.ends - 1, cuts.rows[:, 0], cuts.rows[:, -1]]) + axis.first
        columns = ["learnt_from", "learnt_to", "forecast_from", "forecast_to"]
        found = {
            name: axis.frequency.index(axis.frequency.starts(places[:, i].astype(np.int64)))
            for i, name in enumerate(columns)
        }
        return pd.DataFrame(found, index=cuts.origins.rename("origin"))


@dataclass(frozen=True)
class MemberWeights(Result, figure="judging.draw_member_weights"):
    """How a combination weighted its members at each origin. Made by ``backtest.member_weights``.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0, 5.0, 7.0], pd.period_range("2024-01", periods=6, freq="M"), name="sold")
    >>> models = [of.Model("sold", name="plain"), of.Model("sold", [of.Trend()], name="trend")]
    >>> found = of.backtest(models, sold, horizon=1, origins=2).combined()
    >>> found.member_weights("mean of models").table.to_numpy().tolist()
    [[0.5, 0.5], [0.5, 0.5]]
    """

    name: str
    table: pd.DataFrame

    @property
    def sentence(self) -> str:
        """Which member weighs most on average."""
        means = self.table.mean()
        return f"'{self.name}' gives '{means.idxmax()}' most weight: {100.0 * float(means.max()):.0f} % on average."

    @classmethod
    def of(cls, backtest: PastForecasts, name: str, basis: Basis | None = None) -> MemberWeights:
        """The view of a combination of a back-test of one series.

        Raises
        ------
        InputError
            If there is no such combination.
        """
        basis = basis or backtest.bases[-1]
        run = next((each for each in backtest.own if each.name == name and each.basis == basis), None)
        if run is None or run.weights is None:
            raise InputError(f"there is no combination {name!r}", "Add it with the method combined.", key="name")
        table = pd.DataFrame(run.weights.mean(axis=1), run.cuts.origins.rename("origin"), list(run.members))
        return cls(name, table)
