"""Families of entries, kept with their lines."""

from __future__ import annotations

from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from itertools import compress, repeat

from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers
from upright_ledger.ledger.lines.statements import COUNTED, lines_among


def families_of(connection: Connection, among: str = "") -> dict[int, str]:
    """Entry → its family, or empty, of all that have a line. among: the table of their numbers."""
    told = f"SELECT x.entry, x.family FROM {lines_among(among)}"
    return dict(connection.run(told))


def find_families(connection: Connection, before: Mapping[int, str]) -> dict[int, str]:
    """The family of each entry that counts. before: what is known of them; nothing but that they
    came or went has changed any.
    """
    names: dict[str, str] = {}  # of sites, each kept once
    counting = connection.column("SELECT id FROM sources WHERE NOT withdrawn")
    asked = COUNTED.format(counting=in_numbers(counting))
    numbers, sites, keys = [], [], []
    for number, site, key in connection.stream(asked):
        numbers.append(number)
        sites.append(names.setdefault(site, site))
        keys.append(key)
    now = set(numbers)
    changed = {site for number, site in zip(numbers, sites, strict=True) if number not in before}
    found = {number: family for number, family in before.items() if number in now}
    for site in changed.union(_sites_of(connection, before.keys() - now)):
        its = [s == site for s in sites]
        some = [*compress(keys, its)]
        families = templates(some)
        found.update(zip(compress(numbers, its), map(families.get, some, repeat("")), strict=True))
    return found


def follow_families(
    connection: Connection, before: AbstractSet[int], now: AbstractSet[int]
) -> None:
    """Find the families anew of sites in which entries came or went, and change what is said
    otherwise.
    """
    for site in _sites_of(connection, before ^ now):
        rows = connection.rows(
            'SELECT e.id, e."key", x.family FROM entry_lines x JOIN entries e ON e.id = x.entry '
            "WHERE x.site = :site",
            site=site,
        )
        found = templates([row[1] for row in rows])
        changed = [
            (number, family)
            for number, key, before in rows
            if (family := found.get(key, "")) != before
        ]
        if changed:
            connection.run("DELETE FROM families")
            connection.load("families", ("entry", "family"), changed)
            connection.run(
                "UPDATE entry_lines SET family = f.family FROM families f "
                "WHERE f.entry = entry_lines.entry"
            )


def _sites_of(connection: Connection, entries: AbstractSet[int]) -> list[str]:
    """The sites of these entries, in order."""
    sites: set[str] = set()
    for some in batches(entries, 5_000):
        named = f"SELECT DISTINCT site FROM entries WHERE id IN {in_numbers(some)}"
        sites |= set(connection.column(named))
    return sorted(sites)
