"""Links as lists of them name them: which page links to which entry."""

from __future__ import annotations

from typing import NamedTuple

from upright_ledger.core.inventory.packed import unpack_referrers
from upright_ledger.core.inventory.units import LINKING_PAGES
from upright_ledger.ledger.db.connection import Connection


class ListedLink(NamedTuple):
    """A page that links to an entry, as one source says."""

    entry: int
    page: str
    source: int


def listed_links(connection: Connection) -> list[ListedLink]:
    """All links that lists name one by one."""
    query = (
        "SELECT p.entry, r.referrers, r.source FROM referrers r "
        "JOIN spellings p ON p.id = r.spelling JOIN sources s ON s.id = r.source "
        "WHERE NOT s.withdrawn AND p.entry IS NOT NULL AND EXISTS (SELECT 1 FROM evidence v "
        "WHERE v.spelling = r.spelling AND v.source = r.source AND v.unit = :pages)"
    )
    return [
        ListedLink(entry, page, source)
        for entry, told, source in connection.rows(query, pages=LINKING_PAGES)
        for page, _ in unpack_referrers(told)
        if page
    ]
