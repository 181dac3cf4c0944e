"""Sources: what one gathered file said, stored whole in one step."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from sqlalchemy import Connection, select

from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import load_rows, next_id, storable
from upright_ledger.ledger.db.journal import Step


@dataclass(slots=True)
class SourceFacts:
    """What is kept about a source itself; the counts are lines. asked: what the user said of how it
    is to be read.
    """

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
    asked: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Source:
    """A source as it is stored. step: that added it. time: when it was read; period_start,
    period_end: the days it covers. The counts are lines; mapping: meaning → header; mended, aside,
    asked: see `SourceFacts`.
    """

    id: int
    step: int
    name: str
    kind: str
    purpose: str
    digest: str
    head_digest: str
    bytes: int
    time: str
    period_start: str
    period_end: str
    mapping: Mapping[str, str] | None
    lines: int
    accepted: int
    set_aside: int
    rejected: int
    new_entries: int
    mended: Mapping[str, int] | None
    aside: Mapping[str, int] | None
    withdrawn: bool
    asked: Mapping[str, Any] | None


def find_source(connection: Connection, digest: str, purpose: str) -> Source | None:
    """The source with that content and purpose which still counts, or None."""
    query = select(schema.sources).where(
        schema.sources.c.digest == digest,
        schema.sources.c.purpose == purpose,
        schema.sources.c.withdrawn.is_(False),
    )
    row = connection.execute(query).first()
    return Source(**row._asdict()) if row is not None else None


def all_sources(connection: Connection) -> set[int]:
    """The numbers of all sources, withdrawn ones, too."""
    return set(connection.scalars(select(schema.sources.c.id)))


def newest_source(connection: Connection) -> int:
    """The number of the last source."""
    return next_id(connection, schema.sources) - 1


def list_sources(connection: Connection) -> list[Source]:
    """All sources that count, in the order of gathering."""
    s = schema.sources
    query = select(s).where(s.c.withdrawn.is_(False)).order_by(s.c.id)
    return [Source(**row._asdict()) for row in connection.execute(query)]


def days_of_exports(connection: Connection) -> dict[int, range]:
    """Source → the days of its period as ordinals; empty where the period is not known."""
    s = schema.sources
    found = {}
    for row in connection.execute(select(s.c.id, s.c.period_start, s.c.period_end)):
        known = row.period_start and row.period_end
        found[row.id] = _days(row.period_start, row.period_end) if known else range(0)
    return found


def _days(first: str, last: str) -> range:
    return range(date.fromisoformat(first).toordinal(), date.fromisoformat(last).toordinal() + 1)


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
        "asked": dict(facts.asked),
        **_outcome(facts),
    }
    step.put("sources", row)
    return number


def withdraw_source(step: Step, source: int) -> None:
    """Let a source count no longer; what it said stays."""
    query = select(schema.sources).where(schema.sources.c.id == source)
    step.put("sources", dict(step.connection.execute(query).mappings().one()) | {"withdrawn": True})


def close_source(connection: Connection, source: int, facts: SourceFacts, new_entries: int) -> None:
    """Write down what reading a source, added in this step, amounted to."""
    values = {
        "new_entries": new_entries,
        "digest": facts.digest,
        "bytes": facts.size,
        **_outcome(facts),
    }
    values |= {"period_start": facts.period[0], "period_end": facts.period[1], "kind": facts.kind}
    connection.execute(
        schema.sources.update().where(schema.sources.c.id == source).values(**values)
    )


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


def add_set_aside(
    connection: Connection, source: int, found: Mapping[tuple[str, str], int]
) -> None:
    """Keep lines that hold no URL: (class, text) → lines."""
    rows = [(source, kind, storable(text), lines) for (kind, text), lines in found.items()]
    load_rows(connection, schema.set_aside, ("source", "kind", "text", "lines"), rows)


def add_log_lines(
    connection: Connection, source: int, method: str, digests: Mapping[str, bytes]
) -> None:
    """Keep the digests of a log's lines: day → digests of 8 bytes each."""
    rows = [(source, day, method, data) for day, data in digests.items()]
    load_rows(connection, schema.log_lines, ("source", "day", "method", "digests"), rows)


def known_log_lines(connection: Connection, method: str) -> dict[str, list[bytes]]:
    """Day → the digests that logs which count have left for it; those of another method are no
    help.
    """
    t, s = schema.log_lines, schema.sources
    query = select(t.c.day, t.c.digests).join(s, s.c.id == t.c.source)
    found: dict[str, list[bytes]] = {}
    for row in connection.execute(query.where(s.c.withdrawn.is_(False), t.c.method == method)):
        found.setdefault(row.day, []).append(row.digests)
    return found
