"""Renamed pages: their old addresses become entries with a proposal at once, so that no renaming is
without a redirect.
"""

from __future__ import annotations

import csv
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.crawl.audits.moved_pages import CONFIDENCE, Fate, Renamed, Renaming
from upright_ledger.core.inventory.answer import UNANSWERED, AnswerKind
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.url.address import address_of
from upright_ledger.formats.files.leftovers import temporary_folder
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.proposals import StoredProposal, load_proposals, store_proposals


@dataclass
class Proposed:
    """What became of pages that have another address, or vanished. entries: new ones; proposals:
    for open entries. astray: answered entries that lead to an address where the page is no more,
    with the one where it is. off_site: addresses on a host that is no old site, for which no rule
    can be built. open: those of the others that nothing answers yet.
    """

    entries: int = 0
    proposals: int = 0
    astray: list[tuple[str, str]] = field(default_factory=list)
    off_site: list[str] = field(default_factory=list)
    open: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "entries": self.entries,
            "proposals": self.proposals,
            "astray": self.astray,
            "off_site": len(self.off_site),
            "open": self.open,
        }


def renamed_dict(renamed: Renamed) -> dict[str, Any]:
    """What changed, as data."""
    return {
        "renamings": [r._asdict() for r in renamed.renamings],
        "contested": [c._asdict() for c in renamed.contested],
        "vanished": renamed.vanished,
        "appeared": renamed.appeared,
    }


def propose_renamings(ledger: Ledger, renamed: Renamed, name: str) -> Proposed:
    """Take up the old addresses of pages that were renamed and do not redirect yet, and of those
    that vanished, as entries, and propose the new ones. name: of where it was seen.
    """
    result = Proposed()
    sites = ledger.settings.sites
    waiting = [r for r in renamed.renamings if r.state != Fate.LED]
    titles = {r.old: r.title for r in waiting} | dict.fromkeys(renamed.vanished, "")
    result.off_site = [url for url in titles if not sites.site_of(address_of(url))]
    on_site = {url: title for url, title in titles.items() if sites.site_of(address_of(url))}
    if not titles:
        return result
    move = MoveState(ledger)
    new = {u: t for u, t in on_site.items() if move.entry_of(address_of(u)) is None}
    if new:
        result.entries = _take_up(ledger, new, name)
        move = MoveState(ledger)
    gone_to = {r.old: r.new for r in waiting}
    for entry in move.entries:
        if entry.answer.destination in gone_to:
            result.astray.append((entry.legacy_url, gone_to[entry.answer.destination]))
    by = {r.old: r for r in waiting}
    found: dict[int, StoredProposal] = {}
    for url in on_site:
        known, renaming = move.entry_of(address_of(url)), by.get(url)
        if known is None:
            continue
        if known.answer.kind in UNANSWERED:
            result.open.append(url)
        if renaming is not None and known.answer.kind == AnswerKind.KEEP:
            result.astray.append((known.legacy_url, renaming.new))
        elif renaming is not None and known.answer.kind == AnswerKind.OPEN:
            found[known.id] = _proposal(known, renaming)
    if found:
        _store(ledger, found, name)
    result.proposals = len(found)
    return result


def _take_up(ledger: Ledger, pages: Mapping[str, str], name: str) -> int:
    from upright_ledger.app.collect.gather import gather  # with all formats of logs

    with temporary_folder() as held:
        file = held / f"renamed-{name}.csv"
        with file.open("w", encoding="utf-8", newline="") as out:
            writer = csv.writer(out)
            writer.writerow(("url", "title"))
            writer.writerows(pages.items())
        return sum(
            s.new_entries for s in gather(ledger, [str(file)], ReadOptions(kind="table")).sources
        )


def _proposal(entry: Entry, renaming: Renaming) -> StoredProposal:
    reason = f"the same page has another address now: same {renaming.by}"
    return StoredProposal(entry.id, 1, renaming.new, CONFIDENCE[renaming.by], (reason,))


def _store(ledger: Ledger, found: dict[int, StoredProposal], name: str) -> None:
    """Put proposals before those that there are."""
    with ledger.reading() as connection:
        known = load_proposals(connection)
    kept = [
        StoredProposal(p.entry, rank, p.destination, p.confidence, p.reasons)
        for entry, proposals in known.items()
        for rank, p in enumerate(
            (
                p
                for p in proposals
                if entry not in found or p.destination != found[entry].destination
            ),
            2 if entry in found else 1,
        )
    ]
    if all(entry in known and known[entry][0] == p for entry, p in found.items()):
        return
    with ledger.step("match", f"pages renamed, {name}") as step:
        store_proposals(step.connection, step.id, [*found.values(), *kept])
        step.noted = True
        step.summary = f"{len(found):,} proposed"


def write_pairs(path: Path, renamed: Renamed, proposed: Proposed) -> int:
    """Write what has no redirect yet as pairs, for `decide --from`, answers that lead astray
    included; returns their number.
    """
    pairs = {r.old: r.new for r in renamed.renamings if r.state != Fate.LED} | dict(proposed.astray)
    rows = ((old, new, 301) for old, new in pairs.items())
    write_table(path, Sheet("pairs", ("old", "new", "status"), rows, ("old", "new")), otherwise=CSV)
    return len(pairs)
