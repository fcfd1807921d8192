"""The tables of an archive, in any database that SQLAlchemy knows, and one transaction at a time on them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd
import sqlalchemy as sa

from offing.archiving.archived import QUANTILES, ArchivedForecast, frequency_text
from offing.base import InputError
from offing.base.database import Writable

_META = sa.MetaData()
FORECASTS = sa.Table(
    "offing_forecasts",
    _META,
    sa.Column("id", sa.String(64), primary_key=True),
    *(sa.Column(name, sa.Text, nullable=False) for name in ("series", "model", "scenario", "target", "unit")),
    *(sa.Column(name, sa.Text, nullable=False) for name in ("frequency", "origin", "made_at", "version")),
)
VALUES = sa.Table(
    "offing_forecast_values",
    _META,
    sa.Column("id", sa.String(64), primary_key=True),
    sa.Column("period", sa.String(40), primary_key=True),
    sa.Column("horizon", sa.Integer, nullable=False),
    *(sa.Column(name, sa.Double) for name in ("forecast", *QUANTILES)),
)
SHARES = sa.Table(
    "offing_forecast_contributions",
    _META,
    sa.Column("id", sa.String(64), primary_key=True),
    sa.Column("period", sa.String(40), primary_key=True),
    sa.Column("term", sa.String(400), primary_key=True),
    sa.Column("label", sa.Text, nullable=False),
    *(sa.Column(name, sa.Double) for name in ("contribution", "low", "high")),
)


@dataclass(frozen=True)
class Tables(Writable):
    """An archive's database."""

    @classmethod
    def at(cls, place: str | Path) -> Tables:
        """The database of an address, or of an SQLite file of a path.

        Raises
        ------
        InputError
            If the path is a folder, or in none.
        """
        if isinstance(place, str) and "://" in place:
            return cls(place, "the archive", "archive")
        path = Path(place)
        if path.is_dir() or not path.parent.is_dir():
            what = "a folder" if path.is_dir() else "in a folder that is not there"
            raise InputError(f"the archive is {what}", "Give the path of a file.", file=path.name, key="archive")
        return cls(sa.URL.create("sqlite", database=str(path)).render_as_string(), path.name, "archive")

    @contextmanager
    def adding(self) -> Iterator[sa.Connection]:
        """A transaction on the archive's tables, which are made if need be."""
        with self.writing() as connection:
            for table in _META.sorted_tables:
                connection.execute(sa.schema.CreateTable(table, if_not_exists=True))
            self._check(connection)
            yield connection

    @contextmanager
    def reading(self) -> Iterator[sa.Connection | None]:
        """A connection that reads; None where nothing was archived yet."""
        if self.url.get_backend_name() == "sqlite" and not Path(self.url.database or "").exists():
            yield None  # SQLite would make the file
            return
        with self.connected() as connection:
            if sa.inspect(connection).has_table(FORECASTS.name):
                self._check(connection)
                yield connection
            else:
                yield None

    def _check(self, connection: sa.Connection) -> None:
        for table in _META.sorted_tables:
            self.check_columns(connection, table.name, table.columns.keys())


def known_ids(connection: sa.Connection) -> set[str]:
    """The forecasts that are there."""
    return set(connection.execute(sa.select(FORECASTS.c.id)).scalars())


def add(connection: sa.Connection, each: ArchivedForecast) -> None:
    """Add a forecast."""
    head = {name: getattr(each, name) for name in ("series", "model", "scenario", "target", "unit", "origin")}
    more = {"made_at": each.made_at, "version": each.version, "frequency": frequency_text(each.frequency)}
    connection.execute(sa.insert(FORECASTS), {"id": each.digest, **head, **more})
    for table, rows in ((VALUES, each.values), (SHARES, each.shares)):
        connection.execute(sa.insert(table), _records(rows.assign(id=each.digest)))


def _records(rows: pd.DataFrame) -> list[dict[str, Any]]:
    """Rows as drivers take them: plain numbers, nothing where one is missing."""
    plain = rows.astype(object).where(rows.notna(), None)
    return [{str(name): _native(cell) for name, cell in row.items()} for row in plain.to_dict("records")]


def _native(cell: Any) -> Any:
    return cell.item() if hasattr(cell, "item") else cell
