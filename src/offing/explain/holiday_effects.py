"""What each holiday does, on the day and around it, and how much is known of it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.base.results import Entry, Result, register
from offing.base.text import as_html, in_units, percent, signed, text_table, wrapped
from offing.engine import quantile
from offing.explain.term_lookup import of_terms, term_named
from offing.model import Fit, Forecast
from offing.model.fitted import Fitted
from offing.model.rows import keyed
from offing.terms import Holidays
from offing.terms.holidays import HolidayState


@dataclass(frozen=True)
class HolidayEffects(Result, figure="holidays.draw_holidays"):
    """Effects of a term of holidays. Made by `offing.holiday_effects`; its figure is drawn by `offing.figure`.

    Attributes
    ----------
    term, target, unit
        The term's name, and what is forecast.
    period
        What the series' periods are called: an effect is that of one such day in a period.
    relative
        Whether effects are shares, else they are in the target's unit.
    names, groups, away
        Holiday, its group, and how many days after the day itself (m,); group rows have the name ``any`` and the group.
    effect, low, high
        With a 95 % interval (m,).
    days
        How many such days the fitted periods hold (m,).
    own
        How much its own days reported of it (m,): 1 less the variance of its effect over that of a holiday of its group
        that was never seen. 0 leans on the group alone, 1 on itself alone.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> days = pd.date_range("2022-01-01", periods=730, freq="D")
    >>> off = pd.DataFrame({"name": ["Lantern Night"] * 2, "date": ["2022-10-08", "2023-09-27"]})
    >>> sold = 50.0 + 8.0 * days.isin(pd.to_datetime(off["date"])) + np.tile([0.1, -0.1], 365)
    >>> fit = of.Model("sold", terms=[of.Holidays(table=off)]).fit(pd.Series(sold, days, name="sold"))
    >>> of.holiday_effects(fit).table[["holiday", "effect", "days"]].round(1).to_numpy().tolist()
    [['Lantern Night', 8.1, 2]]
    """

    term: str
    target: str
    unit: str
    period: str
    relative: bool
    names: tuple[str, ...]
    groups: tuple[str, ...]
    away: tuple[int, ...]
    effect: Array
    low: Array
    high: Array
    days: Array
    own: Array

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a holiday and day around it: ``holiday, group, away, effect, low, high, days, own``."""
        return pd.DataFrame(
            {
                "holiday": list(self.names),
                "group": list(self.groups),
                "away": list(self.away),
                "effect": self.effect,
                "low": self.low,
                "high": self.high,
                "days": self.days.astype(int),
                "own": self.own,
            }
        )

    def words(self, value: float) -> str:
        """An effect in words."""
        return percent(value) if self.relative else f"{signed(value)}{f' {self.unit}' if self.unit else ''}"

    @property
    def sentence(self) -> str:
        """Which holiday does most."""
        at = [i for i, days in enumerate(self.away) if days == 0 and not self.names[i].startswith("any ")]
        top = max(at or range(len(self.names)), key=lambda i: abs(self.effect[i]))
        once = "" if self.period in ("day", "business day", "hour") else f" in its {self.period}"
        name, effect = in_units(self.target, self.unit), self.words(float(self.effect[top]))
        return f"{name}: '{self.names[top]}' does most, {effect}{once}."

    @property
    def note(self) -> str:
        """What the numbers stand for."""
        one = {"day": "the day", "business day": "the day", "hour": "every hour of the day"}.get(
            self.period, f"one such day in a {self.period}"
        )
        return (
            f"The effect is that of {one}. Where 'own' is near 0 the holiday leans on its group, of which only the "
            "usual spread is known."
        )

    def __str__(self) -> str:
        shown = [f"{name}{f' {days:+d} d' if days else ''}" for name, days in zip(self.names, self.away, strict=True)]
        columns = [
            shown,
            list(self.groups),
            *([self.words(each) for each in values] for values in (self.effect, self.low, self.high)),
            [f"{each:.0f}" for each in self.days],
            [f"{each:.2f}" if np.isfinite(each) else "" for each in self.own],
        ]
        heads = ["holiday", "group", "effect", "low", "high", "days", "own"]
        return f"{wrapped(f'{self.sentence} {self.note}')}\n\n{text_table(heads, columns)}"

    def _repr_html_(self) -> str:
        return as_html(f"{self.sentence} {self.note}", self.table)


