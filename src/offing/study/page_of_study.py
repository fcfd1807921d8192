"""What a study's page says: every result of the registry as a chapter, and the first screen in a few sentences."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.base.progress import Progress
from offing.base.results import Entry, shown_by
from offing.base.text import in_units, number
from offing.explain import LAST_YEAR
from offing.model.forecast import AS_PLANNED, Forecast
from offing.page import Chapter, Overview, Page, Unit
from offing.study.comparison_base import ARCHIVE
from offing.study.judged_outputs import Judged
from offing.study.shown_text import without_addresses
from offing.study.stories import study_story
from offing.study.study import Study

#: Of more units than these the page holds charts, words and tables, and no pictures: it would take too long to load.
_MOST_PICTURED = 6
#: What has a chart of its own on the first screen.
_CHARTED = ("forecast", "contributions", "history", "fit")
#: Longer tables are in the CSV files.
_MOST_ROWS, _MOST_PERIODS = 500, 2_000
#: Drivers of a forecast that the first screen names.
_MOST_NAMED = 3


def page_of(forecasts: Mapping[str, Forecast], study: Study | None) -> Page:
    """The page of some forecasts, with all results of their study, if they have one."""
    first = next(iter(forecasts.values()))
    pictured = len(forecasts) <= _MOST_PICTURED
    units: list[Unit] = []
    with Progress("writing the page") as bar:
        for done, (name, ahead) in enumerate(forecasts.items(), 1):
            units.append(_unit(name, ahead, study, pictured=pictured, first=not units))
            bar.update(done / len(forecasts))
    overview = _overview(units) if len(units) > 1 else None
    notes = () if pictured else (f"Pictures are left out: the page holds {len(units)} forecasts.",)
    return Page(
        study.title if study is not None else first.fit.label,
        f"Made of what was known on {first.origin:%Y-%m-%d}.",
        units,
        overview,
        without_addresses(study.text) if study is not None else "",
        notes,
    )


def _unit(name: str, ahead: Forecast, study: Study | None, *, pictured: bool, first: bool) -> Unit:
    """One forecast's part; the first one's has what belongs to the whole study as well."""
    fit = ahead.fit
    scenarios = {AS_PLANNED: ahead} if ahead.scenario == AS_PLANNED else {ahead.scenario: ahead}
    chapters: list[Chapter] = []
    if study is not None:
        found = study.what_if.get(name)
        scenarios |= {each: found.of(each) for each in found.names if each != AS_PLANNED} if found is not None else {}
        chapters += [_why(study, name, LAST_YEAR, "last year", pictured=pictured)]
        if study.archive is not None:
            chapters.append(_why(study, name, ARCHIVE, "the forecast before", pictured=pictured))
        for command in ("explain", "forecast"):
            have = {chapter.name for chapter in chapters}
            chapters += [each for each in _of_entries(study, name, command, pictured=pictured) if each.name not in have]
        chapters += _shared(study, pictured=pictured) if first else ()
    lead = [_forecast_said(ahead), _drives(ahead)]
    if study is not None:
        lead.append(_accuracy(study))
    chapters += [_findings(ahead), _changes(ahead), _table(ahead)]
    label = " / ".join([fit.label, *([fit.model.name] if fit.model.name != "main" else [])])
    return Unit(label, scenarios, tuple(filter(None, lead)), tuple(chapters))


def _forecast_said(ahead: Forecast) -> str:
    """The forecast in a sentence."""
    fit, n = ahead.fit, ahead.axis.n
    what, labels = in_units(fit.label, fit.unit), ahead.axis.labels()
    head, mean = f"{what[0].upper()}{what[1:]}", number(float(np.mean(ahead.mean)), 4)
    between = _between(ahead)
    if n == 1:
        return f"{head}: {mean} in {labels[0]}{between and f', {between}'}."
    return (
        f"{head}: {mean} on average in the {count(n, ahead.axis.frequency.unit)} from {labels[0]} to {labels[-1]}"
        f"{between and f'; {labels[0]} lies {between}'}."
    )


def _between(ahead: Forecast) -> str:
    """Between which values the first period lies: past errors may be too few for the widest interval, or for any."""
    known = [str(each) for each in ahead.table.dropna(axis=1).columns if str(each).startswith("q")]
    if len(known) < 2:
        return ""
    low, high = known[0], known[-1]
    ends = [number(float(ahead.table[each].iloc[0]), 4) for each in (low, high)]
    level = float(high[1:]) - float(low[1:])
    return f"between {ends[0]} and {ends[1]} with {100.0 * level:.3g} % probability"


def _drives(ahead: Forecast) -> str:
    """Which terms move the forecast most, on average over its periods."""
    found = ahead.contributions
    means = dict(zip(found.labels, found.values[1:].mean(axis=1).tolist(), strict=True))
    sizes = dict(zip(found.labels, np.abs(found.values[1:]).mean(axis=1).tolist(), strict=True))
    named = [label for label, size in sorted(sizes.items(), key=lambda each: -each[1]) if size > 0.0][:_MOST_NAMED]
    if not named:
        return ""
    parts = [f"{label} ({'+' if means[label] >= 0.0 else '−'}{number(abs(means[label]), 3)})" for label in named]
    listed = parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} and {parts[-1]}"
    return f"What moves it most, measured from {found.baseline_means}: {listed} on average."


def _accuracy(study: Study) -> str:
    """How far its forecasts of the past were off, or why that is not known."""
    try:
        return f"How accurate it was before: {study.backtest.sentence}"
    except InputError as error:
        return f"How accurate it was before is not known: {error}"


def _why(study: Study, name: str, against: str, words: str, *, pictured: bool) -> Chapter:
    """Why the forecast differs from something, or why that cannot be said."""
    title = f"Why it differs from {words}"
    try:
        story = study_story(study, name, against)
    except InputError as error:
        return Chapter(f"why {against}", title, (f"There is nothing to compare with: {error}",))
    parts = tuple((each.heading, each.lines) for each in story.chapters)
    pictures = ((_drawn(story.walk), story.walk.sentence),) if pictured and story.walk.drawable else ()
    return Chapter(f"why {against}", title, (), pictures, parts=parts)


def _of_entries(study: Study, name: str, command: str, *, pictured: bool) -> Iterator[Chapter]:
    """The registry's results of one fit that a command shows."""
    for entry in shown_by(command):
        if entry.kind in _CHARTED or entry.heading:
            continue
        yield from _chapters(entry, lambda own=entry: own.of(study, name), command, pictured=pictured)  # type: ignore[misc]


