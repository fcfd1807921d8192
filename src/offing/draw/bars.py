"""One horizontal bar a driver or term, with its interval: effects, elasticities, shares, tests and gains."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from offing.base import InputError
from offing.base.arrays import Array
from offing.base.palette import FAINT, INK, QUIET, TERMS
from offing.base.text import number, percent, signed
from offing.draw.style import Picture, canvas, short, thousands
from offing.evaluation import Change, TermGain
from offing.explain import Importance, TermTests, VarianceShares
from offing.model import Effects, Elasticities
from offing.model.driver_effects import Effect

#: More bars cannot be read on one page; with fewer than five they would be as thick as blocks.
_MOST, _FEWEST = 24, 5


def draw_bars(
    title: str,
    caption: str,
    labels: Sequence[str],
    *,
    values: Array,
    words: Sequence[str],
    meaning: str,
    low: Array | None = None,
    high: Array | None = None,
) -> Picture:
    """A bar a label from zero to its value, `words` at its end, a line over its interval; the first on top."""
    if not len(labels):
        raise InputError("the model has no drivers or terms of this kind, so there is nothing to draw")
    picture, axes = canvas(title, caption, left=0.2, above=0.02)
    n = min(len(labels), _MOST)
    places = np.arange(n)[::-1]
    values = np.nan_to_num(values[:n])
    low, high = (values if each is None else each[:n] for each in (low, high))
    axes.barh(places, values, 0.46, color=TERMS[7])
    for place, value, start, end, word in zip(places, values, low, high, words, strict=False):
        if end > start:
            axes.plot([start, end], [place, place], color=INK, lw=2.2, solid_capstyle="butt")
            for at in (start, end):
                axes.plot([at, at], [place - 0.09, place + 0.09], color=INK, lw=2.2)
        outward = 1 if value >= 0 else -1
        axes.annotate(
            word,
            (max(end, value) if outward > 0 else min(start, value), place),
            xytext=(8 * outward, 0),
            textcoords="offset points",
            va="center",
            ha="left" if outward > 0 else "right",
            fontsize=10,
        )
    axes.axvline(0.0, color=QUIET, lw=1)
    axes.set_yticks(places, [_on_two_lines(label) for label in labels[:n]])
    axes.xaxis.grid(visible=True, color=FAINT, linewidth=0.8)
    axes.yaxis.grid(visible=False)
    axes.set_xlabel(meaning)
    thousands(axes.xaxis)
    # Words stand outside the bars, and a few bars are no thicker than many.
    axes.margins(x=max(0.22, 0.012 * max(map(len, words))))
    axes.set_ylim(n - max(n, _FEWEST) - 0.6, n - 0.4)
    return picture


def _on_two_lines(label: str) -> str:
    name, _, below = label.partition("\n")
    return f"{short(name, 26)}\n{below}" if below else short(name, 26)


def draw_effects(effects: Effects) -> Picture:
    """Effects of the drivers, the largest on top."""
    rows, unit = effects.effects, f" {effects.unit}" if effects.unit else ""
    if not rows:
        raise InputError("the model has no drivers, so there are no effects to draw")
    top = rows[0]
    return draw_bars(
        f"'{top.label}' changes {effects.target} most: {signed(top.change)}{unit}{_share(top)} in each "
        f"{effects.period}",
        "Each driver goes from its 10th to its 90th percentile over the fitted periods (no to yes for a flag), other "
        "drivers unchanged. The line spans the 95 % interval from the coefficients' uncertainty.",
        [f"{row.label}\n{row.span}" for row in rows],
        values=np.array([row.change for row in rows]),
        words=[f"{signed(row.change)}{_share(row)}" for row in rows],
        meaning=f"change of {effects.target} in each {effects.period}{f' ({effects.unit})' if effects.unit else ''}",
        low=np.array([row.low for row in rows]),
        high=np.array([row.high for row in rows]),
    )


def _share(effect: Effect) -> str:
    return f" ({percent(effect.share)})" if np.isfinite(effect.share) else ""


def draw_elasticities(found: Elasticities) -> Picture:
    """Elasticities, the largest on top."""
    order = np.argsort(-np.abs(np.nan_to_num(found.overall)))
    labels = [found.labels[i] for i in order]
    first = (
        f": 1 % more of it changes the target by {percent(0.01 * float(found.overall[order[0]]))}" if len(order) else ""
    )
    return draw_bars(
        f"'{labels[0]}' moves {found.target} most{first}" if labels else found.target,
        "By how many per cent the target changes when a driver is 1 % higher, over all fitted periods. The line spans "
        "the 95 % interval from the coefficients' uncertainty.",
        labels,
        values=found.overall[order],
        words=[signed(each, 2) for each in found.overall[order]],
        meaning="elasticity (% of the target per % of the driver)",
        low=found.low[order],
        high=found.high[order],
    )


def draw_shares(found: VarianceShares) -> Picture:
    """Shares of the variance, the largest on top."""
    order = np.argsort(-found.share)
    values = 100.0 * found.share[order]
    reach = 196.0 * found.error[order]
    return draw_bars(
        f"The terms together explain {100.0 * found.r_squared:.1f} % of the variation, "
        f"'{found.terms[order[0]]}' most of it"
        if found.terms
        else "The model has no terms",
        "Shares are averages over all orders in which terms can enter. A line, where there is one, spans twice the "
        "error from sampling orders.",
        [found.terms[i] for i in order],
        values=values,
        words=[f"{each:.1f} %" for each in values],
        meaning="share of the variation explained (%)",
        low=values - reach,
        high=values + reach,
    )


def draw_term_tests(found: TermTests) -> Picture:
    """What each term explains of what the others leave, with its test."""
    order = np.argsort(-np.nan_to_num(found.partial))
    values = 100.0 * found.partial[order]
    words = [
        found.why[i] or f"{values[k]:.1f} % (p {'< 0.001' if found.p[i] < 0.001 else f'= {found.p[i]:.3f}'})"
        for k, i in enumerate(order)
    ]
    sure = int((found.p < 0.05).sum())
    return draw_bars(
        f"{sure} of {len(found.terms)} terms are significant at 5 %, each beside all others",
        "Partial R²: the share of what all other terms leave that this one explains; p is of the joint F test of its "
        "columns.",
        [found.terms[i] for i in order],
        values=values,
        words=words,
        meaning="share of what the others leave (%)",
    )


def draw_importance(found: Importance) -> Picture:
    """What each term explains, with the part that no other does, and what it is worth ahead."""
    values = 100.0 * found.share
    gains = [f"; without it {percent(float(gain))}" if np.isfinite(gain) else "" for gain in found.gain]
    words = [
        f"{value:.1f} %, {100.0 * alone:.1f} % alone{gain}"
        for value, alone, gain in zip(values, found.alone, gains, strict=True)
    ]
    return draw_bars(
        f"'{found.labels[0]}' explains most of the variation: {values[0]:.1f} %" if found.labels else "No terms",
        "Bars: the share of the past's variation, averaged over all orders of the terms; 'alone' is what no other term "
        f"explains. 'Without it' is how {found.score or 'the error'} of past forecasts changes.",
        list(found.labels),
        values=values,
        words=words,
        meaning="share of the variation explained (%)",
    )


def draw_term_gain(found: TermGain) -> Picture:
    """By how much past forecasts are worse without each term."""
    values = 100.0 * found.table["change"].to_numpy()
    words = [
        f"{percent(value / 100.0)} (p {'< 0.001' if p < 0.001 else f'= {p:.2f}'})"
        for value, p in zip(values, found.table["p"], strict=True)
    ]
    return draw_bars(
        found.sentence.split(". ")[0].rstrip(".") + ".",
        f"How {found.score} of forecasts from {found.origins} past origins changes when a term is left out; above zero "
        "the term helps. p is one-sided.",
        found.table["term"].tolist(),
        values=values,
        words=words,
        meaning=f"change of {found.score} without the term (%)",
    )


def draw_change(found: Change) -> Picture:
    """Origin by origin, how the score changes from one version to the other."""
    values = 100.0 * found.by_origin["change"].to_numpy()
    words = [
        f"{number(before)} to {number(after)}"
        for before, after in zip(found.by_origin["before"], found.by_origin["after"], strict=True)
    ]
    return draw_bars(
        f"From '{found.before}' to '{found.after}': {found.score} {percent(found.share)} over all origins",
        f"{found.sentence} Below zero '{found.after}' is better.",
        [f"{day:%Y-%m-%d}" for day in found.by_origin.index],
        values=values,
        words=words,
        meaning=f"change of {found.score} by origin (%)",
    )