def holiday_effects(result: Fit | Forecast, term: str | None = None) -> HolidayEffects:
    """Effects of holidays and of the days around them, each as one day of it in a period.

    A holiday's effect is that of its group and its own deviation. On the log scale it is a share, exp(b d) − 1, with b
    the coefficient and d one day's part of a mean period; on the level scale b d in the target's unit.

    Parameters
    ----------
    result
        A fit, or a forecast: then holidays to come that the fitted periods never held are reported too.
    term
        The term's name; needed where there are several.

    Raises
    ------
    InputError
        If there is no such term, or several and none is named.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> weeks = pd.date_range("2022-01-03", periods=104, freq="7D")
    >>> off = pd.DataFrame({"name": ["Regatta"] * 2, "date": ["2022-07-22", "2023-07-21"]})
    >>> sold = np.where(weeks.isin(pd.to_datetime(["2022-07-18", "2023-07-17"])), 110.0, 100.0)
    >>> sold = pd.Series(sold + np.tile([0.1, -0.1], 52), weeks, name="sold")
    >>> of.holiday_effects(of.Model("sold", terms=[of.Holidays(table=off)], scale="log").fit(sold)).sentence
    "sold: 'Regatta' does most, +10 % in its week."
    """
    fit = result.fit if isinstance(result, Forecast) else result
    chosen = term_named(fit, Holidays, term, "term of holidays")
    place = [slot.term for slot in fit.layout.slots].index(str(chosen.name))
    slot, estimate = fit.layout.slots[place], fit.estimate
    state: HolidayState = fit.states[str(chosen.name)]
    columns = fit.rows.blocks[place].columns
    days_each = (
        1.0
        if fit.axis.frequency.unit == "hour" or fit.axis.frequency.per_day
        else 365.25 / fit.axis.frequency.periods_a_year
    )
    hours = 24.0 if fit.axis.frequency.unit == "hour" else 1.0
    part = 1.0 / days_each
    whole = {(p.group, p.away): i for i, p in enumerate(state.pieces) if not (p.member or p.other)}
    names, groups, away, functions, days, own = [], [], [], [], [], []
    for i, (piece, function) in enumerate(zip(state.pieces, slot.readout.matrix, strict=True)):
        names.append(piece.other or piece.member or f"any {piece.group}")
        groups.append(piece.group)
        away.append(piece.away)
        functions.append(function)
        days.append(columns[fit.used, i].sum() * days_each / hours)
        own.append(np.nan)
    more = np.zeros((len(functions), fit.layout.k))
    more[:, slot.places] = np.array(functions)
    errors = estimate.standard_errors(more)
    values = more @ estimate.beta
    for i, piece in enumerate(state.pieces):
        if piece.member and piece.shrinkage_group:
            unseen = errors[whole[piece.group, piece.away]] ** 2 + estimate.ratios[slot.places[i]] * estimate.variance
            own[i] = float(np.clip(1.0 - errors[i] ** 2 / unseen, 0.0, 1.0))
    if isinstance(result, Forecast):
        for at, name, group in chosen.unseen(result.axis, state):
            i = whole[group, at]
            shrinkage_group = {piece.shrinkage_group for piece in state.held(group, at)} - {""}
            spread = sum(fit.ratios[f"{chosen.name}: {each}"] for each in shrinkage_group) * estimate.variance
            names, groups, away = [*names, name], [*groups, group], [*away, at]
            days, own = [*days, 0.0], [*own, 0.0]
            values = np.append(values, values[i])
            errors = np.append(errors, np.sqrt(errors[i] ** 2 + spread))
    reach = float(quantile(0.975, estimate.dof)) * errors * part
    values = values * part
    order = sorted(range(len(names)), key=lambda i: (groups[i], names[i].startswith("any "), names[i], away[i]))
    edges = [each[order] for each in (values, values - reach, values + reach)]
    if fit.scale.log:
        edges = [np.expm1(each) for each in edges]
    return HolidayEffects(
        str(chosen.name),
        fit.label,
        fit.unit,
        fit.axis.frequency.unit,
        fit.scale.log or slot.factor,
        tuple(names[i] for i in order),
        tuple(groups[i] for i in order),
        tuple(away[i] for i in order),
        edges[0],
        edges[1],
        edges[2],
        np.round(np.array(days)[order]),
        np.array(own, dtype=float)[order],
    )


def holiday_rows(found: HolidayEffects, fit: Fitted) -> pd.DataFrame:
    """Rows of ``holidays.csv``: one a holiday and day around it."""
    rows = found.table.copy()
    rows.insert(0, "term", found.term)
    return keyed(rows, fit, "")


register(
    Entry(
        "holidays",
        title="Holidays",
        of=lambda study, name: of_terms(study.forecasts[name], Holidays, holiday_effects),
        text={"explain": lambda found: wrapped(found.sentence)},
        joined=True,
        figure_for=["explain"],
        files={"holidays": holiday_rows},
        files_for=["explain"],
        rank=19,
    )
)
