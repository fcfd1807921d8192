"""Databases that are written to: opened, locked and let go, with errors that never show an address."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import sqlalchemy as sa

from offing.base.errors import InputError

#: Seconds that a run waits for others that write.
PATIENCE = 60
#: The number under which runs of PostgreSQL wait for each other.
_LOCK = 6_101_513


@dataclass(frozen=True)
class Writable:
    """A database by its address, which is never shown: it may hold secrets. Messages have its `name`, if any."""

    address: str = field(repr=False)
    name: str
    key: str

    @property
    def url(self) -> sa.URL:
        """Its address, taken apart.

        Raises
        ------
        InputError
            If it is none.
        """
        try:
            return sa.engine.make_url(self.address)
        except (sa.exc.ArgumentError, ValueError):  # a port that is no number is the last
            raise self._not_understood() from None

    @contextmanager
    def writing(self) -> Iterator[sa.Connection]:
        """One transaction; others that write wait for its end, and nothing stays of one that fails."""
        with self.connected() as connection:
            if connection.dialect.name == "sqlite":
                connection.exec_driver_sql("BEGIN IMMEDIATE")
            elif connection.dialect.name == "postgresql":
                connection.execute(sa.select(sa.func.pg_advisory_xact_lock(_LOCK)))
            yield connection
            connection.commit()

    @contextmanager
    def connected(self) -> Iterator[sa.Connection]:
        """A connection.

        Raises
        ------
        InputError
            For whatever the database refuses, without the statement and the address.
        """
        url = self.url
        try:
            waits = {"timeout": PATIENCE} if url.get_backend_name() == "sqlite" else {}
            engine = sa.create_engine(url, connect_args=waits, poolclass=sa.NullPool)
        except (sa.exc.ArgumentError, sa.exc.NoSuchModuleError, ImportError, ValueError):
            raise self._not_understood() from None
        if engine.dialect.name == "sqlite":
            # Transactions begin where `writing` says so, and not where the driver would.
            sa.event.listen(engine, "connect", lambda raw, _: setattr(raw, "isolation_level", None))
        try:
            with engine.connect() as connection:
                yield connection
        except sa.exc.SQLAlchemyError as error:
            raise self._refused(error) from None  # the chain would show the address
        finally:
            engine.dispose()

    def columns(self, connection: sa.Connection, table: str) -> list[str]:
        """The columns of a table, in its order."""
        # An empty answer names the columns in every database; not all can be asked for them otherwise.
        nothing = sa.select(sa.text("*")).select_from(named(table)).limit(0)
        return list(connection.execute(nothing).keys())

    def check_columns(self, connection: sa.Connection, table: str, wanted: Sequence[str]) -> None:
        """Refuse a table of that name that lacks a column.

        Raises
        ------
        InputError
            Naming the first.
        """
        there = self.columns(connection, table)
        lacking = [each for each in wanted if each not in there]
        if lacking:
            raise InputError(
                f"its table {table!r} has no column {lacking[0]!r}, so that it is another one than is written here",
                "Give another table, file or database.",
                file=self.name or None,
                key=self.key,
            )

    def _not_understood(self) -> InputError:
        return InputError(
            "the address of the database is not understood, or its driver is not installed",
            'Write it as "postgresql+psycopg://host/name", "sqlite:///file.db" or "duckdb:///file.duckdb"; drivers '
            "come with: pip install 'offing[sql]'.",
            file=self.name or None,
            key=self.key,
        )

    def _refused(self, error: sa.exc.SQLAlchemyError) -> InputError:
        """An error without the statement, its parameters and the address."""
        inner = getattr(error, "orig", error)
        said = str(inner).lower()
        if "locked" in said:
            found, advice = f"another program has held it for {PATIENCE} seconds", "Close that, and run this again."
        elif "is full" in said or "no space left" in said:
            found, advice = "its disk is full; nothing was added", "Make room, or give another place."
        elif "not a database" in said or "malformed" in said:
            found, advice = "it is no database", "Give another file, or remove this one."
        elif "readonly" in said or "read-only" in said or "unable to open" in said or "permission denied" in said:
            found, advice = "it cannot be written to", "Give another place, or the right to write."
        else:
            found = f"the database refuses ({type(inner).__name__})"
            advice = "Try its address and its tables in the database's own console."
        return InputError(found, advice, file=self.name or None, key=self.key)


def named(table: str) -> Any:
    """A table by its name, which may begin with that of a schema and a dot."""
    schema, _, name = table.rpartition(".")
    return sa.table(name, schema=schema or None)
