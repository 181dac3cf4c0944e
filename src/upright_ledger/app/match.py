"""Matching the open entries of a ledger with its stock, and answering the certain ones."""

from __future__ import annotations

from dataclasses import dataclass, field

from upright_ledger.app.book import Book
from upright_ledger.core.addresses import canonical_path, parse_address
from upright_ledger.core.answers import KEEP, MOVE, OPEN, EntryAnswer
from upright_ledger.core.folding import fold
from upright_ledger.core.matching import MatchPage, propose
from upright_ledger.core.words import tokens
from upright_ledger.errors import UsageError
from upright_ledger.ledger.answers import MATCH, Posting, post_answers
from upright_ledger.ledger.entries import Entry
from upright_ledger.ledger.stock import Destination, StoredProposal, store_proposals
from upright_ledger.ledger.store import Ledger

ACCEPT_ABOVE = 0.9
SAME_ADDRESS = "has the same address"


@dataclass
class Matched:
    """What matching amounted to. `proposals` holds the best one of every entry left open, by value."""

    open_before: int
    same_address: int
    accepted: int
    proposed: int
    without: int
    proposals: list[tuple[Entry, StoredProposal]] = field(default_factory=list)


def match(ledger: Ledger, accept_above: float = ACCEPT_ABOVE) -> Matched:
    """Propose destinations for all open entries, and post answers for the certain ones as one step."""
    book = Book(ledger)
    waiting = [e for e in book.entries if e.answer.kind == OPEN]
    pages = [d for d in book.stock.values() if d.status in {0, 200} and d.state == "live"]
    if not pages:
        raise UsageError("there are no pages in stock to match with", "upright stock new-pages.csv")
    same = _same_address(book, waiting, pages)
    rest = [e for e in waiting if e.id not in same]
    found = propose([_old_page(e) for e in rest], [_new_page(d) for d in pages if d.page not in book.homes])
    postings = [Posting(e.id, same[e.id], MATCH, e.legacy_url) for e in waiting if e.id in same]
    stored: list[StoredProposal] = [
        StoredProposal(e.id, 1, same[e.id].destination, 1.0, (SAME_ADDRESS,)) for e in waiting if e.id in same
    ]
    by_page = book.stock
    accepted, proposed = 0, []
    for entry in rest:
        choices = found.get(str(entry.id), [])
        versions = [
            StoredProposal(entry.id, n, by_page[p.name].url, p.confidence, p.reasons) for n, p in enumerate(choices, 1)
        ]
        stored += versions
        if versions and versions[0].confidence >= accept_above:
            accepted += 1
            postings.append(Posting(entry.id, EntryAnswer(MOVE, 301, versions[0].destination), MATCH, entry.legacy_url))
        elif versions:
            proposed.append((entry, versions[0]))
    with ledger.step("match", f"accepting at {accept_above:g} and above") as step:
        post_answers(step, postings)
        store_proposals(step.connection, step.id, stored)
        step.noted = bool(stored)
        step.summary = f"{len(postings):,} answered, {len(proposed):,} only proposed"
    proposed.sort(key=lambda pair: (-pair[0].evidence.value, -pair[1].confidence, pair[0].legacy_url))
    without = len(rest) - accepted - len(proposed)
    return Matched(len(waiting), len(same), accepted, len(proposed), without, proposed)


def _old_page(entry: Entry) -> MatchPage:
    address = parse_address(entry.legacy_url)
    values = tuple(p.partition("=")[2] for p in address.query.split("&") if p)
    return MatchPage(str(entry.id), address.path, entry.titles[0] if entry.titles else "", values)


def _new_page(page: Destination) -> MatchPage:
    address = parse_address(page.url)
    values = tuple(p.partition("=")[2] for p in address.query.split("&") if p)
    return MatchPage(page.page, address.path, page.title or page.heading, values)


def _same_address(book: Book, waiting: list[Entry], pages: list[Destination]) -> dict[int, EntryAnswer]:
    """Entries whose own address is a page of the new site, and what that means for them.

    Two titles without a common word tell that the address means something else now: no certainty there.
    """
    by_key: dict[str, Destination] = {}
    for page in pages:
        by_key.setdefault(fold(parse_address(page.url), book.policy).key, page)
    found = {}
    for entry in waiting:
        goal = by_key.get(entry.key)
        if goal is None or _other_meaning(entry, goal):
            continue
        address = parse_address(goal.url)
        on_one_host = address.authority in book.sites.authorities_of(entry.site)
        stays = on_one_host and set(entry.variants) <= {canonical_path(address.path)}
        found[entry.id] = EntryAnswer(KEEP) if stays else EntryAnswer(MOVE, 301, goal.url)
    return found


def _other_meaning(entry: Entry, page: Destination) -> bool:
    new = set(tokens(page.title))
    old = {t for title in entry.titles for t in tokens(title)}
    return bool(old and new and not old & new)
