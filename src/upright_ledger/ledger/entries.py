"""Entries as people look at them: with the evidence of all sources that count, and their answer."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from sqlalchemy import ColumnElement, Connection, Row, func, or_, select

from upright_ledger.core.addresses import parse_address
from upright_ledger.core.answers import OPEN, EntryAnswer
from upright_ledger.core.evidence import (
    BOTS,
    CLICKS,
    HITS,
    IMPRESSIONS,
    LINKING_DOMAINS,
    LINKING_PAGES,
    LISTED,
    PER_PERIOD,
    VISITS,
    EntryEvidence,
    Weights,
    per_30_days,
    value,
)
from upright_ledger.core.folding import INDEX_FILES
from upright_ledger.ledger import schema


@dataclass(slots=True)
class Entry:
    """One legacy URL with all that is known of it.

    variants: canonical paths as observed. titles: in the order of sources. by: who gave the answer.
    """

    id: int
    site: str
    key: str
    legacy_url: str
    answer: EntryAnswer = field(default_factory=lambda: EntryAnswer(OPEN))
    by: str = ""
    query: str = ""
    old: str = ""
    host_given: bool = True
    where: str = ""
    evidence: EntryEvidence = field(default_factory=EntryEvidence)
    variants: tuple[str, ...] = ()
    titles: tuple[str, ...] = ()


def load_entries(connection: Connection, weights: Weights) -> list[Entry]:
    """All entries that a source that counts names, or that have an answer, by site and key."""
    e, a = schema.entries, schema.answers
    query = (
        select(e.c.id, e.c.site, e.c.key, e.c.legacy_url, a)
        .join(a, a.c.entry == e.c.id, isouter=True)
        .where(_counts())
        .order_by(e.c.site, e.c.key)
    )
    found = {r.id: _entry(r) for r in connection.execute(query)}
    _add_figures(connection, found, weights)
    _add_texts(connection, found)
    return list(found.values())


def _counts() -> ColumnElement[bool]:
    """Whether an entry counts: a source that counts names it, or it has an answer."""
    named = (
        select(schema.spellings.c.entry)
        .join(schema.evidence, schema.evidence.c.spelling == schema.spellings.c.id)
        .join(schema.sources, schema.sources.c.id == schema.evidence.c.source)
        .where(schema.sources.c.withdrawn.is_(False))
    )
    return or_(schema.entries.c.id.in_(named), schema.entries.c.id.in_(select(schema.answers.c.entry)))


def count_entries(connection: Connection) -> int:
    """How many entries count."""
    return connection.scalar(select(func.count()).select_from(schema.entries).where(_counts())) or 0


def _entry(row: Row[Any]) -> Entry:
    entry = Entry(row.id, row.site, row.key, row.legacy_url)
    if row.kind is not None:
        entry.answer = EntryAnswer(row.kind, row.status, row.destination)
        entry.by, entry.query, entry.where = row.by, row.query, row.where
        entry.old, entry.host_given = row.old, row.host_given
    return entry


def _periods(connection: Connection) -> dict[int, range]:
    """Source → the days of its period as ordinals; empty where the period is not known."""
    s = schema.sources
    found = {}
    for row in connection.execute(select(s.c.id, s.c.period_start, s.c.period_end)):
        known = row.period_start and row.period_end
        found[row.id] = _days(row.period_start, row.period_end) if known else range(0)
    return found


def _days(first: str, last: str) -> range:
    return range(date.fromisoformat(first).toordinal(), date.fromisoformat(last).toordinal() + 1)


def _add_figures(connection: Connection, found: Mapping[int, Entry], weights: Weights) -> None:
    """Logs add up, line by line, over all days they cover. Of two exports of one unit the larger counts:
    they tell of the same people."""
    v, s, p = schema.evidence, schema.sources, schema.spellings
    query = (
        select(p.c.entry, v.c.source, v.c.unit, v.c.agent, func.sum(v.c.amount).label("amount"))
        .join(s, s.c.id == v.c.source)
        .join(p, p.c.id == v.c.spelling)
        .where(s.c.withdrawn.is_(False), v.c.unit != LISTED)
        .group_by(p.c.entry, v.c.source, v.c.unit, v.c.agent)
    )
    periods = _periods(connection)
    hits: dict[int, float] = defaultdict(float)
    bots: dict[int, float] = defaultdict(float)
    totals: dict[int, dict[str, float]] = defaultdict(dict)
    rates: dict[int, dict[str, float]] = defaultdict(dict)
    logs: set[int] = set()
    for row in connection.execute(query):
        if row.unit == HITS:
            (bots if row.agent == BOTS else hits)[row.entry] += row.amount
            logs.add(row.source)
            continue
        rate = per_30_days(row.amount, len(periods[row.source])) if row.unit in PER_PERIOD else row.amount
        for book, amount in ((totals[row.entry], row.amount), (rates[row.entry], rate)):
            book[row.unit] = max(book.get(row.unit, 0.0), amount)
    log_days = len(set().union(*(periods[source] for source in logs)))
    for number, entry in found.items():
        t = totals.get(number, {})
        rate = {**rates.get(number, {}), HITS: per_30_days(hits.get(number, 0.0), log_days)}
        entry.evidence = EntryEvidence(
            hits=hits.get(number, 0.0),
            bot_requests=bots.get(number, 0.0),
            visits=t.get(VISITS, 0.0),
            clicks=t.get(CLICKS, 0.0),
            impressions=t.get(IMPRESSIONS, 0.0),
            links=t.get(LINKING_DOMAINS, 0.0) or t.get(LINKING_PAGES, 0.0),
            value=value(rate, weights),
        )


def _add_texts(connection: Connection, found: Mapping[int, Entry]) -> None:
    p, o, s = schema.spellings, schema.observations, schema.sources
    variants: dict[int, set[str]] = defaultdict(set)
    for row in connection.execute(select(p.c.entry, p.c.variant)):
        variants[row.entry].add(row.variant)
    titles: dict[int, dict[str, None]] = defaultdict(dict)
    query = select(p.c.entry, o.c.title).join(o, o.c.spelling == p.c.id).join(s, s.c.id == o.c.source)
    for row in connection.execute(
        query.where(s.c.withdrawn.is_(False), o.c.title != "").order_by(o.c.source, p.c.spelling)
    ):
        titles[row.entry][row.title] = None
    for number, entry in found.items():
        entry.variants = tuple(sorted(variants.get(number, ())))
        entry.legacy_url = _plainest(entry)
        entry.titles = tuple(titles.get(number, ()))


def _plainest(entry: Entry) -> str:
    """The address an entry is called by: the plainest spelling observed, whatever came first."""
    if not entry.variants:
        return entry.legacy_url
    path = min(entry.variants, key=lambda v: (sum(map(str.isupper, v)), v.rpartition("/")[2] in INDEX_FILES, len(v), v))
    _, mark, query = entry.key.partition("?")
    return f"{parse_address(entry.legacy_url).origin}{path}{mark}{query}"
