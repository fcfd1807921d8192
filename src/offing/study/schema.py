"""What a study file may hold. The fields of terms are those of the terms themselves."""

from __future__ import annotations

from dataclasses import dataclass, fields
from datetime import date
from functools import cache
from inspect import Parameter, signature
from pathlib import Path
from typing import Annotated, Any, Literal, get_type_hints

from pydantic import ConfigDict, Field, create_model

import offing.explain  # noqa: F401  its entries have options, and figures that a study may name
from offing.base.results import ENTRIES
from offing.calendar.frequency import Unit
from offing.study.judged_schema import BacktestSpec, CombinationSpec, DriverSelectionSpec, SearchSpec
from offing.study.schema_parts import Part, Share, Text
from offing.tables.read_options import Reading


@dataclass(frozen=True)
class SourceSpec(Reading):
    """A table ``[sources.NAME]``: a file or another place, and the parameters of `offing.read`."""

    __pydantic_config__ = ConfigDict(extra="forbid", strict=True, arbitrary_types_allowed=True)

    file: Text | None = None
    plan_for: Text | None = None

    def read_options(self) -> dict[str, Any]:
        """Keyword arguments for `offing.read`, where they are not the usual ones."""
        return {
            each.name: getattr(self, each.name)
            for each in fields(Reading)
            if getattr(self, each.name) != getattr(_USUAL, each.name)
        }

    def saved_options(self) -> dict[str, Any]:
        """The parameters of `offing.read` as a study would write them."""
        return {
            key: str(value) if isinstance(value, (date, Path)) else value for key, value in self.read_options().items()
        }

    def saved(self) -> dict[str, Any]:
        """What may be saved of it: neither an address, which may hold secrets, nor a query nor its parameters."""
        stated = {"file": self.file, "plan_for": self.plan_for}
        return {
            key: value
            for key, value in {**stated, **self.saved_options()}.items()
            if value is not None and key not in SECRET
        }


_USUAL = Reading()
#: Parameters that may hold a password.
SECRET = ("database", "query", "parameters", "url", "service")


class ColumnSpec(Part):
    """A column whose or whose source's name holds a dot."""

    source: Text
    column: Text


class TargetSpec(Part):
    """The table ``[target]``."""

    data: Text | ColumnSpec
    scale: Literal["level", "log"] = "level"
    offset: float = 0.0
    lower_limit: float | None = None
    upper_limit: float | None = None
    transform: list[str | dict[str, Any]] = []


class ModelSpec(Part):
    """A table ``[models.NAME]``: some of the terms, by name, or terms of its own as tables in their place.

    What it says of the scale or the estimation counts for this model instead of what the study says. One that is not
    `reported` serves in comparisons and in the combination alone.
    """

    terms: list[str | dict[str, Any]]
    driver_selection: bool = False
    scale: Literal["level", "log"] | None = None
    offset: float | None = None
    transform: list[str | dict[str, Any]] | None = None
    errors: Literal["independent", "ar"] | None = None
    order: int | Literal["chosen"] | None = None
    seasonal_lag: int | None = None
    loss: Literal["squares", "huber", "tukey"] | None = None
    half_life: float | None = None
    window: int | None = None
    widen_intervals: float | None = None
    reported: bool = True

    @property
    def own(self) -> dict[str, Any]:
        """What it says for itself, as fields of a model."""
        said = self.model_dump(exclude={"terms", "driver_selection", "reported"}, exclude_none=True)
        return dict(said)


class EstimationSpec(Part):
    """The table ``[estimation]``."""

    errors: Literal["independent", "ar"] | None = None
    order: int | Literal["chosen"] = 1
    seasonal_lag: int | None = None
    loss: Literal["squares", "huber", "tukey"] = "squares"
    half_life: float | None = None
    window: int | None = None
    chosen: list[str] = []
    covariance: Literal["classical", "hc0", "hc1", "hc2", "hc3", "newey-west", "clustered"] = "classical"
    clusters: Literal["year", "quarter", "month", "week"] | None = None
    widen_intervals: float = 1.0


class ForecastSpec(Part):
    """The table ``[forecast]``."""

    horizon: Annotated[int, Field(ge=1)] | None = None
    until: str | date | None = None
    levels: Annotated[list[Share], Field(min_length=1)] = [0.5, 0.8, 0.95]
    method: Literal["recursion", "direct"] = "recursion"
    unreleased: Literal["expected", "shifted"] = "expected"
    missing_plans: Literal["refuse", "expected"] = "refuse"
    intervals: Literal["model", "conformal", "adaptive"] = "model"
    as_of: str | date | None = None
    dates: list[str | date] = []
    sums: list[Unit] | None = None
    averages: list[Unit] = []
    unknown_drivers_cost: bool = False


