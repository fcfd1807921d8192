"""The screen of a draft: what was read, what was chosen and why, how good it was, what it says, what to answer."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence

import numpy as np

from offing.base import count
from offing.base.text import in_units, number, rounded, text_table
from offing.drafting.drafted import Drafted
from offing.evaluation.comparison import FEWEST, p_text, significance
from offing.model import Contributions, effects
from offing.tables import Panel, Table

#: How wide a line is, how many periods, drivers, findings and left-out columns are named.
WIDTH, _PERIODS, _DRIVERS, _FINDINGS, _OUT = 110, 13, 5, 4, 6


def screen(draft: Drafted) -> str:
    """One screen of words."""
    blocks = [
        _read(draft),
        _chosen(draft),
        _past(draft),
        _ahead(draft),
        _why(draft),
        _against(draft),
        _requested(draft),
    ]
    return "\n".join(line for block in blocks for text in block for line in _wrapped(text))


def _wrapped(text: str) -> list[str]:
    if "\n" in text:  # a table
        return text.splitlines()
    start = text[: len(text) - len(text.lstrip())]
    return textwrap.wrap(text, WIDTH, subsequent_indent=f"{start}  ", break_on_hyphens=False, break_long_words=False)


def _read(draft: Drafted) -> Iterator[str]:
    survey = draft.whole or draft.survey
    named = []
    for name, table in {**survey.tables, **{f"{of} (plan)": plan for of, plan in survey.plans.items()}}.items():
        first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
        series = f"{len(table):,} series, each such as " if isinstance(table, Panel) else ""
        named.append(f"{first.name} as '{name}' ({series}{first.axis.spell()})")
    if survey.guess is not None and survey.guess.days is not None:
        named.append(f"{survey.guess.days.name} as holidays")
    yield f"Read {'; '.join(named)}."
    axis, _ = draft.survey.span
    yield f"Target: {in_units(draft.survey.label, draft.survey.unit)}, {axis.spell()}."
    if draft.whole is not None:
        every = f"its terms are fitted to each of the {draft.whole.members} series"
        yield f"  Looked at in '{draft.series}', which has most values; {every}. See 'offing backtest' on the study."


def _chosen(draft: Drafted) -> Iterator[str]:
    choice, model = draft.choice, draft.model
    if choice.past is None:
        wanders = choice.shown.structure.trend is not None
        words = choice.shown.structure.words if wanders else "the mean of the past"
        season = ", with the season" if choice.shown.seasons else ""
        yield f"Chosen: {words}{season}, as {choice.remarks[0]}. Nothing else can be judged."
        return
    scale = choice.shown.scale.words if model.scale == choice.shown.scale.name else f"{model.scale} scale"
    yield f"Chosen by past forecasts among {count(len(choice.scored), 'candidate')}: {scale};"
    trend = draft.reason("trend") or choice.shown.structure.words
    if not draft.is_choice:
        trend = "a trend" if any(term.name == "trend" for term in model.terms) else "no trend"
    yield f"  {trend};"
    for term in model.terms:
        if str(term.name) != "trend":
            yield f"  {draft.reason(str(term.name))}."
    if model.window is not None:
        yield f"  {draft.reason('window') or f'Learnt from the newest {model.window} periods alone'}."
    out = draft.left_out
    if out:
        named = [f"{name} ({why})" for name, _, why in out[:_OUT]]
        more = f"; and {len(out) - _OUT} more" if len(out) > _OUT else ""
        yield f"  Left out: {'; '.join(named)}{more}."
    for remark in choice.remarks:
        yield f"  {remark[:1].upper()}{remark[1:].rstrip('.')}."
    if choice.stopped:
        yield f"  {choice.stopped}"


def _past(draft: Drafted) -> Iterator[str]:
    found = draft.comparison
    if found is None or draft.backtest is None:
        return
    unit = f" {draft.survey.unit}" if draft.survey.unit else ""
    name = draft.model.name
    own = float(found.overall[name])
    cuts = draft.backtest.cuts()
    days = [f"{day:%Y-%m-%d}" for day in cuts.origins]
    period = draft.survey.span[0].frequency.unit
    over = f"{count(len(days), 'origin')} in the past, {days[0]} to {days[-1]}" if len(days) > 1 else days[0]
    yield f"From {over}, its forecasts of {count(draft.horizon, period)} missed by {number(own)}{unit} on average."
    ahead = draft.reference
    if ahead is not None:
        theirs = float(found.overall[ahead])
        if own < theirs:
            p = found.test(name, ahead).p
            sure = f"p {p_text(p, equal=True)}, {significance(p)}"
            if len(found.losses) < FEWEST or not np.isfinite(p):
                sure = "too few origins for a test"
            gain = f"{100.0 * (1.0 - own / theirs):.0f} % less" if theirs > 0.0 else "less"
            yield f"  The best plain reference, '{ahead}', missed by {number(theirs)}: the draft by {gain} ({sure})."
        else:
            plain = draft.reference_forecast
            following = "" if plain is None else f", its next value being {number(float(plain[0]), 4)}"
            yield (
                f"  This history does not support more than the plain reference '{ahead}', which missed by "
                f"{number(theirs)}: prefer that{following}."
            )
    if draft.weights:
        other = float(found.overall["combination"])
        yield (
            f"  Combined with {count(len(draft.members), 'other model')} that did nearly as well, it missed by "
            f"{number(other)}: where the number alone counts, take the combination; explained is the single model."
        )


def _ahead(draft: Drafted) -> Iterator[str]:
    forecast = draft.forecast
    table = forecast.table
    low, high = ("q0.1", "q0.9")
    yield f"Forecast of {draft.survey.label}, {forecast.axis.spell()}, with the interval that holds 80 %:"
    n = forecast.axis.n
    places = sorted({round(x) for x in np.linspace(0, n - 1, min(n, _PERIODS))})
    labels = [forecast.axis.labels()[i] for i in places]
    columns = [labels, *([rounded(table[name])[i] for i in places] for name in ("forecast", low, high))]
    heads = [forecast.axis.frequency.unit, "forecast", "80 % from", "to"]
    if draft.combination is not None:
        columns.append([rounded(draft.combination.mean)[i] for i in places])
        heads.append("combination")
    yield text_table(heads, columns)


def _why(draft: Drafted) -> Iterator[str]:
    drivers = [str(term.name) for term in draft.model.drivers]
    if not drivers:
        return
    if draft.fit.scale.plain:
        noted = effects(draft.fit)
        yield from [noted.heading, *(f"  {line}" for line in noted.lines[:_DRIVERS])] if noted.effects else []
    else:
        yield from _by_changes(draft.forecast.contributions, drivers[:_DRIVERS])
    if draft.expects:
        names = ", ".join(name.partition(".")[2] or name for name in draft.expects)
        yield f"  No plan says what comes of {names}: models of their own do, and the band counts that. See --plan."


def _by_changes(found: Contributions, drivers: Sequence[str]) -> Iterator[str]:
    """What drivers do to a target whose changes are fitted: an effect lasts, so that only its path ahead shows it."""
    yield f"Ahead, each driver moves {found.target} on average, beside changing as it usually did, by:"
    width = max(map(len, drivers))
    for name, row in zip(found.labels, found.values[1:], strict=True):
        if name in drivers:
            yield f"  {name:<{width}}  {'+' if row.mean() >= 0.0 else '−'}{number(abs(float(row.mean())), 3)}"


def _against(draft: Drafted) -> Iterator[str]:
    found = draft.findings
    if not found:
        return
    yield "What speaks against it, after all that was tried:"
    for each in found[:_FINDINGS]:
        yield f"  {each.message} {tried_for(draft, each.check)}".rstrip()
    if len(found) > _FINDINGS:
        yield f"  And {count(len(found) - _FINDINGS, 'more remark')}: see findings.json."


#: What a draft tries against each finding, by the beginning of the check's name.
_ANSWERS = {
    "unexplained step": "A dated step was tried at the clearest place.",
    "unexplained pulse": "If you know what happened there, add an event.",
    "drift": "Wandering levels, slopes that change and changes were tried.",
    "autocorrelation": "Noise that carries on, wandering levels and changes were tried.",
    "lasting": "Noise that carries on, wandering levels and seasons that drift were tried.",
    "uneven": "Both scales were tried.",
    "coverage": "Intervals are not narrowed on the errors that chose the model.",
    "identity": "The column says what the target is: leave it out with a study of your own.",
}


def tried_for(draft: Drafted, check: str) -> str:
    """What was tried against a finding."""
    return next((words for start, words in _ANSWERS.items() if check.startswith(start)), "")


def _requested(draft: Drafted) -> Iterator[str]:
    requested = draft.questions
    if requested:
        yield "To be answered:"
        for i, each in enumerate(requested, 1):
            yield f"  {i}. {each}"
