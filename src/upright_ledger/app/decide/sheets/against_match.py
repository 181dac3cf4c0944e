"""Pairs that somebody made, held against what matching would say: a row that sends a page to
another one than its own is named, with the better page.
"""

from __future__ import annotations

from collections.abc import Mapping

from upright_ledger.app.decide.match_pages import (
    address_page,
    can_be_proposed,
    in_languages,
    new_pages,
    old_page,
)
from upright_ledger.app.decide.page_texts import load_texts
from upright_ledger.app.decide.second_looks import Doubt
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.matching import MatchPage, propose
from upright_ledger.core.matching.pages.item_numbers import ToldNumbers
from upright_ledger.core.url.address import Address, address_of, parse_address
from upright_ledger.ledger.store import Ledger

SURE = 0.9
"""The confidence from which on another page is taken to be the better one."""
_HARDLY = 0.05


def against_match(ledger: Ledger, pairs: Mapping[str, str]) -> list[Doubt]:
    """The doubtful among pairs (old address → destination), the surest first. What they say is not
    learned from.
    """
    move = MoveState(ledger)
    stocked = [d for d in move.stock.values() if can_be_proposed(d) and d.page not in move.homes]
    named = {d.url for d in stocked}
    base = move.sites.old[0].origins[0]
    told: dict[str, str] = {}
    asked: list[Entry] = []
    unknown: list[tuple[MatchPage, Address, str]] = []
    for text, goal in pairs.items():
        if goal not in named:
            continue
        address = parse_address(text, base)
        entry = move.entry_of(address)
        if entry is not None and entry.legacy_url not in told:
            asked.append(entry)
        elif entry is None:
            unknown.append((address_page(address), address, ""))
        told[entry.legacy_url if entry is not None else address.without_fragment] = goal
    if not told:
        return []
    form = ledger.settings.items
    numbers = ToldNumbers({}, form.old, form.new)
    texts = load_texts(move)
    known = [(old_page(e, numbers, texts), address_of(e.legacy_url), e.language) for e in asked]
    old = in_languages([*known, *unknown])
    url_of = {d.page: d.url for d in stocked}
    doubts = []
    for url, proposals in propose(old, new_pages(stocked, texts)).found.items():
        best, given = proposals[0], told[url]
        chances = {url_of[p.name]: p.confidence for p in proposals}
        better = url_of[best.name]
        if better != given and best.confidence >= SURE and chances.get(given, 0.0) < _HARDLY:
            doubts.append(Doubt(url, given, better, best.confidence, best.reasons))
    return sorted(doubts, key=lambda d: (-d.confidence, d.legacy_url))
