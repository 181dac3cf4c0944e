"""Entries as people look at them: found, sorted, with their evidence and where each came from."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.sections import Sections
from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.errors import UsageError
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet
from upright_ledger.ledger.tables.one_entry import (
    AsideUrl,
    EvidenceRow,
    evidence_of,
    load_aside,
    referrers_of,
    spellings_of,
)
from upright_ledger.ledger.tables.sources import list_sources

COLUMNS = (
    "site", "legacy_url", "section", "family", "value", "hits", "bots", "visits", "clicks",
    "impressions", "links",
    "first_seen", "last_seen", "statuses", "title", "sources", "variants", "answer", "status",
    "destination",
    "by", "author", "confidence", "reason", "runner_up",
)  # fmt: skip

_SORTS: dict[str, Callable[[Entry], float]] = {
    "value": lambda e: e.evidence.value,
    "hits": lambda e: e.evidence.hits,
    "bots": lambda e: e.evidence.bot_requests,
    "visits": lambda e: e.evidence.visits,
    "clicks": lambda e: e.evidence.clicks,
    "impressions": lambda e: e.evidence.impressions,
    "links": lambda e: e.evidence.links,
    "variants": lambda e: len(e.variants),
}
SORTS = (*_SORTS, "last-seen", "url")


@dataclass(frozen=True)
class Filters:
    """Which entries are wanted; an empty filter wants all. pattern: of the legacy URL or its path,
    with *. numbers: of the entries themselves. by: what gave the answer. below: answers of a
    confidence that is known and less than that.
    """

    pattern: str = ""
    site: str = ""
    section: str | None = None
    family: str = ""
    source: str = ""
    answer: str = ""
    status: str = ""
    numbers: frozenset[int] | None = None
    by: str = ""
    below: float | None = None


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
    """The entries that fit, best first. total: how many the ledger holds."""

    lines: list[EntryLine]
    total: int


def list_entries(move: MoveState, filters: Filters, sort: str = "value") -> Listing:
    """Find and sort entries."""
    describe = _describer(move)
    lines = [line for line in map(describe, move.entries) if _fits(line, filters)]
    return Listing(_sorted(lines, sort), len(move.entries))


def _describer(move: MoveState) -> Callable[[Entry], EntryLine]:
    """A function that works out the line of an entry."""
    names = source_names(move)
    families = _families(move)
    sections = Sections(move.ledger.settings.sections)

    def describe(e: Entry) -> EntryLine:
        family = families[e.site].get(e.key, "")
        return EntryLine(e, sections.of(e.site, e.key), family, tuple(names[s] for s in e.sources))

    return describe


def _sorted(lines: list[EntryLine], sort: str) -> list[EntryLine]:
    lines.sort(key=lambda x: x.entry.legacy_url)
    if sort == "last-seen":
        lines.sort(key=lambda x: x.entry.last_seen, reverse=True)
    elif sort != "url":
        figure = _SORTS[sort]
        lines.sort(key=lambda x: figure(x.entry), reverse=True)
    return lines


def source_names(move: MoveState) -> dict[int, str]:
    """What each source is called, by its number."""
    with move.ledger.reading() as connection:
        return {s.id: s.name for s in list_sources(connection)}


def _families(move: MoveState) -> dict[str, dict[str, str]]:
    """Site → entry key → template."""
    keys: dict[str, list[str]] = defaultdict(list)
    for e in move.entries:
        keys[e.site].append(e.key)
    return defaultdict(dict, {site: templates(of) for site, of in keys.items()})


def _fits(line: EntryLine, filters: Filters) -> bool:
    e = line.entry
    if filters.pattern and not _matches(e, filters.pattern):
        return False
    return (
        (not filters.site or e.site == filters.site)
        and (filters.section is None or line.section == filters.section)
        and (not filters.family or line.family == filters.family)
        and (not filters.source or any(fnmatchcase(s, filters.source) for s in line.sources))
        and (not filters.answer or e.answer.kind == filters.answer)
        and (not filters.status or filters.status in e.statuses)
        and (filters.numbers is None or e.id in filters.numbers)
        and (not filters.by or e.by == filters.by)
        and (filters.below is None or (e.confidence is not None and e.confidence < filters.below))
    )


def _matches(entry: Entry, pattern: str) -> bool:
    low = pattern.lower()
    if "*" in low:
        return fnmatchcase(entry.legacy_url.lower(), low) or fnmatchcase(entry.key.lower(), low)
    return low in entry.legacy_url.lower()


def write_entries(path: Path, lines: Iterable[EntryLine]) -> None:
    """Write a list with COLUMNS. Raises UsageError."""
    write_table(
        path,
        Sheet("entries", COLUMNS, (line.row() for line in lines), ("legacy_url",)),
        otherwise=CSV,
    )


@dataclass
class Group:
    """Entries of one family or section: how many, their hits and value, and the addresses worth
    most.
    """

    name: str
    site: str
    entries: int = 0
    hits: float = 0.0
    value: float = 0.0
    examples: tuple[str, ...] = ()


def group_by(lines: Iterable[EntryLine], what: str) -> list[Group]:
    """Entries by "family" or "section", the most valuable first; those without one under an empty
    name, last.
    """
    members: dict[tuple[str, str], list[EntryLine]] = defaultdict(list)
    for line in lines:
        name = line.family if what == "family" else line.section
        members[line.entry.site if what == "family" and name else "", name].append(line)
    groups = []
    for (site, name), of in members.items():
        best = sorted(of, key=lambda x: (-x.entry.evidence.value, x.entry.legacy_url))[:3]
        hits, worth = (
            sum(f)
            for f in zip(
                *((x.entry.evidence.hits, x.entry.evidence.value) for x in of), strict=True
            )
        )
        groups.append(
            Group(name, site, len(of), hits, worth, tuple(x.entry.legacy_url for x in best))
        )
    return sorted(groups, key=lambda g: (g.name == "", -g.value, -g.entries, g.name))


@dataclass
class Details:
    """All that is known of one entry."""

    line: EntryLine
    evidence: list[EvidenceRow]
    spellings: list[str]
    referrers: list[tuple[str, float]]


def look_up(move: MoveState, url: str) -> Details:
    """The entry an address belongs to, in full. Raises UsageError where there is none."""
    try:
        entry = move.entry_of(parse_address(url, move.sites.old[0].origins[0]))
    except NotAnAddressError as error:
        raise UsageError(f"{url!r} is no address: {error}") from None
    if entry is None:
        raise UsageError(
            f"{url} belongs to no entry of this ledger",
            "`upright entries '*word*'` finds entries by pattern",
        )
    line = _describer(move)(entry)
    with move.ledger.reading() as connection:
        return Details(
            line,
            evidence_of(connection, entry.id),
            spellings_of(connection, entry.id),
            referrers_of(connection, entry.id),
        )


def set_aside(move: MoveState, kind: str = "") -> list[AsideUrl]:
    """Addresses that were set aside, of one class or all."""
    with move.ledger.reading() as connection:
        return load_aside(connection, kind)
