"""Which schema a database has, and which one this program writes."""

from __future__ import annotations

from upright_ledger.errors import InputError
from upright_ledger.ledger.db.connection import Connection

NEWEST = 16
"""The number of the schema that this program writes: of the last migration."""


def schema_number(connection: Connection) -> int:
    """The number of a database's schema; 0 for one that has none. Raises InputError for one that is
    newer than this program.
    """
    present = 0
    if connection.has_table("migrations"):
        present = connection.value("SELECT MAX(number) FROM migrations") or 0
    if present > NEWEST:
        raise InputError(
            f"this ledger has schema {present}, and this program knows {NEWEST}",
            "use a newer upright",
        )
    return int(present)
