"""One forecast as an archive keeps it: numbers and contributions, without the model."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Protocol

import numpy as np
import pandas as pd

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.results import Result
from offing.base.stored import decoded, encoded
from offing.base.text import in_units, number
from offing.calendar import Axis, Frequency
from offing.calendar.axis import instant_of
from offing.model.contributions import Contributions
from offing.model.decomposition import BASELINE, Account, Row
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED, Forecast
from offing.model.rows import SHOWN, iso

#: The quantiles as columns are called.
QUANTILES = tuple(f"q{each:g}" for each in SHOWN)


class Archivable(Protocol):
    """What can be archived beside a plain forecast: a combination, or a forecast that was adjusted by hand."""

    @property
    def fit(self) -> Fitted:
        """Whose target it is of."""

    @property
    def axis(self) -> Axis:
        """Its periods."""

    @property
    def contributions(self) -> Contributions:
        """What every term contributes."""

    @property
    def contract_rows(self) -> pd.DataFrame:
        """Its rows of ``forecast.csv``."""


@dataclass(frozen=True)
class ArchivedForecast(Result, figure="archived.draw_archived"):
    """A forecast as it was made. Made by `Archive.forecast`.

    Attributes
    ----------
    series, model, scenario
        Of which series, by which model, under which assumptions.
    target, unit
        The target's name and unit.
    frequency
        Of its periods.
    origin
        The instant from which it was made, as ISO 8601 has it.
    made_at
        When the run was, UTC.
    version
        The Offing that made it.
    values
        One row a period: ``period, horizon, forecast`` and the contract's quantiles.
    shares
        One row a period and term: ``period, term, label, contribution, low, high``.

    Examples
    --------
    >>> import pathlib, tempfile, pandas as pd, offing as of
    >>> sold = pd.Series([3.0, 5.0, 4.0, 6.0], pd.period_range("2024-01", periods=4, freq="M"), name="sold")
    >>> kept = of.archive(pathlib.Path(tempfile.mkdtemp()) / "forecasts.sqlite")
    >>> kept.append(of.Model("sold", [of.Trend()]).fit(sold).forecast(2))
    1
    >>> kept.forecast().table["forecast"].round(6).tolist()
    [6.5, 7.3]
    """

    series: str
    model: str
    scenario: str
    target: str
    unit: str
    frequency: Frequency
    origin: str
    made_at: str
    version: str
    values: pd.DataFrame
    shares: pd.DataFrame

    @cached_property
    def axis(self) -> Axis:
        """Its periods."""
        first = int(self.frequency.ordinals(instant_of(self.values["period"].iloc[0], self.frequency))[0])
        return Axis(self.frequency, first, len(self.values))

    @property
    def mean(self) -> Array:
        """Forecast means (h,)."""
        return self.values["forecast"].to_numpy(dtype=float)

    @property
    def table(self) -> pd.DataFrame:
        """One row a period: ``horizon, forecast`` and the contract's quantiles."""
        return self.values.drop(columns="period").set_axis(self.axis.index)

    @property
    def sentence(self) -> str:
        """What it is, in one sentence."""
        how = "" if self.scenario == AS_PLANNED else f" ({self.scenario})"
        return (
            f"{in_units(self.target, self.unit)}: forecast of {self.axis.spell()} by the model '{self.model}'{how}, "
            f"made from {self.origin}, {number(float(self.mean.mean()), 4)} on average."
        )

    @cached_property
    def account(self) -> Account:
        """Its means as the terms' amounts, of whose doubt nothing more is known."""
        wide = self.shares.pivot_table("contribution", "period", "term").reindex(self.values["period"])
        labels = dict(zip(self.shares["term"], self.shares["label"], strict=True))
        names = list(dict.fromkeys([BASELINE, *self.shares["term"]]))
        none = np.zeros((self.axis.n, 0))
        rows = [
            Row(name, str(labels.get(name, name)), wide[name].fillna(0.0).to_numpy(dtype=float), none, none)
            for name in names
            if name in wide
        ]
        return Account(self.axis.ordinals, tuple(rows), False, self.mean, None, np.zeros(self.axis.n))

    @cached_property
    def digest(self) -> str:
        """The SHA-256 of what was forecast: the same forecast is archived once."""
        keys = [self.series, self.model, self.scenario, self.target, self.unit, encoded(self.frequency), self.origin]
        numbers = [
            each.to_csv(index=False, float_format="%.17g")
            for each in (self.values, self.shares[["period", "term", "contribution"]])
        ]
        return hashlib.sha256(json.dumps([*keys, *numbers]).encode()).hexdigest()


def as_archived(
    ahead: Forecast | Archivable, rows: pd.DataFrame, *, model: str, scenario: str, made_at: str, version: str
) -> ArchivedForecast:
    """A forecast as an archive keeps it, from its `rows` of the contract's ``forecast.csv``."""
    fit, whole = ahead.fit, ahead.contributions
    labels = {BASELINE: BASELINE, **dict(zip(whole.terms, whole.labels, strict=True))}
    shares = whole.table.assign(period=iso(whole.table["period"], fit), label=whole.table["term"].map(labels))
    return ArchivedForecast(
        fit.series_name,
        model,
        scenario,
        fit.label,
        fit.unit,
        fit.axis.frequency,
        str(rows["origin"].iloc[0]),
        made_at,
        version,
        rows[["period", "horizon", "forecast", *QUANTILES]].reset_index(drop=True),
        shares[["period", "term", "label", "contribution", "low", "high"]],
    )


def frequency_text(frequency: Frequency) -> str:
    """A frequency as one text."""
    return json.dumps(encoded(frequency), sort_keys=True)


def frequency_of(text: str) -> Frequency:
    """The frequency of a text that `frequency_text` has made.

    Raises
    ------
    InputError
        If it is none.
    """
    try:
        found: Frequency = decoded(Frequency, json.loads(text), "frequency")
    except ValueError as error:
        raise InputError("its frequency is not understood", "Was the archive written by Offing?") from error
    return found


def matching(listed: pd.DataFrame, keys: Mapping[str, Any]) -> pd.DataFrame:
    """The rows of a list of forecasts that have some keys; those that are None count for all."""
    for name, value in keys.items():
        if value is not None:
            listed = listed[listed[name] == value]
    return listed
