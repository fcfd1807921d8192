"""What a search may choose: fields of terms and of the model, and which terms are in it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from math import prod
from typing import Any

import numpy as np

from offing.base import InputError, nearest
from offing.model import Model
from offing.terms import Term

#: Fields of a model that may be chosen; `terms` are chosen by name.
MODEL_FIELDS = (
    "scale",
    "offset",
    "errors",
    "order",
    "seasonal_lag",
    "loss",
    "half_life",
    "window",
    "transform",
    "treatments",
)
IN, OUT = "in", "out"


@dataclass(frozen=True)
class Space:
    """All combinations of stated choices.

    Parameters
    ----------
    model
        What the choices start from.
    choices
        Values to choose from, by ``TERM.FIELD`` or by a field of the model.
    optional
        Names of terms that may be left out.

    Raises
    ------
    InputError
        For an unknown term or field, or a choice without values.

    Examples
    --------
    >>> import offing as of
    >>> from offing.evaluation.search_space import Space
    >>> model = of.Model("sold", [of.Trend(), of.Season("year", harmonics=3)])
    >>> space = Space(model, {"season.harmonics": [1, 2], "scale": ["level", "log"]}, ["trend"])
    >>> space.size, space.named((1, 0, 1))
    (8, {'season.harmonics': 2, 'scale': 'level', 'trend': 'out'})
    """

    model: Model
    choices: Mapping[str, Sequence[Any]]
    optional: Sequence[str] = ()

    def __post_init__(self) -> None:
        terms = {str(term.name): term for term in self.model.terms}
        for name in self.optional:
            if name not in terms:
                raise InputError(f"there is no term {name!r}", nearest(name, terms), key="optional")
        for key, values in self.choices.items():
            if isinstance(values, str) or not len(values):
                raise InputError(f"found {values!r} for '{key}'", "Give a list of values.", key="choices")
            term, field = self._place(key)
            if term is None:
                if field not in MODEL_FIELDS:
                    known = [*MODEL_FIELDS, *(f"{name}." for name in terms)]
                    raise InputError(f"there is nothing called {key!r} to choose", nearest(key, known), key="choices")
                continue
            known = [each.name for each in fields(term) if each.name != "name"]  # type: ignore[arg-type]
            if field not in known:
                raise InputError(f"'{term.name}' has no {field!r}", nearest(field, known), key="choices")
        if not self.choices and not self.optional:
            raise InputError("there is nothing to choose", "Give choices, or optional terms.", key="choices")

    def _place(self, key: str) -> tuple[Term | None, str]:
        """The term and the field that a key means; no term for a field of the model."""
        name, _, field = key.rpartition(".")
        term = next((each for each in self.model.terms if each.name == name), None) if name else None
        return (None, key) if term is None else (term, field)

    @property
    def sides(self) -> tuple[int, ...]:
        """How many values each choice has."""
        return (*(len(values) for values in self.choices.values()), *(2 for _ in self.optional))

    @property
    def size(self) -> int:
        """How many combinations there are."""
        return prod(self.sides)

    def ordered(self, count: int | None, generator: np.random.Generator) -> Iterator[tuple[int, ...]]:
        """At most `count` combinations in an order drawn at random; first the model as stated, if it is one."""
        stated = self.stated()
        left = self.size if count is None else min(count, self.size)
        if stated is not None and left:
            yield stated
            left -= 1
        if self.size <= 1_000_000:
            places: Iterator[int] = iter(generator.permutation(self.size).tolist())
        else:
            places = _drawn(self.size, generator)
        while left:
            digits = tuple(int(each) for each in np.unravel_index(next(places), self.sides))
            if digits != stated:
                left -= 1
                yield digits

    def stated(self) -> tuple[int, ...] | None:
        """The combination that is the model as it stands, if it is one."""
        found = []
        for key, values in self.choices.items():
            term, field = self._place(key)
            own = getattr(self.model if term is None else term, field)
            at = next((i for i, value in enumerate(values) if _alike(value, own)), None)
            if at is None:
                return None
            found.append(at)
        return (*found, *(0 for _ in self.optional))

    def named(self, digits: Sequence[int]) -> dict[str, Any]:
        """What a combination chooses."""
        chosen = [values[i] for values, i in zip(self.choices.values(), digits, strict=False)]
        inside = [(IN, OUT)[i] for i in digits[len(self.choices) :]]
        return {**dict(zip(self.choices, chosen, strict=True)), **dict(zip(self.optional, inside, strict=True))}

    def built(self, digits: Sequence[int], cache: dict[tuple[str, tuple[Any, ...]], Term]) -> Model:
        """The model of a combination; terms that are chosen alike are the same ones, kept in the `cache`.

        Raises
        ------
        InputError
            If the choices do not go together.
        """
        own: dict[str, Any] = {}
        by_term: dict[str, list[tuple[str, int, Any]]] = {}
        for (key, values), i in zip(self.choices.items(), digits, strict=False):
            term, field = self._place(key)
            if term is None:
                own[field] = values[i]
            else:
                by_term.setdefault(str(term.name), []).append((field, i, values[i]))
        out = {name for name, i in zip(self.optional, digits[len(self.choices) :], strict=True) if i}
        terms = []
        for term in self.model.terms:
            name = str(term.name)
            if name in out:
                continue
            chosen = by_term.get(name)
            if chosen:
                place = (name, tuple((field, i) for field, i, _ in chosen))
                if place not in cache:
                    cache[place] = _with(term, {field: value for field, _, value in chosen})
                term = cache[place]  # noqa: PLW2901
            terms.append(term)
        return replace(self.model, terms=tuple(terms), **own)


def _with(term: Term, values: dict[str, Any]) -> Term:
    try:
        return replace(term, **values)  # type: ignore[type-var]
    except TypeError as error:
        raise InputError(f"'{term.name}' cannot have {values!r} ({error})", key="choices") from error


def _alike(value: Any, own: Any) -> bool:
    if isinstance(value, (list, tuple)) and isinstance(own, (list, tuple)):
        return len(value) == len(own) and all(_alike(one, other) for one, other in zip(value, own, strict=True))
    same = value == own
    return bool(same) if isinstance(same, (bool, np.bool_)) else False


def _drawn(size: int, generator: np.random.Generator) -> Iterator[int]:
    """Different whole numbers below a large one."""
    seen: set[int] = set()
    while True:
        place = int(generator.integers(size))
        if place not in seen:
            seen.add(place)
            yield place
