"""Fits and forecasts as rows of the files of the contract, the key columns first."""

from __future__ import annotations

from collections.abc import Iterable

import pandas as pd

from offing.base import Treatment
from offing.base.results import AHEAD, SHOWING, Entry, alone, register, sentence_of
from offing.base.text import serious_first, wrapped
from offing.calendar.iso import iso_words
from offing.model import Contributions, Forecast
from offing.model.driver_effects import effects
from offing.model.elasticities import elasticities
from offing.model.fitted import Fitted
from offing.model.forecast import AS_PLANNED

#: Probabilities of the quantiles in the files of the contract.
SHOWN = (0.025, 0.1, 0.25, 0.5, 0.75, 0.9, 0.975)


_TREATMENT = ["source", "column", "period", "before", "after", "reason"]


def coefficient_rows(fit: Fitted) -> pd.DataFrame:
    """Rows of ``coefficients.csv``."""
    return keyed(fit.coefficients, fit, "")


def fitted_rows(fit: Fitted) -> pd.DataFrame:
    """Rows of ``fitted.csv``."""
    return keyed(stamped(fit.fitted, fit), fit, "")


def forecast_rows(forecast: Forecast) -> pd.DataFrame:
    """Rows of ``forecast.csv``: origin, period, horizon, forecast and the contract's quantiles."""
    table = forecast.table[["horizon", "forecast"]].join(forecast.quantiles(SHOWN))
    # Quantiles that the user asked for beside those of the contract come after them.
    table = table.join(forecast.table[[name for name in forecast.table.columns if name not in table.columns]])
    rows = stamped(table, forecast.fit)
    rows.insert(0, "origin", iso([forecast.origin], forecast.fit)[0])
    return keyed(rows, forecast.fit, forecast.scenario)


def contribution_rows(
    contributions: Contributions, fit: Fitted, *, of_forecast: bool, scenario: str = AS_PLANNED
) -> pd.DataFrame:
    """Rows of ``contributions.csv``; periods whose drivers are unknown have none."""
    rows = contributions.table.dropna(subset="contribution")
    rows = rows.assign(period=iso(rows["period"], fit))
    return keyed(rows, fit, scenario if of_forecast else "")


def treatment_rows(fit: Fitted) -> pd.DataFrame:
    """Rows of ``treatments.csv``."""
    rows = pd.DataFrame([_treated(entry) for entry in fit.treatments], columns=_TREATMENT)
    return keyed(rows, fit, "")


def _treated(entry: Treatment) -> list[str]:
    return [getattr(entry, name) for name in _TREATMENT]


def stamped(table: pd.DataFrame, fit: Fitted) -> pd.DataFrame:
    """The index of period starts as a first column ``period`` of ISO 8601 text."""
    rows = table.reset_index(drop=True)
    rows.insert(0, "period", iso(table.index, fit))
    return rows


def iso(stamps: Iterable[pd.Timestamp], fit: Fitted) -> list[str]:
    """Starts of periods: dates where the clock says nothing more, else with the time and the zone's offset."""
    frequency = fit.axis.frequency
    # Rows of several terms repeat the periods: each is written once.
    codes, once = pd.factorize(pd.DatetimeIndex(stamps))  # type: ignore[arg-type]
    timed = frequency.unit == "hour" or frequency.zone is not None
    words = iso_words(pd.DatetimeIndex(once), timed=timed)
    found: list[str] = words[codes].tolist() if len(words) else []
    return found


def keyed(rows: pd.DataFrame, fit: Fitted, scenario: str) -> pd.DataFrame:
    """The rows behind the key columns that all files begin with."""
    keys = {"series": fit.series_name, "model": fit.model.name, "scenario": scenario}
    return pd.concat([pd.DataFrame(keys, index=rows.index), rows], axis=1)


def driver_rows(ahead: Forecast) -> pd.DataFrame:
    """Rows of ``drivers.csv``: one a driver and period that the forecast rests on, with what each value is."""
    rows = ahead.drivers.copy()
    return keyed(rows.assign(period=iso(rows["period"], ahead.fit)), ahead.fit, ahead.scenario)


def _serious(ahead: Forecast) -> str:
    return "\n".join(map(wrapped, serious_first(ahead.findings)[0]))


def _all_numbers(fit: Fitted) -> str:
    return f"{wrapped(fit.sentences)}\n\n{fit.details}"


register(
    Entry(
        "fit",
        of=lambda study, name: alone(study.fits[name]),
        text={"fit": str, "fit --full": _all_numbers},
        figure_for=SHOWING,
        files={
            "coefficients": lambda fit, _: coefficient_rows(fit),
            "fitted": lambda fit, _: fitted_rows(fit),
            "treatments": lambda fit, _: treatment_rows(fit),
        },
        files_for=SHOWING,
        rank=0,
    )
)
register(
    Entry(
        "history",
        of=lambda study, name: alone(study.fits[name].contributions),
        figure_for=["explain"],
        files={"contributions": lambda found, fit: contribution_rows(found, fit, of_forecast=False)},
        files_for=SHOWING,
        rank=1,
    )
)
register(
    Entry(
        "forecast",
        of=lambda study, name: alone(study.forecasts[name]),
        text={"forecast": str, "explain": _serious},
        joined=True,
        figure_for=AHEAD,
        files={
            "forecast": lambda ahead, _: forecast_rows(ahead),
            "contributions": lambda ahead, fit: contribution_rows(ahead.contributions, fit, of_forecast=True),
            "drivers": lambda ahead, _: driver_rows(ahead) if len(ahead.drivers) else None,
        },
        files_for=AHEAD,
        rank=10,
    )
)
register(
    Entry(
        "effects",
        title="What each driver does",
        of=lambda study, name: alone(effects(study.fits[name])),
        text={"explain": lambda found: found.sentences if found.effects else ""},
        joined=True,
        figure_for=["explain"],
        rank=12,
    )
)
register(
    Entry(
        "elasticities",
        title="Elasticities",
        of=lambda study, name: alone(elasticities(study.fits[name]) if study.fits[name].scale.plain else None),
        text={"explain": sentence_of},
        joined=True,
        figure_for=["explain"],
        rank=13,
    )
)
register(
    Entry(
        "contributions",
        title="Contributions",
        of=lambda study, name: alone(study.forecasts[name].contributions),
        text={"explain": str},
        figure_for=["explain"],
        rank=30,
    )
)
register(
    Entry(
        "statistics",
        title="How close the fit is",
        of=lambda study, name: alone(study.fits[name]),
        text=dict.fromkeys(("forecast --full", "explain --full"), lambda fit: fit.details),
        rank=90,
    )
)
