"""How likely: joint paths of a forecast, and what they say of thresholds, totals and capacities."""

from __future__ import annotations

from collections.abc import Callable

import pandas as pd

from offing.base.results import AHEAD, Entry, numbered, register
from offing.base.text import wrapped
from offing.explain.date_spans import Span
from offing.explain.what_if.paths import Exceedance, Paths, Side
from offing.model.forecast import AS_PLANNED
from offing.model.joint_simulation import Noise
from offing.model.rows import iso, keyed


def chance(
    joint: Callable[[Noise], Paths],
    threshold: float,
    *,
    side: Side = "above",
    total: bool = False,
    span: Span | None = None,
    noise: Noise = "normal",
) -> Exceedance:
    """How likely the outcome passes a threshold, in all periods or those of a span; see `Paths.reaching`.

    `joint` gives the paths of a kind of noise, which several thresholds share.

    Raises
    ------
    InputError
        As `Paths.within` and `Paths.reaching` do.
    """
    paths = joint(noise) if span is None else joint(noise).within(span)
    return paths.reaching(threshold, side=side, total=total)


def chance_rows(found: Exceedance) -> pd.DataFrame:
    """Rows of ``chances.csv``: one a period, or one of the total."""
    fit = found.paths.forecast.fit
    periods = iso(found.paths.axis.index, fit)
    rows = pd.DataFrame(
        {
            "threshold": found.threshold,
            "side": found.side,
            "of": "total" if found.total else "period",
            "period": periods[:1] if found.total else periods,
            "chance": found.by_period.to_numpy(),
            "first": found.first.to_numpy(),
        }
    )
    return keyed(rows, fit, AS_PLANNED)


register(
    Entry(
        "chances",
        title="How likely",
        of=lambda study, name: numbered(study.chances[name], always=True),
        text={"forecast": lambda found: wrapped(found.sentence)},
        figure_for=AHEAD,
        files={"chances": lambda found, _: chance_rows(found)},
        files_for=AHEAD,
        rank=33,
        options=chance,
        requests="chances",
    )
)
