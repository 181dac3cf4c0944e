"""Families of entries, kept with their lines."""

from __future__ import annotations

from sqlalchemy import Connection, select, text

from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import load_rows
from upright_ledger.ledger.db.derived import entry_lines
from upright_ledger.ledger.db.schema import staging


def keep_families(connection: Connection) -> None:
    """Remember the families of the entries in `touched` that have a line."""
    connection.execute(
        text(
            "INSERT INTO was SELECT x.entry, x.site, x.family FROM touched w JOIN entry_lines x "
            "ON x.entry = w.entry"
        )
    )


def restore_families(connection: Connection) -> None:
    """Give lines that were there before their family, and find those of a site anew in which
    entries came or went.
    """
    connection.execute(
        text(
            "UPDATE entry_lines SET family = was.family FROM was "
            "WHERE was.entry = entry_lines.entry AND was.family <> ''"
        )
    )
    came = (
        "SELECT DISTINCT x.site FROM touched w JOIN entry_lines x ON x.entry = w.entry "
        "WHERE NOT EXISTS (SELECT 1 FROM was WHERE was.entry = w.entry)"
    )
    went = (
        "SELECT DISTINCT was.site FROM was WHERE NOT EXISTS "
        "(SELECT 1 FROM entry_lines x WHERE x.entry = was.entry)"
    )
    for site in set(connection.scalars(text(f"{came} UNION {went}"))):
        find_families(connection, site)


def find_families(connection: Connection, site: str) -> None:
    """Find the families of a site's entries, and change what is said otherwise."""
    e, x = schema.entries, entry_lines
    rows = connection.execute(
        select(e.c.id, e.c.key, x.c.family).join(x, x.c.entry == e.c.id).where(x.c.site == site)
    ).fetchall()
    found = templates([row[1] for row in rows])
    changed = (
        (number, family) for number, key, before in rows if (family := found.get(key, "")) != before
    )
    connection.execute(text("DELETE FROM families"))
    load_rows(connection, staging("families"), ("entry", "family"), changed)
    connection.execute(
        text(
            "UPDATE entry_lines SET family = f.family FROM families f "
            "WHERE f.entry = entry_lines.entry"
        )
    )
