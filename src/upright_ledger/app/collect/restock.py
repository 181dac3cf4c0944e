"""A new list of the new site's pages in the place of an earlier one: what was renamed is proposed
at once.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from upright_ledger.app.collect.moved_pages import Proposed, propose_renamings, renamed_dict
from upright_ledger.app.collect.stock import Stocked, stock
from upright_ledger.core.crawl.audits.moved_pages import KnownPage, Renamed, compare
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.stock import Destination, find_stocked, load_list


@dataclass(frozen=True)
class Restocked:
    """What a new list amounted to, beside the one in whose place it came."""

    stocked: Stocked
    pages: int
    renamed: Renamed
    proposed: Proposed

    def as_dict(self) -> dict[str, Any]:
        """What was renamed, and what is proposed for it."""
        return renamed_dict(self.renamed) | {"proposed": self.proposed.as_dict()}


def restock(ledger: Ledger, path: Path, name: str, **options: Any) -> Restocked:
    """Stock a list in the place of the newest one with a name, as one step. options: those of
    `stock`.

    Raises UsageError where there is no such list, or the new one holds the same.
    """
    with ledger.reading() as connection:
        replaced = find_stocked(connection, name)
        if not replaced:
            raise UsageError(
                f"no list of pages called {name!r} is in stock", "it is called as the file was"
            )
        before = load_list(connection, replaced)
    (stocked,), pages = stock(ledger, [path], replaced=replaced, **options)
    if stocked.known:
        raise UsageError(
            f"{path} was stocked before and holds the same", "name the list as it is now"
        )
    with ledger.reading() as connection:
        after = load_list(connection, find_stocked(connection, stocked.name))
    renamed = compare(_known(before), _known(after))
    return Restocked(stocked, pages, renamed, propose_renamings(ledger, renamed, stocked.name))


def _known(pages: list[Destination]) -> dict[str, KnownPage]:
    return {
        p.url: KnownPage(
            p.title or p.heading, f"{p.heading}\n{p.description}" if p.description else "", p.item
        )
        for p in pages
        if p.status in {0, 200}
    }
