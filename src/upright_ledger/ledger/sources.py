"""Sources: what one gathered file said, stored whole in one step."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, Row, Table, bindparam, func, select, update

from upright_ledger.core.evidence import Figure
from upright_ledger.core.placing import Placed
from upright_ledger.ledger import schema
from upright_ledger.ledger.bulk import find_ids, load_rows
from upright_ledger.ledger.journal import Step
from upright_ledger.ledger.store import now

TOP_REFERRERS = 20


@dataclass(slots=True)
class Sighting:
    """What one source says of one spelling. referrers: address → figure; the rest stands under an empty one."""

    place: Placed
    figures: list[Figure] = field(default_factory=list)
    referrers: dict[str, float] = field(default_factory=dict)
    title: str = ""
    anchor: str = ""
    language: str = ""
    status: int = 0
    last_seen: str = ""


@dataclass(slots=True)
class SourceFacts:
    """What is kept about a source itself; the counts are lines."""

    name: str
    kind: str
    purpose: str
    digest: str
    size: int
    head_digest: str = ""
    mapping: Mapping[str, str] = field(default_factory=dict)
    period: tuple[str, str] = ("", "")
    lines: int = 0
    accepted: int = 0
    set_aside: int = 0
    rejected: int = 0
    mended: Mapping[str, int] = field(default_factory=dict)
    aside: Mapping[str, int] = field(default_factory=dict)


def find_source(connection: Connection, digest: str, purpose: str) -> Row[Any] | None:
    """The source with that content and purpose which still counts, or None."""
    query = select(schema.sources).where(
        schema.sources.c.digest == digest,
        schema.sources.c.purpose == purpose,
        schema.sources.c.withdrawn.is_(False),
    )
    return connection.execute(query).first()


def newest_source(connection: Connection) -> int:
    """The number of the last source."""
    return next_id(connection, schema.sources) - 1


def list_sources(connection: Connection) -> list[Row[Any]]:
    """All sources that count, in the order of gathering."""
    return list(
        connection.execute(
            select(schema.sources).where(schema.sources.c.withdrawn.is_(False)).order_by(schema.sources.c.id)
        )
    )


def add_source(step: Step, facts: SourceFacts) -> int:
    """Post a new source; returns its number."""
    number = next_id(step.connection, schema.sources)
    row = {
        "id": number,
        "step": step.id,
        "name": facts.name,
        "kind": facts.kind,
        "purpose": facts.purpose,
        "digest": facts.digest,
        "head_digest": facts.head_digest,
        "bytes": facts.size,
        "time": now(),
        "period_start": facts.period[0],
        "period_end": facts.period[1],
        "mapping": dict(facts.mapping),
        "new_entries": 0,
        "withdrawn": False,
        **_outcome(facts),
    }
    step.put("sources", row)
    return number


def close_source(connection: Connection, source: int, facts: SourceFacts, new_entries: int) -> None:
    """Write down what reading a source, added in this step, amounted to."""
    values = {"new_entries": new_entries, "digest": facts.digest, "bytes": facts.size, **_outcome(facts)}
    values |= {"period_start": facts.period[0], "period_end": facts.period[1], "kind": facts.kind}
    connection.execute(schema.sources.update().where(schema.sources.c.id == source).values(**values))


def _outcome(facts: SourceFacts) -> dict[str, Any]:
    return {
        "mapping": dict(facts.mapping),
        "lines": facts.lines,
        "accepted": facts.accepted,
        "set_aside": facts.set_aside,
        "rejected": facts.rejected,
        "mended": dict(facts.mended),
        "aside": dict(facts.aside),
    }


def add_sightings(
    connection: Connection, source: int, policy: int, sightings: Sequence[Sighting]
) -> tuple[dict[tuple[str, str], int], int]:
    """Store what a source said. Returns the entry number by (site, key), and how many entries are new."""
    places = [s.place for s in sightings]
    entry_ids, made = ensure_entries(connection, policy, ((p.site, p.key, p.legacy_url) for p in places if not p.aside))
    numbers = _ensure_spellings(connection, places, entry_ids)
    figures, said, led = [], [], []
    for number, s in zip(numbers, sightings, strict=True):
        figures += [(number, source, *f, f.days[:10], f.days.rpartition(" ")[2][:10]) for f in s.figures]
        if s.title or s.language or s.status or s.last_seen or s.anchor:
            texts = (storable(s.title), storable(s.anchor), storable(s.language))
            said.append((number, source, *texts, s.status, s.last_seen))
        if s.referrers:
            told = "\n".join([f"{n:g} {r}" for r, n in top_referrers(s.referrers)])
            led.append((number, source, storable(told)))
    columns = ("spelling", "source", "unit", "amount", "status_class", "agent", "days", "first_day", "last_day")
    load_rows(connection, schema.evidence, columns, figures)
    described = ("spelling", "source", "title", "anchor", "language", "status", "last_seen")
    load_rows(connection, schema.observations, described, said)
    load_rows(connection, schema.referrers, ("spelling", "source", "referrers"), led)
    return entry_ids, made


def top_referrers(referrers: Mapping[str, float]) -> list[tuple[str, float]]:
    """The most frequent referrers, and the rest under an empty name."""
    if len(referrers) <= TOP_REFERRERS:
        return list(referrers.items())
    ranked = sorted(referrers.items(), key=lambda item: (item[0] == "", -item[1], item[0]))
    rest = sum(n for _, n in ranked[TOP_REFERRERS:])
    return [*ranked[:TOP_REFERRERS], ("", rest)]


def ensure_entries(
    connection: Connection, policy: int, wanted: Iterable[tuple[str, str, str]]
) -> tuple[dict[tuple[str, str], int], int]:
    """Make the entries (site, key, legacy URL) that are not there yet.

    Returns the numbers of the wanted entries by (site, key), and how many were made.
    """
    first: dict[tuple[str, str], str] = {}
    for site, key, legacy_url in wanted:
        first.setdefault((site, key), legacy_url)
    following = next_id(connection, schema.entries)
    known = find_ids(connection, schema.entries, list(first)) if following > 1 and first else {}
    rows = []
    for name in sorted(first.keys() - known.keys()):  # in order, the index is built several times faster
        known[name] = following
        rows.append((following, *name, policy, first[name]))
        following += 1
    load_rows(connection, schema.entries, ("id", "site", "key", "policy", "legacy_url"), rows)
    return known, len(rows)


def _ensure_spellings(
    connection: Connection, places: Sequence[Placed], entries: Mapping[tuple[str, str], int]
) -> list[int]:
    """The numbers of the spellings of these places, made where they are not there yet.

    A spelling that was set aside and is now named as an entry becomes one.
    """
    table = schema.spellings
    names = [(p.site, storable(p.spelling)) for p in places]
    following = next_id(connection, table)
    known = find_ids(connection, table, list(dict.fromkeys(names))) if following > 1 and names else {}
    raised = [
        {"number": known[name], "its_entry": entries[p.site, p.key], "its_variant": p.variant}
        for name, p in zip(names, places, strict=True)
        if not p.aside and name in known
    ]
    if raised:
        is_aside = (table.c.id == bindparam("number")) & table.c.entry.is_(None)
        values = {"aside": "", "entry": bindparam("its_entry"), "variant": bindparam("its_variant")}
        connection.execute(update(table).where(is_aside).values(**values), raised)
    fresh = {name: p for name, p in reversed(list(zip(names, places, strict=True))) if name not in known}
    for name, p in zip(names, places, strict=True):
        if name in fresh and not p.aside:
            fresh[name] = p  # of two readings of one spelling, the one that makes it an entry counts
    rows = []
    for name in sorted(fresh):
        p = fresh[name]
        known[name] = following
        rows.append((following, *name, None if p.aside else entries[p.site, p.key], p.variant, p.aside))
        following += 1
    load_rows(connection, table, ("id", "site", "spelling", "entry", "variant", "aside"), rows)
    return [known[name] for name in names]


def next_id(connection: Connection, table: Table) -> int:
    """The number that follows the last. Steps run one after the other, so it stays free."""
    return int(connection.scalar(select(func.max(table.c.id))) or 0) + 1


def add_set_aside(connection: Connection, source: int, found: Mapping[tuple[str, str], int]) -> None:
    """Keep lines that hold no URL: (class, text) → lines."""
    rows = [(source, kind, storable(text), lines) for (kind, text), lines in found.items()]
    load_rows(connection, schema.set_aside, ("source", "kind", "text", "lines"), rows)


def add_log_lines(connection: Connection, source: int, method: str, digests: Mapping[str, bytes]) -> None:
    """Keep the digests of a log's lines: day → digests of 8 bytes each."""
    rows = [(source, day, method, data) for day, data in digests.items()]
    load_rows(connection, schema.log_lines, ("source", "day", "method", "digests"), rows)


def known_log_lines(connection: Connection, method: str) -> dict[str, list[bytes]]:
    """Day → the digests that logs which count have left for it; those of another method are no help."""
    t, s = schema.log_lines, schema.sources
    query = select(t.c.day, t.c.digests).join(s, s.c.id == t.c.source)
    found: dict[str, list[bytes]] = {}
    for row in connection.execute(query.where(s.c.withdrawn.is_(False), t.c.method == method)):
        found.setdefault(row.day, []).append(row.digests)
    return found


def storable(text: str) -> str:
    """A text that every database takes: bytes that are no UTF-8, and NUL, are spelled out."""
    if text.isascii():
        return text.replace("\0", "\\x00") if "\0" in text else text
    return text.encode("utf-8", "backslashreplace").decode().replace("\0", "\\x00")
