"""Sources: what one gathered file said, stored whole in one step."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, Row, insert, select

from upright_ledger.ledger import schema
from upright_ledger.ledger.journal import Step
from upright_ledger.ledger.store import now

CHUNK = 5000
TOP_REFERRERS = 20


@dataclass(slots=True)
class Sighting:
    """All that one source says of one spelling.

    key, variant: as folded. amounts: (unit, status class, agent, day) → figure. referrers: address → figure.
    """

    site: str
    spelling: str
    key: str
    variant: str
    legacy_url: str
    amounts: dict[tuple[str, str, str, str], float] = field(default_factory=dict)
    referrers: dict[str, float] = field(default_factory=dict)
    title: str = ""
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


def find_source(connection: Connection, digest: str, purpose: str) -> Row[Any] | None:
    """The source with that content and purpose which still counts, or None."""
    query = select(schema.sources).where(
        schema.sources.c.digest == digest,
        schema.sources.c.purpose == purpose,
        schema.sources.c.withdrawn.is_(False),
    )
    return connection.execute(query).first()


def list_sources(connection: Connection) -> list[Row[Any]]:
    """All sources that count, in the order of gathering."""
    return list(
        connection.execute(
            select(schema.sources).where(schema.sources.c.withdrawn.is_(False)).order_by(schema.sources.c.id)
        )
    )


def add_source(step: Step, facts: SourceFacts) -> int:
    """Post a new source; returns its number."""
    newest = step.connection.scalar(select(schema.sources.c.id).order_by(schema.sources.c.id.desc()).limit(1)) or 0
    number = int(newest) + 1
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
        "lines": facts.lines,
        "accepted": facts.accepted,
        "set_aside": facts.set_aside,
        "rejected": facts.rejected,
        "new_entries": 0,
        "mended": dict(facts.mended),
        "withdrawn": False,
    }
    step.put("sources", row)
    return number


def count_new_entries(connection: Connection, source: int, count: int) -> None:
    """Write down how many entries a source, just added in this step, was the first to name."""
    connection.execute(schema.sources.update().where(schema.sources.c.id == source).values(new_entries=count))


def add_sightings(
    connection: Connection, source: int, policy: int, sightings: Iterable[Sighting]
) -> tuple[dict[str, int], int]:
    """Store what a source said. Returns the entry number by "site key", and how many entries are new."""
    sightings = list(sightings)
    entry_ids, made = ensure_entries(connection, policy, ((s.site, s.key, s.legacy_url) for s in sightings))
    spelling_ids = _ensure_spellings(connection, sightings, entry_ids)
    figures, said, led = [], [], []
    for s in sightings:
        number = spelling_ids[s.site, s.spelling]
        figures += [
            {
                "spelling": number,
                "source": source,
                "unit": unit,
                "status_class": status,
                "agent": agent,
                "day": day,
                "amount": amount,
            }
            for (unit, status, agent, day), amount in s.amounts.items()
        ]
        if s.title or s.language or s.status or s.last_seen:
            said.append(
                {
                    "spelling": number,
                    "source": source,
                    "title": storable(s.title),
                    "language": storable(s.language),
                    "status": s.status,
                    "last_seen": s.last_seen,
                },
            )
        led += [
            {"spelling": number, "source": source, "referrer": storable(r), "amount": n} for r, n in _top(s.referrers)
        ]
    insert_many(connection, schema.evidence, figures)
    insert_many(connection, schema.observations, said)
    insert_many(connection, schema.referrers, led)
    return entry_ids, made


def _top(referrers: dict[str, float]) -> list[tuple[str, float]]:
    """The most frequent referrers, and the rest under an empty name."""
    ranked = sorted(referrers.items(), key=lambda item: (-item[1], item[0]))
    rest = sum(n for _, n in ranked[TOP_REFERRERS:])
    return ranked[:TOP_REFERRERS] + ([("", rest)] if rest else [])


def ensure_entries(
    connection: Connection, policy: int, wanted: Iterable[tuple[str, str, str]]
) -> tuple[dict[str, int], int]:
    """Make the entries (site, key, legacy URL) that are not there yet.

    Returns the numbers of all entries by "site key", and how many were made.
    """
    known = {
        f"{r.site} {r.key}": r.id
        for r in connection.execute(select(schema.entries.c.id, schema.entries.c.site, schema.entries.c.key))
    }
    following = max(known.values(), default=0) + 1
    rows = []
    for site, key, legacy_url in wanted:
        name = f"{site} {key}"
        if name not in known:
            known[name] = following
            rows.append(
                {
                    "id": following,
                    "site": site,
                    "key": key,
                    "policy": policy,
                    "legacy_url": legacy_url,
                    "section": "",
                    "family": "",
                }
            )
            following += 1
    insert_many(connection, schema.entries, rows)
    return known, len(rows)


def _ensure_spellings(
    connection: Connection, sightings: list[Sighting], entries: dict[str, int]
) -> dict[tuple[str, str], int]:
    table = schema.spellings
    known = {(r.site, r.spelling): r.id for r in connection.execute(select(table.c.id, table.c.site, table.c.spelling))}
    following = max(known.values(), default=0) + 1
    rows = []
    for s in sightings:
        if (s.site, s.spelling) not in known:
            known[s.site, s.spelling] = following
            entry = entries[f"{s.site} {s.key}"]
            rows.append({"id": following, "site": s.site, "spelling": s.spelling, "entry": entry, "variant": s.variant})
            following += 1
    insert_many(connection, table, rows)
    return known


def add_set_aside(connection: Connection, source: int, found: Mapping[tuple[str, str], int]) -> None:
    """Keep what was set aside: (class, text) → lines."""
    rows = [
        {"source": source, "kind": kind, "text": storable(text), "lines": lines}
        for (kind, text), lines in found.items()
    ]
    insert_many(connection, schema.set_aside, rows)


def storable(text: str) -> str:
    """A text that every database takes: bytes that are no UTF-8, and NUL, are spelled out."""
    return text.encode("utf-8", "backslashreplace").decode().replace("\0", "\\x00")


def insert_many(connection: Connection, table: Any, rows: list[dict[str, Any]]) -> None:
    """Insert rows in portions that every driver takes."""
    for at in range(0, len(rows), CHUNK):
        connection.execute(insert(table), rows[at : at + CHUNK])
