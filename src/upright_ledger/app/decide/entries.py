"""Entries as people look at them: found, sorted, with their evidence and where each came from."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.errors import UsageError
from upright_ledger.ledger.lines.listing import (
    Filters,
    best_of_groups,
    count_fitting,
    find_entries,
    group_totals,
    groups_of,
)
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import dated_answers
from upright_ledger.ledger.tables.entries import count_entries, find_number, load_entries
from upright_ledger.ledger.tables.one_entry import (
    AsideUrl,
    EvidenceRow,
    evidence_of,
    load_aside,
    referrers_of,
    spellings_of,
)
from upright_ledger.ledger.tables.proposals import StoredProposal, proposals_of
from upright_ledger.ledger.tables.sources import list_sources

COLUMNS = (
    "site", "legacy_url", "section", "family", "value", "hits", "bots", "visits", "clicks",
    "impressions", "links",
    "first_seen", "last_seen", "statuses", "title", "sources", "variants", "answer", "status",
    "destination",
    "by", "author", "confidence", "reason", "runner_up",
)  # fmt: skip


@dataclass(frozen=True)
class EntryLine:
    """One entry in a list, with what is worked out for it."""

    entry: Entry
    section: str
    family: str
    sources: tuple[str, ...]

    def row(self) -> tuple[object, ...]:
        """The cells of COLUMNS."""
        e, v = self.entry, self.entry.evidence
        statuses = " ".join(f"{c}:{n:.0f}" for c, n in sorted(e.statuses.items()))
        return (
            e.site, e.legacy_url, self.section, self.family, round(v.value, 2), v.hits,
            v.bot_requests, v.visits, v.clicks,
            v.impressions, v.links, e.first_seen, e.last_seen, statuses,
            e.titles[0] if e.titles else "",
            "; ".join(self.sources), len(e.variants), e.answer.kind, e.answer.status or "",
            e.answer.destination,
            e.by, e.author, "" if e.confidence is None else round(e.confidence, 4), e.reasons,
            e.runner_up,
        )  # fmt: skip

    def as_dict(self) -> dict[str, object]:
        """The row by column; sources as a list, statuses as an object."""
        values = dict(zip(COLUMNS, self.row(), strict=True))
        return values | {"sources": list(self.sources), "statuses": dict(self.entry.statuses)}


@dataclass
class Listing:
    """The entries that fit, best first. matching: how many fit; total: how many the ledger
    holds.
    """

    lines: list[EntryLine]
    matching: int
    total: int


def list_entries(
    ledger: Ledger, filters: Filters, sort: str = "value", limit: int | None = None
) -> Listing:
    """Find and sort entries; at most `limit` of them are looked at."""
    with ledger.reading() as connection:
        numbers = find_entries(connection, filters, sort, limit)
        total = count_entries(connection)
        matching = count_fitting(connection, filters) if limit is not None else len(numbers)
    return Listing(entry_lines(ledger, numbers), matching, total)


def entry_lines(ledger: Ledger, numbers: Sequence[int]) -> list[EntryLine]:
    """The lines of some entries, in their order."""
    names = source_names(ledger)
    with ledger.reading() as connection:
        groups = groups_of(connection, numbers)
        entries = load_entries(connection, numbers)
    return [EntryLine(e, *groups[e.id], tuple(names[s] for s in e.sources)) for e in entries]


def source_names(ledger: Ledger) -> dict[int, str]:
    """What each source is called, by its number."""
    with ledger.reading() as connection:
        return {s.id: s.name for s in list_sources(connection)}


def write_entries(path: Path, lines: Iterable[EntryLine]) -> None:
    """Write a list with COLUMNS. Raises UsageError."""
    from upright_ledger.formats.tables.export import CSV, write_table
    from upright_ledger.formats.tables.workbooks import Sheet

    write_table(
        path,
        Sheet("entries", COLUMNS, (line.row() for line in lines), ("legacy_url",)),
        otherwise=CSV,
    )


@dataclass(frozen=True)
class Group:
    """Entries of one family or section: how many, their hits and value, and the addresses worth
    most.
    """

    name: str
    site: str
    entries: int
    hits: float
    value: float
    examples: tuple[str, ...]


EXAMPLES = 3


def list_groups(
    ledger: Ledger, filters: Filters, what: str, limit: int | None = None
) -> tuple[list[Group], int]:
    """The entries that fit by "family" or "section", the most valuable first, those without one
    under an empty name, last; at most `limit` groups, and how many there are.
    """
    with ledger.reading() as connection:
        totals = group_totals(connection, filters, what)
        totals.sort(key=lambda g: (g.name == "", -g.value, -g.entries, g.name))
        shown = totals[:limit]
        best = best_of_groups(connection, filters, what, shown, EXAMPLES)
        if any(g.name == "" for g in shown):
            outside = find_entries(
                connection,
                replace(filters, family="") if what == "family" else replace(filters, section=""),
                limit=EXAMPLES,
            )
            best["", ""] = [e.legacy_url for e in load_entries(connection, outside)]
    groups = [
        Group(
            g.name,
            g.site,
            g.entries,
            g.hits,
            round(g.value, 6),
            tuple(best[g.name, g.site])[:EXAMPLES],
        )
        for g in shown
    ]
    return groups, len(totals)


@dataclass
class Details:
    """All that is known of one entry. until: the day on which its answer is to be looked at again,
    or empty. proposals: those that stand beside the answer, the best first.
    """

    line: EntryLine
    evidence: list[EvidenceRow]
    spellings: list[str]
    referrers: list[tuple[str, float]]
    until: str = ""
    proposals: list[StoredProposal] = field(default_factory=list)


def look_up(ledger: Ledger, url: str) -> Details:
    """The entry an address belongs to, in full. Raises UsageError where there is none."""
    sites = ledger.settings.sites
    try:
        address = parse_address(url, sites.old[0].origins[0])
    except NotAnAddressError as error:
        raise UsageError(f"{url!r} is no address: {error}") from None
    site = sites.site_of(address)
    with ledger.reading() as connection:
        key = fold(address, ledger.settings.policy).key if site else ""
        number = find_number(connection, site, key)
        lines = entry_lines(ledger, [number]) if number else []
        if not lines:
            raise UsageError(
                f"{url} belongs to no entry of this ledger",
                "`upright entries '*word*'` finds entries by pattern",
            )
        entry = lines[0].entry.id
        return Details(
            lines[0],
            evidence_of(connection, entry),
            spellings_of(connection, entry),
            referrers_of(connection, entry),
            next((d.day for d in dated_answers(connection) if d.entry == entry), ""),
            [
                p
                for p in proposals_of(connection, [entry]).get(entry, [])
                if p.destination != lines[0].entry.answer.destination
            ],
        )


def set_aside(ledger: Ledger, kind: str = "") -> list[AsideUrl]:
    """Addresses that were set aside, of one class or all."""
    with ledger.reading() as connection:
        return load_aside(connection, kind)
