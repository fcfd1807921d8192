"""What ``explain`` shows of every fit beside its contributions: the same questions for each term of a kind."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from offing.explain import cycle, holiday_effects, indices, trend
from offing.model import Forecast
from offing.terms import Holidays, Season, Term, Trend

#: Kind of an answer, the terms that have it, and how it is asked.
_QUESTIONS: tuple[tuple[str, type[Term], Callable[[Forecast, str], Any]], ...] = (
    ("trend", Trend, trend),
    ("cycle", Season, lambda forecast, name: cycle(forecast.fit, name)),
    ("indices", Season, lambda forecast, name: indices(forecast.fit, name)),
    ("holidays", Holidays, holiday_effects),
)


def answers(forecast: Forecast) -> dict[str, dict[str, Any]]:
    """Answers by kind, then by the name of the term; a model of changes has none."""
    if not forecast.fit.scale.plain or forecast.fit.own:
        return {}
    found: dict[str, dict[str, Any]] = {}
    for kind, of, ask in _QUESTIONS:
        for term in _told(forecast, of):
            found.setdefault(kind, {})[str(term.name)] = ask(forecast, str(term.name))
    return found


def _told(forecast: Forecast, of: type[Term]) -> Iterator[Term]:
    """The terms of a kind that have columns at all."""
    for place, term in enumerate(forecast.fit.model.terms):
        block = forecast.fit.rows.blocks[place]
        if isinstance(term, of) and (block.names or block.curve is not None):
            yield term
