"""The story: a page of plain sentences on a forecast, the most important first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from offing.base.results import Result
from offing.base.text import number, percent, signed, wrapped
from offing.explain.what_if.forecast_adjustments import AdjustedForecast
from offing.explain.what_if.scenarios import Scenarios
from offing.explain.what_if.sensitivity import Sensitivity
from offing.explain.why.walk import SMALL, TECHNICAL, Step, Walk, between_words, step_name
from offing.model.decomposition import BASELINE, UNEXPLAINED

#: What the intervals of single steps count.
_COUNTED = " (intervals count the coefficients alone)"


@dataclass(frozen=True)
class Chapter:
    """A heading and its sentences."""

    heading: str
    lines: tuple[str, ...]


@dataclass(frozen=True)
class Story(Result, figure="walks.draw_story"):
    """A page on a forecast in plain sentences. Made by `offing.story`.

    Attributes
    ----------
    title
        What it is about.
    chapters
        Headings with their sentences, the most important first.
    brief
        Whether it is reported in points.
    walk
        The walk that it shows.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> fare = 20.0 + np.tile([0.0, 1.0, 3.0], 12) + np.arange(36) / 12
    >>> sold = pd.DataFrame({"sold": 900.0 - 10.0 * fare + np.tile([1.0, -1.0], 18), "fare": fare}, months)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(sold)
    >>> plan = pd.DataFrame({"fare": 25.0}, pd.period_range("2025-01", periods=3, freq="M"))
    >>> print(of.story(of.walk(fit.forecast(3, plan=plan), "last-year"), brief=True))
    sold: 3 months from 2025-01 to 2025-03
    - forecast 1,950, the year before 1,998: −48.61 (−2.4 %, 95 % −52.7 to −44.5, counting noise, coefficients and
      drivers; the coefficients alone −49.7 to −47.6)
    - lower: fare −47.6 (95 % between −48.6 and −46.5)
    """

    title: str
    chapters: tuple[Chapter, ...]
    brief: bool
    walk: Walk

    @property
    def text(self) -> str:
        """The page."""
        if self.brief:
            return "\n".join([self.title, *(f"- {line}" for each in self.chapters for line in each.lines)])
        parts = [self.title]
        for each in self.chapters:
            parts.append("\n".join(filter(None, [each.heading, *each.lines])))
        return "\n\n".join(parts)

    def __str__(self) -> str:
        return wrapped(self.text)

    @property
    def sentences(self) -> str:
        """The page."""
        return self.text

    @property
    def table(self) -> pd.DataFrame:
        """The walk's steps."""
        return self.walk.table


def story(
    steps: Walk,
    *,
    sure: Sequence[str] = (),
    sensitivity: Sensitivity | None = None,
    scenarios: Scenarios | None = None,
    adjusted: AdjustedForecast | None = None,
    more: Sequence[str] = (),
    brief: bool = False,
) -> Story:
    """Report a walk, and what else is known of its forecast, in plain sentences.

    Whatever is not significant is said to be so, or only counted. The wording is stable: the same numbers
    give the same page.

    Parameters
    ----------
    steps
        The walk: against last year, say, or from the last forecast.
    sure
        Sentences on how sure the forecast is.
    sensitivity, scenarios, adjusted
        What else is to be reported of the forecast.
    more
        Further sentences, on what the forecast rests.
    brief
        Points instead of sentences.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> months = pd.period_range("2022-01", periods=36, freq="M")
    >>> fare = 20.0 + np.tile([0.0, 1.0, 3.0], 12) + np.arange(36) / 12
    >>> sold = pd.DataFrame({"sold": 900.0 - 10.0 * fare + np.tile([1.0, -1.0], 18), "fare": fare}, months)
    >>> fit = of.Model("sold", terms=[of.Driver("fare")]).fit(sold)
    >>> plan = pd.DataFrame({"fare": 25.0}, pd.period_range("2025-01", periods=3, freq="M"))
    >>> print(of.story(of.walk(fit.forecast(3, plan=plan), "last-year")).chapters[1].lines[0])
    'fare' takes away 47.6, 2.38 points of growth (95 % between −48.6 and −46.5).
    """
    walk = steps.whole
    unit = f" {walk.unit}" if walk.unit else ""
    title = f"{walk.target}: {walk.spans[0]}"
    made = _brief if brief else _full
    chapters = made(walk, unit)
    if sure:
        chapters.append(Chapter("How sure", tuple(sure)))
    if sensitivity is not None and sensitivity.drivers:
        lines = sensitivity.sentences.splitlines()
        chapters.append(Chapter("What moves it most", tuple(lines[: 1 if brief else 3])))
    if scenarios is not None and len(scenarios.names) > 1:
        what_if = scenarios.points if brief else scenarios.sentences.splitlines()[1:]
        chapters.append(Chapter("What if", tuple(what_if)))
    if adjusted is not None and adjusted.adjustments:
        chapters.append(Chapter("By hand", tuple(adjusted.sentences.splitlines())))
    if more:
        chapters.append(Chapter("What it rests on", tuple(more)))
    if brief:
        chapters = [replace(each, lines=tuple(line.rstrip(".") for line in each.lines)) for each in chapters]
    return Story(title, tuple(chapters), brief, walk)


