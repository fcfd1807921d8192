"""`archive`: an archive of forecasts by its file or address."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from offing.archiving.archive import Archive


def archive(place: str | Path) -> Archive:
    """An archive of forecasts, to be added to, listed and read.

    Parameters
    ----------
    place
        The path of an SQLite file, which is made when the first forecast is added; or the address of a database, such
        as ``postgresql+psycopg://host/name``, where it takes three tables whose names begin with ``offing_forecast``.

    Raises
    ------
    InputError
        If a file's folder is not there. What else is wrong is said on first use.

    Examples
    --------
    >>> import pathlib, tempfile, offing as of
    >>> print(of.archive(pathlib.Path(tempfile.mkdtemp()) / "forecasts.sqlite").sentence)
    forecasts.sqlite holds no forecast yet.
    """
    from offing.archiving.archive import Archive  # noqa: PLC0415  databases take a tenth of a second to load
    from offing.archiving.tables import Tables  # noqa: PLC0415

    return Archive(Tables.at(place))
