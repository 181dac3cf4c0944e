"""Many rows at once, in the quickest way a database takes them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
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
