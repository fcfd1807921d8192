"""Writing files whole: everything is made first, written beside its place, then moved there together."""

from __future__ import annotations

import hashlib
import json
import math
import re
import shutil
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from offing.base import InputError, optional

#: What lists the files that belong together.
MANIFEST = "manifest.json"
#: How a folder begins into which a run writes, and ends when all is written.
_STAGED, _READY = ".offing-", ".ready"
#: What a cell with one of these in it is put in quotation marks for.
_PARTING = re.compile('[,"\n\r]')
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

        All are written whole into a hidden folder beside their places before the first is moved, so that a full disk
        leaves the old ones. ``manifest.json``, removed first and written last, lists what belongs together: while it is
        missing, or a file is not as it says, a run is unfinished. What a run that was killed has left behind is
        finished or removed by the next one.

        Raises
        ------
        InputError
            If the folder cannot be made or written to.
        """
        for name in (*self.contents, MANIFEST):
            if (folder / name).is_dir():
                raise InputError(f"there is a folder called {name!r}", "Give another with --out.", file=str(folder))
        files = {**self.contents, MANIFEST: manifest(self.contents)}
        try:
            folder.mkdir(parents=True, exist_ok=True)
            _finish_earlier(folder)
            staged = Path(tempfile.mkdtemp(prefix=_STAGED, dir=folder))
            try:
                for name, content in files.items():
                    # A temporary file is its maker's alone; results are for everyone whom the folder lets in.
                    (staged / name).write_bytes(content)
                    (staged / name).chmod(0o644)
                ready = folder / f"{staged.name}{_READY}"
                staged.rename(ready)
            except BaseException:
                shutil.rmtree(staged, ignore_errors=True)
                raise
            _move(ready, folder)
        except OSError as error:
            raise _unwritable(folder, error) from error
        return [folder / name for name in self.contents]


def manifest(contents: Mapping[str, bytes]) -> bytes:
    """The files that belong together, with the SHA-256 of each."""
    digests = {name: hashlib.sha256(content).hexdigest() for name, content in contents.items()}
    return json_text({"files": digests}).encode()


def whole(folder: Path) -> bool:
    """Whether the results in a folder are those of one run: all that its manifest lists, as it says.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> from offing.writers.files import Bundle, whole
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> files = Bundle({"forecast.csv": b"1"})
    >>> _ = files.write(folder)
    >>> before = whole(folder)
    >>> _ = (folder / "forecast.csv").write_text("2")
    >>> before, whole(folder)
    (True, False)
    """
    try:
        listed = json.loads((folder / MANIFEST).read_text(encoding="utf-8"))["files"]
        return all(file_digest(folder / name) == digest for name, digest in listed.items())
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return False


def _move(ready: Path, folder: Path) -> None:
    """Move all files of a run that is written whole to their places, the manifest last."""
    (folder / MANIFEST).unlink(missing_ok=True)
    for staged in sorted(ready.iterdir(), key=lambda each: each.name == MANIFEST):
        staged.replace(folder / staged.name)
    ready.rmdir()


def _finish_earlier(folder: Path) -> None:
    """What earlier runs left that were killed: moved to its place where all of it was written, else removed."""
    for left in sorted(folder.glob(f"{_STAGED}*")):
        if left.is_dir() and left.name.endswith(_READY):
            _move(left, folder)
        elif left.is_dir():
            shutil.rmtree(left, ignore_errors=True)


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
    return InputError(
        f"the folder cannot be written to ({error.strerror})", "Give another with --out.", file=str(folder)
    )


def csv_text(rows: pd.DataFrame) -> str:
    """A table as CSV: full precision, empty where missing; an apostrophe before text that a spreadsheet would run."""
    # A table of hours has a million numbers, of which pandas' own writer takes three times as long.
    head = [_quoted(str(name)) for name in rows.columns]
    cells = [_written(rows.iloc[:, i]) for i in range(len(head))]
    if len(head) == 1:
        cells = [[cell or '""' for cell in cells[0]]]  # an empty line would be no row
    return "\n".join([",".join(head), *map(",".join, zip(*cells, strict=True))]) + "\n"


def parquet(rows: pd.DataFrame) -> bytes:
    """A table as Parquet: numbers in full, no index.

    Raises
    ------
    InputError
        If the package that writes it is not installed.
    """
    optional("pyarrow", "parquet", 'format = "parquet"')
    content = BytesIO()
    rows.to_parquet(content, index=False)
    return content.getvalue()


def _written(column: pd.Series) -> list[str]:
    """The cells of a column as they stand in a file; a word is looked at once, however often it stands there."""
    if pd.api.types.is_float_dtype(column):
        return ["" if cell != cell else repr(cell) for cell in column.tolist()]  # noqa: PLR0124  NaN
    codes, once = pd.factorize(column)
    if pd.api.types.is_datetime64_any_dtype(column):
        once = pd.DatetimeIndex(once).astype(str)
    words = np.array([*(_quoted(_safe(cell)) for cell in once), ""], dtype=object)
    found: list[str] = words[codes].tolist()
    return found


def _safe(cell: object) -> str:
    return f"'{cell}" if isinstance(cell, str) and cell.startswith(_FORMULA) else str(cell)


def _quoted(cell: str) -> str:
    if _PARTING.search(cell) is None:
        return cell
    return '"' + cell.replace('"', '""') + '"'


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


def text_digest(text: str) -> str:
    """SHA-256 of a text as it is written to a file."""
    return hashlib.sha256(text.encode()).hexdigest()


def frame_digest(frame: pd.DataFrame) -> str:
    """SHA-256 of a table's values, index and names."""
    digest = hashlib.sha256()
    digest.update(csv_text(frame.reset_index()).encode())
    return digest.hexdigest()
