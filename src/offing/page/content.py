"""What a page says: its units, one a series and model, their chapters, and the numbers behind their charts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

from offing.base.arrays import Array
from offing.base.printing import printable
from offing.base.text import in_units
from offing.calendar import Axis
from offing.model.forecast import Forecast

#: Digits of numbers in charts: a reader sees three or four of them.
_DIGITS = 6
#: More periods of the history than these no chart shows: hours of two years.
_LONGEST = 20_000
#: Contributions are shown for this number of the newest periods of the history at most.
_APART = 2_500


@dataclass(frozen=True)
class Chapter:
    """A chapter of the page: sentences, further ones under headings, pictures (SVG) with words, and tables."""

    name: str
    title: str
    sentences: tuple[str, ...] = ()
    pictures: tuple[tuple[bytes, str], ...] = ()
    tables: tuple[tuple[str, pd.DataFrame], ...] = ()
    parts: tuple[tuple[str, tuple[str, ...]], ...] = ()


@dataclass(frozen=True)
class Unit:
    """One fit's part of the page.

    Attributes
    ----------
    name
        Its series and model, as people read them.
    forecasts
        Its forecasts by scenario, as planned first.
    lead
        The sentences of the first screen: the forecast, what drives it, how accurate it was.
    chapters
        What else there is to say.
    """

    name: str
    forecasts: Mapping[str, Forecast]
    lead: tuple[str, ...]
    chapters: tuple[Chapter, ...]

    @property
    def planned(self) -> Forecast:
        """The forecast as planned."""
        return next(iter(self.forecasts.values()))

    def numbers(self) -> dict[str, Any]:
        """The numbers behind its charts, as JSON takes them."""
        ahead = self.planned
        fit, unit = ahead.fit, ahead.axis.frequency.unit
        start = max(fit.axis.n - _LONGEST, 0)
        past = fit.axis.part(start, fit.axis.n)
        apart = fit.axis.part(max(fit.axis.n - _APART, 0), fit.axis.n)
        found = fit.contributions
        at = slice(apart.first - fit.axis.first, None)
        return {
            "name": self.name,
            "target": printable(in_units(fit.label, fit.unit)),
            "period": unit,
            "season": season_of(ahead.axis),
            "width": _milliseconds(ahead.axis)[1],
            "digits": digits_of(np.concatenate([fit.target[start:], ahead.mean])),
            "past": {
                "t": _milliseconds(past)[0],
                "label": past.labels(),
                "value": numbers(fit.target[start:]),
                "fitted": numbers(np.asarray(fit.means)[start:]),
                "from": apart.first - past.first,
                "rows": {row: numbers(values[at]) for row, values in zip(found.rows, found.values, strict=True)},
            },
            "labels": {name: printable(label) for name, label in self._labels().items()},
            "scenarios": [self._scenario(name, each) for name, each in self.forecasts.items()],
        }

    def _labels(self) -> dict[str, str]:
        found = [self.planned.fit.contributions, self.planned.contributions]
        return {term: label for each in found for term, label in zip(each.terms, each.labels, strict=True)}

    def _scenario(self, name: str, ahead: Forecast) -> dict[str, Any]:
        table, found = ahead.table, ahead.contributions
        quantiles = [str(each) for each in table.columns if str(each).startswith("q")]
        return {
            "name": name,
            "t": _milliseconds(ahead.axis)[0],
            "label": ahead.axis.labels(),
            "mean": numbers(ahead.mean),
            "quantiles": {each: numbers(table[each].to_numpy()) for each in quantiles},
            "rows": {row: numbers(values) for row, values in zip(found.rows, found.values, strict=True)},
        }

    @property
    def terms(self) -> list[str]:
        """The rows of contributions in the order of their colours."""
        found = list(self.planned.fit.contributions.rows[1:])
        return found + [row for row in self.planned.contributions.rows[1:] if row not in found]


@dataclass(frozen=True)
class Overview:
    """A line for each unit, where there are several: a name, and numbers under heads."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]


@dataclass(frozen=True)
class Page:
    """The whole page."""

    title: str
    made: str
    units: Sequence[Unit]
    overview: Overview | None = None
    study: str = ""
    notes: tuple[str, ...] = field(default=())


def season_of(axis: Axis) -> int:
    """How many periods a reader takes for one season: a week of hours, a year of anything longer."""
    return 168 if axis.frequency.unit == "hour" else round(axis.frequency.periods_a_year)


def digits_of(values: Array) -> int:
    """How many decimals numbers of this size are shown with."""
    known = np.abs(values[np.isfinite(values) & (values != 0.0)])
    size = float(np.median(known)) if len(known) else 1.0
    return int(np.clip(3 - np.floor(np.log10(size)), 0, 8))


def numbers(values: Array) -> list[float | None]:
    """Numbers with as many digits as a chart shows; none where one is not known."""
    whole = np.asarray(values, dtype=np.float64)
    plain = np.isfinite(whole) & (whole != 0.0)
    scale = np.ones(len(whole))
    scale[plain] = 10.0 ** (_DIGITS - 1 - np.floor(np.log10(np.abs(whole[plain]))))
    return [None if not np.isfinite(each) else each for each in (np.round(whole * scale) / scale).tolist()]


def _milliseconds(axis: Axis) -> tuple[list[float], float]:
    """Starts of periods as charts count time, on the series' own clock, and how long a period usually is."""
    stamps = pd.DatetimeIndex(axis.index)
    plain = stamps.tz_localize(None) if stamps.tz is not None else stamps
    starts = plain.as_unit("ms").astype("int64").to_numpy()
    lengths = np.diff(axis.starts) / 1000.0
    return starts.tolist(), float(np.median(lengths)) if len(lengths) else float(axis.ends[0] - axis.starts[0]) / 1000.0
