"""Families of entries, kept with their lines."""

from __future__ import annotations

from collections.abc import Set as AbstractSet

from sqlalchemy import Connection, select, text

from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import batches, load_rows
from upright_ledger.ledger.db.derived import entry_lines
from upright_ledger.ledger.db.schema import staging


def families_of(connection: Connection, among: str = "") -> dict[int, str]:
    """Entry → its family, or empty, of all that have a line. among: the table of their numbers."""
    join = f" JOIN {among} w ON w.entry = x.entry" if among else ""
    told = f"SELECT x.entry, x.family FROM entry_lines x{join}"  # noqa: S608 - a name of our own
    return {row[0]: row[1] for row in connection.execute(text(told))}


def follow_families(
    connection: Connection, before: AbstractSet[int], now: AbstractSet[int]
) -> None:
    """Find the families anew of sites in which entries came or went."""
    e = schema.entries
    sites = {
        site
        for some in batches(before ^ now, 500)
        for site in connection.scalars(select(e.c.site).where(e.c.id.in_(some)).distinct())
    }
    for site in sorted(sites):
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
