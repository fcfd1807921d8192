"""What a search has tried, kept in a file of JSON lines, so that it can be stopped and taken up again."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from offing.base import InputError
from offing.evaluation.search_space import Space
from offing.tables import Table

#: Of the record's lines.
_FORMAT = 1


@dataclass(frozen=True)
class Tried:
    """One candidate: its choice, on how many origins it was scored, the score, how many coefficients, how long.

    `score` is NaN where it could not be fitted, and `why` says why.
    """

    digits: tuple[int, ...]
    folds: int
    score: float
    columns: float
    seconds: float
    why: str = ""


class Record:
    """What was tried as JSON lines: which search it is, then a line a candidate; without a path it is kept in memory.

    A line is written whole or, where a run was killed while writing, cut off; what was cut off is tried again.

    Raises
    ------
    InputError
        If the file is none of a search, or of another search than this.
    """

    def __init__(self, path: str | Path | None, mark: str) -> None:
        self.path = path
        self._known: dict[tuple[tuple[int, ...], int], Tried] = {}
        if path is None:
            return
        try:
            lines = Path(path).read_text(encoding="utf-8").splitlines(keepends=True) if Path(path).exists() else []
            whole = [line for line in lines if line.endswith("\n")]
            if lines and (not whole or json.loads(whole[0]).get("search") != mark):
                raise InputError(
                    "it is the record of another search: of other data, choices or origins",
                    "Give another path, or remove the file.",
                    file=str(path),
                    key="record",
                )
            for line in whole[1:]:
                self._keep(_tried(json.loads(line)))
            if len(whole) < len(lines):
                Path(path).write_text("".join(whole), encoding="utf-8")
            if not whole:
                self._write([json.dumps({"format": _FORMAT, "search": mark})])
        except (OSError, ValueError, AttributeError, KeyError, TypeError) as error:
            raise InputError(
                f"cannot be used as a record ({error})", "Give another path.", file=str(path), key="record"
            ) from error

    def known(self) -> list[Tried]:
        """All that was tried, in that order."""
        return list(self._known.values())

    def add(self, tried: Sequence[Tried]) -> None:
        """Keep what was tried."""
        for each in tried:
            self._keep(each)
        self._write([json.dumps(_line(each), allow_nan=False) for each in tried])

    def _keep(self, tried: Tried) -> None:
        self._known[tried.digits, tried.folds] = tried

    def _write(self, lines: Sequence[str]) -> None:
        if self.path is not None:
            with Path(self.path).open("a", encoding="utf-8") as file:
                file.write("".join(f"{line}\n" for line in lines))


def _line(tried: Tried) -> dict[str, object]:
    return {
        "choice": list(tried.digits),
        "origins": tried.folds,
        "score": _kept(tried.score),
        "columns": _kept(tried.columns),
        "seconds": tried.seconds,
        "why": tried.why,
    }


def _tried(line: Mapping[str, Any]) -> Tried:
    return Tried(
        tuple(int(each) for each in line["choice"]),
        int(line["origins"]),
        _number(line["score"]),
        _number(line["columns"]),
        float(line["seconds"]),
        str(line["why"]),
    )


def mark_of(space: Space, series: Mapping[str, Mapping[str, Table]], requested: Sequence[Any]) -> str:
    """A fingerprint of data, choices and origins."""
    found = hashlib.sha256()
    found.update(repr((space.model, dict(space.choices), tuple(space.optional), tuple(requested))).encode())
    for name, tables in series.items():
        for source, table in tables.items():
            found.update(f"{name}/{source}/{table.axis.frequency}/{table.axis.first}".encode())
            for column, values in table.columns.items():
                found.update(column.encode() + np.ascontiguousarray(values).tobytes())
    return found.hexdigest()


def _number(value: float | None) -> float:
    return float("nan") if value is None else float(value)


def _kept(value: float) -> float | None:
    return None if value != value else float(value)  # noqa: PLR0124  NaN
