"""Entries as people look at them: with the evidence of all sources that count, and their answer."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from operator import attrgetter
from typing import Any

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.evidence import EntryEvidence
from upright_ledger.core.inventory.path_noise import has_path_session
from upright_ledger.core.url.address import split_text
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.redaction import MASK, has_masked_segment
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers, quoted
from upright_ledger.ledger.lines.statements import SHOWN, SHOWN_OF_ALL
from upright_ledger.ledger.lines.totals import kept_totals

_MOST_ANCHORS = 5  # of one entry
_AT_ONCE = 500

# A million entries have few of these, and calling what they are takes longer than looking it up.
_KINDS = {str(kind): kind for kind in AnswerKind}
_GIVERS = {str(giver): giver for giver in AnsweredBy}
_POLICIES = {str(policy): policy for policy in QueryPolicy}

_LINE = (
    "entry", "site", "url", "language", "statuses", "sources", "first_seen", "last_seen",
    "hits", "bots", "visits", "clicks", "impressions", "links", "value",
    "kind", "status", "destination", "by", "query", "where",
)  # fmt: skip
_OWN = ("old", "host_given", "note", "author", "confidence", "reasons", "runner_up")
_ENTRIES = (
    f'SELECT {", ".join(f"x.{quoted([name])}" for name in _LINE)}, e."key", '
    f"{', '.join(f'a.{quoted([name])}' for name in _OWN)} FROM entry_lines x "
    "JOIN entries e ON e.id = x.entry LEFT JOIN answers a ON a.entry = x.entry"
)


def load_entries(connection: Connection, numbers: Sequence[int] | None = None) -> list[Entry]:
    """All entries that a source that counts names, or that have an answer, by site and key; or
    those of these numbers, in their order.
    """
    found = {}
    if numbers is None:
        for row in connection.run(_ENTRIES):
            found[row[0]] = _entry(row)
        _add_rest(connection, found, None)
        return sorted(found.values(), key=attrgetter("site", "key"))
    for some in batches(numbers, _AT_ONCE):
        for row in connection.rows(f"{_ENTRIES} WHERE x.entry IN {in_numbers(some)}"):
            found[row[0]] = _entry(row)
        _add_rest(connection, found, some)
    return [found[number] for number in numbers if number in found]


def find_number(connection: Connection, site: str, key: str) -> int:
    """The number of the entry of a key; 0 where there is none."""
    query = 'SELECT id FROM entries WHERE site = :site AND "key" = :key'
    return connection.value(query, site=site, key=key) or 0


def entry_keys(connection: Connection) -> list[tuple[str, str]]:
    """Site and key of all entries that count."""
    query = 'SELECT x.site, e."key" FROM entry_lines x JOIN entries e ON e.id = x.entry'
    return [(site, key) for site, key in connection.rows(query)]


def count_entries(connection: Connection) -> int:
    """How many entries count."""
    return kept_totals(connection).entries.total()


def seen_queries(connection: Connection) -> list[tuple[str, str, int]]:
    """Spellings of entries that have a query, with a title and a status where a source that counts
    gives them.
    """
    told: dict[int, tuple[str, int]] = {}
    said = (
        "SELECT o.spelling, o.title, o.status FROM observations o "
        "JOIN sources s ON s.id = o.source WHERE NOT s.withdrawn"
    )
    for spelling, its_title, its_status in connection.rows(said):
        title, status = told.get(spelling, ("", 0))
        told[spelling] = (title or its_title, status or its_status)
    spelled = "SELECT id, spelling FROM spellings WHERE entry IS NOT NULL AND spelling LIKE '%?%'"
    return [(text, *told.get(number, ("", 0))) for number, text in connection.rows(spelled)]


def titles_without_query(connection: Connection, asked: Iterable[str]) -> dict[str, str]:
    """Titles of the addresses of these spellings but for their queries, where sources that count
    tell them.
    """
    wanted = {text.partition("?")[0] for text in asked}
    told = (
        "SELECT p.spelling, o.title FROM observations o JOIN sources s ON s.id = o.source "
        "JOIN spellings p ON p.id = o.spelling WHERE NOT s.withdrawn AND o.title <> '' "
        "AND p.entry IS NOT NULL AND p.spelling NOT LIKE '%?%' ORDER BY o.source DESC"
    )
    return {text: title for text, title in connection.rows(told) if text in wanted}


def known_requests(connection: Connection) -> Iterator[tuple[str, str]]:
    """Host and target of every spelling of every entry, each once."""
    shown = ""
    if connection.value("SELECT 1 FROM sources WHERE withdrawn LIMIT 1") is not None:
        shown = SHOWN_OF_ALL
    query = (
        'SELECT x.url, e."key", p.variant FROM entry_lines x JOIN entries e ON e.id = x.entry '
        f'LEFT JOIN spellings p ON p.entry = x.entry{shown} ORDER BY x.site, e."key", p.variant'
    )
    last = ("", "")
    for url, key, variant in connection.stream(query):
        _, host, target = split_text(url)
        if (url, target) != last:
            yield host, target
        last = (url, target)
        _, mark, params = key.partition("?")
        if variant is not None and (seen := f"{variant}{mark}{params}") != target:
            yield host, seen


def hosts_of(connection: Connection) -> set[tuple[str, str]]:
    """Every host (with its port) that spellings name, and the site to which they belong, or
    empty.
    """
    rows = connection.stream("SELECT site, spelling FROM spellings")
    return {(spelling.split("/", 3)[2], site) for site, spelling in rows}


def sessions_in_paths(connection: Connection) -> list[tuple[int, str]]:
    """(entry, spelling) of what was seen with the identifier of a visit, or a secret, in its
    path.
    """
    query = (
        "SELECT p.entry, p.spelling FROM spellings p WHERE p.entry IS NOT NULL "
        "AND (p.spelling LIKE '%;%' OR p.spelling LIKE '%(%' OR p.spelling LIKE :masked) "
        "AND p.id IN (SELECT v.spelling FROM evidence v JOIN sources s ON s.id = v.source "
        "WHERE NOT s.withdrawn) ORDER BY p.id"
    )
    found = (
        (entry, text, text[text.index("/", 8) :].partition("?")[0])
        for entry, text in connection.rows(query, masked=f"%/{MASK}%")
    )
    return [
        (entry, text)
        for entry, text, path in found
        if has_path_session(path) or has_masked_segment(path)
    ]


def _entry(row: Sequence[Any]) -> Entry:
    number, site, url, language, statuses, sources, first_seen, last_seen, *more = row
    figures, given, (key, *own) = more[:7], more[7:13], more[13:]
    kind, status, destination, by, query, where = given
    entry = Entry(
        number,
        site,
        key,
        url,
        Decision(_KINDS.get(kind) or AnswerKind(kind), status, destination),
        (_GIVERS.get(by) or AnsweredBy(by)) if by else "",
        _POLICIES.get(query) or QueryPolicy(query),
        where=where,
        evidence=EntryEvidence(*figures),
        language=language,
        statuses=_statuses(statuses) if statuses else {},
        sources=_numbers(sources),
        first_seen=first_seen,
        last_seen=last_seen,
    )
    if own[0] is not None:
        entry.old, host_given, entry.note, entry.author, *found = own
        entry.host_given = bool(host_given)
        entry.confidence, entry.reasons, entry.runner_up = found
    return entry


@lru_cache(1 << 12)
def _numbers(packed: str) -> tuple[int, ...]:
    return tuple(map(int, filter(None, packed.split("|"))))


def _statuses(packed: str) -> dict[str, float]:
    pairs = (part.rpartition(":") for part in packed.split("|") if part)
    return {code: float(amount) for code, _, amount in pairs}


def _add_rest(
    connection: Connection, found: Mapping[int, Entry], numbers: Sequence[int] | None
) -> None:
    """Add variants, and what sources say in words. numbers: of whom; None: of all."""
    whose = "p.entry IS NOT NULL" if numbers is None else f"p.entry IN {in_numbers(numbers)}"
    shown = ""
    if connection.value("SELECT 1 FROM sources WHERE withdrawn LIMIT 1") is not None:
        shown = SHOWN_OF_ALL if numbers is None else SHOWN
    variants: dict[int, set[str]] = defaultdict(set)
    spelled = f"SELECT p.entry, p.variant FROM spellings p WHERE {whose}{shown}"
    for number, variant in connection.rows(spelled):
        variants[number].add(variant)
    titles: dict[int, dict[str, None]] = defaultdict(dict)
    items: dict[int, dict[str, None]] = defaultdict(dict)
    anchors: dict[int, dict[str, None]] = defaultdict(dict)
    said = (
        "SELECT p.entry, o.title, o.anchor, o.item FROM spellings p "
        "JOIN observations o ON o.spelling = p.id JOIN sources s ON s.id = o.source "
        f"WHERE NOT s.withdrawn AND {whose} ORDER BY o.source, p.id"
    )
    for number, title, anchor, item in connection.rows(said):
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
