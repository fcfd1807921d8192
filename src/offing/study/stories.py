"""Why a study's forecasts are what they are, compared with something: the pages of ``explain --against``."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import pandas as pd

from offing.base import Finding
from offing.base.results import by_name
from offing.explain import LAST_YEAR, MEAN, Story, story, walk
from offing.explain.why.walk import walk_rows
from offing.model.direct_forecast import DirectForecast
from offing.study.comparison_base import BASELINE
from offing.writers import Bundle, csv_text, json_text

if TYPE_CHECKING:
    from offing.study.study import Study


#: What the sum of several series is called, and the combination of several models.
TOGETHER, COMBINED = "all series", "all"


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
    rests += [study.unknown_drivers_cost] if study.unknown_drivers_cost else []
    return story(
        walked,
        sure=sure,
        sensitivity=study.sensitivities.get(name),
        scenarios=study.what_if.get(name),
        adjusted=study.adjusted.get(name),
        more=rests,
        brief=brief,
    )


class Page(NamedTuple):
    """A story, and of which series and model it is."""

    series: str
    model: str
    name: str
    story: Story


def pages(study: Study, against: Any, *, brief: bool = False) -> list[Page]:
    """The stories of all fits; then those of all series of a model summed, and of the study's combination."""
    found = [
        Page(fit.series_name, fit.model.name, name, study_story(study, name, against, brief=brief))
        for name, fit in study.fits.items()
    ]
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
    for part, walked in by_name({each.name: each.story.walk for each in found}).items():
        if walked.drawable:
            files.add(f"walk-{part}.png" if part else "walk.png", png(figure(walked)))
    written = files.write(out)
    return text if as_json else f"{text}\n\nWritten to {out}: {', '.join(file.name for file in written)}"
