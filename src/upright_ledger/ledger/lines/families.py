"""Families of entries, kept with their lines."""

from __future__ import annotations

from collections.abc import Set as AbstractSet

from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers
from upright_ledger.ledger.lines.statements import lines_among


def families_of(connection: Connection, among: str = "") -> dict[int, str]:
    """Entry → its family, or empty, of all that have a line. among: the table of their numbers."""
    told = f"SELECT x.entry, x.family FROM {lines_among(among)}"
    return dict(connection.run(told))


def follow_families(
    connection: Connection, before: AbstractSet[int], now: AbstractSet[int]
) -> None:
    """Find the families anew of sites in which entries came or went."""
    sites: set[str] = set()
    for some in batches(before ^ now, 5_000):
        named = f"SELECT DISTINCT site FROM entries WHERE id IN {in_numbers(some)}"
        sites |= set(connection.column(named))
    for site in sorted(sites):
        _find_families(connection, site)


def _find_families(connection: Connection, site: str) -> None:
    """Find the families of a site's entries, and change what is said otherwise."""
    rows = connection.rows(
        'SELECT e.id, e."key", x.family FROM entry_lines x JOIN entries e ON e.id = x.entry '
        "WHERE x.site = :site",
        site=site,
    )
    found = templates([row[1] for row in rows])
    changed = [
        (number, family) for number, key, before in rows if (family := found.get(key, "")) != before
    ]
    if changed:
        connection.run("DELETE FROM families")
        connection.load("families", ("entry", "family"), changed)
        connection.run(
            "UPDATE entry_lines SET family = f.family FROM families f "
            "WHERE f.entry = entry_lines.entry"
        )
