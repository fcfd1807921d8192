"""What a study's steps give: words for the screen, files for a folder, JSON for a machine.

The steps build on each other: ``fit``, ``forecast``, ``explain``.
"""

from __future__ import annotations

import dataclasses
import re
import zlib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import pandas as pd

from offing.base import Finding, InputError, count
from offing.base.progress import Progress
from offing.base.text import serious_first, wrapped
from offing.evaluation import Screening
from offing.explain import inputs, lag_weights, parameter_stability, residuals, response, term_tests, variance_shares
from offing.explain.residuals import SIDES
from offing.model import Fit, Forecast, effects, elasticities
from offing.model.fitted import Fitted
from offing.study.explained_outputs import more_pictures, more_tables, more_words, pages
from offing.study.selected import selected_lines
from offing.study.study import Study
from offing.terms import Driver
from offing.writers import (
    RECONCILED,
    Bundle,
    bend_rows,
    chance_rows,
    coefficient_rows,
    combined_contribution_rows,
    combined_forecast_rows,
    combined_rows,
    contribution_rows,
    csv_text,
    fitted_rows,
    forecast_rows,
    holiday_rows,
    index_rows,
    json_text,
    left_out_rows,
    reconciled_rows,
    release_rows,
    running_rows,
    screening_rows,
    split_rows,
    stability_rows,
    total_rows,
    treatment_rows,
    trend_rows,
    weight_rows,
)
from offing.writers.explained import walk_rows

#: Series without a result that are named on the screen.
_MOST_NAMED = 5


def in_words(study: Study, step: str, *, full: bool = False) -> str:
    """The step's result to read, model by model; with all statistics if `full`."""
    parts = []
    _ready(study, step)
    for name, result in (study.screenings if step == "screen" else study.fits).items():
        fit = result.base if isinstance(result, Screening) else result
        several = [f"series '{fit.series}'"] if fit.series else []
        several += [f"model '{fit.model.name}'"] if len(study.reported) > 1 else []
        head = ": ".join([study.title, *([", ".join(several)] if several else [])])
        text = _screened(result) if isinstance(result, Screening) else _words(study, name, fit, step)
        if full and step != "screen":
            text = wrapped(fit.sentences) if step == "fit" else text
            text += f"\n\n{fit.statistics}\n\n{term_tests(fit)}\n\n{variance_shares(fit)}"
        parts.append(f"{head}\n{'=' * len(head)}\n{text}")
    if step not in ("fit", "screen") and study.combination is not None:
        parts.append(f"All models together\n===================\n{study.combination}")
    if step != "screen" and study.left_out:
        parts.append(left_out_words(study.left_out))
    if step == "fit" and (unused := _unused(study)):
        parts.append(wrapped(unused))
    return "\n\n".join(parts)


def _ready(study: Study, step: str) -> None:
    """Make the forecasts first: a series without one has no further results either."""
    if step not in ("fit", "screen"):
        _ = study.forecasts


def left_out_words(left_out: Mapping[str, InputError]) -> str:
    """The series without a result, each with its reason; of many the first."""
    lines = [f"{count(len(left_out), 'series has', 'series have')} no result:"]
    lines += [f"  {name}: {error}" for name, error in list(left_out.items())[:_MOST_NAMED]]
    if len(left_out) > _MOST_NAMED:
        lines.append(f"  and {len(left_out) - _MOST_NAMED:,} more, see findings.json")
    return "\n".join(lines)


def left_out_findings(left_out: Mapping[str, InputError]) -> list[dict[str, object]]:
    """Entries of ``findings.json`` for series without a result."""
    return [
        {"series": name, "model": "", **dataclasses.asdict(Finding("series", "warning", str(error)))}
        for name, error in left_out.items()
    ]


