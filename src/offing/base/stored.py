"""Records as JSON and back, by the types that their fields declare: a file can name no class that no field expects."""

from __future__ import annotations

import math
import types
from collections.abc import Mapping, Sequence
from dataclasses import fields, is_dataclass
from datetime import date
from functools import cache
from inspect import isabstract
from pathlib import Path
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

import numpy as np
import pandas as pd

from offing.base.errors import InputError

#: Classes that may stand where a field declares what they are used as, by the name that a file gives them.
_KNOWN: dict[Any, dict[str, type]] = {}
#: The types of arrays, by the name that a file gives them.
ARRAYS = {"number": np.float64, "whole number": np.int64, "yes or no": np.bool_, "text": np.object_}
#: Numbers that JSON does not have.
BEYOND = {"inf": math.inf, "-inf": -math.inf, "nan": math.nan}


class Raw:
    """The declared type of what is stored as it is, and decoded once it is known what it must be."""


def storable(kind: Any, name: str, cls: type) -> None:
    """Let a class stand where a field declares `kind`, which is none of its bases."""
    _KNOWN.setdefault(kind, {})[name] = cls


def encoded(value: Any) -> Any:
    """A value as JSON has it: records with their ``type``, arrays with their shape, every number in full.

    Raises
    ------
    TypeError
        For what cannot be stored, such as a function.

    Examples
    --------
    >>> import numpy as np
    >>> from offing.base.stored import encoded
    >>> encoded((1, np.array([0.5, np.nan])))
    [1, {'type': 'array', 'of': 'number', 'shape': [2], 'values': [0.5, None]}]
    """
    if value is None or isinstance(value, (bool, np.bool_)):
        return None if value is None else bool(value)
    if isinstance(value, (int, np.integer)):
        return int(value)
    if isinstance(value, (float, np.floating)):
        return float(value) if math.isfinite(value) else {"type": "number", "is": _beyond(float(value))}
    if isinstance(value, (str, Path)):
        return str(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, np.ndarray):
        return _array(value)
    if isinstance(value, pd.DataFrame):
        return {"type": "table", "columns": {str(name): _cells(value[name]) for name in value}}
    if is_dataclass(value) and not isinstance(value, type):
        own = {name: encoded(getattr(value, name)) for name in stored_fields(type(value))}
        return {"type": name_of(type(value)), **own}
    if isinstance(value, Mapping):
        return {_key(name): encoded(each) for name, each in value.items()}
    if isinstance(value, (Sequence, frozenset)):
        return [encoded(each) for each in (sorted(value) if isinstance(value, frozenset) else value)]
    raise TypeError(f"a {type(value).__name__} cannot be stored")


def name_of(cls: type) -> str:
    """What a file calls a class."""
    return next((name for known in _KNOWN.values() for name, each in known.items() if each is cls), cls.__name__)


def decoded(kind: Any, stored: Any, at: str = "") -> Any:
    """A value of the declared type `kind`, from JSON; `at` is where it stands, for messages.

    Raises
    ------
    InputError
        If it is of another type, naming where.
    """
    if kind is Raw:
        return stored
    if kind in (Any, object):
        return _plain(stored, at)
    if kind is None or kind is type(None):
        return _must(stored is None, None, stored, "null", at)
    origin = get_origin(kind)
    if origin in (Union, types.UnionType):
        return _either(get_args(kind), stored, at)
    if origin is Literal:
        allowed = get_args(kind)
        fits = any(stored == each and type(stored) is type(each) for each in allowed)
        return _must(fits, stored, stored, f"one of {', '.join(map(str, allowed))}", at)
    if origin is np.ndarray:
        return _array_of(get_args(get_args(kind)[1])[0], stored, at)
    if isinstance(origin, type) and issubclass(origin, Mapping):
        name, each = get_args(kind)
        _must(isinstance(stored, dict), None, stored, "an object", at)
        return {decoded(name, key, at): decoded(each, value, f"{at}.{key}") for key, value in stored.items()}
    if isinstance(origin, type) and issubclass(origin, (Sequence, frozenset)):
        return _sequence(origin, get_args(kind), stored, at)
    return _single(kind, stored, at)


