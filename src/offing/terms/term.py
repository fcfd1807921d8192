"""What a term is: `learn`, then `block`."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from offing.base import Finding, InputError
from offing.calendar import Axis
from offing.tables import View

Array = NDArray[np.float64]

#: Rows of results that are not terms; a term of this name could not be told from them.
RESERVED = ("baseline", "constant", "past surprises", "mean correction", "adjustment")


@dataclass(frozen=True)
class Readout:
    """Coefficients for people: `names` (m,) of the functions ``matrix @ beta``, with `matrix` (m, k)."""

    names: tuple[str, ...]
    matrix: Array


@dataclass(frozen=True)
class Block:
    """A term's columns (n, k) for some periods, NaN where an unknown value is needed, and their names (k,).

    `readout` is what the table of coefficients shows, where that is not the columns' own coefficients.
    """

    columns: Array
    names: tuple[str, ...]
    readout: Readout | None = None


@dataclass(frozen=True)
class Reference:
    """What a term's contributions are measured from: its value at `columns` (1, k) or (n, k), plus `offset`.

    None for `columns` stands for their mean over the fit's rows.
    """

    columns: Array | None
    offset: float = 0.0


class Term(ABC):
    """A piece of a model.

    `learn` sees only what the fit may see and returns a frozen state; `block` makes columns from it for any
    periods. A column holds no other statistic of the sample, so nothing can leak from later data.
    """

    name: str | None

    def __post_init__(self) -> None:
        if not self.name or not self.name.strip():
            raise InputError("a term needs a name", key="name")
        if self.name in RESERVED:
            raise InputError(
                f"{self.name!r} is the name of a row of the results and cannot name a term",
                f"Choose another name than {', '.join(RESERVED)}.",
                key="name",
            )

    @abstractmethod
    def learn(self, view: View) -> Any:
        """Learn from the periods ``view.rows`` what `block` needs."""

    @abstractmethod
    def block(self, view: View, axis: Axis, state: Any) -> Block:
        """Columns for the periods of `axis`."""

    @abstractmethod
    def reference_on(self, view: View, axis: Axis, state: Any) -> Reference:
        """What the contributions on `axis` are measured from."""

    @property
    @abstractmethod
    def measured_from(self) -> str:
        """The reference in words, as part of a list."""

    def first_unknown(self, view: View, axis: Axis) -> tuple[str, Axis] | None:
        """The first value that columns on `axis` need and nobody knows: its column of data and its period."""
        return None

    def remarks(self, view: View, state: Any) -> tuple[Finding, ...]:
        """What the analyst should know about the term in this fit."""
        return ()

    def needs(self) -> tuple[str, ...]:
        """The columns of data that this term looks at."""
        return ()

    def _set(self, **values: object) -> None:
        """Set fields of a frozen term while it is being made."""
        for key, value in values.items():
            object.__setattr__(self, key, value)


@contextmanager
def telling(term: Term) -> Iterator[None]:
    """Let an error that arises inside say which term it is about."""
    try:
        yield
    except InputError as error:
        error.term = error.term or term.name
        raise


def names_of(names: object, key: str) -> tuple[str, ...]:
    """A tuple of texts, from a list or a tuple of them."""
    if isinstance(names, str) or not isinstance(names, (list, tuple)):
        raise InputError(f"found {names!r}", "Give a list.", key=key)
    return tuple(str(each) for each in names)


def whole_numbers(numbers: object, key: str, least: int = 0) -> tuple[int, ...]:
    """A tuple of different whole numbers of at least `least`, from a list or a tuple of them."""
    if not isinstance(numbers, (list, tuple, range)) or any(
        isinstance(each, bool) or not isinstance(each, (int, np.integer)) or each < least for each in numbers
    ):
        raise InputError(f"found {numbers!r}", f"Give a list of whole numbers from {least} on.", key=key)
    if len(set(numbers)) != len(numbers):
        raise InputError(f"found {numbers!r}, which repeats a number", "Give each once.", key=key)
    return tuple(int(each) for each in numbers)
