"""Many rows at once, in the quickest way a database takes them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import count
from typing import Any

from sqlalchemy import Connection, Table, func, insert, select

from upright_ledger.ledger.db.schema import staging

CHUNK = 20_000


def load_rows(
    connection: Connection, table: Table, columns: Sequence[str], rows: Iterable[tuple[Any, ...]]
) -> None:
    """Insert rows (tuples in the order of `columns`) within the connection's transaction."""
    names = ", ".join(f'"{c}"' for c in columns)
    if connection.dialect.name == "postgresql":
        driver: Any = connection.connection.driver_connection
        with driver.cursor().copy(f'COPY "{table.name}" ({names}) FROM STDIN') as copy:
            for row in rows:
                copy.write_row(row)
        return
    marks = ", ".join("?" for _ in columns)
    # names come from the schema
    statement = f'INSERT INTO "{table.name}" ({names}) VALUES ({marks})'  # noqa: S608
    for chunk in batches(rows, CHUNK):
        connection.exec_driver_sql(statement, chunk)


def stream_rows(connection: Connection, statement: str) -> Iterator[tuple[Any, ...]]:
    """The rows of a query as they come, within the connection's transaction."""
    driver: Any = connection.connection.driver_connection
    if connection.dialect.name == "postgresql":
        with driver.cursor(name=f"rows_{next(_CURSORS)}") as cursor:
            cursor.itersize = CHUNK
            yield from cursor.execute(statement)
        return
    yield from driver.execute(statement)


_CURSORS = count()


def change_rows(
    connection: Connection,
    table: Table,
    keys: Sequence[str],
    columns: Sequence[str],
    rows: Iterable[tuple[Any, ...]],
) -> None:
    """Change columns of rows (tuples in the order of `columns`, then `keys`)."""
    if connection.dialect.name == "postgresql":
        held = _held(connection, table, (*columns, *keys), rows)
        put = ", ".join(f'"{c}" = h."{c}"' for c in columns)
        connection.exec_driver_sql(
            f'UPDATE "{table.name}" t SET {put} FROM {held} h WHERE {_same(keys)}'  # noqa: S608
        )
        return
    put = ", ".join(f'"{c}" = ?' for c in columns)
    which = " AND ".join(f'"{k}" = ?' for k in keys)
    statement = f'UPDATE "{table.name}" SET {put} WHERE {which}'  # noqa: S608 - from the schema
    for chunk in batches(rows, CHUNK):
        connection.exec_driver_sql(statement, chunk)


def delete_rows(
    connection: Connection, table: Table, keys: Sequence[str], rows: Sequence[tuple[Any, ...]]
) -> None:
    """Delete rows by the values of their key columns."""
    if connection.dialect.name == "postgresql":
        held = _held(connection, table, keys, rows)
        connection.exec_driver_sql(
            f'DELETE FROM "{table.name}" t USING {held} h WHERE {_same(keys)}'  # noqa: S608
        )
        return
    which = " AND ".join(f'"{k}" = ?' for k in keys)
    for chunk in batches(rows, CHUNK):
        connection.exec_driver_sql(f'DELETE FROM "{table.name}" WHERE {which}', chunk)  # noqa: S608


def _same(keys: Sequence[str]) -> str:
    return " AND ".join(f't."{k}" = h."{k}"' for k in keys)


def _held(
    connection: Connection, table: Table, columns: Sequence[str], rows: Iterable[tuple[Any, ...]]
) -> str:
    """A temporary table of PostgreSQL that holds rows of some columns; its name."""
    name = f"held_{table.name}"
    connection.exec_driver_sql(f"DROP TABLE IF EXISTS {name}")
    names = ", ".join(f'"{c}"' for c in columns)
    connection.exec_driver_sql(
        f'CREATE TEMPORARY TABLE {name} AS SELECT {names} FROM "{table.name}" LIMIT 0'  # noqa: S608
    )
    load_rows(connection, staging(name), columns, rows)
    return name


def these_rows(
    connection: Connection, table: Table, key: str, wanted: Iterable[Any]
) -> list[dict[str, Any]]:
    """The rows in which a column has one of the wanted values."""
    names = [c.name for c in table.columns]
    found = []
    for some in batches(sorted(wanted), 500):
        rows = connection.execute(select(table).where(table.c[key].in_(some))).fetchall()
        found += [dict(zip(names, row, strict=True)) for row in rows]
    return found


def insert_many(connection: Connection, table: Table, rows: Sequence[dict[str, Any]]) -> None:
    """Insert rows whose values need the table's types, such as JSON."""
    for chunk in batches(rows, CHUNK):
        connection.execute(insert(table), chunk)


def batches(rows: Iterable[Any], size: int) -> Iterator[list[Any]]:
    """Rows in lists of at most `size`."""
    chunk: list[Any] = []
    for row in rows:
        chunk.append(row)
        if len(chunk) == size:
            yield chunk
            chunk = []
    if chunk:
        yield chunk


def find_ids(
    connection: Connection, table: Table, wanted: Sequence[tuple[str, str]]
) -> dict[tuple[str, str], int]:
    """The numbers of the rows whose two key columns (site and text) are wanted, for those that
    exist.

    Goes through a temporary table: an index lookup a key, whatever the table's size.
    """
    text = "key" if table.name == "entries" else "spelling"
    connection.exec_driver_sql(
        'CREATE TEMPORARY TABLE IF NOT EXISTS "wanted" ("site" TEXT, "text" TEXT)'
    )
    connection.exec_driver_sql('DELETE FROM "wanted"')
    load_rows(connection, staging("wanted"), ("site", "text"), wanted)
    on = f't.site = w.site AND t."{text}" = w.text'
    columns = f't.id, t.site, t."{text}"'
    statement = f'SELECT {columns} FROM "wanted" w JOIN "{table.name}" t ON {on}'  # noqa: S608
    found = connection.exec_driver_sql(statement)
    return {(row[1], row[2]): row[0] for row in found}


def next_id(connection: Connection, table: Table) -> int:
    """The number that follows the last. Steps run one after the other, so it stays free."""
    return int(connection.scalar(select(func.max(table.c.id))) or 0) + 1


def storable(text: str) -> str:
    """A text that every database takes: bytes that are no UTF-8, and NUL, are spelled out."""
    if text.isascii():
        return text.replace("\0", "\\x00") if "\0" in text else text
    return text.encode("utf-8", "backslashreplace").decode().replace("\0", "\\x00")
