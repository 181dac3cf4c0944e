"""Entries as people look at them: with the evidence of all sources that count, and their answer."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from sqlalchemy import ColumnElement, Connection, func, or_, select

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.evidence import Asker, EntryEvidence, Weights, per_30_days, value
from upright_ledger.core.inventory.path_noise import has_path_session
from upright_ledger.core.inventory.units import (
    CLICKS,
    HITS,
    IMPRESSIONS,
    LINKING_DOMAINS,
    LINKING_PAGES,
    LISTED,
    PER_PERIOD,
    VISITS,
)
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.escapes import as_utf8
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.redaction import MASK, has_masked_segment
from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.ledger.db import schema

_MOST_ANCHORS = 5  # of one entry


_ENTRY = ("id", "site", "key", "legacy_url")
_ANSWER = (
    "kind", "status", "destination", "by", "query", "where", "old", "host_given", "note", "author",
    "confidence", "reasons", "runner_up",
)  # fmt: skip


def load_entries(
    connection: Connection, weights: Weights, index_files: frozenset[str]
) -> list[Entry]:
    """All entries that a source that counts names, or that have an answer, by site and key.
    index_files: names that do not name an entry where another spelling does.
    """
    e, a = schema.entries, schema.answers
    query = (
        select(*(e.c[name] for name in _ENTRY), *(a.c[name] for name in _ANSWER))
        .join(a, a.c.entry == e.c.id, isouter=True)
        .where(_counts())
        .order_by(e.c.site, e.c.key)
    )
    found = {row[0]: _entry(row) for row in connection.execute(query).fetchall()}
    _add_figures(connection, found, weights)
    _add_texts(connection, found, index_files)
    return list(found.values())


def _counts() -> ColumnElement[bool]:
    """Whether an entry counts: a source that counts names it, or it has an answer."""
    named = (
        select(schema.spellings.c.entry)
        .join(schema.evidence, schema.evidence.c.spelling == schema.spellings.c.id)
        .join(schema.sources, schema.sources.c.id == schema.evidence.c.source)
        .where(schema.sources.c.withdrawn.is_(False))
    )
    return or_(
        schema.entries.c.id.in_(named), schema.entries.c.id.in_(select(schema.answers.c.entry))
    )


def count_entries(connection: Connection) -> int:
    """How many entries count."""
    p, s, a = schema.spellings, schema.sources, schema.answers
    if connection.scalar(select(func.count()).select_from(s).where(s.c.withdrawn)):
        return (
            connection.scalar(select(func.count()).select_from(schema.entries).where(_counts()))
            or 0
        )
    # Where every source counts, every spelling does, and nothing has to be looked up for each of
    # them.
    named = select(p.c.entry).where(p.c.entry.is_not(None))
    alone = select(func.count()).select_from(a).where(a.c.entry.not_in(named))
    return (connection.scalar(select(func.count(func.distinct(p.c.entry)))) or 0) + (
        connection.scalar(alone) or 0
    )


def seen_queries(connection: Connection) -> list[tuple[str, str, int]]:
    """Spellings of entries that have a query, with a title and a status where a source that counts
    gives them.
    """
    p, o, s = schema.spellings, schema.observations, schema.sources
    spellings = select(p.c.id, p.c.spelling).where(
        p.c.entry.is_not(None), p.c.spelling.contains("?")
    )
    told: dict[int, tuple[str, int]] = {}
    query = select(o.c.spelling, o.c.title, o.c.status).join(s, s.c.id == o.c.source)
    for row in connection.execute(query.where(s.c.withdrawn.is_(False))):
        title, status = told.get(row.spelling, ("", 0))
        told[row.spelling] = (title or row.title, status or row.status)
    return [(r.spelling, *told.get(r.id, ("", 0))) for r in connection.execute(spellings)]


def hosts_of(connection: Connection) -> set[tuple[str, str]]:
    """Every host (with its port) that spellings name, and the site to which they belong, or
    empty.
    """
    p = schema.spellings
    found = set()
    for site, spelling in connection.execute(
        select(p.c.site, p.c.spelling).execution_options(yield_per=10_000)
    ):
        found.add((spelling.split("/", 3)[2], site))
    return found


def sessions_in_paths(connection: Connection) -> list[tuple[int, str]]:
    """(entry, spelling) of what was seen with the identifier of a visit, or a secret, in its
    path.
    """
    p, v, s = schema.spellings, schema.evidence, schema.sources
    counts = select(v.c.spelling).join(s, s.c.id == v.c.source).where(s.c.withdrawn.is_(False))
    signs = or_(
        p.c.spelling.contains(";"), p.c.spelling.contains("("), p.c.spelling.contains(f"/{MASK}")
    )
    query = (
        select(p.c.entry, p.c.spelling)
        .where(p.c.entry.is_not(None), signs, p.c.id.in_(counts))
        .order_by(p.c.id)
    )
    found = (
        (entry, text, text[text.index("/", 8) :].partition("?")[0])
        for entry, text in connection.execute(query)
    )
    return [
        (entry, text)
        for entry, text, path in found
        if has_path_session(path) or has_masked_segment(path)
    ]


def _entry(row: Sequence[Any]) -> Entry:
    (
        number,
        site,
        key,
        legacy_url,
        kind,
        status,
        destination,
        by,
        query,
        where,
        old,
        host_given,
        note,
        *found,
    ) = row
    if kind is None:
        return Entry(number, site, key, legacy_url)
    answer = Decision(AnswerKind(kind), status, destination)
    told = (AnsweredBy(by), QueryPolicy(query), old, host_given, where, note, *found)
    return Entry(number, site, key, legacy_url, answer, *told)


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


def _add_figures(connection: Connection, found: Mapping[int, Entry], weights: Weights) -> None:
    """Logs add up, line by line, over all days they cover. Of two exports of one unit the larger
    counts: they tell of the same people.
    """
    v, s, p = schema.evidence, schema.sources, schema.spellings
    by = (p.c.entry, v.c.source, v.c.unit, v.c.agent, v.c.status_class)
    first, last = func.min(v.c.first_day).label("first"), func.max(v.c.last_day).label("last")
    query = (
        select(*by, func.sum(v.c.amount).label("amount"), first, last)
        .join(s, s.c.id == v.c.source)
        .join(p, p.c.id == v.c.spelling)
        .where(s.c.withdrawn.is_(False), p.c.entry.is_not(None))
        .group_by(*by)
    )
    periods = days_of_exports(connection)
    told: dict[int, _Told] = defaultdict(_Told)
    logs: set[int] = set()
    for (
        number,
        source,
        unit,
        agent,
        status_class,
        amount,
        first_day,
        last_day,
    ) in connection.execute(query).fetchall():
        t = told[number]
        t.sources.add(source)
        if unit == HITS and agent:
            t.add_log(agent, status_class, amount, first_day, last_day)
            logs.add(source)
        elif unit != LISTED:
            t.add_export(source, unit, amount)
    log_days = len(set().union(*(periods[source] for source in logs)))
    for number, t in told.items():
        if number in found:
            t.say(found[number], periods, log_days, weights)


@dataclass(slots=True)
class _Told:
    """What all sources say of one entry, unit by unit."""

    sources: set[int] = field(default_factory=set)
    hits: float = 0.0
    bots: float = 0.0
    statuses: dict[str, float] = field(default_factory=dict)
    days: list[str] = field(default_factory=list)
    exports: dict[tuple[str, int], float] = field(default_factory=dict)

    def add_log(
        self, agent: str, status_class: str, amount: float, first_day: str, last_day: str
    ) -> None:
        if agent == Asker.BOTS:
            self.bots += amount
        else:
            self.hits += amount
        self.statuses[status_class] = self.statuses.get(status_class, 0.0) + amount
        self.days += [day for day in (first_day, last_day) if day]

    def add_export(self, source: int, unit: str, amount: float) -> None:
        self.exports[unit, source] = self.exports.get((unit, source), 0.0) + amount

    def say(
        self, entry: Entry, periods: Mapping[int, range], log_days: int, weights: Weights
    ) -> None:
        """Put the figures into an entry."""
        totals: dict[str, float] = {}
        rates: dict[str, float] = {}
        for (unit, source), amount in self.exports.items():
            rate = per_30_days(amount, len(periods[source])) if unit in PER_PERIOD else amount
            totals[unit] = max(totals.get(unit, 0.0), amount)
            rates[unit] = max(rates.get(unit, 0.0), rate)
        if self.hits or self.bots:
            rates[HITS] = max(rates.get(HITS, 0.0), per_30_days(self.hits, log_days))
        entry.sources, entry.statuses = tuple(sorted(self.sources)), self.statuses
        entry.first_seen, entry.last_seen = min(self.days, default=""), max(self.days, default="")
        entry.evidence = EntryEvidence(
            hits=self.hits or totals.get(HITS, 0.0),
            bot_requests=self.bots,
            visits=totals.get(VISITS, 0.0),
            clicks=totals.get(CLICKS, 0.0),
            impressions=totals.get(IMPRESSIONS, 0.0),
            links=totals.get(LINKING_DOMAINS, 0.0) or totals.get(LINKING_PAGES, 0.0),
            value=value(rates, weights),
        )


def _add_texts(
    connection: Connection, found: Mapping[int, Entry], index_files: frozenset[str]
) -> None:
    p, o, s = schema.spellings, schema.observations, schema.sources
    variants: dict[int, set[str]] = defaultdict(set)
    spelled = select(p.c.entry, p.c.variant).where(p.c.entry.is_not(None))
    if connection.scalar(select(s.c.id).where(s.c.withdrawn.is_(True)).limit(1)) is not None:
        spelled = spelled.where(p.c.id.not_in(_withdrawn()))
    for number, variant in connection.execute(spelled).fetchall():
        variants[number].add(variant)
    titles: dict[int, dict[str, None]] = defaultdict(dict)
    items: dict[int, dict[str, None]] = defaultdict(dict)
    anchors: dict[int, dict[str, None]] = defaultdict(dict)
    query = select(p.c.entry, o.c.title, o.c.anchor, o.c.language, o.c.last_seen, o.c.item)
    query = query.join(o, o.c.spelling == p.c.id).join(s, s.c.id == o.c.source)
    for number, title, anchor, language, day, item in connection.execute(
        query.where(s.c.withdrawn.is_(False), p.c.entry.is_not(None)).order_by(
            o.c.source, p.c.spelling
        )
    ):
        if title:
            titles[number][title] = None
        if item:
            items[number][item] = None
        if anchor and len(anchors[number]) < _MOST_ANCHORS:
            anchors[number][anchor] = None
        if number in found:
            found[number].last_seen = max(found[number].last_seen, day)
            found[number].language = found[number].language or language
    for number, entry in found.items():
        entry.variants = tuple(sorted(variants.get(number, ())))
        entry.legacy_url = _plainest(entry, index_files)
        if number in titles:
            entry.titles = tuple(titles[number])
        if number in items:
            entry.items = tuple(items[number])
        if number in anchors:
            entry.anchors = tuple(anchors[number])


def _withdrawn() -> Any:
    """A query for the spellings that were seen in sources that count no longer, and in no other."""
    v, s = schema.evidence, schema.sources
    gone = select(v.c.spelling).join(s, s.c.id == v.c.source).where(s.c.withdrawn.is_(True))
    return gone.except_(
        select(v.c.spelling).join(s, s.c.id == v.c.source).where(s.c.withdrawn.is_(False))
    )


def _plainness(path: str, index_files: frozenset[str]) -> tuple[bool, int, bool, int, str]:
    return (
        as_utf8(path) != path,
        sum(map(str.isupper, path)),
        lower_ascii(path.rpartition("/")[2]) in index_files,
        len(path),
        path,
    )


def _plainest(entry: Entry, index_files: frozenset[str]) -> str:
    """The address an entry is called by: the plainest spelling observed, whatever came first."""
    if not entry.variants:
        return entry.legacy_url
    path = entry.variants[0]
    if len(entry.variants) > 1:
        path = min(entry.variants, key=lambda v: _plainness(v, index_files))
    _, mark, query = entry.key.partition("?")
    if (
        entry.legacy_url.endswith(f"{path}{mark}{query}")
        and entry.legacy_url.count("/") == path.count("/") + 2
    ):
        return entry.legacy_url
    return f"{address_of(entry.legacy_url).origin}{path}{mark}{query}"
