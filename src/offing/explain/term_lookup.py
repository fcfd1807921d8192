"""The term that a question is about."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from offing.base import InputError, nearest
from offing.base.results import by_name
from offing.model import Forecast
from offing.model.fitted import Fitted
from offing.terms import Term

Kind = TypeVar("Kind", bound=Term)


def term_named(fit: Fitted, kind: type[Kind], name: str | None, word: str) -> Kind:
    """The term of a kind that has the `name`, or the only one.

    Raises
    ------
    InputError
        If there is none, or several and none is named; `word` is what people call the kind.
    """
    found = {str(each.name): each for each in fit.model.terms if isinstance(each, kind)}
    if name is None and len(found) == 1:
        return next(iter(found.values()))
    if name is None:
        said = f"there are several {word}s" if found else f"the model has no {word}"
        raise InputError(said, nearest("", found), key="term")
    if name not in found:
        raise InputError(f"there is no {word} {name!r}", nearest(name, found), key="term")
    return found[name]


def of_terms(forecast: Forecast, kind: type[Term], answer: Callable[[Forecast, str], Any]) -> dict[str, Any]:
    """Answers about every term of a kind that has columns, as an entry's `of` gives them.

    A model of changes has none: what a term adds to a change is no path, and no cycle, of the target.
    """
    fit = forecast.fit
    if not fit.scale.plain or fit.own:
        return {}
    terms = [
        str(term.name)
        for term, block in zip(fit.model.terms, fit.rows.blocks, strict=True)
        if isinstance(term, kind) and (block.names or block.curve is not None)
    ]
    return by_name({name: answer(forecast, name) for name in terms})