def _single(kind: Any, stored: Any, at: str) -> Any:
    """A number, a text, a table or a record."""
    if kind is bool:
        return _must(isinstance(stored, bool), stored, stored, "true or false", at)
    if kind is int:
        return _must(isinstance(stored, int) and not isinstance(stored, bool), stored, stored, "a whole number", at)
    if kind is float:
        if isinstance(stored, dict) and stored.keys() == {"type", "is"} and stored["is"] in BEYOND:
            return BEYOND[stored["is"]]
        fits = isinstance(stored, (int, float)) and not isinstance(stored, bool)
        return float(_must(fits, stored if fits else 0.0, stored, "a number", at))
    if kind is str or (isinstance(kind, type) and issubclass(kind, (str, Path, date))):
        return _must(isinstance(stored, str), stored, stored, "a text", at)
    if kind is pd.DataFrame:
        fits = isinstance(stored, dict) and stored.get("type") == "table" and isinstance(stored.get("columns"), dict)
        _must(fits, None, stored, "a table", at)
        columns = {name: decoded(tuple[Any, ...], cells, f"{at}.{name}") for name, cells in stored["columns"].items()}
        _must(len({len(each) for each in columns.values()}) < 2, None, stored, "columns of one length", at)
        return pd.DataFrame({name: list(cells) for name, cells in columns.items()})
    return _record(kinds_of(kind), stored, at)


def _record(kinds: Mapping[str, type], stored: Any, at: str) -> Any:
    fits = isinstance(stored, dict) and isinstance(stored.get("type"), str)
    name = _must(fits, stored["type"] if fits else "", stored, f"an object of type {_listed(kinds)}", at)
    cls = kinds.get(name)
    if cls is None:
        raise InputError(f"found the type {name!r}", f"Expected: {_listed(kinds)}.", key=at or None)
    hints = hints_of(cls)
    names = stored_fields(cls)
    for wrong in [*(each for each in stored if each not in ("type", *names)), *(n for n in names if n not in stored)]:
        found = f"'{wrong}' is missing" if wrong in names else f"there is nothing called {wrong!r} in a {name}"
        raise InputError(found, "Was the file written by another version of Offing?", key=at or None)
    values = {each: decoded(hints[each], stored[each], f"{at}.{each}".lstrip(".")) for each in names}
    try:
        return cls(**values)
    except InputError as error:
        raise InputError(error.found, error.advice, key=f"{at}.{error.key}" if error.key else at) from error
    except (TypeError, ValueError, KeyError, IndexError) as error:
        raise InputError(f"its values make no {name}", key=at or None) from error


def kinds_of(kind: Any) -> dict[str, type]:
    """The classes that may stand where a field declares `kind`, by the names that a file gives them."""
    if kind in _KNOWN:
        return _KNOWN[kind]
    if not isinstance(kind, type):
        return {}
    registered = {each for known in _KNOWN.values() for each in known.values()}
    own = [each for each in _lineage(kind) if is_dataclass(each) and not isabstract(each)]
    return {name_of(each): each for each in own if kind not in registered or each in registered}


def _lineage(kind: type) -> list[type]:
    children: list[type] = kind.__subclasses__()
    return [kind, *(each for child in children for each in _lineage(child))]


def stored_fields(cls: type) -> list[str]:
    """The fields of a record that are stored: not those that follow from others, nor those that say so."""
    return [each.name for each in fields(cls) if each.init and each.metadata.get("stored", True)]


@cache
def hints_of(cls: type) -> dict[str, Any]:
    """The declared types of a record's fields."""
    return get_type_hints(cls)


def _either(kinds: tuple[Any, ...], stored: Any, at: str) -> Any:
    """A value of the first of several types that it fits."""
    deepest: InputError | None = None
    for kind in kinds:
        try:
            return decoded(kind, stored, at)
        except InputError as error:
            # A fault far inside says more than that another kind would not fit either.
            if deepest is None or len(str(error.key or "")) > len(str(deepest.key or "")):
                deepest = error
    raise deepest or InputError("nothing fits", key=at or None)


