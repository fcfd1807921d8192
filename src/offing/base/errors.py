"""The errors that a user can meet, and helpers that word them."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable
from functools import wraps
from inspect import Parameter, signature
from typing import ParamSpec, Self, TypeVar

P = ParamSpec("P")
R = TypeVar("R")


class OffingError(Exception):
    """Base of every error that Offing raises on purpose.

    Examples
    --------
    >>> import offing as of
    >>> issubclass(of.InputError, of.OffingError)
    True
    """


class InputError(OffingError, ValueError):
    """Something that the user gave is wrong: says where, what was found, and what to do.

    Parameters
    ----------
    found
        What is wrong, as a clause without a full stop.
    advice
        What to do about it, as a whole sentence.
    file, line, row, period, column, key, term
        Where it is, as far as known; they head the message in this order.

    Examples
    --------
    >>> from offing import InputError
    >>> print(InputError("found 'abc', which is not a number", file="a.csv", row=7, column="fare"))
    a.csv, row 7, column 'fare': found 'abc', which is not a number.
    """

    def __init__(
        self,
        found: str,
        advice: str = "",
        *,
        file: str | None = None,
        line: int | None = None,
        row: int | None = None,
        period: str | None = None,
        column: str | None = None,
        key: str | None = None,
        term: str | None = None,
    ) -> None:
        self.found, self.advice = found, advice
        self.file, self.line, self.row = file, line, row
        self.period, self.column, self.key, self.term = period, column, key, term
        super().__init__(found)

    def __str__(self) -> str:
        places = [
            self.file,
            None if self.line is None else f"line {self.line}",
            None if self.row is None else f"row {self.row}",
            None if self.period is None else f"period {self.period}",
            None if self.column is None else f"column {self.column!r}",
            None if self.key is None else f"key '{self.key}'",
            None if self.term is None else f"term '{self.term}'",
        ]
        where = ", ".join(place for place in places if place)
        end = "" if self.found.endswith("?") else "."
        what = f"{where}: {self.found}{end}" if where else f"{self.found[:1].upper()}{self.found[1:]}{end}"
        return f"{what} {self.advice}" if self.advice else what

    def __reduce__(self) -> tuple[object, ...]:
        # Exceptions pickle by their positional arguments; the places are in the instance's dictionary.
        return (InputError, (self.found, self.advice), self.__dict__)


def nearest(word: str, known: Iterable[str]) -> str:
    """Word a suggestion: the known word most like `word`, or all of them where none is alike."""
    known = [str(each) for each in known]
    # Case is a slip of its own: mape is MAPE. Of names that differ by case alone the nearest is still one of them.
    plain: dict[str, str] = {}
    for each in known:
        plain.setdefault(each.lower(), each)
    alike = difflib.get_close_matches(word, known, n=1, cutoff=0.6)
    alike = alike or [plain[each] for each in difflib.get_close_matches(word.lower(), list(plain), n=1, cutoff=0.6)]
    return f"Did you mean '{alike[0]}'?" if alike else f"Choose from: {', '.join(known) or 'none'}."


class Keywords:
    """A base of dataclasses whose wrong keywords are refused with the nearest right one.

    Examples
    --------
    >>> import offing as of
    >>> of.Season(harmonic=3)
    Traceback (most recent call last):
    offing.base.errors.InputError: Season has no parameter 'harmonic'. Did you mean 'harmonics'?
    """

    def __new__(cls, *_: object, **given: object) -> Self:
        """Check the keywords before the dataclass takes them."""
        known = [name for name, field in getattr(cls, "__dataclass_fields__", {}).items() if field.init]
        wrong = [key for key in given if key not in known]
        if wrong and known:
            raise InputError(f"{cls.__name__} has no parameter {wrong[0]!r}", nearest(wrong[0], known))
        return super().__new__(cls)


def checked_keywords(function: Callable[P, R]) -> Callable[P, R]:
    """The function, whose wrong keywords are refused with the nearest right one.

    Examples
    --------
    >>> import pandas as pd, offing as of
    >>> of.inspect(pd.DataFrame(), tagret="sold")
    Traceback (most recent call last):
    offing.base.errors.InputError: Inspect has no parameter 'tagret'. Did you mean 'target'?
    """
    parameters = signature(function).parameters.values()
    if any(each.kind is Parameter.VAR_KEYWORD for each in parameters):
        return function
    known = [each.name for each in parameters if each.name != "self" and each.kind is not Parameter.POSITIONAL_ONLY]

    @wraps(function)
    def call(*given: P.args, **named: P.kwargs) -> R:
        wrong = next((key for key in named if key not in known), None)
        if wrong is not None:
            raise InputError(f"{function.__name__} has no parameter {wrong!r}", nearest(wrong, known))
        return function(*given, **named)

    return call


def count(number: int, noun: str, plural: str = "") -> str:
    """Word a number of things: ``count(2, "week")`` is ``"2 weeks"``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"
