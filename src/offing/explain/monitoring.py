"""Whether a model still holds: how good its forecasts were, and whether level, effects or spread have changed since."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Literal

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from offing.base import InputError, count
from offing.base.arrays import Array
from offing.base.results import Entry, Result, alone, register
from offing.base.text import number, signed, text_table
from offing.calendar import Axis
from offing.engine.change_detection import Bounds, Scan, bounds, recursive_residuals, scan_spread, scan_sums
from offing.engine.t_distribution import quantile
from offing.evaluation import ExternalForecast
from offing.explain.monitoring_scores import COLUMNS, INTERVALS, forecast_errors, scored
from offing.explain.why.walk import Walk
from offing.explain.why.walk_builder import walk
from offing.model import Fit, Forecast
from offing.model.fit import Data, public
from offing.model.fitted import Fitted
from offing.model.renew import NewerRows, joined_tables, newer_rows
from offing.model.rows import keyed

if TYPE_CHECKING:
    from offing.archiving.archive import Archive

Verdict = Literal["keep", "update", "rethink"]
Change = Literal["level", "coefficient", "spread"]
#: Exit status of the command, for schedulers.
STATUS: dict[str, int] = {"keep": 0, "update": 3, "rethink": 4}
#: Periods over which a false alarm has a chance of 5 %: a year of weeks, two years of months, and the like.
_WATCHED = {"hour": 336, "day": 182, "business day": 130, "week": 52, "month": 24, "quarter": 12, "year": 10}
#: Of more new periods the newest are watched: the oldest are no news.
_MOST = 400
#: Coefficients that are watched: with more each one's bound is so far that none would pass it.
_COEFFICIENTS = 12
#: Beside a wider spread sums are soon large as well: a step or an effect is one if it explains this much more, in twice
#: the log-likelihood, of at least four errors. Nine is three standard deviations, as the stretch was picked.
_CLEAR, _FEWEST = 9.0, 4


@dataclass(frozen=True)
class Alarm:
    """What has changed: the ``level``, the ``spread`` of the noise, or a ``coefficient`` of a `name`.

    `since` is where the most striking stretch begins and `found` where it passed its bound; `size` is a step on the
    fitted scale, a coefficient's change, or the spread as a multiple of what it was. `gain` says how much of the errors
    since then it explains, in twice the log-likelihood.
    """

    kind: Change
    name: str
    since: str
    found: str
    size: float
    gain: float


@dataclass(frozen=True)
class Monitoring(Result, figure="monitoring.draw_monitoring"):
    """Whether a model still holds as actual values come. Made by `offing.monitor`.

    Attributes
    ----------
    fit
        The fit that is watched, with its old coefficients on all rows.
    axis
        The first and the last period that came after the fit, and those between.
    places
        Which of them (m,) have a value, by their ordinals.
    residuals
        What each of these differs (m,) from what was expected just before, in standard deviations.
    ratios
        The statistics of level, coefficients and spread (m,) over their bounds, by name: above 1 is an alarm.
    alarms
        What has changed, what explains most first.
    errors
        One row a forecast of a period whose outcome is known: ``by, origin, period, horizon, actual, forecast`` and
        the ends of the intervals.
    drivers
        The walk from a forecast to what came, if one was given.
    """

    fit: Fitted
    axis: Axis
    places: NDArray[np.int64]
    residuals: Array
    ratios: dict[str, Array]
    alarms: tuple[Alarm, ...]
    errors: pd.DataFrame
    drivers: Walk | None

    @property
    def verdict(self) -> Verdict:
        """``keep``; ``update`` where an effect or the spread has changed; ``rethink`` where the level has.

        A change of one kind moves the other statistics as well: the one that explains most counts.
        """
        if not self.alarms:
            return "keep"
        return "rethink" if self.alarms[0].kind == "level" else "update"

    @property
    def sentence(self) -> str:
        """The verdict and its reason."""
        if self.alarms:
            return f"{self.verdict.capitalize()}: {self._reason(self.alarms[0])}"
        m, unit = len(self.residuals), self.axis.frequency.unit
        since = f"in {count(m, unit)} since {self.axis.labels()[0]}"
        return f"Keep: {since} values of {self.fit.label} came as the model expects."

    @property
    def sentences(self) -> str:
        """The verdict, further reasons, how large the errors are, how good the forecasts were, and what drivers did."""
        lines = [self.sentence, *(self._reason(each, capital=True) for each in self.alarms[1:]), self._drift()]
        lines += self._archived()
        if self.drivers is not None:
            steps = [step for step in self.drivers.whole.moved if step.phase.startswith("drivers")]
            if steps:
                total = sum(float(step.amount[0]) for step in steps)
                amount = f"{signed(total)} {self.fit.sum_unit}".rstrip()
                lines.append(f"Drivers turned out other than the forecast assumed, which moved its total by {amount}.")
            lines += [self.drivers.said(step) for step in steps[:3]]
        return "\n".join(lines)

    def _reason(self, alarm: Alarm, *, capital: bool = False) -> str:
        fit, unit = self.fit, self.axis.frequency.unit
        if alarm.kind == "level":
            size = f"{number(abs(alarm.size))} {fit.unit}".rstrip()
            if fit.scale.log:
                size = f"{number(abs(100.0 * float(np.expm1(alarm.size))), 2)} %"
            side = "above" if alarm.size > 0.0 else "below"
            text = (
                f"since {alarm.since} values of {fit.label} are {size} {side} what the model expects, found in the "
                f"{unit} of {alarm.found}. Look for an event, and state a step or another trend."
            )
        elif alarm.kind == "coefficient":
            before = float(fit.estimate.beta[fit.layout.names.index(alarm.name)])
            text = (
                f"since {alarm.since} the effect of '{alarm.name}' is {number(before + alarm.size)} instead of "
                f"{number(before)}, found in the {unit} of {alarm.found}. Fit the newer rows as well; with window or "
                "half_life older ones count less."
            )
        else:
            text = (
                f"since {alarm.since} errors are {number(alarm.size, 2)} times as large as the model states, found in "
                f"the {unit} of {alarm.found}. Fit the newer rows as well, so that intervals hold."
            )
        return text[0].upper() + text[1:] if capital else text

    def _drift(self) -> str:
        """Mean and spread of the errors, with their intervals."""
        w, m = self.residuals, len(self.residuals)
        if m < 2:
            return "One value is too few to say anything of the errors."
        half = float(quantile(0.975, self.fit.estimate.dof)) / np.sqrt(m)
        mean, spread = float(w.mean()), float(np.sqrt(np.square(w).mean()))
        return (
            f"Errors one {self.axis.frequency.unit} ahead, in standard deviations: {signed(mean, 2)} on average "
            f"(95 % between {signed(mean - half, 2)} and {signed(mean + half, 2)}), spread {number(spread, 2)}."
        )

    def _archived(self) -> list[str]:
        """How good the archived forecasts were, beside references and beside what their intervals state."""
        whole = self.table[self.table["horizon"] == "all"].set_index("by")
        own = [name for name in whole.index if not name.startswith("reference: ")]
        lines = []
        for name in own:
            row = whole.loc[name]
            inside = ""
            if row["inside80"] == row["inside80"]:
                inside = (
                    f"; {100 * row['inside80']:.0f} % lie in 80 % intervals (exact limits {100 * row['low80']:.0f} to "
                    f"{100 * row['high80']:.0f} %)"
                )
            forecasts = count(int(row["forecasts"]), "forecast")
            lines.append(f"{name}: mean absolute error {number(row['MAE'])} in {forecasts}{inside}.")
        others = whole.index.difference(own)
        rivals = [f"{name.removeprefix('reference: ')} {number(whole.loc[name, 'MAE'])}" for name in others]
        return [*lines, *([f"Plain references: {', '.join(rivals)}."] if rivals else [])]

    @cached_property
    def table(self) -> pd.DataFrame:
        """One row a forecaster and horizon, and one of all: errors, and shares inside of intervals with exact limits.

        ``by, horizon, forecasts, MAE, RMSE, bias, inside50, inside80, low80, high80, inside95, low95, high95``; bias is
        the mean of outcome less forecast. Outcomes of one period count once for each origin that forecast it.
        """
        rows = []
        for by, own in self.errors.groupby("by", sort=False):
            rows.append(scored(str(by), "all", own))
            rows += [scored(str(by), str(horizon), part) for horizon, part in own.groupby("horizon")]
        return pd.DataFrame(rows, columns=COLUMNS)

    def text_table(self) -> str:
        """The scores of all horizons together, to read."""
        whole = self.table[self.table["horizon"] == "all"]
        if not len(whole):
            return "There is no archived forecast whose outcome is known."
        shares = [[f"{100 * v:.0f} %" if v == v else "" for v in whole[f"inside{level}"]] for level in INTERVALS]  # noqa: PLR0124
        numbers = [[number(v) for v in whole[name]] for name in ("MAE", "RMSE", "bias")]
        head = ["by", "forecasts", "MAE", "RMSE", "bias", *(f"in {level} %" for level in INTERVALS)]
        return text_table(head, [whole["by"].tolist(), [str(n) for n in whole["forecasts"]], *numbers, *shares])


def monitor(
    fit: Fit,
    data: Data,
    *,
    archive: Archive | None = None,
    external: Sequence[ExternalForecast] = (),
    forecast: Forecast | None = None,
) -> Monitoring:
    """Whether a fit still holds on the rows that have come since: keep it, update it, or rethink the model.

    Each new row is compared with what the fit and the rows before it lead to expect: recursive residuals (Brown, Durbin
    & Evans 1975), which are independent and alike as long as nothing has changed. At every period all stretches that
    end there are looked at for a step of the level (Siegmund & Venkatraman 1995), a change of a driver's coefficient,
    and another spread. The bounds come from simulations, so that over a year of weeks or two years of months a false
    alarm of any kind has a chance of at most 5 %.

    Parameters
    ----------
    fit
        The fit as it was made, a saved one say.
    data
        Newer rows, or all rows again, as for `Fit.apply`.
    archive
        Forecasts whose outcomes are known by now are scored, by horizon, beside plain references made from the same
        origins, and beside what their intervals state.
    external
        Forecasts made elsewhere, scored in the same table.
    forecast
        An earlier forecast of the fit: the walk from it to what came says which drivers came otherwise.

    Raises
    ------
    InputError
        If no new row has come, or as `Fit.update`.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2020-01", periods=60, freq="M")
    >>> sold = pd.Series(100.0 + np.random.default_rng(1).normal(size=60), months, name="sold")
    >>> fit = of.Model("sold").fit(sold[:48])
    >>> of.monitor(fit, sold).verdict, of.monitor(fit, sold + 4.0 * (months >= "2024-06")).verdict
    ('keep', 'rethink')
    """
    return monitored(fit, newer_rows(fit, joined_tables(fit, data)), archive, external, forecast)


def monitored(
    fit: Fitted,
    found: NewerRows,
    archive: Archive | None = None,
    external: Sequence[ExternalForecast] = (),
    forecast: Forecast | None = None,
) -> Monitoring:
    """The same from the new rows by themselves."""
    if not len(found.rows):
        raise InputError(
            f"no value of the target has come after {fit.axis.labels()[-1]}",
            "Monitor again when there is one.",
            key="data",
        )
    newer, stream = found.fit, _Stream.of(fit, found)
    first, last = int(stream.places[0]), int(stream.places[-1])
    return Monitoring(
        newer,
        Axis(newer.axis.frequency, first, last - first + 1),
        stream.places,
        stream.residuals,
        stream.ratios,
        tuple(sorted(stream.alarms(), key=lambda each: -each.gain)),
        forecast_errors(newer, archive, external),
        None if forecast is None else walk(public(newer), forecast),
    )


@dataclass(frozen=True)
class _Stream:
    """The new rows (m, k + 1), what they differ from expectation, and the scans of these with their bounds."""

    fit: Fitted
    places: NDArray[np.int64]
    residuals: Array
    errors: Array
    columns: dict[str, Array]
    level: Scan
    effects: dict[str, Scan]
    spread: Scan
    limit: Bounds

    @classmethod
    def of(cls, fit: Fitted, found: NewerRows) -> _Stream:
        """The newest rows that came after a fit."""
        newer, estimate = found.fit, fit.estimate.moved(-found.towards)
        residuals = recursive_residuals(estimate, found.rows)[-_MOST:]
        rows, places = found.rows[-_MOST:], newer.axis.ordinals[found.places][-_MOST:]
        columns = {name: rows[:, newer.layout.names.index(name)] for name in _watched(newer)}
        noise = np.zeros(1) if fit.dynamics is None else np.nan_to_num(fit.dynamics.errors)
        watched = max(_WATCHED[newer.axis.frequency.unit], len(residuals))
        doubt = round(float(np.sqrt(np.square(noise).sum())), 3)
        return cls(
            newer,
            places,
            residuals,
            # A change is measured by errors of the old coefficients: recursive ones soon learn a part of it.
            (rows[:, -1] - rows[:, :-1] @ estimate.beta) / np.sqrt(estimate.variance),
            columns,
            scan_sums(residuals),
            {name: scan_sums(residuals, column) for name, column in columns.items()},
            scan_spread(residuals),
            bounds(watched, float(round(estimate.dof)), len(columns), doubt),
        )

    @property
    def ratios(self) -> dict[str, Array]:
        """The statistics (m,) over their bounds."""
        largest = np.max([np.zeros(len(self.residuals)), *(each.statistic for each in self.effects.values())], axis=0)
        return {
            "level": self.level.statistic / self.limit.level,
            "effects": largest / self.limit.coefficient,
            "spread": self.spread.statistic / self.limit.spread,
        }

    def alarms(self) -> Iterator[Alarm]:
        """What has changed."""
        if (stretch := self.level.alarm(self.limit.level)) is not None:
            yield self._alarm("level", "", stretch, _whitened_step(self.fit, len(self.errors) - stretch[0]))
        for name, scan in self.effects.items():
            if (stretch := scan.alarm(self.limit.coefficient)) is not None:
                column = self.columns[name][stretch[0] :]
                yield self._alarm("coefficient", name, stretch, column - column.mean())
        if (stretch := self.spread.alarm(self.limit.spread)) is not None:
            since = self.residuals[stretch[0] :]
            size = float(np.std(since, ddof=1)) if len(since) > 1 else 1.0
            yield Alarm("spread", "", self._label(stretch[0]), self._label(stretch[1]), size, _CLEAR)

    def _alarm(
        self, kind: Literal["level", "coefficient"], name: str, stretch: tuple[int, int], column: Array
    ) -> Alarm:
        """An alarm with the size of the change, from what `column` explains of the errors since it began."""
        errors = self.errors[stretch[0] :]
        size = float(column @ errors) / max(float(column @ column), 1e-300)
        labels = self._label(stretch[0]), self._label(stretch[1])
        sd = float(np.sqrt(self.fit.estimate.variance))
        return Alarm(kind, name, *labels, size * sd, _gain(errors, size * column))

    def _label(self, place: int) -> str:
        return Axis(self.fit.axis.frequency, int(self.places[place]), 1).labels()[0]


def _gain(errors: Array, explained: Array) -> float:
    """Twice the gain of log-likelihood that a change explains of the errors since then, their spread being free."""
    if len(errors) < _FEWEST:
        return 0.0
    before, after = float(np.square(errors).mean()), float(np.square(errors - explained).mean())
    return len(errors) * float(np.log(max(before, 1e-300) / max(after, 1e-300)))


def _whitened_step(fit: Fitted, n: int) -> Array:
    """What a step of 1 is (n,) in errors one period ahead: where noise carries on, a part of it is soon expected."""
    expected = np.cumsum(fit.lingering[:n])
    step = np.ones(n)
    step[1:] -= np.concatenate([expected, np.full(n, expected[-1] if len(expected) else 0.0)])[: n - 1]
    return step


def _watched(fit: Fitted) -> list[str]:
    """The coefficients of drivers that are watched."""
    drivers = {str(term.name) for term in fit.model.drivers}
    return [
        name
        for name, owner, kept, shape in zip(
            fit.layout.names, fit.layout.owners, fit.estimate.kept, fit.estimate.shapes, strict=True
        )
        if owner in drivers and kept and not shape and not name.endswith(", before the data")
    ][:_COEFFICIENTS]


def monitoring_rows(found: Monitoring, fit: Fitted) -> pd.DataFrame:
    """Rows of ``monitoring.csv``: one a forecaster and horizon."""
    return keyed(found.table, fit, "")


def watched_rows(found: Monitoring, fit: Fitted) -> pd.DataFrame:
    """Rows of ``watched.csv``: one a new period, its error and the statistics over their bounds."""
    labels = [Axis(found.axis.frequency, int(each), 1).labels()[0] for each in found.places]
    rows = pd.DataFrame({"period": labels, "error": found.residuals, **found.ratios})
    return keyed(rows, fit, "")


register(
    Entry(
        "monitoring",
        title="Whether the model still holds",
        of=lambda study, name: alone(study.monitoring.get(name)),
        text={"monitor": str},
        figure_for=["monitor"],
        files={"monitoring": monitoring_rows, "watched": watched_rows},
        files_for=["monitor"],
    )
)
