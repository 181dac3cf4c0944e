"""Numbered changes of the schema, each applied once, in a transaction."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from sqlalchemy import Connection, func, insert, inspect, select

from upright_ledger.errors import InputError
from upright_ledger.ledger import schema


def _first_schema(connection: Connection) -> None:
    schema.metadata.create_all(connection)


MIGRATIONS: tuple[tuple[int, str, Callable[[Connection], None]], ...] = ((1, "first schema", _first_schema),)


def migrate(connection: Connection) -> int:
    """Bring a database to the newest schema; returns its number. Raises InputError for one that is newer."""
    present = 0
    if inspect(connection).has_table("migrations"):
        present = connection.scalar(select(func.max(schema.migrations.c.number))) or 0
    newest = MIGRATIONS[-1][0]
    if present > newest:
        raise InputError(f"this ledger has schema {present}, and this program knows {newest}", "use a newer upright")
    for number, name, change in MIGRATIONS:
        if number > present:
            change(connection)
            applied = datetime.now(UTC).isoformat(timespec="seconds")
            connection.execute(insert(schema.migrations).values(number=number, name=name, applied=applied))
    return newest
