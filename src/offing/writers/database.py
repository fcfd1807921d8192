"""Results into tables of a database, all in one transaction, replaced by their keys."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pandas as pd
import sqlalchemy as sa

from offing.base.database import Writable

#: The columns that say which row is which, by the file of the contract; the first six are there in all that have them.
KEYS = {
    "forecast": ("series", "model", "scenario", "origin", "period"),
    "contributions": ("series", "model", "scenario", "origin", "period", "term"),
    "scores": ("series", "model", "scenario", "basis", "set", "origin", "horizon", "season", "score"),
}
#: Columns of moments: dates, or times where periods are hours.
_MOMENTS = ("origin", "period")


def write_tables(address: str, table: str, rows: Mapping[str, pd.DataFrame]) -> dict[str, int]:
    """Write rows into the tables ``TABLE_forecast``, ``TABLE_contributions`` and ``TABLE_scores``.

    Tables are made where they are not there; of tables that are there the columns must be. A row with the key of one
    that is there replaces it; all rows are written, or none.

    Returns
    -------
    dict
        How many rows were written, by table.

    Raises
    ------
    InputError
        If the database cannot be reached or refuses, or a table has other columns. No address is shown.
    """
    database, written = Writable(address, "", "output.database"), {}
    with database.writing() as connection:
        for name, stated in rows.items():
            own, frame = f"{table}_{name}", _typed(stated)
            target = _table(own, frame)
            connection.execute(sa.schema.CreateTable(target, if_not_exists=True))
            database.check_columns(connection, own, target.columns.keys())
            keys = [each for each in KEYS[name] if each in frame]
            _replace(connection, target, keys, list(_records(frame, target)))
            written[own] = len(frame)
    return written


def _table(name: str, frame: pd.DataFrame) -> sa.Table:
    schema, _, own = name.rpartition(".")
    columns = [sa.Column(str(each), _type(str(each), frame[each])) for each in frame]
    return sa.Table(own, sa.MetaData(), *columns, schema=schema or None)


def _typed(frame: pd.DataFrame) -> pd.DataFrame:
    """The rows with horizons as numbers, and none where a score is of all: files have an empty text there."""
    if "horizon" not in frame or pd.api.types.is_integer_dtype(frame["horizon"]):
        return frame
    cells = [int(cell) if str(cell).isdecimal() else None for cell in frame["horizon"]]
    return frame.assign(horizon=pd.array(cells, dtype="Int64"))


def _type(name: str, values: pd.Series) -> Any:
    if name in _MOMENTS:
        first = next((str(each) for each in values if not pd.isna(each) and str(each)), "")
        return sa.Date() if len(first) <= len("2026-01-01") else sa.DateTime(timezone=True)
    if pd.api.types.is_bool_dtype(values):
        return sa.Boolean()
    if pd.api.types.is_integer_dtype(values):
        return sa.Integer()
    return sa.Double() if pd.api.types.is_float_dtype(values) else sa.Text()


def _records(frame: pd.DataFrame, target: sa.Table) -> Iterator[dict[str, Any]]:
    """Rows as drivers take them: moments as such, nothing where a number is missing."""
    columns = []
    for each in target.columns:
        values = frame[each.name]
        if each.name in _MOMENTS:
            stamps = [None if pd.isna(cell) or not str(cell) else pd.Timestamp(cell) for cell in values]
            dated = isinstance(each.type, sa.Date)
            columns.append([stamp and (stamp.date() if dated else stamp.to_pydatetime()) for stamp in stamps])
        else:
            columns.append([None if pd.isna(cell) else _plain(cell) for cell in values])
    names = [each.name for each in target.columns]
    for row in zip(*columns, strict=True):
        yield dict(zip(names, row, strict=True))


def _plain(cell: Any) -> Any:
    return cell.item() if hasattr(cell, "item") else cell


def _replace(connection: sa.Connection, target: sa.Table, keys: Sequence[str], rows: list[dict[str, Any]]) -> None:
    """Put rows in the place of those with their keys."""
    if not rows:
        return
    if connection.dialect.name == "postgresql":
        _copied(connection, target, keys, rows)
        return
    same = [
        target.c[each].is_not_distinct_from(sa.bindparam(f"key_{each}", type_=target.c[each].type)) for each in keys
    ]
    distinct = {tuple(row[each] for each in keys): {f"key_{each}": row[each] for each in keys} for row in rows}
    connection.execute(sa.delete(target).where(*same), list(distinct.values()))
    connection.execute(sa.insert(target), rows)


def _copied(connection: sa.Connection, target: sa.Table, keys: Sequence[str], rows: list[dict[str, Any]]) -> None:
    """The same by COPY (PostgreSQL), through a table that ends with the transaction."""
    staged = sa.Table(
        "offing_staged",
        sa.MetaData(),
        *(sa.Column(each.name, each.type) for each in target.columns),
        prefixes=["TEMPORARY"],
    )
    connection.execute(sa.schema.CreateTable(staged))
    quoted = connection.dialect.identifier_preparer.quote
    columns = ", ".join(quoted(each.name) for each in target.columns)
    cursor = connection.connection.cursor()
    with cursor.copy(f"COPY offing_staged ({columns}) FROM STDIN") as copy:
        for row in rows:
            copy.write_row(tuple(row.values()))
    same = [target.c[each].is_not_distinct_from(staged.c[each]) for each in keys]
    connection.execute(sa.delete(target).where(sa.exists().where(*same)))
    names = [each.name for each in target.columns]
    connection.execute(sa.insert(target).from_select(names, sa.select(*(staged.c[each] for each in names))))
    connection.execute(sa.schema.DropTable(staged))
