"""Statements that change a schema, as both databases take them."""

from __future__ import annotations

from sqlalchemy import text

from upright_ledger.ledger.db.connection import Connection

_WORDS = {
    "sqlite": {
        "<id>": "INTEGER",
        "<bytes>": "BLOB",
        "<joined>": "group_concat",
        "<ordered>": "TEXT",
    },
    "postgresql": {
        "<id>": "SERIAL",
        "<bytes>": "BYTEA",
        "<joined>": "string_agg",
        "<ordered>": 'TEXT COLLATE "C"',
    },
}
"""What is written otherwise: a column that numbers rows, one of bytes, texts of a group as one."""


def run(connection: Connection, *statements: str) -> None:
    """Execute statements in their order, within the connection's transaction."""
    words = _WORDS["postgresql" if connection.is_server else "sqlite"]
    for statement in statements:
        for mark, word in words.items():
            statement = statement.replace(mark, word)  # noqa: PLW2901
        connection.core.execute(text(statement))
