"""What scenarios, walks, changes of drivers, goals and adjustments give: words, tables and figures; and the story."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

import pandas as pd

from offing.base import Finding
from offing.base.text import wrapped
from offing.evaluation.fold_results import SHOWN
from offing.explain import LAST_YEAR, MEAN, Story, story, walk, year_of_days
from offing.model.direct_forecast import DirectForecast
from offing.model.forecast import AS_PLANNED
from offing.study.comparison_base import BASELINE
from offing.writers import contribution_rows, forecast_rows
from offing.writers.explained import (
    BY_HAND,
    adjustment_rows,
    adjustment_score_rows,
    difference_rows,
    driver_rows,
    overridden_rows,
    scenario_rows,
    sensitivity_rows,
    solution_rows,
    walk_rows,
)

if TYPE_CHECKING:
    from offing.study.study import Study


#: What the sum of several series is called, and the combination of several models.
TOGETHER, COMBINED = "all series", "all"


def more_words(study: Study, name: str, step: str) -> list[str]:
    """What a step says of a fit beyond its forecast or its contributions."""
    found = [str(each) for each in (study.what_if.get(name), study.adjusted.get(name)) if each is not None]
    if name in study.adjustment_scores:
        found.append(_scored(study.adjustment_scores[name]))
    found += [wrapped(study.price)] if study.price else []
    if step == "explain":
        found += [str(each) for each in study.walks[name]]
        found += [str(study.sensitivities[name])] if name in study.sensitivities else []
        found += [str(each) for each in study.solutions[name]]
    return found


def more_tables(study: Study, step: str) -> dict[str, list[pd.DataFrame]]:
    """The tables of a step beyond the forecast's own, by file name, to be joined."""
    found: dict[str, list[pd.DataFrame]] = {}

    def add(file: str, rows: pd.DataFrame) -> None:
        found.setdefault(file, []).append(rows)

    for ahead in study.forecasts.values():
        if len(ahead.drivers):
            add("drivers", driver_rows(ahead))
    for each in study.what_if.values():
        add("scenarios", scenario_rows(each))
        add("differences", difference_rows(each))
        for scenario in each.names[1:]:
            ahead = each.of(scenario)
            add("drivers", driver_rows(ahead))
            add("forecast", forecast_rows(ahead))
            add("contributions", contribution_rows(ahead.contributions, ahead.fit, of_forecast=True, scenario=scenario))
    for name, changed in study.adjusted.items():
        add("adjustments", adjustment_rows(changed))
        add("forecast", overridden_rows(changed, list(SHOWN)))
        add("contributions", contribution_rows(changed.contributions, study.fits[name], of_forecast=True,
                                               scenario=BY_HAND))  # fmt: skip
    for name, scored in study.adjustment_scores.items():
        add("adjustment_scores", adjustment_score_rows(scored, study.fits[name]))
    if step != "explain":
        return found
    for name, walks in study.walks.items():
        for i, one in enumerate(walks):
            add("walks", walk_rows(one, study.fits[name], study.spec.walks[i].scenario or AS_PLANNED))
        if name in study.sensitivities:
            add("sensitivity", sensitivity_rows(study.sensitivities[name], study.fits[name]))
        if study.solutions[name]:
            add("solutions", solution_rows(study.solutions[name], study.fits[name]))
    return found


def more_pictures(study: Study, name: str, step: str) -> dict[str, object]:
    """Results of a fit that have figures, by the figure's name."""
    found: dict[str, object] = {"scenarios": study.what_if[name]} if name in study.what_if else {}
    if step != "explain":
        return found
    walks = study.walks[name]
    found |= {f"walk-{i + 1}": each for i, each in enumerate(walks) if each.moved}
    if name in study.sensitivities and study.sensitivities[name].drivers:
        found["sensitivity"] = study.sensitivities[name]
    fit = study.fits[name]
    if (fit.axis.frequency.unit == "hour" or fit.axis.frequency.per_day) and fit.model.terms:
        found["year-of-days"] = year_of_days(fit.contributions)
    return found


def study_story(study: Study, name: str, against: Any, *, brief: bool = False) -> Story:
    """The page on one fit's forecast, compared with something; see `offing.story`."""
    with study.placing():
        walked = study.walk_of(name, against)
    if walked.phases:
        return story(walked, brief=brief)
    ahead = study.forecasts[name]
    sure = [] if isinstance(ahead, DirectForecast) else [study.paths(name).sentence]
    sure += [each.sentence for each in study.chances[name]]
    rests = [str(each) for each in _notable(ahead.findings)]
    rests += [study.price] if study.price else []
    return story(
        walked, sure=sure, sensitivity=study.sensitivities.get(name), scenarios=study.what_if.get(name),
        adjusted=study.adjusted.get(name), more=rests, brief=brief,
    )  # fmt: skip


class Page(NamedTuple):
    """A story, and of which series and model it is."""

    series: str
    model: str
    name: str
    story: Story


def pages(study: Study, against: Any, *, brief: bool = False) -> list[Page]:
    """The stories of all fits; then those of all series of a model summed, and of the study's combination."""
    found = [Page(fit.series_name, fit.model.name, name, study_story(study, name, against, brief=brief))
             for name, fit in study.fits.items()]  # fmt: skip
    if against not in (LAST_YEAR, MEAN, BASELINE):
        return found
    start = None if against == BASELINE else against
    for model in study.models if len({fit.series for fit in study.fits.values()}) > 1 else ():
        own = {each.fit.series: each for each in study.forecasts.values() if each.fit.model.name == model.name}
        noted = story(walk(own, start), brief=brief)
        found.append(Page(TOGETHER, model.name, f"{TOGETHER} / {model.name}", noted))
    if study.combination is not None:
        noted = story(walk(study.combination, start), brief=brief)
        found.append(Page(study.combination.fit.series_name, COMBINED, COMBINED, noted))
    return found


def _notable(findings: tuple[Finding, ...]) -> list[Finding]:
    serious = [each for each in findings if each.severity == "serious"]
    return [*serious, *(each for each in findings if each.severity == "warning")][: max(3, len(serious))]


def _scored(rows: pd.DataFrame) -> str:
    lines = []
    for _, row in rows.iterrows():
        verdict = "helped" if row["helped"] else "did not help"
        lines.append(
            f"The adjustment of {row['span']} ({row['author']}: {row['reason']}) {verdict}: mean absolute error "
            f"{row['error_after']:,.4g} with it, {row['error_before']:,.4g} without."
        )
    return wrapped("\n".join(lines))