def _unused(study: Study) -> str:
    """Which columns of the sources no model uses."""
    rows = study.accounts(plans=False)
    rows = rows[~rows["use"].str.startswith(("date", "id", "target", "driver", "values"))]
    noted = [
        f"{source}.{column} ({use.removeprefix('not used: ')})" for source, column, use in rows.itertuples(index=False)
    ]
    return f"Not used: {'; '.join(noted)}." if noted else ""


def _screened(found: Screening) -> str:
    """The sizes, and the lines of the proposed one for a study; those of all sizes are written to ``selected.toml``."""
    return f"{found}\n\nLines for the study, of the size proposed:\n\n{selected_lines(found, [found.size])}"


def tables(study: Study, step: str) -> dict[str, pd.DataFrame]:
    """The contract's tables by file name without ending, all models below each other."""
    if step == "screen":
        found = {"screening": [screening_rows(each) for each in study.screenings.values()],
                 "stability": [stability_rows(each) for each in study.screenings.values()]}  # fmt: skip
        return {name: pd.concat(rows, ignore_index=True) for name, rows in found.items()}
    _ready(study, step)
    fits = study.fits.values()
    found = {
        "coefficients": [coefficient_rows(fit) for fit in fits],
        "fitted": [fitted_rows(fit) for fit in fits],
        "contributions": [contribution_rows(fit.contributions, fit, of_forecast=False) for fit in fits],
        "treatments": [
            *(treatment_rows(fit) for fit in fits),
            *([left_out_rows(study.left_out)] if study.left_out else []),
        ],
    }
    if step != "fit":
        forecasts = study.forecasts.values()
        found["forecast"] = [forecast_rows(each) for each in forecasts]
        found["contributions"] += [
            contribution_rows(each.contributions, each.fit, of_forecast=True) for each in forecasts
        ]
        found["forecast"] += [reconciled_rows(each) for each in study.reconciled.values()]
        found["contributions"] += [
            contribution_rows(each.contributions, each.forecast.fit, of_forecast=True, scenario=RECONCILED)
            for each in study.reconciled.values()
        ]
        found["running"] = [running_rows(each) for each in study.running.values()]
        found["releases"] = [release_rows(each) for each in study.running.values()]
        if study.combination is not None:
            found["combined"] = [combined_rows(study.combination)]
            found["forecast"].append(combined_forecast_rows(study.combination))
            found["contributions"].append(combined_contribution_rows(study.combination))
        found["totals"] = [total_rows(each, study.fits[name]) for name, made in study.totals.items() for each in made]
        found["chances"] = [chance_rows(each) for made in study.chances.values() for each in made]
        for file, added in more_tables(study, step).items():
            found[file] = [*found.get(file, []), *added]
        found["allocated"] = [split_rows(each, study.fits[name]) for name, each in study.splits.items()]
    if step == "explain":
        found["weights"] = [weight_rows(lag_weights(fit, driver), fit) for fit in fits for driver in _weighted(fit)]
        for name, answers in study.answers.items():
            for (file, kind), rows in _ROWS.items():
                made = [rows(each, study.fits[name]) for each in answers.get(kind, {}).values()]
                found[file] = [*found.get(file, []), *made]
    return {name: pd.concat(rows, ignore_index=True) for name, rows in found.items() if rows}


#: Tables of answers, by file and kind of answer.
_ROWS: dict[tuple[str, str], Callable[[Any, Fit], pd.DataFrame]] = {
    ("trend", "trend"): trend_rows,
    ("bends", "trend"): bend_rows,
    ("indices", "indices"): index_rows,
    ("holidays", "holidays"): holiday_rows,
}


def bundle(study: Study, step: str, figures: list[str] | None = None) -> Bundle:
    """All files of a step, figures included: those the study names, or `figures`, by the files' names."""
    files = Bundle()
    for name, rows in tables(study, step).items():
        files.add(f"{name}.csv", csv_text(rows))
    if step == "screen":
        for name, each in study.screenings.items():
            file = "selected" if len(study.screenings) == 1 else f"selected-{file_part(name)}"
            files.add(f"{file}.toml", selected_lines(each) + "\n")
    files.add("findings.json", json_text(_findings(study, step)))
    files.add("run.json", json_text(study.record(plans=step not in ("fit", "screen"))))
    for name, picture in _pictures(study, step, figures).items():
        files.add(f"{name}.png", picture)
    return files


