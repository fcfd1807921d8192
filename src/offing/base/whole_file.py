"""Writing one file whole: beside its place first, so that a full disk or a crash leaves the old one."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from offing.base.errors import InputError


def write_whole(path: Path, content: bytes) -> None:
    """Write a file in one step.

    Raises
    ------
    InputError
        If it cannot be written; what was there before stays.
    """
    if path.is_dir():
        raise InputError("there is a folder of that name", "Give the name of a file.", file=str(path))
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, beside = tempfile.mkstemp(prefix=f".{path.name[:80]}-", dir=path.parent)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(content)
            Path(beside).chmod(0o644)  # a temporary file is its maker's alone
            Path(beside).replace(path)
        except BaseException:
            Path(beside).unlink(missing_ok=True)
            raise
    except OSError as error:
        hint = "Close it where it is open, or give another place."
        advice = hint if isinstance(error, PermissionError) else "Give another place."
        raise InputError(f"cannot be written ({error.strerror})", advice, file=str(path)) from error
