"""What a search has tried, kept in a database file, so that it can be stopped and taken up again."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import numpy as np

from offing.base import InputError
from offing.evaluation.search_space import Space
from offing.tables import Table


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
    """A SQLite file of what was tried; without a path one in memory.

    Raises
    ------
    InputError
        If the file is none of a search, or of another search than this.
    """

    def __init__(self, path: str | Path | None, mark: str) -> None:
        self.path = path
        try:
            self._base = sqlite3.connect(":memory:" if path is None else str(path))
            self._base.execute("CREATE TABLE IF NOT EXISTS search (mark TEXT NOT NULL)")
            self._base.execute(
                "CREATE TABLE IF NOT EXISTS tried (choice TEXT NOT NULL, folds INTEGER NOT NULL, score REAL, "
                "columns REAL, seconds REAL NOT NULL, why TEXT NOT NULL, PRIMARY KEY (choice, folds))"
            )
            rows = self._base.execute("SELECT mark FROM search").fetchall()
        except sqlite3.Error as error:
            raise InputError(f"cannot be used as a record ({error})", "Give another path.", file=str(path),
                             key="record") from error  # fmt: skip
        if not rows:
            self._base.execute("INSERT INTO search VALUES (?)", (mark,))
            self._base.commit()
        elif rows[0][0] != mark:
            self._base.close()
            raise InputError("it is the record of another search: of other data, choices or origins",
                             "Give another path, or remove the file.", file=str(path), key="record")  # fmt: skip

    def known(self) -> list[Tried]:
        """All that was tried, in that order."""
        rows = self._base.execute("SELECT choice, folds, score, columns, seconds, why FROM tried ORDER BY rowid")
        return [Tried(tuple(json.loads(choice)), folds, _number(score), _number(columns), seconds, why)
                for choice, folds, score, columns, seconds, why in rows]  # fmt: skip

    def add(self, tried: Sequence[Tried]) -> None:
        """Keep what was tried; either all of it is in the file, or nothing."""
        with self._base:
            self._base.executemany(
                "INSERT OR REPLACE INTO tried VALUES (?, ?, ?, ?, ?, ?)",
                [(json.dumps(each.digits), each.folds, _kept(each.score), _kept(each.columns), each.seconds, each.why)
                 for each in tried],
            )  # fmt: skip

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._base.close()


def mark_of(space: Space, series: Mapping[str, Mapping[str, Table]], asked: Sequence[Any]) -> str:
    """A fingerprint of data, choices and origins."""
    found = hashlib.sha256()
    found.update(repr((space.model, dict(space.choices), tuple(space.optional), tuple(asked))).encode())
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
