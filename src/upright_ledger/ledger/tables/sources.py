"""Sources: what one gathered file said, stored whole in one step."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any, NamedTuple

from upright_ledger.core.inventory.units import LINKING_DOMAINS, LINKING_PAGES
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.rows import next_id, storable
from upright_ledger.ledger.db.shapes import JOURNALLED, stored, these_rows


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


class Source(NamedTuple):
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
    query = (
        "SELECT id FROM sources WHERE digest = :digest AND purpose = :purpose AND NOT withdrawn "
        "ORDER BY id LIMIT 1"
    )
    number = connection.value(query, digest=digest, purpose=purpose)
    return Source(**these_rows(connection, "sources", [number])[0]) if number else None


def all_sources(connection: Connection) -> set[int]:
    """The numbers of all sources, withdrawn ones, too."""
    return set(connection.column("SELECT id FROM sources"))


def newest_source(connection: Connection) -> int:
    """The number of the last source."""
    return next_id(connection, "sources") - 1


def list_sources(connection: Connection) -> list[Source]:
    """All sources that count, in the order of gathering."""
    found = (Source(**row) for row in these_rows(connection, "sources"))
    return [source for source in found if not source.withdrawn]


def source_of_survey(run: int) -> str:
    """The name of the source with which a survey feeds the ledger."""
    return f"survey-{run}.csv"


def surveyed(connection: Connection) -> list[tuple[int, str]]:
    """The surveys that fed the ledger, in the order in which they did: number and purpose."""
    runs = connection.rows("SELECT id FROM runs WHERE kind = :kind", kind=RunKind.SURVEY.value)
    number = {source_of_survey(run): run for (run,) in runs}
    sources = connection.rows("SELECT name, purpose FROM sources WHERE NOT withdrawn ORDER BY id")
    return [(number[name], purpose) for name, purpose in sources if name in number]


_OF_LINKS = frozenset([LINKING_DOMAINS, LINKING_PAGES, "referrer"])


def links_are_known(connection: Connection) -> bool:
    """Whether any source tells which pages of other sites link here: else that nobody links is not
    known.
    """
    told = (frozenset(s.mapping or {}) for s in list_sources(connection))
    return any(_OF_LINKS & names and "user agent" not in names for names in told)


def days_of_exports(connection: Connection) -> dict[int, range]:
    """Source → the days of its period as ordinals; empty where the period is not known."""
    rows = connection.rows("SELECT id, period_start, period_end FROM sources")
    return {
        number: _days(first, last) if first and last else range(0) for number, first, last in rows
    }


def _days(first: str, last: str) -> range:
    return range(date.fromisoformat(first).toordinal(), date.fromisoformat(last).toordinal() + 1)


def add_source(step: Step, facts: SourceFacts) -> int:
    """Post a new source; returns its number."""
    number = next_id(step.connection, "sources")
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
    (row,) = these_rows(step.connection, "sources", [source])
    step.put("sources", row | {"withdrawn": True})


def close_source(connection: Connection, source: int, facts: SourceFacts, new_entries: int) -> None:
    """Write down what reading a source, added in this step, amounted to."""
    values = {
        "new_entries": new_entries,
        "digest": facts.digest,
        "bytes": facts.size,
        **_outcome(facts),
    }
    values |= {"period_start": facts.period[0], "period_end": facts.period[1], "kind": facts.kind}
    told = stored(JOURNALLED["sources"], (*values, "id"), [{**values, "id": source}])
    connection.change("sources", ("id",), tuple(values), told)


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
    connection.load("set_aside", ("source", "kind", "text", "lines"), rows)


def add_log_lines(
    connection: Connection, source: int, method: str, digests: Mapping[str, bytes]
) -> None:
    """Keep the digests of a log's lines: day → digests of 8 bytes each."""
    rows = [(source, day, method, data) for day, data in digests.items()]
    connection.load("log_lines", ("source", "day", "method", "digests"), rows)


def known_log_lines(connection: Connection, method: str) -> dict[str, list[bytes]]:
    """Day → the digests that logs which count have left for it; those of another method are no
    help.
    """
    query = (
        "SELECT t.day, t.digests FROM log_lines t JOIN sources s ON s.id = t.source "
        "WHERE NOT s.withdrawn AND t.method = :method"
    )
    found: dict[str, list[bytes]] = {}
    for day, digests in connection.rows(query, method=method):
        found.setdefault(day, []).append(digests)
    return found