def not_drawn(study: Study, step: str) -> str:
    """Why there are no figures, where nothing was said of them; else an empty text."""
    fits = len(study.screenings if step == "screen" else study.fits)
    if study.spec.output.figures is not None or study.draws(fits):
        return ""
    return f'No figures are drawn of {fits} fits: state figures = "all" in [output] for them.'


def noted(study: Study, against: str, *, brief: bool, out: Path | None, as_json: bool = False) -> str:
    """The stories of a study compared with something; with a folder, they and their walks are written there too."""
    found = pages(study, against, brief=brief)
    text = "\n\n".join([str(each.story) if len(found) == 1 else f"{each.name}\n\n{each.story}" for each in found])
    first = next(iter(study.fits.values()))
    rows = [walk_rows(each.story.walk, first).assign(series=each.series, model=each.model) for each in found]
    walks = pd.concat(rows, ignore_index=True)
    if as_json:
        chapters = {each.name: [dataclasses.asdict(part) for part in each.story.chapters] for each in found}
        text = json_text({"story": chapters, "walk": walks.to_dict("records")}).rstrip("\n")
    if out is None:
        return text
    from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only files need it
    from offing.draw.style import png  # noqa: PLC0415

    files = Bundle()
    files.add("story.json" if as_json else "story.txt", text + "\n")
    files.add("walk.csv", csv_text(walks))
    for each in found:
        if each.story.walk.moved:
            files.add(
                "walk.png" if len(found) == 1 else f"walk-{file_part(each.name)}.png", png(figure(each.story.walk))
            )
    written = files.write(out)
    return text if as_json else f"{text}\n\nWritten to {out}: {', '.join(file.name for file in written)}"


def in_json(study: Study, step: str) -> str:
    """The step's tables, findings and record as one JSON text."""
    rows = {name: table.to_dict("records") for name, table in tables(study, step).items()}
    return json_text(
        {**rows, "findings": _findings(study, step), "run": study.record(plans=step not in ("fit", "screen"))}
    ).rstrip("\n")


def _words(study: Study, name: str, fit: Fitted, step: str) -> str:
    if step == "fit":
        return str(fit)
    forecast = study.forecasts[name]
    summed = [wrapped(each.sentence) for each in study.totals[name]]
    changed = [str(made) for made in (study.reconciled.get(name), study.splits.get(name)) if made is not None]
    changed += [wrapped(each.sentence) for each in study.chances[name]]
    changed += [str(study.running[fit.model.name])] if fit.model.name in study.running else []
    if step == "forecast":
        return "\n\n".join([str(forecast), "\n".join(summed), *changed, *more_words(study, name, step)])
    noted = effects(fit)
    first, _ = serious_first(forecast.findings)
    lines = [noted.heading, *(f"  {line}" for line in noted.lines)]
    answers = [wrapped(each) for each in elasticities(fit).sentences.splitlines()] if fit.scale.plain else []
    answers += [wrapped(lag_weights(fit, driver).sentences) for driver in _weighted(fit)]
    answers += [wrapped(inputs(forecast).sentence)] if _weighted(fit) else []
    answers += [
        wrapped(each.sentence)
        for kind, found in study.answers[name].items()
        if kind != "indices"  # the cycle says the same
        for each in found.values()
    ]
    text = "\n".join(
        [*map(wrapped, first), *(lines if noted.effects else []), *answers, *summed, "", str(forecast.contributions)]
    )
    return "\n\n".join([text, *more_words(study, name, step)])