def _sequence(origin: type, inner: tuple[Any, ...], stored: Any, at: str) -> Any:
    _must(isinstance(stored, list), None, stored, "a list", at)
    if origin is tuple and inner[-1:] != (Ellipsis,):
        _must(len(stored) == len(inner), None, stored, f"a list of {len(inner)}", at)
        return tuple(
            decoded(kind, each, f"{at}[{i}]") for i, (kind, each) in enumerate(zip(inner, stored, strict=True))
        )
    values = [decoded(inner[0], each, f"{at}[{i}]") for i, each in enumerate(stored)]
    if origin is list:
        return values
    return frozenset(values) if issubclass(origin, frozenset) else tuple(values)


def _plain(stored: Any, at: str) -> Any:
    """What no type is declared of: numbers, texts, lists and objects of these."""
    if isinstance(stored, list):
        return [_plain(each, f"{at}[{i}]") for i, each in enumerate(stored)]
    if isinstance(stored, dict):
        if stored.keys() == {"type", "is"} and stored["is"] in BEYOND:
            return BEYOND[stored["is"]]
        if stored.keys() == {"type", "columns"} and stored["type"] == "table":
            return decoded(pd.DataFrame, stored, at)
        return {name: _plain(each, f"{at}.{name}") for name, each in stored.items()}
    return stored


def _array(values: np.ndarray[Any, Any]) -> dict[str, Any]:
    kind = values.dtype.kind
    of = {"f": "number", "i": "whole number", "u": "whole number", "b": "yes or no"}.get(kind, "text")
    flat = values.ravel()
    cells = flat.tolist() if kind in "iub" else [str(each) for each in flat]
    if kind == "f":
        cells = flat.tolist()
        for place in np.flatnonzero(~np.isfinite(flat)).tolist():
            cells[place] = None if math.isnan(cells[place]) else _beyond(cells[place])
    return {"type": "array", "of": of, "shape": list(values.shape), "values": cells}


def _array_of(scalar: Any, stored: Any, at: str) -> np.ndarray[Any, Any]:
    of = next(name for name, each in ARRAYS.items() if issubclass(each, scalar) or issubclass(scalar, each))
    fits = isinstance(stored, dict) and stored.keys() == {"type", "of", "shape", "values"} and stored["of"] == of
    _must(fits, None, stored, f"an array of {of}s", at)
    shape, cells = stored["shape"], stored["values"]
    _must(isinstance(cells, list), None, cells, "a list", f"{at}.values")
    sizes = isinstance(shape, list) and all(isinstance(each, int) and each >= 0 for each in shape)
    _must(sizes and math.prod(shape) == len(cells), None, shape, f"a shape of {len(cells)} values", f"{at}.shape")
    allowed = {"number": (int, float), "whole number": (int,), "yes or no": (bool,), "text": (str,)}[of]
    if of == "number":
        cells = [
            math.nan if each is None else BEYOND.get(each, each) if isinstance(each, str) else each for each in cells
        ]
    wrong = next((i for i, each in enumerate(cells) if type(each) not in allowed), None)
    _must(wrong is None, None, cells[wrong or 0] if cells else None, f"a {of}", f"{at}.values[{wrong}]")
    try:
        return np.array(cells, dtype=scalar).reshape(shape)
    except OverflowError as error:
        raise InputError("a number is too large", key=at or None) from error


def _cells(column: pd.Series) -> list[Any]:
    """The cells of a table that a user gave, dates as ISO 8601 has them."""
    return [
        None if pd.isna(cell) else cell.isoformat() if isinstance(cell, date) else encoded(cell)
        for cell in column.tolist()
    ]


def _beyond(value: float) -> str:
    return "nan" if math.isnan(value) else "inf" if value > 0.0 else "-inf"


def _key(name: Any) -> str:
    if not isinstance(name, str):
        raise TypeError(f"{name!r} cannot be the name of a value")
    return str(name)


def _listed(kinds: Mapping[str, type]) -> str:
    return ", ".join(sorted(kinds))


def _must(fits: bool, value: Any, stored: Any, expected: str, at: str) -> Any:
    """The value, if it `fits`."""
    if fits:
        return value
    said = repr(stored)
    raise InputError(f"found {said if len(said) < 60 else said[:60] + ' …'}", f"Expected {expected}.", key=at or None)
