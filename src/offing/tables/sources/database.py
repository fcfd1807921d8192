"""SQL databases, through SQLAlchemy: a table, a view or a query with bound parameters."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import pandas as pd

from offing.base import InputError, nearest, optional
from offing.tables.layout import Report
from offing.tables.number_parsing import Marks
from offing.tables.sources.frames import FrameSource, plain_frame
from offing.tables.sources.reading_only import READERS, Other, Reader

#: Rows fetched at once: rows of Python objects take ten times the room of columns.
ROWS = 25_000


@dataclass(frozen=True)
class Database:
    """Rows of a table, view or query. Neither the address nor the query's text is ever shown: both may hold secrets."""

    url: str = field(repr=False)
    file: str
    table: str | None = None
    query: str | None = field(default=None, repr=False)
    parameters: Mapping[str, Any] = field(default_factory=dict, repr=False)
    folders: Sequence[str] = ()

    def whole(self) -> pd.DataFrame:
        """All rows."""
        with self._rows(None) as parts:
            found = list(parts)
        if not found or not sum(map(len, found)):
            raise InputError("there are no rows", file=self.file)
        return plain_frame(pd.concat(found, ignore_index=True), self.file)

    def sample(self) -> pd.DataFrame:
        """The first rows."""
        with self._rows(2000) as parts:
            first = next(parts, None)
        if first is None or first.empty:
            raise InputError("there are no rows", file=self.file)
        return plain_frame(first, self.file)

    def chunks(self, text: Sequence[str], numbers: Sequence[str], plain: bool) -> Iterator[tuple[pd.DataFrame, float]]:
        """Parts of some columns; how much is still to come the database does not say."""
        wanted = list(dict.fromkeys((*text, *numbers)))
        read = 0
        with self._rows(None, wanted) as parts:
            for part in parts:
                rows = plain_frame(part, self.file)[wanted]
                rows.index = rows.index + read
                read += len(part)
                yield rows, 1.0 - 1.0 / (1.0 + read / 1e6)

    def marks(self, cells: pd.DataFrame) -> Marks | None:
        """How numbers kept as text are written."""
        return FrameSource(cells, self.file).marks(cells)

    def report(self, report: Report) -> None:
        """Nothing is assumed."""

    @contextmanager
    def _rows(self, size: int | None, columns: Sequence[str] = ()) -> Iterator[Iterator[pd.DataFrame]]:
        """Frames of rows, through a cursor that the server holds where it can."""
        sql = optional("sqlalchemy", "sql", "a database")
        reader, engine = self._opened(sql)
        try:
            with engine.connect() as connection:
                if self.query is not None:
                    reader.check(sql, connection, self.query, self.parameters)
                yield _parts(reader.run(connection, self._statement(sql, engine, columns), self.parameters), size)
        except sql.exc.SQLAlchemyError as error:
            raise self._told(sql, engine, error) from None  # the chain would show the query and the address
        finally:
            engine.dispose()

    def _opened(self, sql: Any) -> tuple[Reader, Any]:
        try:
            url = sql.engine.make_url(self.url)
            reader = READERS.get(url.get_backend_name(), Other)(self.file)
            return reader, reader.engine(sql, url, self.folders)
        except InputError:
            raise
        except (sql.exc.ArgumentError, sql.exc.NoSuchModuleError, ValueError):  # a port that is no number is the last
            raise InputError(
                "the address of the database is not understood, or its driver is not installed",
                'Write it as "postgresql+psycopg://host/name", "sqlite:///file.db" or "duckdb:///file.duckdb"; '
                "drivers come with: pip install 'offing[sql]'.",
                file=self.file,
                key="database",
            ) from None
        except ImportError as error:
            raise InputError(
                f"the database's driver '{error.name}' is not installed",
                "Install it with: pip install 'offing[sql]'.",
                file=self.file,
            ) from None

    def _statement(self, sql: Any, engine: Any, columns: Sequence[str]) -> Any:
        chosen = [sql.column(name) for name in columns] or [sql.text("*")]
        if self.query is not None:
            return sql.text(self.query)
        schema, _, name = str(self.table).rpartition(".")
        return sql.select(*chosen).select_from(sql.table(name, schema=schema or None))

    def _told(self, sql: Any, engine: Any, error: Exception) -> InputError:
        """An error without the statement, its parameters and the address."""
        if self.query is not None and isinstance(getattr(error, "orig", error), sql.exc.InvalidRequestError):
            return InputError(
                "a parameter of the query has no value", "Give it in parameters.", file=self.file, key="parameters"
            )
        if self.table is not None:
            try:
                look = sql.inspect(engine)
                schema, _, name = self.table.rpartition(".")
                known = look.get_table_names(schema or None) + look.get_view_names(schema or None)
            except sql.exc.SQLAlchemyError:
                return InputError("the database cannot be reached", "Check its address.", file=self.file)
            if name not in known:
                return InputError(
                    f"there is no table {self.table!r}", nearest(name, known), file=self.file, key="table"
                )
        kind = type(getattr(error, "orig", error)).__name__
        return InputError(
            f"the database refuses ({kind})", "Try the address and the query in its own console.", file=self.file
        )


def _parts(result: Any, size: int | None) -> Iterator[pd.DataFrame]:
    """Frames of the rows of a result, only the first `size` if given."""
    names = list(result.keys())
    while rows := result.fetchmany(ROWS if size is None else size):
        # Plain tuples: pandas takes SQLAlchemy's rows cell by cell.
        yield pd.DataFrame.from_records([tuple(row) for row in rows], columns=names, coerce_float=True)
        if size is not None:
            return
