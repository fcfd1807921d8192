"""What all forms of a forecast's formulas say of it, and how they name periods and columns."""

from __future__ import annotations

from collections.abc import Iterable

import pandas as pd

from offing.base.text import in_units
from offing.calendar import Axis
from offing.model.forecast import Forecast


def about(forecast: Forecast) -> str:
    """What is forecast, from when on, and by which model, in a sentence."""
    what = in_units(forecast.fit.label, forecast.fit.unit)
    return f"{what}: forecast of {forecast.axis.spell()}, by the model {forecast.fit.model.name}, {forecast.scenario}."


def period_texts(axis: Axis) -> list[str]:
    """The starts of periods in ISO 8601: days, or moments where periods are shorter; in UTC where there is a zone."""
    index = pd.DatetimeIndex(axis.index)
    if index.tz is not None and axis.frequency.unit == "hour":
        index = index.tz_convert("UTC").tz_localize(None)
    form = "%Y-%m-%d %H:%M:%S" if axis.frequency.unit == "hour" else "%Y-%m-%d"
    return [f"{each:{form}}" for each in index]


def short_names(columns: Iterable[str]) -> dict[str, str]:
    """The bare name of each ``source.column``, or the whole where several columns have one name."""
    listed = list(columns)
    bare = [column.partition(".")[2] or column for column in listed]
    return {column: short if bare.count(short) == 1 else column for column, short in zip(listed, bare, strict=True)}
