"""For those who link: which of their links lead to an address that is no more, and what to put
there.

Known from lists of links, row by row, and told for each linking page by itself.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import UNANSWERED, AnswerKind
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet
from upright_ledger.ledger.tables.failures import listed_links
from upright_ledger.ledger.tables.proposals import load_proposals

_STAYS = frozenset([AnswerKind.KEEP, AnswerKind.IGNORE])


class InboundLink(NamedTuple):
    """A link of another site to an address that is no more. domains: how many sites link to that
    address; answer: what the ledger answers; right: the address to put there, proposed where
    nothing is answered yet, empty where there is none; text: of links to it; seen: whether the
    newest list of links still has it.
    """

    domains: int
    linking_domain: str
    linking_page: str
    text: str
    dead: str
    answer: str
    right: str
    seen: str


COLUMNS = InboundLink._fields


def inbound_links(move: MoveState) -> list[InboundLink]:
    """The links of others to what is no more, addresses to which most sites link first."""
    with move.ledger.reading() as connection:
        listed = listed_links(connection)
        proposals = load_proposals(connection)
    newest = max((link.source for link in listed), default=0)
    several = len({link.source for link in listed}) > 1
    pages: dict[int, dict[str, int]] = defaultdict(dict)
    for link in listed:
        known = pages[link.entry].get(link.page, 0)
        pages[link.entry][link.page] = max(known, link.source)
    rows = []
    for entry in move.entries:
        if entry.id not in pages or entry.answer.kind in _STAYS:
            continue
        linking = list(_of_others(move, pages[entry.id]))
        domains = len({domain for domain, _, _ in linking})
        best = next(iter(proposals.get(entry.id, ())), None)
        right = entry.answer.destination or (
            best.destination if best and entry.answer.kind in UNANSWERED else ""
        )
        for domain, page, source in linking:
            seen = "" if not several else "still" if source == newest else "no longer"
            rows.append(
                InboundLink(
                    domains, domain, page, "; ".join(entry.anchors[:3]), entry.legacy_url,
                    entry.answer.kind, right, seen,
                )
            )  # fmt: skip
    return sorted(rows, key=lambda r: (-r.domains, r.dead, r.linking_domain, r.linking_page))


def _of_others(move: MoveState, pages: dict[str, int]) -> Iterator[tuple[str, str, int]]:
    """(domain, page, source) of linking pages that are no pages of the sites' own."""
    for page, source in pages.items():
        try:
            address = parse_address(page)
        except NotAnAddressError:
            continue
        if not move.sites.site_of(address) and not move.sites.is_new(address):
            yield address.host.removeprefix("www."), address.without_fragment, source


def write_inbound(move: MoveState, path: Path) -> list[InboundLink]:
    """Write the links of others to what is no more. Returns them."""
    rows = inbound_links(move)
    links = ("linking_page", "dead", "right")
    write_table(path, Sheet("links", COLUMNS, rows, links), otherwise=CSV)
    return rows
