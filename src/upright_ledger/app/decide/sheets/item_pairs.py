"""Successors by their item numbers: a sheet that names old and new items, and no addresses."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

from upright_ledger.app.decide.match_pages import can_be_proposed, new_pages, old_pages
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.matching.pages.item_numbers import ToldNumbers, bare_code
from upright_ledger.core.matching.pages.page_tongues import by_words
from upright_ledger.formats.tables.pairs import Pair, Pairs
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.stock import Destination

_ENOUGH = 0.5  # of the rows name items that the ledger knows


def pairs_of_items(ledger: Ledger, rows: Sequence[tuple[int, str, str]]) -> Pairs | None:
    """The pairs that rows of item numbers (line, old, new) mean; None where they are none. An item
    of several pages leads to the one in the same language.
    """
    move = MoveState(ledger)
    entries: dict[str, list[Entry]] = defaultdict(list)
    for entry in move.entries:
        for item in entry.items:
            entries[bare_code(item)].append(entry)
    if sum(bare_code(old) in entries for _, old, _ in rows) < _ENOUGH * len(rows) or not rows:
        return None
    pages = _pages_by_number(move)
    spoken = _languages(move)
    pairs, rejected = [], []
    for line, old, new in rows:
        own, goals = entries.get(bare_code(old), ()), pages.get(bare_code(new), [])
        if not own or not goals:
            missing = f"no entry has the item number {old}"
            rejected.append((line, missing if not own else f"no page in stock is the item {new}"))
        for entry in own if goals else ():
            fitting = [g for g in goals if _may_be(spoken, entry.legacy_url, g.page)]
            if len(fitting) == 1:
                pairs.append(Pair(line, entry.legacy_url, fitting[0].url, ""))
            else:
                count = "no page" if not fitting else f"{len(fitting)} pages"
                rejected.append((line, f"{count} of the item {new} fit {entry.legacy_url}"))
    return Pairs(pairs, rejected, {"old": "item numbers", "new": "item numbers"})


def _pages_by_number(move: MoveState) -> dict[str, list[Destination]]:
    """Item number → pages in stock; also by its digits alone, where no two items share them."""
    found: dict[str, list[Destination]] = defaultdict(list)
    by_digits: dict[str, set[str]] = defaultdict(set)
    for page in move.stock.values():
        if code := bare_code(page.item):
            found[code].append(page)
            by_digits["".join(filter(str.isdigit, code))].add(code)
    for digits, codes in by_digits.items():
        if len(codes) == 1 and digits and digits not in found:
            found[digits] = found[next(iter(codes))]
    return found


def _may_be(spoken: dict[str, str], old: str, new: str) -> bool:
    return not spoken[old] or not spoken[new] or spoken[old] == spoken[new]


def _languages(move: MoveState) -> dict[str, str]:
    """Legacy URL, or page → its language; empty where nothing tells."""
    old = old_pages(move.entries, ToldNumbers())
    new = new_pages(d for d in move.stock.values() if can_be_proposed(d))
    told = dict(zip((p.name for p in old), by_words(old, new), strict=True))
    told |= dict(zip((p.name for p in new), by_words(new, old), strict=True))
    rest = dict.fromkeys((d.page for d in move.stock.values()), "")
    return rest | {name: code.strip("-") for name, code in told.items()}