class TotalSpec(Part):
    """A table ``[[totals]]``: numbers by the year, quarter or month that they are stated for."""

    type: Literal["allocate", "reconcile"]
    total: dict[str, float] | None = None
    average: dict[str, float] | None = None
    method: Literal["proportional", "least change"] | None = None

    @property
    def stated(self) -> dict[str, float]:
        """The numbers, of whichever kind."""
        return self.total or self.average or {}


class ScenarioSpec(Part):
    """A table ``[scenarios.NAME]``: rules for drivers, by their names, on top of those of a base."""

    base: Text | None = None
    drivers: dict[str, Any] = {}
    note: str = ""


class WalkSpec(Part):
    """An entry ``[[walks]]``: from what to the forecast, or to that of a scenario."""

    against: Text | list[str | date] | dict[str, float] | None = None
    scenario: Text | None = None
    by: Unit | Literal["period"] | None = None
    span: Text | list[str | date] | None = None


def figures() -> list[str]:
    """Figures that a study may ask for by name; those of a model, a term or one of several carry more after a dash."""
    return sorted(each.kind for each in ENTRIES.values() if each.figure_for)


class LikeSpec(Part):
    """The table ``[output.like]``: a sample of what somebody asks for, and what its columns are."""

    file: Text
    series: Text | None = None
    period: Text | None = None
    forecast: Text | None = None
    filler: int | float | str | None = None


class OutputSpec(Part):
    """The table ``[output]``: what is written, how, and where."""

    figures: Literal["all", "none"] | list[Text] | None = None
    format: Literal["csv", "parquet"] = "csv"
    shape: Literal["long", "wide"] = "long"
    columns: Literal["horizon", "date"] = "horizon"
    like: Text | LikeSpec | None = None
    database: Text | None = None
    table: Text = "offing"
    export: list[Literal["page", "workbook", "sql", "python", "cell", "bundle"]] = []


class ArchiveSpec(Part):
    """The table ``[archive]``: where every forecast is kept, a file or a database."""

    file: Text | None = None
    database: Text | None = None


class MonitorSpec(Part):
    """The table ``[monitor]``: from when on the model is watched."""

    since: str | date | None = None


class StudySpec(Part):
    """The whole file. Terms are checked one by one, by the kind that each names."""

    format: Literal[1]
    title: str = ""
    sources: Annotated[dict[str, SourceSpec], Field(min_length=1)]
    target: TargetSpec
    terms: list[dict[str, Any]] = []
    treatments: list[dict[str, Any]] = []
    models: dict[str, ModelSpec] = {}
    estimation: EstimationSpec = EstimationSpec()
    forecast: ForecastSpec = ForecastSpec()
    totals: list[TotalSpec] = []
    scenarios: dict[str, ScenarioSpec] = {}
    groups: dict[str, list[str]] = {}
    walks: list[WalkSpec] = []
    changes: dict[str, Any] | None = None
    driver_selection: DriverSelectionSpec | None = None
    combination: CombinationSpec | None = None
    backtest: BacktestSpec = BacktestSpec()
    search: SearchSpec | None = None
    archive: ArchiveSpec | None = None
    monitor: MonitorSpec = MonitorSpec()
    output: OutputSpec = OutputSpec()


@cache
def options_of(kind: str) -> type[Part]:
    """The table in which a study states what a kind of result is asked for, from its function's arguments."""
    entry = ENTRIES[kind]
    function = entry.options
    if function is None:
        raise TypeError(f"the entry {kind!r} has no options")
    hints = get_type_hints(function)
    stated = list(signature(function).parameters.values())
    if entry.requests:
        stated = stated if isinstance(function, type) else stated[1:]
    else:
        stated = [each for each in stated if each.kind is Parameter.KEYWORD_ONLY]
    fields: dict[str, Any] = {
        each.name: (hints[each.name], ... if each.default is Parameter.empty else each.default) for each in stated
    }
    return create_model(f"{entry.key} options", __base__=Part, **fields)


def whole() -> type[StudySpec]:
    """The whole file, with the tables of all kinds of results that have options."""
    fields: dict[str, Any] = {}
    for kind, entry in ENTRIES.items():
        if entry.options is not None:
            own = options_of(kind)
            fields[entry.key] = (list[own], []) if entry.requests else (own, own())  # type: ignore[valid-type]
    return create_model("StudySpec", __base__=StudySpec, **fields)
