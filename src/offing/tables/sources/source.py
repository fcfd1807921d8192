"""What a source is."""

from __future__ import annotations

import stat
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import pandas as pd

from offing.base import Finding, InputError
from offing.tables.layout import Report
from offing.tables.number_parsing import Marks

#: Rows of a chunk: large enough that pandas' overhead does not show, small enough that memory does not.
CHUNK = 500_000


class NotPlainError(ValueError):
    """A chunk that was to hold plain numbers holds something else; read again as text, the cell can be reported."""


class Source(Protocol):
    """Rows of named cells. The index of every frame holds the rows' numbers in the source."""

    @property
    def file(self) -> str:
        """What messages call it."""

    def whole(self) -> pd.DataFrame:
        """All cells, as text or as the source types them."""

    def sample(self) -> pd.DataFrame:
        """The first rows, to find out how they are written."""

    def chunks(self, text: Sequence[str], numbers: Sequence[str], plain: bool) -> Iterator[tuple[pd.DataFrame, float]]:
        """Parts of some columns, and the share of the source that has been read with each.

        With `plain`, numbers are converted while reading, which is fast; `NotPlainError` if that does not work.
        """

    def marks(self, cells: pd.DataFrame) -> Marks | None:
        """How numbers are written in `cells`; None where the source types them."""

    def report(self, report: Report) -> None:
        """Note what was assumed about the source."""


@dataclass(frozen=True)
class Opened:
    """How a file that must be there is opened: errors in words."""

    path: Path

    def bytes(self, size: int = -1) -> bytes:
        """The first bytes of the file, or all.

        Raises
        ------
        InputError
            If it is not there or cannot be opened.
        """
        try:
            if not stat.S_ISREG(self.path.stat().st_mode):
                kind = "a folder" if self.path.is_dir() else "a pipe or a device, which may never end"
                raise InputError(
                    f"{str(self.path)!r} is {kind}, no file", "Save the table as a file, and give its path."
                )
            with self.path.open("rb") as file:
                return file.read(size)
        except FileNotFoundError as error:
            raise InputError(f"there is no file {str(self.path)!r}", "Check the path.") from error
        except OSError as error:
            raise InputError(f"cannot be opened ({error.strerror})", "Check the path.", file=str(self.path)) from error


def titles_note(file: str, header: int) -> Finding:
    """The note on rows above the header, which are not read."""
    above = "row 1 holds a title" if header == 2 else f"rows 1 to {header - 1} hold titles"
    return Finding(
        "header", "note", f"{file}: {above}; the names are in row {header}.", advice=f"State header_row = {header}."
    )


def tidy_names(names: Sequence[object], file: str) -> list[str]:
    """Names of columns as text, stripped and all different; one without a name is called by its place.

    Raises
    ------
    InputError
        If two columns have one name.
    """
    stripped = ["" if unnamed(name) else str(name).strip() for name in names]
    tidy = [name or f"column {place}" for place, name in enumerate(stripped, 1)]
    for name in tidy:
        if tidy.count(name) > 1:
            raise InputError("two columns have this name", "Rename one.", file=file, column=name)
    return tidy


def unnamed(name: object) -> bool:
    """Whether a header's cell holds nothing."""
    return name is None or name != name or not str(name).strip()  # noqa: PLR0124  NaN
