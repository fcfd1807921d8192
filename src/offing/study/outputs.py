"""What a study's steps give: words for the screen, files for a folder, JSON for a machine.

The steps build on each other: ``fit``, ``forecast``, ``explain``.
"""

from __future__ import annotations

import dataclasses
import re
import zlib
from collections.abc import Mapping

import pandas as pd

from offing.explain import SeasonIndices, indices
from offing.handover import (
    Bundle,
    coefficient_rows,
    contribution_rows,
    csv_text,
    fitted_rows,
    forecast_rows,
    index_rows,
    json_text,
    treatment_rows,
)
from offing.model import Fit, Forecast, effects
from offing.study.study import Study
from offing.terms import Season


def in_words(study: Study, step: str) -> str:
    """The step's result to read, model by model."""
    parts = []
    for name, fit in study.fits.items():
        several = [f"series '{fit.series}'"] if fit.series else []
        several += [f"model '{fit.model.name}'"] if len(study.models) > 1 else []
        head = ": ".join([study.title, *([", ".join(several)] if several else [])])
        parts.append(f"{head}\n{'=' * len(head)}\n{_words(study, name, fit, step)}")
    return "\n\n".join(parts)


def tables(study: Study, step: str) -> dict[str, pd.DataFrame]:
    """The contract's tables by file name without ending, all models below each other."""
    fits = study.fits.values()
    found = {
        "coefficients": [coefficient_rows(fit) for fit in fits],
        "fitted": [fitted_rows(fit) for fit in fits],
        "contributions": [contribution_rows(fit.contributions, fit, of_forecast=False) for fit in fits],
        "treatments": [treatment_rows(fit) for fit in fits],
    }
    if step != "fit":
        forecasts = study.forecasts.values()
        found["forecast"] = [forecast_rows(each) for each in forecasts]
        found["contributions"] += [
            contribution_rows(each.contributions, each.fit, of_forecast=True) for each in forecasts
        ]
    if step == "explain" and (seasons := _seasons(study)):
        found["indices"] = [index_rows(each, fit) for _, fit, each in seasons]
    return {name: pd.concat(rows, ignore_index=True) for name, rows in found.items()}


def _seasons(study: Study) -> list[tuple[str, Fit, SeasonIndices]]:
    """Name of the fit, the fit and the indices of every season of dummies or harmonics."""
    return [
        (name, fit, indices(fit, str(term.name)))
        for name, fit in study.fits.items()
        if fit.scale.plain
        for term in fit.model.terms
        if isinstance(term, Season)
    ]


def bundle(study: Study, step: str) -> Bundle:
    """All files of a step, figures included."""
    files = Bundle()
    for name, rows in tables(study, step).items():
        files.add(f"{name}.csv", csv_text(rows))
    files.add("findings.json", json_text(_findings(study, step)))
    files.add("run.json", json_text(study.record(plans=step != "fit")))
    for name, picture in _pictures(study, step).items():
        files.add(f"{name}.png", picture)
    return files


def in_json(study: Study, step: str) -> str:
    """The step's tables, findings and record as one JSON text."""
    rows = {name: table.to_dict("records") for name, table in tables(study, step).items()}
    return json_text({**rows, "findings": _findings(study, step), "run": study.record(plans=step != "fit")}).rstrip(
        "\n"
    )


def _words(study: Study, name: str, fit: Fit, step: str) -> str:
    if step == "fit":
        return str(fit)
    forecast = study.forecasts[name]
    if step == "forecast":
        return str(forecast)
    told = effects(fit)
    lines = [told.heading, *(f"  {line}" for line in told.lines)]
    return "\n".join([*(lines if told.effects else []), "", str(forecast.contributions)])


def _findings(study: Study, step: str) -> list[dict[str, object]]:
    results: Mapping[str, Fit | Forecast] = study.fits if step == "fit" else study.forecasts
    return [
        {"series": _fit_of(result).series_name, "model": _fit_of(result).model.name, **dataclasses.asdict(finding)}
        for result in results.values()
        for finding in result.findings
    ]


def _fit_of(result: Fit | Forecast) -> Fit:
    return result.fit if isinstance(result, Forecast) else result


def _pictures(study: Study, step: str) -> dict[str, bytes]:
    """PNG figures by name; with several models each name ends in its model's."""
    from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only files need it
    from offing.draw.style import png  # noqa: PLC0415

    found: dict[str, bytes] = {}
    for name, fit in study.fits.items():
        results: dict[str, object] = {"fit": fit}
        if step != "fit":
            results["forecast"] = study.forecasts[name]
        if step == "explain":
            if fit.model.terms:
                results["contributions"] = study.forecasts[name].contributions
                results["history"] = fit.contributions
            if (told := effects(fit)).effects:
                results["effects"] = told
            seasons = [each for owner, _, each in _seasons(study) if owner == name]
            results |= {f"indices-{file_part(each.term)}" if len(seasons) > 1 else "indices": each for each in seasons}
        suffix = "" if len(study.fits) == 1 else f"-{file_part(name)}"
        found |= {f"{kind}{suffix}": png(figure(result)) for kind, result in results.items()}
    return found


def file_part(name: str) -> str:
    """A part of a file's name that any system takes, and that differs where names do."""
    plain = re.sub(r"[^\w.-]+", "-", name).strip("-.")[:60]
    return plain if plain == name else f"{plain}-{zlib.crc32(name.encode()):08x}"
