"""The JSON Schema of records as they are stored, from the types that their fields declare."""

from __future__ import annotations

import types
from collections.abc import Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any, Literal, Union, get_args, get_origin

import numpy as np
import pandas as pd

from offing.base.stored import ARRAYS, BEYOND, Raw, hints_of, kinds_of, stored_fields


def schema_of(kind: Any, records: dict[str, Any]) -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a declared type; those of records are added to `records` by their names."""
    if kind in (Raw, Any, object):
        return {}
    origin, inner = get_origin(kind), get_args(kind)
    if origin in (Union, types.UnionType):
        return {"anyOf": [schema_of(each, records) for each in inner]}
    if origin is Literal:
        return {"enum": list(inner)}
    if origin is np.ndarray:
        scalar = get_args(inner[1])[0]
        of = next(name for name, each in ARRAYS.items() if issubclass(each, scalar) or issubclass(scalar, each))
        return {"$ref": f"#/$defs/array of {of}s"}
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return {"type": "object", "additionalProperties": schema_of(inner[1], records)}
    if isinstance(origin, type) and issubclass(origin, (Sequence, frozenset)):
        if origin is tuple and inner[-1:] != (Ellipsis,):
            each = [schema_of(one, records) for one in inner]
            return {"type": "array", "prefixItems": each, "minItems": len(each), "maxItems": len(each)}
        return {"type": "array", "items": schema_of(inner[0], records)}
    return _schema_of_single(kind, records)


def _schema_of_single(kind: Any, records: dict[str, Any]) -> dict[str, Any]:
    simple = {bool: "boolean", int: "integer", type(None): "null"}
    if kind in simple:
        return {"type": simple[kind]}
    if kind is float:
        beyond = {"properties": {"type": {"const": "number"}, "is": {"enum": list(BEYOND)}}}
        return {"anyOf": [{"type": "number"}, {"type": "object", "required": ["type", "is"], **beyond}]}
    if isinstance(kind, type) and issubclass(kind, (str, Path, date)):
        return {"type": "string"}
    if kind is pd.DataFrame:
        columns = {"type": "object", "additionalProperties": {"type": "array"}}
        return {"type": "object", "properties": {"type": {"const": "table"}, "columns": columns}}
    kinds = kinds_of(kind)
    for name, cls in kinds.items():
        if name not in records:
            records[name] = {}  # so that a record that holds its own kind comes to an end
            hints = hints_of(cls)
            own = {each: schema_of(hints[each], records) for each in stored_fields(cls)}
            records[name] = {
                "type": "object",
                "properties": {"type": {"const": name}, **own},
                "required": ["type", *own],
                "additionalProperties": False,
            }
    refs = [{"$ref": f"#/$defs/{name}"} for name in sorted(kinds)]
    return refs[0] if len(refs) == 1 else {"anyOf": refs}


def array_schemas() -> dict[str, Any]:
    """The schemas of arrays, by the names to which `schema_of` refers."""
    cells = {
        "number": {"anyOf": [{"type": ["number", "null"]}, {"enum": ["inf", "-inf"]}]},
        "whole number": {"type": "integer"},
        "yes or no": {"type": "boolean"},
        "text": {"type": "string"},
    }
    return {
        f"array of {of}s": {
            "type": "object",
            "properties": {
                "type": {"const": "array"},
                "of": {"const": of},
                "shape": {"type": "array", "items": {"type": "integer", "minimum": 0}},
                "values": {"type": "array", "items": cell},
            },
            "required": ["type", "of", "shape", "values"],
            "additionalProperties": False,
        }
        for of, cell in cells.items()
    }
