"""Writing files whole: everything is made first, written beside its place, then renamed."""

from __future__ import annotations

import hashlib
import json
import math
import os
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pandas as pd

from offing.base import InputError

#: A cell that starts with one of these is run as a formula by spreadsheets.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


@dataclass
class Bundle:
    """Files to be written into one folder together."""

    contents: dict[str, bytes] = field(default_factory=dict)

    def add(self, name: str, content: str | bytes) -> None:
        """Add a file by name; nothing is written yet."""
        self.contents[name] = content.encode() if isinstance(content, str) else content

    def write(self, folder: Path) -> list[Path]:
        """Write all files into `folder`, which is made if need be; other files in it are left alone.

        All are written beside their places before the first is renamed, so that a full disk leaves the old ones.

        Raises
        ------
        InputError
            If the folder cannot be made or written to.
        """
        beside: list[tuple[str, Path]] = []
        for name in self.contents:
            if (folder / name).is_dir():
                raise InputError(f"there is a folder called {name!r}", "Give another with --out.", file=str(folder))
        try:
            folder.mkdir(parents=True, exist_ok=True)
            for name, content in self.contents.items():
                handle, temporary = tempfile.mkstemp(prefix=f".{name}.", dir=folder)
                beside.append((temporary, folder / name))
                with os.fdopen(handle, "wb") as file:
                    file.write(content)
                # A temporary file is its maker's alone; results are for everyone whom the folder lets in.
                Path(temporary).chmod(0o644)
            for temporary, final in beside:
                Path(temporary).replace(final)
        except OSError as error:
            raise _unwritable(folder, error) from error
        finally:
            for temporary, _ in beside:
                Path(temporary).unlink(missing_ok=True)
        return [final for _, final in beside]


def made(folder: Path) -> Path:
    """A folder that is there afterwards.

    Raises
    ------
    InputError
        If it cannot be made.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise _unwritable(folder, error) from error
    return folder


def _unwritable(folder: Path, error: OSError) -> InputError:
    return InputError(f"the folder cannot be written to ({error.strerror})", "Give another with --out.",
                      file=str(folder))  # fmt: skip


def csv_text(rows: pd.DataFrame) -> str:
    """A table as CSV: full precision, empty where missing; an apostrophe before text that a spreadsheet would run."""
    text = [
        name
        for name in rows.columns
        if pd.api.types.is_string_dtype(rows[name]) or pd.api.types.is_object_dtype(rows[name])
    ]
    safe = rows.assign(**{name: rows[name].map(_safe) for name in text})
    return str(safe.to_csv(index=False, lineterminator="\n"))


def _safe(cell: object) -> object:
    return f"'{cell}" if isinstance(cell, str) and cell.startswith(_FORMULA) else cell


def json_text(value: Any) -> str:
    """A value as JSON, with null for what is not a finite number."""
    return json.dumps(_finite(value), indent=2, ensure_ascii=False, allow_nan=False) + "\n"


def _finite(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): _finite(each) for key, each in value.items()}
    if isinstance(value, (list, tuple)):
        return [_finite(each) for each in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def file_digest(path: Path) -> str:
    """SHA-256 of a file's bytes."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def frame_digest(frame: pd.DataFrame) -> str:
    """SHA-256 of a table's values, index and names."""
    digest = hashlib.sha256()
    digest.update(csv_text(frame.reset_index()).encode())
    return digest.hexdigest()
