"""Entries as people look at them: with the evidence of all sources that count, and their answer."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Connection, Select, exists, or_, select

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.evidence import EntryEvidence
from upright_ledger.core.inventory.path_noise import has_path_session
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.redaction import MASK, has_masked_segment
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import batches
from upright_ledger.ledger.db.derived import entry_lines
from upright_ledger.ledger.lines.totals import kept_totals

_MOST_ANCHORS = 5  # of one entry
_AT_ONCE = 500

_FIGURES = ("hits", "bots", "visits", "clicks", "impressions", "links", "value")
_LINE = ("entry", "site", "url", "language", "statuses", "sources", "first_seen", "last_seen")
_GIVEN = ("kind", "status", "destination", "by", "query", "where")
_OWN = ("old", "host_given", "note", "author", "confidence", "reasons", "runner_up")


def load_entries(connection: Connection, numbers: Sequence[int] | None = None) -> list[Entry]:
    """All entries that a source that counts names, or that have an answer, by site and key; or
    those of these numbers, in their order.
    """
    x, e, a = entry_lines, schema.entries, schema.answers
    columns = (
        *(x.c[name] for name in _LINE), e.c.key, *(x.c[name] for name in _FIGURES),
        *(x.c[name] for name in _GIVEN), *(a.c[name] for name in _OWN),
    )  # fmt: skip
    query = (
        select(*columns).join(e, e.c.id == x.c.entry).join(a, a.c.entry == x.c.entry, isouter=True)
    )
    found = {}
    if numbers is None:
        for row in connection.execute(query.order_by(e.c.site, e.c.key)).fetchall():
            found[row[0]] = _entry(row)
        _add_rest(connection, found, None)
        return list(found.values())
    for some in batches(numbers, _AT_ONCE):
        for row in connection.execute(query.where(x.c.entry.in_(some))):
            found[row[0]] = _entry(row)
        _add_rest(connection, found, some)
    return [found[number] for number in numbers if number in found]


def find_number(connection: Connection, site: str, key: str) -> int:
    """The number of the entry of a key; 0 where there is none."""
    e = schema.entries
    return connection.scalar(select(e.c.id).where(e.c.site == site, e.c.key == key)) or 0


def count_entries(connection: Connection) -> int:
    """How many entries count."""
    return kept_totals(connection).entries.total()


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
    number, site, url, language, statuses, sources, first_seen, last_seen, key, *more = row
    figures, given, own = more[:7], more[7:13], more[13:]
    kind, status, destination, by, query, where = given
    entry = Entry(
        number,
        site,
        key,
        url,
        Decision(AnswerKind(kind), status, destination),
        AnsweredBy(by) if by else "",
        QueryPolicy(query),
        where=where,
        evidence=EntryEvidence(*figures),
        language=language,
        statuses=_statuses(statuses),
        sources=tuple(map(int, filter(None, sources.split("|")))),
        first_seen=first_seen,
        last_seen=last_seen,
    )
    if own[0] is not None:
        entry.old, entry.host_given, entry.note, entry.author, *found = own
        entry.confidence, entry.reasons, entry.runner_up = found
    return entry


def _statuses(packed: str) -> dict[str, float]:
    pairs = (part.rpartition(":") for part in packed.split("|") if part)
    return {code: float(amount) for code, _, amount in pairs}


def _add_rest(
    connection: Connection, found: Mapping[int, Entry], numbers: Sequence[int] | None
) -> None:
    """Add variants, and what sources say in words. numbers: of whom; None: of all."""
    p, o, s = schema.spellings, schema.observations, schema.sources

    def of(column: ColumnElement[Any], query: Select[Any]) -> Iterable[Any]:
        query = query.where(column.in_(numbers) if numbers is not None else column.is_not(None))
        return connection.execute(query).fetchall()

    spelled = select(p.c.entry, p.c.variant)
    if connection.scalar(select(s.c.id).where(s.c.withdrawn.is_(True)).limit(1)) is not None:
        spelled = spelled.where(_is_shown() if numbers is not None else p.c.id.not_in(_withdrawn()))
    variants: dict[int, set[str]] = defaultdict(set)
    for number, variant in of(p.c.entry, spelled):
        variants[number].add(variant)
    titles: dict[int, dict[str, None]] = defaultdict(dict)
    items: dict[int, dict[str, None]] = defaultdict(dict)
    anchors: dict[int, dict[str, None]] = defaultdict(dict)
    said = select(p.c.entry, o.c.title, o.c.anchor, o.c.item).join(o, o.c.spelling == p.c.id)
    said = said.join(s, s.c.id == o.c.source).where(s.c.withdrawn.is_(False))
    for number, title, anchor, item in of(p.c.entry, said.order_by(o.c.source, p.c.id)):
        if title:
            titles[number][title] = None
        if item:
            items[number][item] = None
        if anchor and len(anchors[number]) < _MOST_ANCHORS:
            anchors[number][anchor] = None
    for number in found if numbers is None else numbers:
        if (entry := found.get(number)) is None:
            continue
        entry.variants = tuple(sorted(variants[number]))
        entry.titles = tuple(titles.get(number, ()))
        entry.items = tuple(items.get(number, ()))
        entry.anchors = tuple(anchors.get(number, ()))


def _is_shown() -> ColumnElement[bool]:
    """As not in `_withdrawn`, for few spellings: each is looked up."""
    p, v, s = schema.spellings, schema.evidence, schema.sources
    seen = exists().where(v.c.spelling == p.c.id, s.c.id == v.c.source)
    return ~seen.where(s.c.withdrawn.is_(True)) | seen.where(s.c.withdrawn.is_(False))


def _withdrawn() -> Any:
    """A query for the spellings that were seen in sources that count no longer, and in no other."""
    v, s = schema.evidence, schema.sources
    gone = select(v.c.spelling).join(s, s.c.id == v.c.source).where(s.c.withdrawn.is_(True))
    return gone.except_(
        select(v.c.spelling).join(s, s.c.id == v.c.source).where(s.c.withdrawn.is_(False))
    )
