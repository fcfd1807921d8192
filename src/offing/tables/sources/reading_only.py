"""Databases opened for reading alone: by their own means, and one SELECT as their own parsers see it.

A study may come from someone else, and its query is run. What is more than one SELECT, changes anything, or reads files
is refused: by SQLite's authorizer, by DuckDB's parser in a database that is opened read-only without access to files,
and by PostgreSQL in a read-only session, which parses the query as that of a cursor.
"""

from __future__ import annotations

import json
import re
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

from offing.base import InputError, optional

#: What SQLite's authorizer may allow a SELECT: to select, to read columns, to call functions, to recurse.
_SQLITE = (sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_FUNCTION, sqlite3.SQLITE_RECURSIVE)
#: Functions that act outside the database, whatever the build of SQLite has of them.
_SQLITE_OUTSIDE = frozenset({"load_extension", "readfile", "writefile", "edit", "fts3_tokenizer", "fileio_ls", "lsdir"})
#: Functions of PostgreSQL that read files, run SQL from text, change settings or act on the server.
_POSTGRES_OUTSIDE = re.compile(
    r"\b(set_config|\w*_to_xml\w*|pg_read_\w*|pg_ls_\w+|pg_stat_file|pg_file_\w+|lo_\w+|lowrite|loread|dblink\w*"
    r"|pg_terminate_backend|pg_cancel_backend|pg_reload_conf|pg_rotate_logfile|pg_switch_wal|pg_promote|pg_create_\w+"
    r"|pg_drop_\w+|pg_logical_\w+|pg_replication_\w+|pg_export_snapshot|pg_notify|pg_sleep\w*|pg_advisory_\w+)\s*\(",
    re.IGNORECASE,
)


#: Fields of an error of PostgreSQL, and codes of errors about which running the query says more: an unknown table,
#: column or function, no permission, and a parameter whose type only its value shows.
_SQLSTATE, _MESSAGE = ord("C"), ord("M")
_LATER = ("42P01", "42703", "42883", "42501", "42P18", "3F000")


class Reader(ABC):
    """How one kind of database is opened for reading, and how a query is known to be one SELECT."""

    def __init__(self, file: str) -> None:
        self.file = file

    @abstractmethod
    def engine(self, sql: Any, url: Any, folders: Sequence[str]) -> Any:
        """An engine that can only read, and that does not make a database which is not there."""

    @abstractmethod
    def check(self, sql: Any, connection: Any, query: str, parameters: Mapping[str, Any]) -> None:
        """Refuse what is not one SELECT, before it is run."""

    def run(self, connection: Any, statement: Any, parameters: Mapping[str, Any]) -> Any:
        """The result of a statement, through a cursor that the server holds where it can."""
        streaming = connection.execution_options(stream_results=True, max_row_buffer=25_000)
        return streaming.execute(statement, dict(parameters))

    def refused(self, what: str) -> InputError:
        """The error of a query that is more than one SELECT."""
        return InputError(
            f"the query {what}", "Give one SELECT, which reads tables and views.", file=self.file, key="query"
        )

    def existing(self, path: str | None) -> Path:
        """The file of a database that must be there."""
        if not path or path == ":memory:":
            raise InputError("the address names no database file", "Give its path.", file=self.file, key="database")
        if not Path(path).is_file():
            raise InputError(
                f"there is no database {Path(path).name!r}", "Check the path.", file=self.file, key="database"
            )
        return Path(path)


class SQLite(Reader):
    """Opened with ``mode=ro``; the authorizer sees every action of the parsed statement."""

    def engine(self, sql: Any, url: Any, folders: Sequence[str]) -> Any:
        """A connection of its own for each use."""
        address = f"file:{quote(str(self.existing(url.database).resolve()))}?mode=ro"
        return sql.create_engine(
            "sqlite://", creator=lambda: sqlite3.connect(address, uri=True), poolclass=sql.pool.NullPool
        )

    def check(self, sql: Any, connection: Any, query: str, parameters: Mapping[str, Any]) -> None:
        """The authorizer checks while the query runs."""

    def run(self, connection: Any, statement: Any, parameters: Mapping[str, Any]) -> Any:
        """With the authorizer on duty until the result is read."""
        raw = connection.connection.driver_connection
        raw.set_authorizer(_allowed)
        try:
            return super().run(connection, statement, parameters)
        except Exception as error:
            orig = getattr(error, "orig", error)
            if "not authorized" in str(orig) or "prohibited" in str(orig):
                raise self.refused("does something other than read") from None
            if "one statement at a time" in str(orig):
                raise self.refused("holds more than one statement") from None
            raise


