"""Numbers of rows, found by what they are called, and texts as every database takes them."""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.ledger.db.connection import Connection

_MANY, _MOST = 1_000, 3


def find_ids(
    connection: Connection, table: str, wanted: Sequence[tuple[str, str]]
) -> dict[tuple[str, str], int]:
    """The numbers of the rows of "entries" or "spellings" whose two key columns (site and text) are
    wanted, for those that exist.

    Goes through a temporary table, an index lookup a key, whatever the table's size; where most of
    the table is wanted, through that.
    """
    text = "key" if table == "entries" else "spelling"
    if len(wanted) > _MANY and len(wanted) * _MOST > next_id(connection, table):
        these = set(wanted)
        told = connection.stream(f'SELECT id, site, "{text}" FROM "{table}"')
        return {name: number for number, *told_of in told if (name := (*told_of,)) in these}
    connection.run('CREATE TEMPORARY TABLE IF NOT EXISTS "wanted" ("site" TEXT, "text" TEXT)')
    connection.run('DELETE FROM "wanted"')
    connection.load("wanted", ("site", "text"), wanted)
    on = f't.site = w.site AND t."{text}" = w.text'
    columns = f't.id, t.site, t."{text}"'
    statement = f'SELECT {columns} FROM "wanted" w JOIN "{table}" t ON {on}'
    return {(row[1], row[2]): row[0] for row in connection.rows(statement)}


def next_id(connection: Connection, table: str) -> int:
    """The number that follows the last. Steps run one after the other, so it stays free."""
    return int(connection.value(f'SELECT MAX(id) FROM "{table}"') or 0) + 1


def storable(text: str) -> str:
    """A text that every database takes: bytes that are no UTF-8, and NUL, are spelled out."""
    if text.isascii():
        return text.replace("\0", "\\x00") if "\0" in text else text
    return text.encode("utf-8", "backslashreplace").decode().replace("\0", "\\x00")
