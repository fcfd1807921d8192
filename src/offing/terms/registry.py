"""Every kind of term by the name that a study gives it, those of other packages included."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import is_dataclass
from functools import cache
from importlib.metadata import entry_points
from typing import TypeVar

from offing.base import InputError
from offing.terms.category import Category
from offing.terms.driver import Driver
from offing.terms.event import Event
from offing.terms.holidays import Holidays
from offing.terms.interaction import Interaction
from offing.terms.own_lags import OwnLags
from offing.terms.season import Season
from offing.terms.term import Term
from offing.terms.trend import Trend
from offing.terms.working_time import WorkingTime

Kind = TypeVar("Kind", bound=type[Term])

#: What installed packages call the group of their terms.
GROUP = "offing.terms"

TERMS: dict[str, type[Term]] = {
    "trend": Trend,
    "season": Season,
    "holidays": Holidays,
    "working-time": WorkingTime,
    "event": Event,
    "driver": Driver,
    "category": Category,
    "own-lags": OwnLags,
    "interaction": Interaction,
}


def register_term(name: str, kind: Kind) -> Kind:
    """Let studies use a class of terms that is defined elsewhere, by a name.

    An installed package does the same with an entry point of the group ``offing.terms``. A study only ever states the
    name: no file can bring in code.

    Parameters
    ----------
    name
        What ``type = "…"`` of a study's terms says: small letters, digits and dashes.
    kind
        A frozen dataclass that is a `Term`. Its fields are the keys of the study.

    Raises
    ------
    InputError
        If the name is of another form or taken, or the class is no term.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> from dataclasses import dataclass
    >>> from offing.terms import Block, Reference, Term
    >>> @dataclass(frozen=True)
    ... class Tide(Term):
    ...     name: str = "tide"
    ...     days: float = 14.765
    ...     measured_from = "the middle of the tide"
    ...     def learn(self, view):
    ...         return None
    ...     def block(self, view, axis, state):
    ...         turns = 2 * np.pi * axis.ordinals / self.days
    ...         return Block(np.column_stack([np.sin(turns), np.cos(turns)]), ("sin", "cos"))
    ...     def reference_on(self, view, axis, state):
    ...         return Reference(np.zeros((1, 2)))
    >>> _ = of.register_term("tide", Tide)
    >>> days = pd.date_range("2024-01-01", periods=90, freq="D")
    >>> noise = np.random.default_rng(1).normal(size=90)
    >>> sold = pd.Series(50.0 + 5.0 * np.sin(2 * np.pi * np.arange(90) / 14.765) + noise, days, name="sold")
    >>> fit = of.Model("sold", terms=[Tide()]).fit(sold)
    >>> bool(abs(np.hypot(*fit.coefficients["coefficient"][1:3]) - 5.0) < 0.3)
    True
    """
    if re.fullmatch(r"[a-z][a-z0-9-]*", name) is None:
        raise InputError(f"found {name!r}", "Name terms with small letters, digits and dashes.", key="name")
    if not _is_term(kind):
        raise InputError(
            f"{kind!r} is not a term", "Give a frozen dataclass derived from offing.terms.Term.", key="kind"
        )
    if TERMS.get(name, kind) is not kind:
        raise InputError(
            f"there is a term {name!r} already: {TERMS[name].__qualname__}", "Choose another name.", key="name"
        )
    TERMS[name] = kind
    return kind


def _is_term(given: object) -> bool:
    return isinstance(given, type) and issubclass(given, Term) and is_dataclass(given)


def term_kinds() -> Mapping[str, type[Term]]:
    """All kinds of terms by name; those of installed packages are looked for once."""
    _load_installed()
    return TERMS


@cache
def _load_installed() -> None:
    for each in entry_points(group=GROUP):
        register_term(each.name, each.load())