def _findings(study: Study, step: str) -> list[dict[str, object]]:
    results: Mapping[str, Fit | Forecast | Screening]
    results = study.screenings if step == "screen" else study.fits if step == "fit" else study.forecasts
    return [
        {"series": _fit_of(result).series_name, "model": _fit_of(result).model.name, **dataclasses.asdict(finding)}
        for result in results.values()
        for finding in result.findings
    ] + ([] if step == "screen" else left_out_findings(study.left_out))


def _weighted(fit: Fitted) -> list[str]:
    """Names of the drivers with weights over their lags."""
    return [str(term.name) for term in fit.model.terms if isinstance(term, Driver) and term.weights is not None]


def _fit_of(result: Fit | Forecast | Screening) -> Fitted:
    if isinstance(result, Screening):
        return result.base
    return result.fit if isinstance(result, Forecast) else result


def _pictures(study: Study, step: str, figures: list[str] | None = None) -> dict[str, bytes]:
    """PNG figures by name; with several models each name ends in its model's."""
    from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only files need it
    from offing.draw.style import png  # noqa: PLC0415

    if not study.draws(len(study.screenings if step == "screen" else study.fits)):
        return {}
    if step == "screen":
        several = len(study.screenings) > 1
        return {f"screening-{file_part(name)}" if several else "screening": png(figure(each))
                for name, each in study.screenings.items()}  # fmt: skip
    found: dict[str, bytes] = {}
    with Progress("drawing figures") as bar:
        for done, (name, fit) in enumerate(study.fits.items()):
            suffix = "" if len(study.fits) == 1 else f"-{file_part(name)}"
            found |= {f"{kind}{suffix}": png(figure(each)) for kind, each in _drawn(study, name, fit, step).items()
                      if study.picks(kind, figures)}  # fmt: skip
            bar.update((done + 1) / len(study.fits))
    if step != "fit" and study.combination is not None and study.picks("combined", figures):
        found["combined"] = png(figure(study.combination))
    return found


def _drawn(study: Study, name: str, fit: Fitted, step: str) -> dict[str, object]:
    """What is drawn of one fit, by the figures' names."""
    results: dict[str, object] = {"fit": fit}
    if step == "fit":
        results |= {f"residuals-{side}": residuals(fit, side) for side in SIDES}
        results["stability"] = parameter_stability(fit)
    if step != "fit":
        results["forecast"] = study.forecasts[name]
        results |= {"running": study.running[fit.model.name]} if fit.model.name in study.running else {}
        results |= more_pictures(study, name, step)
        results |= {f"chances-{i + 1}": each for i, each in enumerate(study.chances[name])}
    if step == "explain":
        if fit.model.terms:
            results["contributions"] = study.forecasts[name].contributions
            results["history"] = fit.contributions
        for driver in [term for term in fit.model.terms if isinstance(term, Driver) and term.bends]:
            if fit.scale.plain and not any(step.is_change for step in driver.steps):
                results[f"response-{file_part(str(driver.name))}"] = response(fit, str(driver.name))
        results |= {f"weights-{file_part(driver)}": lag_weights(fit, driver) for driver in _weighted(fit)}
        results |= {"inputs": inputs(study.forecasts[name])} if _weighted(fit) else {}
        if (noted := effects(fit)).effects:
            results["effects"] = noted
        for kind, made in study.answers[name].items():
            for term, each in made.items():
                results[f"{kind}-{file_part(term)}" if len(made) > 1 else kind] = each
        whole = study.totals[name]
        results |= {f"totals-{i + 1}" if len(whole) > 1 else "totals": each for i, each in enumerate(whole)}
        results |= {"reconciled": study.reconciled[name]} if name in study.reconciled else {}
        results |= {"allocated": study.splits[name]} if name in study.splits else {}
    return results


def file_part(name: str) -> str:
    """A part of a file's name that any system takes, and that differs where names do."""
    plain = re.sub(r"[^\w.-]+", "-", name).strip("-.")[:60]
    return plain if plain == name else f"{plain}-{zlib.crc32(name.encode()):08x}"
