"""How important each term is: what it explains of the past, what it is worth ahead, and why the two differ."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import Entry, Result, alone, register
from offing.base.text import percent, text_table, wrapped
from offing.evaluation import TermGain
from offing.evaluation.backtest import Backtest
from offing.evaluation.rows import series_of
from offing.explain.variance_shares import variance_shares
from offing.model.fitted import Fitted

#: Less than this share of the variation is little; a gain with a larger p may be chance.
_LITTLE, _CHANCE = 0.02, 0.05
#: A term that explains less than this part of its share by itself has others to stand in for it.
_SHARED = 0.5


@dataclass(frozen=True)
class Importance(Result, figure="bars.draw_importance"):
    """Terms by what they explain and what they are worth. Made by `offing.importance`.

    Attributes
    ----------
    terms, labels
        Names of the terms (J,), what explains most first, and what people call them.
    share, error, alone
        Share of the variation that each explains, averaged over all orders, its error from sampling orders, and the
        part that no other term explains (J,).
    gain, p
        By which share errors out of sample grow without it, and the p of that (J,); NaN where no back-test shows.
    score
        Of which errors.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([1.0, -1.0], 35), days, name="load")
    >>> found = of.importance(of.Model("load", terms=[of.Trend(), of.Season("week")]).fit(load))
    >>> found.table[["term", "share"]].round(3).to_numpy().tolist()
    [['season in week', 0.834], ['trend', 0.002]]
    """

    terms: tuple[str, ...]
    labels: tuple[str, ...]
    share: Array
    error: Array
    alone: Array
    gain: Array
    p: Array
    score: str

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a term: ``term, share, error, alone, gain, p, why``."""
        return pd.DataFrame(
            {
                "term": list(self.terms),
                "share": self.share,
                "error": self.error,
                "alone": self.alone,
                "gain": self.gain,
                "p": self.p,
                "why": list(self.why),
            }
        )

    @property
    def why(self) -> tuple[str, ...]:
        """Why the two measures of each term (J,) differ, or that they agree; empty where only one is known."""
        return tuple(self._why(i) for i in range(len(self.terms)))

    def _why(self, i: int) -> str:
        if not np.isfinite(self.gain[i]):
            return ""
        helps = self.gain[i] > 0.0 and self.p[i] <= _CHANCE
        much, own = self.share[i] >= _LITTLE, self.alone[i] >= _SHARED * self.share[i]
        if helps:
            return "both agree" if much else "little of all variation, but nothing else shows what it does"
        if not much:
            return "both agree: little"
        if not own:
            return "other terms explain most of it as well, and stand in for it"
        if self.gain[i] > 0.0:
            return "it helps, but too few origins say so for sure"
        return "it explains the past by itself, but is not known ahead or does not last"

    @property
    def sentences(self) -> str:
        """What each term explains and is worth."""
        lines = []
        for i, label in enumerate(self.labels):
            sampled = f" ± {100.0 * self.error[i]:.1f}" if self.error[i] else ""
            alone = f"{100.0 * self.alone[i]:.1f} % alone"
            noted = f"'{label}' explains {100.0 * self.share[i]:.1f}{sampled} % of the variation, {alone}"
            if np.isfinite(self.gain[i]):
                sure = "" if self.p[i] <= _CHANCE else f", not significant at {100 * _CHANCE:g} %"
                noted += (
                    f"; without it {self.score} ahead would be {percent(float(self.gain[i]))}{sure}: {self._why(i)}"
                )
            lines.append(f"{noted}.")
        return "\n".join(lines)

    def __str__(self) -> str:
        known = np.isfinite(self.gain).any()
        columns = [
            list(self.labels),
            [f"{100.0 * each:.1f} %" for each in self.share],
            [f"{100.0 * each:.1f} %" for each in self.alone],
        ]
        heads = ["term", "explains", "alone"]
        if known:
            columns += [
                [percent(float(each)) if np.isfinite(each) else "" for each in self.gain],
                [f"{each:.2f}" if np.isfinite(each) else "" for each in self.p],
                list(self.why),
            ]
            heads += ["without it", "p", "why they differ"]
        return f"{wrapped(self.sentences)}\n\n{text_table(heads, columns)}"


def importance(fit: Fitted, gain: TermGain | None = None) -> Importance:
    """What each term explains of the past, and beside it what it is worth out of sample.

    Parameters
    ----------
    fit
        Whose terms; their shares are those of `offing.variance_shares`.
    gain
        What a back-test without each term says, from `offing.term_gain`.

    Raises
    ------
    InputError
        If the back-test is one of another model's terms.

    Notes
    -----
    A share is in sample: it says what a term explains beside all others, whether or not its driver is known ahead.
    The gain says by how much forecasts are worse without it. Where they differ, other terms stand in for it, or its
    driver is not known in time, or its effect does not last; `why` says which.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2024-01-01", periods=70, freq="D")
    >>> load = pd.Series(50.0 + 5.0 * (days.day_of_week >= 5) + np.tile([1.0, -1.0], 35), days, name="load")
    >>> model = of.Model("load", terms=[of.Season("week")])
    >>> judged = of.backtest(of.without_each(model), load, horizon=7, origins=5).compare()
    >>> print(of.importance(model.fit(load), of.term_gain(judged)).why[0])
    both agree
    """
    found = variance_shares(fit)
    names = list(found.terms)
    ahead, p = np.full(len(names), np.nan), np.full(len(names), np.nan)
    if gain is not None:
        for term, value, chance in zip(gain.table["term"], gain.table["change"], gain.table["p"], strict=True):
            if term not in names:
                raise InputError(
                    f"the back-test is of a term {term!r}, which the fit lacks", "Back-test the same model.", key="gain"
                )
            ahead[names.index(term)], p[names.index(term)] = value, chance
    order = np.argsort(-found.share, kind="stable")
    labels = {str(term.name): fit.label_of(term) for term in fit.model.terms}
    return Importance(
        tuple(names[i] for i in order),
        tuple(labels[names[i]] for i in order),
        found.share[order],
        found.error[order],
        found.alone[order],
        ahead[order],
        p[order],
        gain.score if gain is not None else "",
    )


def importance_rows(found: Importance, backtest: Backtest) -> pd.DataFrame:
    """Rows of ``importance.csv``: one a term."""
    rows = found.table.copy()
    keys = (("series", series_of(backtest)), ("model", backtest.models[0].name), ("scenario", ""))
    for place, (name, value) in enumerate(keys):
        rows.insert(place, name, value)
    return rows


register(
    Entry(
        "importance",
        title="How important each term is",
        of=lambda judged, _: alone(judged.importance),
        text={"compare": str},
        figure_for=["compare"],
        files={"importance": lambda found, judged: importance_rows(found, judged.backtest)},
        files_for=["compare"],
        rank=4,
    )
)
