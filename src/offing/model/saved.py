"""Saved models: fits in an open file of their own, JSON that names types and runs nothing."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from offing.base import InputError, nearest
from offing.base.limits import MODEL_FILE
from offing.base.stored import Raw, decoded, encoded, kinds_of, stored_fields
from offing.base.stored_schema import array_schemas, schema_of
from offing.base.versions import versions
from offing.base.whole_file import write_whole
from offing.model.fitted import Fitted
from offing.model.stored_fit import StoredFit, learnt_type, register_terms, restored, stored
from offing.model.stored_table import StoredTable, TableStore
from offing.tables import Panel, Table
from offing.terms import Term

#: What such a file calls itself, and the version of what stands in it.
FORMAT, VERSION = "offing-model", 1
#: Where its JSON Schema is published: a name, not an address to be opened.
SCHEMA = "urn:offing:model:1"


@dataclass(frozen=True)
class StoredModels:
    """What a file of saved models holds.

    Attributes
    ----------
    tables
        The data that the fits draw on, each table once.
    fits
        The fits by name.
    plans
        Plans of drivers, by the source that each continues and the series, as places among the tables.
    study
        What the study asks for, without addresses of its sources; null for fits without a study.
    fingerprints
        The SHA-256 of each file of the study, and of the values of what was no file.
    """

    tables: tuple[StoredTable, ...]
    fits: Mapping[str, StoredFit]
    plans: Mapping[str, Mapping[str, int]]
    study: Raw
    fingerprints: Mapping[str, str]


@dataclass(frozen=True)
class Saved:
    """A file of saved models, as read: its fits by name, their plans by source, and what their study asks for."""

    fits: Mapping[str, Fitted]
    plans: Mapping[str, Table | Panel]
    study: dict[str, Any] | None
    fingerprints: Mapping[str, str]
    versions: Mapping[str, str]


def save_models(
    path: Path,
    fits: Mapping[str, Fitted],
    *,
    plans: Mapping[str, Table | Panel] | None = None,
    study: Mapping[str, Any] | None = None,
    fingerprints: Mapping[str, str] | None = None,
) -> None:
    """Write fits into one file, whole or not at all.

    Raises
    ------
    InputError
        If the file cannot be written, or a term is of a kind that no file could name.
    """
    store = TableStore()
    records = {name: stored(fit, store) for name, fit in fits.items()}
    ahead: dict[str, dict[str, int]] = {}
    for source, plan in (plans or {}).items():
        each = plan.tables if isinstance(plan, Panel) else {"": plan}
        ahead[source] = {series: store.place(table, [*table.columns, *table.texts]) for series, table in each.items()}
    content = encoded(StoredModels(store.stored, records, ahead, study, fingerprints or {}))  # type: ignore[arg-type]
    prints = {} if fingerprints else {each["name"]: _digest(each) for each in content["tables"]}
    content["fingerprints"] = {**content["fingerprints"], **prints}
    file = {"format": FORMAT, "version": VERSION, "made_with": versions(), "checksum": _digest(content)}
    text = json.dumps({**file, "content": content}, ensure_ascii=False, allow_nan=False, separators=(",", ":"))
    write_whole(path, (text + "\n").encode())


def load_models(path: str | Path) -> Saved:
    """Read a file of saved models; see `offing.load`.

    Raises
    ------
    InputError
        If it is no such file, was cut or edited, is of a later version, or holds what no model could be made of.
    """
    path = Path(path)
    file = _parsed(path)
    try:
        head = _head(file)
        register_terms()
        record: StoredModels = decoded(StoredModels, file["content"], "")
        tables = [each.table for each in record.tables]
        fits = {name: restored(each, tables) for name, each in record.fits.items()}
        plans: dict[str, Table | Panel] = {}
        for source, each in record.plans.items():
            own = {series: tables[_within(place, tables)] for series, place in each.items()}
            plans[source] = own[""] if "" in own else Panel(source, ("id",), own)
    except InputError as error:
        error.file = error.file or path.name
        raise
    except (ValueError, TypeError, KeyError, IndexError, ArithmeticError, RecursionError) as error:
        # The checksum fits, so that the file is as it was written; what stands in it still makes no model.
        raise InputError("what it holds makes no model", "Save the model again.", file=path.name) from error
    if not fits:
        raise InputError("there is no model in it", "Save the model again.", file=path.name)
    study = record.study if isinstance(record.study, dict) else None
    return Saved(fits, plans, study, record.fingerprints, head)


def _within(place: int, tables: list[Table]) -> int:
    if not 0 <= place < len(tables):
        raise InputError("a plan is of a table that is not there", "Save the model again.")
    return place


def _parsed(path: Path) -> Any:
    """The JSON of a file, its numbers finite."""
    try:
        size = path.stat().st_size
        if size > MODEL_FILE:
            raise InputError(
                f"it has {size:,} bytes, more than any model", f"Files have at most {MODEL_FILE:,}.", file=path.name
            )
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise InputError(f"there is no file {str(path)!r}", "Check the path.") from error
    except OSError as error:
        raise InputError(f"cannot be opened ({error.strerror})", file=str(path)) from error
    except UnicodeDecodeError as error:
        raise InputError("the text is not UTF-8", "Give a file that save has written.", file=path.name) from error
    try:
        return json.loads(text, parse_float=_finite, parse_constant=_finite)
    except InputError as error:
        error.file = path.name
        raise
    except json.JSONDecodeError as error:
        cut = not text.rstrip().endswith("}") and text[:1] in ("{", "")
        found = "the file ends in the middle" if cut else f"line {error.lineno}, column {error.colno} is not JSON"
        raise InputError(found, "Was it copied in full? Save the model again.", file=path.name) from error
    except (ValueError, RecursionError) as error:
        raise InputError("it is not a saved model", "Give a file that save has written.", file=path.name) from error


def _finite(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise InputError(f"found the number {text[:40]}, which is none that could be computed with", "Save again.")
    return value


def _head(file: Any) -> dict[str, str]:
    """The versions with which a file was made.

    Raises
    ------
    InputError
        If it is no file of models, of a later version, or not as it was written.
    """
    if not isinstance(file, dict) or file.get("format") != FORMAT:
        raise InputError("it is not a saved model", "Give a file that save has written.")
    if file.get("version") != VERSION:
        made = file.get("made_with")
        by = f" by Offing {made['offing']}" if isinstance(made, dict) and isinstance(made.get("offing"), str) else ""
        raise InputError(
            f"it is of version {file.get('version')!r}, written{by}, and this Offing reads version {VERSION}",
            "Update Offing, or save the model again.",
        )
    known = ("format", "version", "made_with", "checksum", "content")
    for name in (*file, *known):
        if name not in known:
            raise InputError(f"there is nothing called {name!r} in a saved model", nearest(name, known))
        if name not in file:
            raise InputError(f"'{name}' is missing", "Was it copied in full? Save the model again.")
    if file["checksum"] != _digest(file["content"]):
        raise InputError(
            "it was changed after it was saved: its checksum does not fit",
            "Change the study or the data instead, and save the model again.",
        )
    return decoded(dict[str, str], file["made_with"], "made_with")  # type: ignore[no-any-return]


def _digest(content: Any) -> str:
    """The SHA-256 of a content as JSON without white space, keys sorted."""
    text = json.dumps(content, sort_keys=True, ensure_ascii=True, allow_nan=False, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()


def model_schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of files of saved models.

    What a kind of term learns stands under ``learnt by KIND``; of kinds of terms in other packages nothing is said.
    """
    register_terms()
    records: dict[str, Any] = {}
    content = schema_of(StoredModels, records)
    learnt: dict[str, Any] = {}
    for name, kind in kinds_of(Term).items():
        if kind.__module__.startswith("offing."):
            learnt[f"learnt by {name}"] = {} if "of" in stored_fields(kind) else schema_of(learnt_type(kind), records)
    head = {
        "format": {"const": FORMAT},
        "version": {"const": VERSION},
        "made_with": {"type": "object", "additionalProperties": {"type": "string"}},
        "checksum": {"type": "string", "pattern": "^[0-9a-f]{64}$"},
        "content": content,
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": SCHEMA,
        "title": "Saved models of Offing",
        "type": "object",
        "properties": head,
        "required": list(head),
        "additionalProperties": False,
        "$defs": {**array_schemas(), **dict(sorted(records.items())), **learnt},
    }
