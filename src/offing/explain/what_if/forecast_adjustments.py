"""Adjustments by hand, with who made them and why; apart from the model, and scored when the outcome is known."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import combinations

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.base.results import AHEAD, Entry, Result, alone, register
from offing.base.text import number, percents, rounded, signed, text_table, wrapped
from offing.calendar import Axis
from offing.explain.date_spans import named_span
from offing.explain.what_if.adjustment import Adjustment
from offing.model import Contributions, Fit, Forecast
from offing.model.contributions import adjusted
from offing.model.decomposition import Account
from offing.model.fitted import Fitted
from offing.model.rows import SHOWN, contribution_rows, iso, keyed


@dataclass(frozen=True)
class AdjustedForecast(Result, figure="adjusted.draw_adjusted"):
    """A forecast with adjustments by hand. Made by `offing.adjust_forecast`.

    Attributes
    ----------
    forecast
        The model's own forecast, as it was.
    adjustments
        The adjustments.
    changes
        What each adds to each period (m, h).

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> ahead = of.Model("sold").fit(sold).forecast(2)
    >>> made = of.adjust_forecast(ahead, [of.Adjustment("2024-06", amount=1.5, reason="a fair", author="Ida")])
    >>> made.mean.tolist(), made.contributions.table["contribution"].tolist(), made.without(0).mean.tolist()
    ([4.5, 6.0], [4.5, 0.0, 4.5, 1.5], [4.5, 4.5])
    """

    forecast: Forecast
    adjustments: tuple[Adjustment, ...]
    changes: Array

    @property
    def contract_rows(self) -> pd.DataFrame:
        """Its rows of ``forecast.csv``."""
        return overridden_rows(self, list(SHOWN))

    @property
    def fit(self) -> Fitted:
        """The fit behind the forecast."""
        return self.forecast.fit

    @property
    def axis(self) -> Axis:
        """The forecast periods."""
        return self.forecast.axis

    @property
    def mean(self) -> Array:
        """The adjusted means (h,)."""
        return np.asarray(self.forecast.mean + self.changes.sum(axis=0))

    @cached_property
    def contributions(self) -> Contributions:
        """The forecast's contributions, with what was changed by hand in their row ``adjustment``."""
        return adjusted(self.forecast.contributions, self.mean)

    @cached_property
    def account(self) -> Account:
        """The means taken apart, for `offing.walk`."""
        return replace(self.forecast.account, mean=self.mean)

    def without(self, *places: int) -> AdjustedForecast:
        """The same without some of the adjustments, by their places."""
        kept = [i for i in range(len(self.adjustments)) if i not in places]
        return adjust_forecast(self.forecast, [self.adjustments[i] for i in kept])

    def quantiles(self, probabilities: Sequence[float]) -> pd.DataFrame:
        """The forecast's quantiles moved with its means: by the same factor on the log scale, else by as much."""
        given, before = self.forecast.quantiles(probabilities), self.forecast.mean
        fit = self.forecast.fit
        moved = self.mean - before
        if fit.scale.log and (before > 0.0).all():
            values = given.to_numpy() * (self.mean / before)[:, None]
        else:
            values = given.to_numpy() + moved[:, None]
        return pd.DataFrame(fit.cut(values), given.index, given.columns)

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a period: ``before, after, change, low, high``; `low` and `high` bound 95 % of outcomes."""
        edges = self.quantiles((0.025, 0.975)).to_numpy()
        before = self.forecast.mean
        return pd.DataFrame(
            {
                "before": before,
                "after": self.mean,
                "change": self.mean - before,
                "low": edges[:, 0],
                "high": edges[:, 1],
            },
            index=self.axis.index,
        )

    def scored(self, outcome: Fit | pd.Series) -> pd.DataFrame:
        """Each adjustment compared with what came: one row an adjustment of which some outcome is known.

        ``span, author, reason, periods, error_before, error_after, helped``: mean absolute errors of the model's
        forecast and of the adjusted one, over the periods that the adjustment changed and whose outcome is known.
        """
        came = _outcome(outcome, self.axis)
        rows = []
        for each, change in zip(self.adjustments, self.changes, strict=True):
            at = np.flatnonzero((change != 0.0) & np.isfinite(came))
            if len(at):
                before = float(np.abs(self.forecast.mean[at] - came[at]).mean())
                after = float(np.abs(self.forecast.mean[at] + change[at] - came[at]).mean())
                rows.append((each.said, each.author, each.reason, len(at), before, after, after < before))
        columns = ["span", "author", "reason", "periods", "error_before", "error_after", "helped"]
        return pd.DataFrame(rows, columns=columns)

    @property
    def sentences(self) -> str:
        """Each adjustment: what it does, why, and who made it."""
        unit = self.forecast.fit.unit
        lines = [
            f"{each.said}: {each.words(unit)} by hand, {signed(float(change.sum()), 4)} {self.fit.sum_unit}".rstrip()
            + f" in {count(int((change != 0.0).sum()), self.axis.frequency.unit)}. {each.author}: {each.reason}."
            for each, change in zip(self.adjustments, self.changes, strict=True)
        ]
        return "\n".join(lines) or "Nothing was changed by hand."

    def __str__(self) -> str:
        table, h = self.table, self.axis.n
        cells = rounded(np.concatenate([table[name].to_numpy() for name in ("before", "after", "low", "high")]))
        shares = np.divide(table["change"], table["before"], out=np.full(h, np.nan), where=table["before"] > 0.0)
        columns = [
            self.axis.labels(),
            cells[:h],
            cells[h : 2 * h],
            percents(shares),
            cells[2 * h : 3 * h],
            cells[3 * h :],
        ]
        heads = [self.axis.frequency.unit, "before", "after", "change", "low", "high"]
        return f"{wrapped(self.sentences)}\n\n{text_table(heads, columns)}"


def adjust_forecast(forecast: Forecast, adjustments: Sequence[Adjustment]) -> AdjustedForecast:
    """Adjust a forecast by hand; the model's own forecast stays beside it.

    Raises
    ------
    InputError
        If a span lies outside the forecast, two adjustments contradict each other, or a total cannot be met.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> ahead = of.Model("sold").fit(sold).forecast(2)
    >>> made = of.adjust_forecast(ahead, [of.Adjustment("2024-Q2", total=18.0, reason="orders in hand", author="Ida")])
    >>> came = pd.Series([7.0], pd.period_range("2024-05", periods=1, freq="M"))
    >>> made.mean.tolist(), made.scored(came)[["error_before", "error_after"]].to_numpy().tolist()
    ([6.0, 6.0], [[2.5, 1.0]])
    """
    axis = forecast.axis
    spans = [_inside(forecast, each) for each in adjustments]
    for (i, one), (j, other) in combinations(enumerate(spans), 2):
        sizes = {adjustments[i].size, adjustments[j].size}
        if (one & other).any() and sizes != {"amount"}:
            at = int(np.flatnonzero(one & other)[0])
            raise InputError(
                f"the adjustments of {adjustments[i].said} ({adjustments[i].author}) and {adjustments[j].said} "
                f"({adjustments[j].author}) contradict each other",
                "Only amounts can be added to the same periods: give one of them, or another span.",
                period=axis.part(at, at + 1).labels()[0],
                key="adjustments",
            )
    changes = [_change(forecast, each, inside) for each, inside in zip(adjustments, spans, strict=True)]
    wanted = forecast.mean + np.sum(changes, axis=0)
    beyond = np.flatnonzero(forecast.fit.cut(wanted) != wanted)
    if len(beyond):
        at = int(beyond[0])
        raise InputError(
            f"the adjustments make it {number(float(wanted[at]), 5)}, beyond the target's limits",
            "Give a smaller change, or other limits.",
            period=axis.part(at, at + 1).labels()[0],
            key="adjustments",
        )
    return AdjustedForecast(forecast, tuple(adjustments), np.array(changes).reshape(len(adjustments), axis.n))


def _inside(forecast: Forecast, each: Adjustment) -> NDArray[np.bool_]:
    """Which forecast periods (h,) an adjustment changes."""
    own, axis = named_span(each.span, forecast.axis), forecast.axis
    inside = (axis.ordinals >= own.first) & (axis.ordinals < own.first + own.n)
    if not inside.any():
        raise InputError(
            f"the adjustment of {each.said} lies outside the forecast of {axis.spell()}",
            "Give a span among its periods.",
            key="adjustments",
        )
    return np.asarray(inside)


def _change(forecast: Forecast, each: Adjustment, inside: NDArray[np.bool_]) -> Array:
    mean = forecast.mean
    change = np.zeros(len(mean))
    if each.percent is not None:
        change[inside] = mean[inside] * each.percent / 100.0
        return change
    own = mean[inside]
    size = each.amount if each.amount is not None else _missing(forecast, each) - float(own.sum())
    same = (own > 0.0).all() or (own < 0.0).all()
    change[inside] = (size or 0.0) * (own / own.sum() if same else np.full(len(own), 1.0 / len(own)))
    return change


def _missing(forecast: Forecast, each: Adjustment) -> float:
    """What the forecast periods of a total are to add up to, less what is known of it."""
    fit, own = forecast.fit, named_span(each.span, forecast.axis)
    past = (fit.axis.ordinals >= own.first) & (fit.axis.ordinals < own.first + own.n)
    ahead = (forecast.axis.ordinals >= own.first) & (forecast.axis.ordinals < own.first + own.n)
    seen = past & np.isfinite(fit.target)
    lacking = own.n - int(seen.sum()) - int(ahead.sum())
    if lacking:
        raise InputError(
            f"{count(lacking, own.frequency.unit)} of {each.said} are neither known nor forecast, so its "
            "total cannot be set",
            "Forecast farther, or state an amount.",
            key="total",
        )
    return float(each.total or 0.0) - float(fit.target[seen].sum())


def _outcome(outcome: Fit | pd.Series, axis: Axis) -> Array:
    if isinstance(outcome, Fit):
        at = axis.ordinals - outcome.axis.first
        there = (at >= 0) & (at < outcome.axis.n)
        return np.where(there, outcome.target[np.clip(at, 0, outcome.axis.n - 1)], np.nan)
    index = outcome.index.to_timestamp() if isinstance(outcome.index, pd.PeriodIndex) else outcome.index
    found = pd.Series(outcome.to_numpy(dtype=float), pd.DatetimeIndex(index)).reindex(pd.DatetimeIndex(axis.index))
    return found.to_numpy()


#: The scenario of a forecast that was adjusted by hand.
BY_HAND = "by hand"


def adjustment_rows(found: AdjustedForecast) -> pd.DataFrame:
    """Rows of ``adjustments.csv``: one row per adjustment and period that it changes."""
    fit, frames = found.forecast.fit, []
    periods = iso(found.axis.index, fit)
    for each, change in zip(found.adjustments, found.changes, strict=True):
        at = change != 0.0
        frames.append(
            pd.DataFrame(
                {
                    "span": each.said,
                    "stated": each.words(fit.unit),
                    "author": each.author,
                    "reason": each.reason,
                    "period": [period for period, there in zip(periods, at, strict=True) if there],
                    "change": change[at],
                }
            )
        )
    return keyed(pd.concat(frames, ignore_index=True), fit, BY_HAND)


def adjustment_score_rows(found: pd.DataFrame, fit: Fitted) -> pd.DataFrame:
    """Rows of ``adjustment_scores.csv``: one an adjustment of which the outcome is known."""
    return keyed(found, fit, BY_HAND)


def overridden_rows(found: AdjustedForecast, probabilities: list[float]) -> pd.DataFrame:
    """Rows of ``forecast.csv`` of a forecast that was adjusted by hand."""
    fit = found.forecast.fit
    table = found.forecast.table[["horizon"]].assign(forecast=found.mean).join(found.quantiles(probabilities))
    rows = table.reset_index(drop=True)
    rows.insert(0, "origin", iso([found.forecast.origin], fit)[0])
    rows.insert(1, "period", iso(found.axis.index, fit))
    return keyed(rows, fit, BY_HAND)


register(
    Entry(
        "adjusted",
        title="Adjustments by hand",
        of=lambda study, name: alone(study.adjusted.get(name)),
        text=dict.fromkeys(AHEAD, str),
        figure_for=AHEAD,
        files={
            "adjustments": lambda found, _: adjustment_rows(found),
            "forecast": lambda found, _: overridden_rows(found, list(SHOWN)),
            "contributions": lambda found, fit: contribution_rows(
                found.contributions, fit, of_forecast=True, scenario=BY_HAND
            ),
        },
        files_for=AHEAD,
        rank=41,
        options=Adjustment,
        requests="adjustments",
    )
)


def _scored(rows: pd.DataFrame) -> str:
    lines = []
    for _, row in rows.iterrows():
        verdict = "helped" if row["helped"] else "did not help"
        lines.append(
            f"The adjustment of {row['span']} ({row['author']}: {row['reason']}) {verdict}: mean absolute error "
            f"{row['error_after']:,.4g} with it, {row['error_before']:,.4g} without."
        )
    return wrapped("\n".join(lines))


register(
    Entry(
        "adjustment scores",
        title="How adjustments did",
        of=lambda study, name: alone(study.adjustment_scores.get(name)),
        text=dict.fromkeys(AHEAD, _scored),
        files={"adjustment_scores": adjustment_score_rows},
        files_for=AHEAD,
        rank=42,
    )
)
register(
    Entry(
        "unknown drivers",
        title="What not knowing the drivers costs",
        of=lambda study, _: alone(study.unknown_drivers_cost or None),
        text=dict.fromkeys(AHEAD, wrapped),
        rank=43,
    )
)
