"""The tables of a study that judge and choose models, and what may stand in them."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any, Literal

from pydantic import Field

import offing.explain  # noqa: F401  its entries have options, and figures that a study may name
from offing.calendar.frequency import Unit
from offing.evaluation import DriverSelection, candidates
from offing.study.schema_parts import Part, Text


class CombinationSpec(Part):
    """The table ``[combination]``: the study's models together, or those with a stated weight."""

    weights: dict[str, Annotated[float, Field(ge=0.0)]] = {}
    method: Literal["mean", "median", "trimmed mean", "past errors", "least squares"] = "mean"
    pooling: Literal["quantiles", "probabilities"] = "quantiles"
    unreleased: Annotated[list[Literal["expected", "shifted"]], Field(min_length=1)] = ["expected"]
    origins: Annotated[int, Field(ge=2, le=1000)] = 12


class ExternalSpec(Part):
    """An entry ``[[backtest.external]]``: a forecast made elsewhere, as a CSV of origins, periods and forecasts."""

    name: Text
    file: Text
    role: Literal["candidate", "reference"] = "candidate"


class BacktestSpec(Part):
    """The table ``[backtest]``: forecasts from past origins."""

    horizon: Annotated[int, Field(ge=1)] | None = None
    origins: Annotated[int, Field(ge=1)] | list[str | date] | None = None
    first_origin: str | date | None = None
    every: Annotated[int, Field(ge=1)] | None = None
    gap: Annotated[int, Field(ge=0)] = 0
    window: Annotated[int, Field(ge=3)] | None = None
    basis: Literal["ex-post", "ex-ante"] | None = None
    planned: list[str] = []
    score: str = "RMSE"
    sums: list[Unit] = []
    weights: dict[str, Annotated[float, Field(ge=0.0)]] = {}
    combinations: list[Literal["mean", "median", "trimmed mean", "past errors", "least squares"]] = []
    external: list[ExternalSpec] = []
    repeats: dict[str, Annotated[int, Field(ge=1)]] = {}
    without: bool = False


class SearchSpec(Part):
    """The table ``[search]``: what may be chosen, and how."""

    model: str | None = None
    choices: dict[str, list[Any]] = {}
    optional: list[str] = []
    method: Literal["grid", "random", "narrowing"] = "grid"
    tries: Annotated[int, Field(ge=1)] | None = None
    seed: Annotated[int, Field(ge=0)] = 0
    budget: str | float | None = None
    score: str = "RMSE"
    held_back: Annotated[int, Field(ge=1)] | None = None
    origins: Annotated[int, Field(ge=1)] | None = None
    every: Annotated[int, Field(ge=1)] | None = None
    basis: Literal["ex-post", "ex-ante"] | None = None


class DriverSelectionSpec(Part):
    """The table ``[driver_selection]``: many drivers to choose from beside the model's terms."""

    columns: Annotated[list[str], Field(min_length=1)]
    lags: Annotated[list[int], Field(min_length=1)] = [0]
    transforms: Annotated[list[list[str | dict[str, Any]]], Field(min_length=1)] = [[]]
    together: bool = False
    method: Literal["forward", "path", "subsets"] = "forward"
    mix: float = 1.0
    most: int = 10
    origins: int = 8

    @property
    def selection(self) -> DriverSelection:
        """The selection that it describes.

        Raises
        ------
        InputError
            For what cannot be selected from.
        """
        offered = candidates(self.columns, self.lags, self.transforms, together=self.together)
        return DriverSelection(offered, self.method, self.mix, self.most, self.origins)