def _full(walk: Walk, unit: str) -> list[Chapter]:
    chapters = [Chapter("", (_headline(walk, unit), *walk.notes))]
    if walk.phases:
        chapters.append(Chapter("Step by step, in this order", tuple(walk.statements())))
        return chapters
    lower, higher, unsure, plain = _sorted(walk)
    # Of a combination, or between two fits, it is not known how sure a step is, and the page must not look as if.
    doubt = "" if np.isfinite([step.half[0] for step in (*lower, *higher)]).all() else ", how surely is not known"
    for heading, steps in (("What raises it", higher), ("What lowers it", lower)):
        if steps:
            chapters.append(Chapter(f"{heading}{doubt or _COUNTED}", tuple(walk.said(step) for step in steps)))
    if plain:
        chapters.append(Chapter("What no driver accounts for", tuple(_plain(step, walk, unit) for step in plain)))
    if unsure:
        named = ", ".join(f"{step_name(step)} ({signed(float(step.amount[0]))}{unit})" for step in unsure)
        chapters.append(Chapter("What is not significant", (f"{named[:1].upper()}{named[1:]}.",)))
    return chapters


def _plain(step: Step, walk: Walk, unit: str) -> str:
    name = step_name(step)
    if step.name == UNEXPLAINED and walk.from_words != BASELINE:
        name = f"what no term explained in {walk.from_words}"
    return f"{name[:1].upper()}{name[1:]} accounts for {signed(float(step.amount[0]))}{unit}."


def _brief(walk: Walk, unit: str) -> list[Chapter]:
    start, end, change = float(walk.start[0]), float(walk.end[0]), float(walk.change[0])
    inside = [percent(change / start)] if start > 0.0 and change else []
    inside += ["; ".join(walk.sure)] if walk.sure else []
    statements = f" ({', '.join(inside)})" if inside else ""
    head = (
        f"{walk.to_words} {number(end, 4)}{unit}, {walk.from_words} {number(start, 4)}: {signed(change, 4)}{statements}"
    )
    chapters = [Chapter("", (head, *walk.notes))]
    if walk.phases:
        for phase in walk.phases:
            steps = [step for step in walk.steps if step.phase == phase]
            amount = sum(float(step.amount[0]) for step in steps)
            if abs(amount) >= SMALL * abs(start):
                chapters.append(Chapter("", (f"{phase}: {signed(amount)}{unit}",)))
        return chapters
    lower, higher, unsure, plain = _sorted(walk)
    for word, steps in (("higher", higher), ("lower", lower)):
        for step in steps:
            sure = between_words(float(step.amount[0]), float(step.half[0]))
            line = f"{word}: {step.label} {signed(float(step.amount[0]))}{f' ({sure})' if sure else ''}"
            chapters.append(Chapter("", (line,)))
    if not np.isfinite([step.half[0] for step in (*lower, *higher)]).all():
        chapters.append(Chapter("", ("how sure these steps are is not known",)))
    if plain:
        amount = sum(float(step.amount[0]) for step in plain)
        where = f" {walk.from_words}" if walk.from_words != BASELINE else ""
        chapters.append(Chapter("", (f"not explained{where}: {signed(amount)}{unit}",)))
    if unsure:
        named = ", ".join(f"{step.label} {signed(float(step.amount[0]))}" for step in unsure)
        chapters.append(Chapter("", (f"not significant: {named}",)))
    return chapters


def _headline(walk: Walk, unit: str) -> str:
    start, end, change = float(walk.start[0]), float(walk.end[0]), float(walk.change[0])
    if change == 0.0:
        return f"The {walk.to_words} is {number(end, 4)}{unit}, the same as {walk.from_words}."
    side = "more" if change > 0.0 else "less"
    share = f" or {percent(abs(change) / start)[1:]}" if start > 0.0 else ""
    sure = f" ({'; '.join(walk.sure)})" if walk.sure else ""
    if walk.outcome is None and float(walk.total_half[0]) > abs(change):
        sure += "; that is not significant"
    if walk.outcome is not None and walk.outcome[0, 0] <= 0.0 <= walk.outcome[1, 0]:
        sure += "; so the outcome may be higher or lower"
    return (
        f"The {walk.to_words} is {number(end, 4)}{unit}: {number(abs(change), 4)}{unit}{share} {side} than "
        f"{walk.from_words}, {number(start, 4)}{sure}."
    )


def _sorted(walk: Walk) -> tuple[list[Step], list[Step], list[Step], list[Step]]:
    """Steps that lower, that raise, that is not significant, and those that no term makes.

    Steps of less than a thousandth of the start are left out.
    """
    lower: list[Step] = []
    higher: list[Step] = []
    unsure: list[Step] = []
    plain: list[Step] = []
    for step in walk.moved:
        if abs(step.amount[0]) < SMALL * abs(walk.start[0]):
            continue  # of no interest
        amount, half = float(step.amount[0]), float(step.half[0])
        if step.name in TECHNICAL:
            plain.append(step)
        elif half > abs(amount):
            unsure.append(step)
        else:
            (higher if amount > 0.0 else lower).append(step)
    return lower, higher, unsure, plain
