"""Forecasts from past origins as data: runs of models and of plain references, and rows of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, count
from offing.calendar import Frequency
from offing.evaluation.external_forecasts import ExternalForecast
from offing.evaluation.fold_results import Basis, Run
from offing.evaluation.origins import Cuts, Origins
from offing.evaluation.references import (
    by_shares,
    naive_runs,
    plain_run,
)
from offing.evaluation.refit import Job
from offing.evaluation.score_parts import PARTS
from offing.model import Model
from offing.model.rows import SHOWN
from offing.tables import Sources

BASES: tuple[Basis, ...] = ("ex-post", "ex-ante")


def rows_of(runs: Sequence[Run], probabilities: Sequence[float] = SHOWN) -> pd.DataFrame:
    """One row a forecast of some runs of one target."""
    frequency = runs[0].cuts.table.axis.frequency
    sizes = [run.mean.size for run in runs]
    starts = np.concatenate([run.cuts.table.axis.first + run.cuts.rows.ravel() for run in runs]).astype(np.int64)
    quantiles = np.concatenate([run.at(*probabilities).reshape(-1, len(probabilities)) for run in runs])
    words = {
        name: np.repeat(np.array([getattr(run, own) for run in runs], dtype=object), sizes)
        for name, own in (("series", "series"), ("model", "name"), ("basis", "basis"))
    }
    return pd.DataFrame(
        {
            **words,
            "origin": frequency.index(np.concatenate([run.cuts.moments.repeat(run.mean.shape[1]) for run in runs])),
            "period": frequency.index(frequency.starts(starts)),
            "horizon": np.concatenate([np.tile(run.cuts.horizons, len(run.mean)) for run in runs]),
            "target": np.concatenate([run.cuts.outcome.ravel() for run in runs]),
            "forecast": np.concatenate([run.mean.ravel() for run in runs]),
            **{f"q{round(p, 10):g}": quantiles[:, i] for i, p in enumerate(probabilities)},
        }
    )


def seasons_of(frequency: Frequency, ordinals: NDArray[np.int64]) -> np.ndarray:
    """The season (n,) of each period: the hour of an hour, the weekday of a day, the month of a week, else its name."""
    index, unit = frequency.index(frequency.starts(ordinals)), frequency.unit
    if unit == "hour":
        return np.asarray([f"{hour:02d}:00" for hour in index.hour])
    if frequency.per_day:
        return np.asarray([f"{day + 1} {name}" for day, name in zip(index.day_of_week, index.day_name(), strict=True)])
    if unit == "quarter":
        return np.asarray([f"Q{quarter}" for quarter in index.quarter])
    known = unit in ("week", "month")
    return np.asarray([f"{month:02d}" for month in index.month]) if known else np.full(len(ordinals), "")


def parts_of_runs(runs: Sequence[Run], backtest: PastForecasts) -> pd.DataFrame:
    """The parts of some runs, on every basis that each belongs to: one row a forecast whose outcome is known.

    All runs are one frame from the start: with many series a frame for each would take longer than the fits.
    """
    noted = [run for run in runs if not run.why]
    known = [np.isfinite(run.error).ravel() for run in noted]
    values: dict[str, list[np.ndarray]] = {
        name: [part(run).ravel()[mask] for run, mask in zip(noted, known, strict=True)] for name, part in PARTS.items()
    }
    places = [np.meshgrid(np.arange(len(run.mean)), run.cuts.horizons, indexing="ij") for run in noted]
    values["fold"] = [each[0].ravel()[mask] for each, mask in zip(places, known, strict=True)]
    values["horizon"] = [each[1].ravel()[mask] for each, mask in zip(places, known, strict=True)]
    values["row"] = [run.cuts.rows.ravel()[mask] for run, mask in zip(noted, known, strict=True)]
    pairs = [(i, basis) for i, run in enumerate(noted) for basis in filter(run.is_of, backtest.bases)]
    sizes = [int(known[i].sum()) for i, _ in pairs]
    frame = pd.DataFrame({name: np.concatenate([each[i] for i, _ in pairs]) for name, each in values.items()})
    frequency = backtest.cuts().table.axis.frequency
    firsts = np.repeat([noted[i].cuts.table.axis.first for i, _ in pairs], sizes)
    moments = np.concatenate([noted[i].cuts.moments[values["fold"][i]] for i, _ in pairs])
    frame["season"] = seasons_of(frequency, (firsts + frame["row"].to_numpy()).astype(np.int64))
    frame["origin"] = frequency.index(moments)
    words = {
        "basis": [basis for _, basis in pairs],
        "model": [noted[i].name for i, _ in pairs],
        "series": [noted[i].series for i, _ in pairs],
    }
    return frame.assign(**{name: np.repeat(np.array(each, dtype=object), sizes) for name, each in words.items()})


@dataclass(frozen=True)
class PastForecasts:
    """Forecasts from past origins of some models, with those of plain references, before they are scored.

    Attributes
    ----------
    models
        The models, in the order given.
    plan
        The origins that were asked for.
    own
        The runs of the models, and those of forecasts made elsewhere.
    jobs
        What each series' first model was fitted to.
    outside
        Forecasts made elsewhere.
    ids
        The columns that identifies the series.
    repeats
        Stated references by name: each repeats the value a number of periods before.
    left_out
        Why a series has no forecasts from past origins, by id.
    """

    models: tuple[Model, ...]
    plan: Origins
    own: tuple[Run, ...]
    jobs: Mapping[str, Job]
    external: tuple[ExternalForecast, ...] = ()
    ids: tuple[str, ...] = ()
    repeats: Mapping[str, int] = field(default_factory=dict)
    left_out: Mapping[str, InputError] = field(default_factory=dict)

    @property
    def bases(self) -> tuple[Basis, ...]:
        """``ex-post``, ``ex-ante`` or both."""
        held = {run.basis for run in self.own if run.kind == "model"}
        return tuple(basis for basis in BASES if basis in held)

    @property
    def series(self) -> tuple[str, ...]:
        """The ids of the series; an empty text where there is one only."""
        return tuple(self.jobs)

    def cuts(self, series: str = "") -> Cuts:
        """The origins of one series."""
        return self.jobs[series or next(iter(self.jobs))].cuts

    @cached_property
    def references(self) -> tuple[Run, ...]:
        """What plain references say from the same origins."""
        found = [run for series, job in self.jobs.items() for run in naive_runs(series, job.cuts, self.repeats)]
        found += [plain_run(job) for job in self.jobs.values()]
        return (*found, *(by_shares(self.jobs) if len(self.jobs) > 1 else ()))

    @property
    def runs(self) -> tuple[Run, ...]:
        """All runs: the models', those made elsewhere, and the references'."""
        return (*self.own, *self.references)

    def chosen(self, basis: Basis, series: str | None = None) -> list[Run]:
        """The runs on a basis: the models' own, and those to which it makes no difference."""
        own = [run for run in self.runs if run.is_of(basis)]
        return own if series is None else [run for run in own if run.series == series]

    @cached_property
    def parts(self) -> pd.DataFrame:
        """What all scores are made of: one row a forecast whose outcome is known, of every run and basis."""
        return parts_of_runs(self.runs, self)

    @property
    def label(self) -> str:
        """What people call the target."""
        first = next(iter(self.jobs.values()))
        return Sources(dict(first.tables)).label(first.model.target) or first.cuts.column

    @property
    def unit(self) -> str:
        """The target's unit, or an empty text."""
        first = next(iter(self.jobs.values()))
        return Sources(dict(first.tables)).unit(first.model.target)

    @cached_property
    def table(self) -> pd.DataFrame:
        """All forecasts of the models and of those made elsewhere, one row each.

        ``series, model, basis, origin, period, horizon, target, forecast`` and the quantiles ``q0.1, q0.5, q0.9``, as
        far as there are any.
        """
        return rows_of(self.own, (0.1, 0.5, 0.9))

    @property
    def remarks(self) -> tuple[str, ...]:
        """What to know of the scores: forecasts that are not among them, and what makes them too good."""
        return (*self._interrupted, *self._unscored, *self._selected)

    @property
    def _interrupted(self) -> tuple[str, ...]:
        """How many origins were finished before an interruption."""
        gone = max((run.unfinished for run in self.own), default=0)
        if not gone:
            return ()
        done = len(self.cuts().moments) - gone
        return (f"It was interrupted: forecasts of {done} of {done + gone} origins are there, and scored.",)

    @property
    def _unscored(self) -> tuple[str, ...]:
        """Forecasts that could not be made, as drivers have no actual value there."""
        found: dict[str, int] = {}
        for run in self.own:
            if run.kind == "model" and not run.why and not run.unfinished:
                gone = int((np.isnan(run.mean) & np.isfinite(run.cuts.outcome)).sum())
                found[run.name] = max(gone, found.get(run.name, 0))
        return tuple(
            f"{count(n, 'forecast')} of '{name}' could not be made, for want of drivers' actual values, and "
            f"{'is' if n == 1 else 'are'} not scored: fill them in, or state a treatment."
            for name, n in found.items()
            if n
        )

    @property
    def _selected(self) -> tuple[str, ...]:
        """Models whose drivers were selected on the outcomes that are forecast."""
        return tuple(
            f"Scores of '{model.name}' are too good: its drivers ({', '.join(model.chosen)}) were selected on data "
            "that include the outcomes forecast here. A model with driver_selection selects them at every origin."
            for model in self.models
            if model.chosen and model.driver_selection is None
        )
