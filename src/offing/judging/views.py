"""Views of a back-test that are drawn: what to plot, without how."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.judging.run import Basis
from offing.judging.scoring import SCORES, check_score, scores

if TYPE_CHECKING:
    from offing.judging.backtest import Backtest


@dataclass(frozen=True)
class ByHorizon:
    """A score by horizon: one column a candidate or reference. Made by ``backtest.by_horizon``."""

    backtest: Backtest
    basis: Basis
    score: str
    table: pd.DataFrame

    @classmethod
    def of(cls, backtest: Backtest, score: str = "RMSE", basis: Basis | None = None) -> ByHorizon:
        """The view of a back-test."""
        basis = basis or backtest.bases[-1]
        rows = scores(backtest, by="horizon", score=check_score(score))
        rows = rows[rows["basis"] == basis]
        names = [name for name in dict.fromkeys(run.name for run in backtest.runs) if name in set(rows["model"])]
        columns = {name: rows[rows["model"] == name].set_index("horizon")[score] for name in names}
        return cls(backtest, basis, score, pd.DataFrame(columns))

    @property
    def unit(self) -> str:
        """The unit of the score."""
        return self.backtest.unit if SCORES[self.score].unit else "%" if SCORES[self.score].percent else ""


@dataclass(frozen=True)
class Timeline:
    """Which periods each origin learns from, leaves out and forecasts. Made by ``backtest.timeline``."""

    backtest: Backtest

    @property
    def table(self) -> pd.DataFrame:
        """One row an origin: first and last period that is learnt from, first and last that is forecast."""
        cuts = self.backtest.cuts()
        axis, window = cuts.table.axis, cuts.plan.window
        starts = [cuts.first if window is None else max(cuts.first, int(end) - window) for end in cuts.ends]
        places = np.column_stack([starts, cuts.ends - 1, cuts.rows[:, 0], cuts.rows[:, -1]]) + axis.first
        columns = ["learnt_from", "learnt_to", "forecast_from", "forecast_to"]
        found = {name: axis.frequency.index(axis.frequency.starts(places[:, i].astype(np.int64)))
                 for i, name in enumerate(columns)}  # fmt: skip
        return pd.DataFrame(found, index=cuts.origins.rename("origin"))


@dataclass(frozen=True)
class MemberWeights:
    """How a combination weighted its members at each origin. Made by ``backtest.member_weights``."""

    name: str
    table: pd.DataFrame

    @classmethod
    def of(cls, backtest: Backtest, name: str, basis: Basis | None = None) -> MemberWeights:
        """The view of a combination of a back-test of one series.

        Raises
        ------
        InputError
            If there is no such combination.
        """
        basis = basis or backtest.bases[-1]
        run = next((each for each in backtest.own if each.name == name and each.basis == basis), None)
        if run is None or run.weights is None:
            raise InputError(f"there is no combination {name!r}", "Add it with offing.combined.", key="name")
        table = pd.DataFrame(run.weights.mean(axis=1), run.cuts.origins.rename("origin"), list(run.members))
        return cls(name, table)
