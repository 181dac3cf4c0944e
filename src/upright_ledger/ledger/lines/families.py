"""Families of entries, kept with their lines."""

from __future__ import annotations

from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from itertools import repeat

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
    counting = connection.column("SELECT id FROM sources WHERE NOT withdrawn")
    by_site: dict[str, tuple[list[int], list[str]]] = {}
    for number, site, key in connection.stream(COUNTED.format(counting=in_numbers(counting))):
        numbers, keys = by_site.setdefault(site, ([], []))
        numbers.append(number)
        keys.append(key)
    left = set(before)
    left.difference_update(*(numbers for numbers, _ in by_site.values()))
    gone_from = set(_sites_of(connection, left))
    found: dict[int, str] = {}
    while by_site:
        site, (numbers, keys) = by_site.popitem()
        if site in gone_from or not all(map(before.__contains__, numbers)):
            families = templates(keys)
            found.update(zip(numbers, map(families.get, keys, repeat("")), strict=True))
        else:
            found.update((number, before[number]) for number in numbers)
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