def _chapters(
    entry: Entry, results: Callable[[], Mapping[str, Any]], command: str, *, pictured: bool
) -> Iterator[Chapter]:
    """The chapter of an entry: its words, its pictures, and a table where it has no picture."""
    try:
        found = results()
    except InputError as error:
        yield Chapter(entry.kind, entry.chapter, (str(error),))
        return
    words, pictures, tables = [], [], []
    for each in found.values():
        if not hasattr(each, "sentences"):
            continue
        words += each.sentences.splitlines()
        if pictured and command in entry.figure_for and each.drawable:
            pictures.append((_drawn(each), each.sentence))
        elif not pictured or command not in entry.figure_for:
            tables.append((each.sentence, _short(each.table)))
    if words or pictures:
        yield Chapter(entry.kind, entry.chapter, tuple(dict.fromkeys(words)), tuple(pictures), tuple(tables))


def _shared(study: Study, *, pictured: bool) -> tuple[Chapter, ...]:
    """What belongs to the whole study: its models together, and how good its forecasts were."""
    found: list[Chapter] = []
    for entry in shown_by("explain"):
        if entry.heading:
            found += _chapters(entry, lambda own=entry: own.of(study, ""), "explain", pictured=pictured)  # type: ignore[misc]
    judged = Judged((study,), "backtest")
    for entry in shown_by("backtest"):
        found += _chapters(entry, lambda own=entry: own.of(judged, ""), "backtest", pictured=pictured)  # type: ignore[misc]
    return tuple(found)


def _drawn(result: Any) -> bytes:
    from offing.draw import figure  # noqa: PLC0415  Matplotlib takes half a second, and only pictures need it
    from offing.draw.style import svg  # noqa: PLC0415

    return svg(figure(result))


def _short(table: pd.DataFrame) -> pd.DataFrame:
    named = table.reset_index() if table.index.name is not None else table
    return named.head(_MOST_ROWS)


def _findings(ahead: Forecast) -> Chapter:
    found = tuple(str(each) for each in ahead.findings) or ("Nothing was noticed.",)
    return Chapter("findings", "Findings", found)


def _changes(ahead: Forecast) -> Chapter:
    """Every change to the data."""
    treatments = ahead.fit.treatments
    if not treatments:
        return Chapter("changes", "Changes to the data", ("No value was changed.",))
    rows = pd.DataFrame([vars(each) for each in treatments])
    sentence = f"{count(len(rows), 'value was', 'values were')} changed, or noted in reading."
    return Chapter("changes", "Changes to the data", (sentence,), (), (("All changes", rows.head(_MOST_ROWS)),))


def _table(ahead: Forecast) -> Chapter:
    """The forecast with its contributions, a row a period."""
    wide = ahead.contributions.wide.drop(columns="total").add_prefix("contribution of ")
    table = ahead.table.join(wide).rename_axis("period").reset_index()
    said = [ahead.sentence]
    if len(table) > _MOST_PERIODS:
        said.append(f"Below are the first {_MOST_PERIODS:,} of {len(table):,} periods.")
    label = f"Forecast of {in_units(ahead.fit.label, ahead.fit.unit)} by {ahead.axis.frequency.unit}"
    return Chapter("forecast", "The numbers", tuple(said), (), ((label, table.head(_MOST_PERIODS)),))


def _overview(units: list[Unit]) -> Overview:
    """A line for each forecast: its total, and how much of that is new."""
    rows = []
    for each in units:
        ahead = each.planned
        year = ahead.axis.frequency.year_back
        before = ahead.fit.target[len(ahead.fit.target) - year :][: ahead.axis.n]
        change = ""
        if len(before) == ahead.axis.n and np.isfinite(before).all() and before.sum():
            change = f"{100.0 * (ahead.mean[: len(before)].sum() / before.sum() - 1.0):.1f}"
        width = (ahead.table.iloc[:, -1] - ahead.table.iloc[:, 2]) / ahead.mean
        rows.append((each.name, f"{ahead.mean.sum():,.6g}", change, f"{100.0 * float(width.mean()):.0f}"))
    heads = ("forecast of", "total", "% on a year before", "width of the widest interval, % of the mean")
    return Overview(heads, tuple(rows))
