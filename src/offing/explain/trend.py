"""The trend: its path with a band, and where and by how much its slope changed."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.base.results import Entry, Result, register
from offing.base.text import in_units, number, percent, signed, text_table, wrapped
from offing.calendar import Axis
from offing.engine import quantile
from offing.explain.partial_prediction import profile
from offing.explain.term_lookup import of_terms, term_named
from offing.explain.trend_bends import Bend, bends_of
from offing.model import Fit, Forecast
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED
from offing.model.rows import keyed, stamped
from offing.terms import Trend
from offing.terms.trend import TrendState


@dataclass(frozen=True)
class TrendPath(Result, figure="trend.draw_trend"):
    """A trend's path and bends. Made by `offing.trend`; its figure is drawn by `offing.figure`.

    Attributes
    ----------
    term, target, unit
        The trend's name, and what is forecast.
    axis
        Its periods: the fitted ones, and the forecast ones where a forecast was given.
    fitted
        How many of them are fitted.
    value, low, high
        The target as the trend alone would have it (n,), all else at what its contributions are measured from, with a
        95 % band; beyond the origin the band counts bends to come.
    bends
        Slope changes in their order.
    multiplies
        Whether slopes are of the logarithm: then words show them as percent a year.
    windows
        Whether bends are reported over windows of candidates.
    knots
        Ordinals of the periods from which another slope may apply.
    wanders
        Whether the level is a random walk.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2020-01", periods=48, freq="M")
    >>> t = np.arange(48.0)
    >>> sold = pd.Series(50 + t + 2 * np.maximum(t - 24, 0) + np.tile([0.3, -0.3], 24), months, name="sold")
    >>> found = of.trend(of.Model("sold", terms=[of.Trend(knots=["2022-01-01"])]).fit(sold))
    >>> found.table[["before", "after"]].round(0).to_numpy().tolist()
    [[12.0, 36.0]]
    """

    term: str
    target: str
    unit: str
    axis: Axis
    fitted: int
    value: Array
    low: Array
    high: Array
    bends: tuple[Bend, ...]
    multiplies: bool
    windows: bool
    knots: tuple[int, ...] = ()
    wanders: bool = False

    @cached_property
    def path(self) -> pd.DataFrame:
        """One row a period: ``trend, low, high``."""
        return pd.DataFrame({"trend": self.value, "low": self.low, "high": self.high}, index=self.axis.index)

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a bend: ``from, until, before, after, change, std_error, low, high, p``, slopes a year.

        On the log scale slopes are those of the logarithm. Windows overlap by half, so that any bend lies well inside
        one of them; `from` and `until` are then its ends, else the interval of the place.
        """
        heads = ["from", "until", "before", "after", "change", "std_error", "low", "high", "p"]
        rows = [
            [
                self.day(bend.first),
                self.day(bend.until),
                bend.before,
                bend.after,
                bend.change,
                bend.std_error,
                bend.low,
                bend.high,
                bend.p,
            ]
            for bend in self.bends
        ]
        return pd.DataFrame(rows, columns=heads)

    def day(self, ordinal: int) -> str:
        """First day of a period."""
        frequency = self.axis.frequency
        return str(frequency.index(frequency.starts(np.array([ordinal])))[0].date())

    def slope(self, value: float) -> str:
        """A slope in words."""
        if self.multiplies:
            return f"{percent(float(np.expm1(value)))} a year"
        return f"{signed(value)}{f' {self.unit}' if self.unit else ''} a year"

    def is_clear(self, bend: Bend) -> bool:
        """Whether the data are evidence of a bend: of a straight line, one in twenty would show any (Bonferroni 1936).

        Windows that overlap by half count as one.
        """
        looks = -(-len(self.bends) // 2) if self.windows else 1
        return bend.p < 0.05 / looks

    @property
    def clear(self) -> tuple[Bend, ...]:
        """The clear bends in their order; of windows that overlap, the clearest."""
        left = sorted(filter(self.is_clear, self.bends), key=lambda bend: -abs(bend.change / bend.std_error))
        found: list[Bend] = []
        for bend in left:
            if not self.windows or all(bend.until < other.first or bend.first > other.until for other in found):
                found.append(bend)
        return tuple(sorted(found, key=lambda bend: bend.first))

    @property
    def sentence(self) -> str:
        """Where the trend bent, or that it did not."""
        if not self.bends:
            start, end = (number(float(each), 4) for each in (self.value[0], self.value[self.fitted - 1]))
            if self.wanders:
                return (
                    f"The level of {in_units(self.target, self.unit)} wanders from {start} to {end}; "
                    f"its forecast starts from there."
                )
            return f"The trend of {in_units(self.target, self.unit)} goes from {start} to {end} without a bend."
        if not self.clear:
            return f"The trend of {in_units(self.target, self.unit)} has no clear bend."
        noted = [
            f"{self._when(bend)} from {self.slope(bend.before)} to {self.slope(bend.after)}" for bend in self.clear
        ]
        return f"The trend of {in_units(self.target, self.unit)} bends {'; '.join(noted)}."

    def _when(self, bend: Bend) -> str:
        if bend.first == bend.until:
            return f"at {self.day(bend.first)}"
        if bend.place is None:
            return f"between {self.day(bend.first)} and {self.day(bend.until)}"
        return f"at about {self.day(bend.place)} ({self.day(bend.first)} to {self.day(bend.until)})"

    def __str__(self) -> str:
        spans = [[self.day(at) for at in dict.fromkeys((bend.first, bend.until))] for bend in self.bends]
        shown = [" to ".join(span) for span in spans]
        if not shown:
            return wrapped(self.sentence)
        heads = ["before", "after", "change", "low", "high"]
        columns = [[f"{value:.4g}" for value in self.table[head]] for head in heads]
        chances = ["<0.001" if bend.p < 0.001 else f"{bend.p:.3f}" for bend in self.bends]
        columns, heads = [shown, *columns, chances], ["slope a year", *heads, "p"]
        return f"{wrapped(self.sentence)}\n\n{text_table(heads, columns)}"


def trend(result: Fit | Forecast, term: str | None = None) -> TrendPath:
    """The path of the trend and its slope changes.

    Found bends that are many and small are reported across overlapping windows of six stretches between candidates: the
    mean slope of the three stretches after less that of the three before. Each interval is that of prediction for
    effects shrunk towards zero (Henderson 1975): it covers as stated on average over the windows (Nychka 1988), more
    often where a bend lies in the middle of its window, less often where it lies at the edge. Sharp bends have an
    interval for their place by profile likelihood (Feder 1975), and their change counts that the place is estimated.

    Parameters
    ----------
    result
        A fit, or a forecast, whose periods the path then runs through as well.
    term
        The trend's name; needed where there are several.

    Raises
    ------
    InputError
        If there is no such trend, or the model is one of changes.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> print(of.trend(of.Model("sold", terms=[of.Trend()]).fit(sold)))
    The trend of sold goes from 3.300 to 5.700 without a bend.
    """
    fit = result.fit if isinstance(result, Forecast) else result
    chosen = term_named(fit, Trend, term, "trend")
    axes = [(fit.view, fit.axis, fit.rows)]
    if isinstance(result, Forecast):
        axes.append((result.view, result.axis, result.rows))
    parts: list[list[Array]] = [[], [], []]
    reach = float(quantile(0.975, fit.estimate.dof))
    for view, axis, design in axes:
        found = profile(fit, view, axis, lambda each: each is chosen, design)
        spread = reach * np.sqrt(np.square(found.cov_root(fit)).sum(axis=0))
        chain = fit.estimate.chain
        noise = chain.conditional_variances(np.full(axis.n, chain.times[0] - 1)) * fit.estimate.variance
        factor = fit.scale.factor(view, fit.model.target, axis)
        for each, moved in zip(parts, (np.zeros(axis.n), -spread, spread), strict=True):
            each.append(fit.cut(fit.mean_of(found.levels + moved, noise, factor)))
    whole = Axis(fit.axis.frequency, fit.axis.first, sum(axis.n for _, axis, _ in axes))
    state: TrendState = fit.states[str(chosen.name)]
    value, low, high = (np.concatenate(each) for each in parts)
    return TrendPath(
        str(chosen.name),
        fit.label,
        fit.unit,
        whole,
        fit.axis.n,
        value,
        low,
        high,
        () if chosen.wanders else bends_of(fit, chosen, state),
        fit.scale.log,
        chosen.found and chosen.at_most is None,
        () if chosen.wanders else state.knots,
        chosen.wanders,
    )


def trend_rows(found: TrendPath, fit: Fitted) -> pd.DataFrame:
    """Rows of ``trend.csv``: one a period."""
    rows = stamped(found.path.rename(columns={"trend": "value"}), fit)
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, AS_PLANNED)


def bend_rows(found: TrendPath, fit: Fitted) -> pd.DataFrame:
    """Rows of ``bends.csv``: one a slope change."""
    rows = found.table.copy()
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, "")


register(
    Entry(
        "trend",
        title="The trend",
        of=lambda study, name: of_terms(study.forecasts[name], Trend, trend),
        text={"explain": lambda found: wrapped(found.sentence)},
        joined=True,
        figure_for=["explain"],
        files={"trend": trend_rows, "bends": bend_rows},
        files_for=["explain"],
        rank=16,
    )
)
