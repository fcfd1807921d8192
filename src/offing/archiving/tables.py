"""The tables of an archive, in any database that SQLAlchemy knows, and one transaction at a time on them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pandas as pd
import sqlalchemy as sa

from offing.archiving.archived import QUANTILES, ArchivedForecast, frequency_text
from offing.base import InputError

#: Seconds that a run waits for others that write.
_PATIENCE = 60
#: The number under which runs of PostgreSQL wait for each other.
_LOCK = 6_101_513

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
class Tables:
    """An archive's database. Its address is never shown: it may hold secrets."""

    address: str = field(repr=False)
    name: str

    @classmethod
    def at(cls, place: str | Path) -> Tables:
        """The database of an address, or of an SQLite file of a path."""
        if isinstance(place, str) and "://" in place:
            return cls(place, "the archive")
        path = Path(place)
        if path.is_dir() or not path.parent.is_dir():
            what = "a folder" if path.is_dir() else "in a folder that is not there"
            raise InputError(f"the archive is {what}", "Give the path of a file.", file=path.name, key="archive")
        return cls(sa.URL.create("sqlite", database=str(path)).render_as_string(hide_password=False), path.name)

    @contextmanager
    def writing(self) -> Iterator[sa.Connection]:
        """A transaction that may write; others that write wait for its end."""
        with self._connected() as engine, engine.connect() as connection:
            if connection.dialect.name == "sqlite":
                connection.exec_driver_sql("BEGIN IMMEDIATE")
            elif connection.dialect.name == "postgresql":
                connection.execute(sa.select(sa.func.pg_advisory_xact_lock(_LOCK)))
            for table in _META.sorted_tables:
                connection.execute(sa.schema.CreateTable(table, if_not_exists=True))
            self._check(connection)
            yield connection
            connection.commit()

    @contextmanager
    def reading(self) -> Iterator[sa.Connection | None]:
        """A connection that reads; None where nothing was archived yet."""
        url = sa.engine.make_url(self.address) if "://" in self.address else None
        if url is not None and url.get_backend_name() == "sqlite" and not Path(url.database or "").exists():
            yield None
            return
        with self._connected() as engine, engine.connect() as connection:
            if not sa.inspect(connection).has_table(FORECASTS.name):
                yield None
                return
            self._check(connection)
            yield connection

    @contextmanager
    def _connected(self) -> Iterator[sa.Engine]:
        try:
            url = sa.engine.make_url(self.address)
            waits = {"timeout": _PATIENCE} if url.get_backend_name() == "sqlite" else {}
            engine = sa.create_engine(url, connect_args=waits, poolclass=sa.NullPool)
        except (sa.exc.ArgumentError, sa.exc.NoSuchModuleError, ImportError, ValueError):
            raise InputError(
                "the address of the archive is not understood, or its driver is not installed",
                'Name a file, or write it as "postgresql+psycopg://host/name"; drivers come with: pip install '
                "'offing[sql]'.",
                key="archive",
            ) from None
        if engine.dialect.name == "sqlite":
            # Transactions begin where this says so, and not where the driver would.
            sa.event.listen(engine, "connect", lambda raw, _: setattr(raw, "isolation_level", None))
        try:
            yield engine
        except sa.exc.SQLAlchemyError as error:
            raise self._refused(error) from None  # the chain would show the address
        finally:
            engine.dispose()

    def _check(self, connection: sa.Connection) -> None:
        """Refuse tables of the same names that are none of an archive."""
        for table in _META.sorted_tables:
            # An empty answer names the columns in every database; not all can be asked for them otherwise.
            there = set(connection.execute(sa.select(sa.text("*")).select_from(sa.table(table.name)).limit(0)).keys())
            lacking = [each.name for each in table.columns if each.name not in there]
            if lacking:
                raise InputError(
                    f"its table {table.name!r} has no column {lacking[0]!r}, so that it is no archive of this version",
                    "Give another file or database.",
                    file=self.name,
                    key="archive",
                )

    def _refused(self, error: sa.exc.SQLAlchemyError) -> InputError:
        """An error without the statement, its parameters and the address."""
        said = str(getattr(error, "orig", error)).lower()
        if "locked" in said:
            found, advice = f"another program has held it for {_PATIENCE} seconds", "Close that, and run this again."
        elif "full" in said:
            found, advice = "its disk is full; nothing was added", "Make room, or give another place."
        elif "not a database" in said or "malformed" in said:
            found, advice = "it is no database", "Give another file, or remove this one."
        elif "readonly" in said or "read-only" in said or "unable to open" in said:
            found, advice = "it cannot be written to", "Give another place, or the right to write."
        else:
            found = f"the database refuses ({type(getattr(error, 'orig', error)).__name__})"
            advice = "Try its address in the database's own console."
        return InputError(found, advice, file=self.name, key="archive")


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