def _allowed(action: int, first: str | None, second: str | None, *_: object) -> int:
    outside = action == sqlite3.SQLITE_FUNCTION and str(second).lower() in _SQLITE_OUTSIDE
    return sqlite3.SQLITE_OK if action in _SQLITE and not outside else sqlite3.SQLITE_DENY


class DuckDB(Reader):
    """Opened read-only, without access to files beyond the stated folders; its own parser shows a SELECT."""

    def engine(self, sql: Any, url: Any, folders: Sequence[str]) -> Any:
        """A database in memory is of use with stated folders alone."""
        optional("duckdb", "sql", "a DuckDB database")
        memory = url.database in (None, "", ":memory:")
        if memory and not folders:
            raise InputError(
                "a database in memory holds nothing",
                "Give a file, or the folders that it may read.",
                file=self.file,
                key="database",
            )
        if not memory:
            self.existing(url.database)
        engine = sql.create_engine(url, connect_args={"read_only": not memory}, poolclass=sql.pool.NullPool)
        allowed = ", ".join("'" + f"{Path(each).resolve().as_posix()}/".replace("'", "''") + "'" for each in folders)

        def locked(connection: Any, _: Any) -> None:
            for setting in (
                f"allowed_directories = [{allowed}]",
                "enable_external_access = false",
                "autoinstall_known_extensions = false",
                "lock_configuration = true",
            ):
                connection.execute(f"SET {setting}")

        sql.event.listen(engine, "connect", locked)
        return engine

    def check(self, sql: Any, connection: Any, query: str, parameters: Mapping[str, Any]) -> None:
        """All statements of the text must be one, and that a SELECT."""
        duckdb = optional("duckdb", "sql", "a DuckDB database")
        text = str(sql.text(query).compile(dialect=connection.dialect))
        try:
            statements = duckdb.extract_statements(text)
        except duckdb.Error:
            raise self.refused("is not understood by the database") from None
        if len(statements) != 1:
            raise self.refused(f"holds {len(statements)} statements")
        if statements[0].type != duckdb.StatementType.SELECT:
            raise self.refused("does something other than read")


class PostgreSQL(Reader):
    """A read-only session, in which the server parses the query as that of a cursor: SELECT alone can be."""

    def engine(self, sql: Any, url: Any, folders: Sequence[str]) -> Any:
        """Every transaction of the session is read-only."""
        own = url.query.get("options", "")
        options = f"{own if isinstance(own, str) else ' '.join(own)} -c default_transaction_read_only=on".strip()
        return sql.create_engine(url.update_query_dict({"options": options}), poolclass=sql.pool.NullPool)

    def check(self, sql: Any, connection: Any, query: str, parameters: Mapping[str, Any]) -> None:
        """The extended protocol takes one statement only; a cursor no data-modifying WITH and no INTO."""
        # Numbered parameters are those of the protocol.
        dialect = sql.dialects.postgresql.dialect(paramstyle="numeric_dollar")
        text = str(sql.text(query).compile(dialect=dialect))
        raw = connection.connection.driver_connection
        result = raw.pgconn.prepare(b"", b"DECLARE offing_check NO SCROLL CURSOR FOR " + text.encode())
        code = (result.error_field(_SQLSTATE) or b"").decode()
        connection.rollback()
        if code and code not in _LATER:
            noted = (result.error_field(_MESSAGE) or b"").decode(errors="replace")
            several = "multiple commands" in noted
            raise self.refused(
                "holds more than one statement"
                if several
                else "does something other than read, or is not understood by the database"
            )
        plan = connection.execute(sql.text(f"EXPLAIN (VERBOSE, FORMAT JSON) {query}"), dict(parameters)).scalar()
        found = _POSTGRES_OUTSIDE.search(plan if isinstance(plan, str) else json.dumps(plan))
        if found:
            raise self.refused(f"calls {found.group(1)}(), which acts outside the tables")


class Other(Reader):
    """Any other database: its tables and views, since nothing is known of its queries."""

    def engine(self, sql: Any, url: Any, folders: Sequence[str]) -> Any:
        """As it is."""
        return sql.create_engine(url, poolclass=sql.pool.NullPool)

    def check(self, sql: Any, connection: Any, query: str, parameters: Mapping[str, Any]) -> None:
        """Only databases that can be held to reading run queries."""
        raise InputError(
            f"queries of a {connection.dialect.name} database are not run",
            "Give a table or a view.",
            file=self.file,
            key="query",
        )


#: Readers by the name of the database in its address.
READERS: dict[str, type[Reader]] = {"sqlite": SQLite, "duckdb": DuckDB, "postgresql": PostgreSQL}
