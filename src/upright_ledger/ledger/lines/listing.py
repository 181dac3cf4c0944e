"""Which entries fit, in which order, and what they amount to: asked of the database."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any, NamedTuple

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers, numbered
from upright_ledger.ledger.lines.totals import kept_totals
from upright_ledger.ledger.tables.stock import StockState, planned_pages

_SORTS = {
    name: name.replace("-", "_")
    for name in (
        "value", "hits", "bots", "visits", "clicks", "impressions", "links", "variants", "last-seen"
    )
}  # fmt: skip
"""Sort → its column."""
_FEW_GROUPS = 500
"""So many that a question can name them."""
SORTS = (*_SORTS, "url")
"""What a list of entries can be sorted by, the largest first; equal ones, and "url", by address."""


@dataclass(frozen=True)
class Filters:
    """Which entries are wanted; an empty filter wants all. pattern: of the legacy URL or its path,
    with *. section, family: empty for those without one. numbers: of the entries themselves;
    without: of those that are not. by: what gave the answer. below: answers of a
    confidence that is known and less than that.
    """

    pattern: str = ""
    site: str = ""
    section: str | None = None
    family: str | None = None
    source: str = ""
    answer: str = ""
    status: str = ""
    numbers: frozenset[int] | None = None
    without: frozenset[int] = frozenset()
    by: str = ""
    below: float | None = None


def find_entries(
    connection: Connection, filters: Filters, sort: str = "value", limit: int | None = None
) -> list[int]:
    """The numbers of entries that fit, in their order, at most `limit`."""
    where, values = _fitting(connection, filters)
    order = f"x.{_SORTS[sort]} DESC, x.url" if sort in _SORTS else "x.url"
    query = f"SELECT x.entry FROM entry_lines x WHERE {where} ORDER BY {order}"
    return connection.column(query + ("" if limit is None else f" LIMIT {limit:d}"), **values)


def count_fitting(connection: Connection, filters: Filters) -> int:
    """How many entries fit."""
    if filters == Filters(answer=filters.answer):
        counts = kept_totals(connection).entries
        return counts[filters.answer] if filters.answer else counts.total()
    where, values = _fitting(connection, filters)
    counted = f"SELECT COUNT(*) FROM entry_lines x WHERE {where}"
    return int(connection.value(counted, **values))


class GroupTotal(NamedTuple):
    """What the entries of one group amount to. site: empty where groups span sites."""

    name: str
    site: str
    entries: int
    hits: float
    value: float


def group_totals(connection: Connection, filters: Filters, what: str) -> list[GroupTotal]:
    """Entries that fit by "family" or "section", in no order; those without one together."""
    where, values = _fitting(connection, filters)
    by = "x.family, x.site" if what == "family" else "x.section"
    query = (
        f"SELECT x.{what}, MIN(x.site), COUNT(*), SUM(x.hits), SUM(x.value) "
        f"FROM entry_lines x WHERE {where} GROUP BY {by}"
    )
    found: dict[tuple[str, str], GroupTotal] = {}
    for row in connection.rows(query, **values):
        key = row[0], row[1] if what == "family" and row[0] else ""
        before = found.get(key, GroupTotal(*key, 0, 0.0, 0.0))
        added = (
            getattr(before, n) + v
            for n, v in zip(("entries", "hits", "value"), row[2:], strict=True)
        )
        found[key] = GroupTotal(*key, *added)
    return list(found.values())


def best_of_groups(
    connection: Connection, filters: Filters, what: str, groups: Sequence[GroupTotal], each: int
) -> dict[tuple[str, str], list[str]]:
    """Name and site of a named group → the addresses in it that are worth most, at most so
    many.
    """
    apart = what == "family"
    within = "x.family, x.site" if apart else "x.section"
    where, values = _fitting(connection, filters)
    if len(groups) <= _FEW_GROUPS:
        names, more = numbered({g.name for g in groups})
        where, values = f"{where} AND x.{what} IN {names}", values | more
    query = (
        f"SELECT name, site, url FROM (SELECT x.{what} AS name, x.site, x.url, "
        f"ROW_NUMBER() OVER (PARTITION BY {within} ORDER BY x.value DESC, x.url) AS place "
        f"FROM entry_lines x WHERE x.{what} <> '' AND {where}) r "
        "WHERE place <= :each ORDER BY name, site, place"
    )
    found: dict[tuple[str, str], list[str]] = defaultdict(list)
    for group, site, url in connection.rows(query, each=each, **values):
        found[group, site if apart else ""].append(url)
    return found


def groups_of(connection: Connection, numbers: Sequence[int]) -> dict[int, tuple[str, str]]:
    """Entry → its section and its family, empty where it has none."""
    found: dict[int, tuple[str, str]] = {}
    for some in batches(numbers, 500):
        told = "SELECT entry, section, family FROM entry_lines WHERE entry IN "
        rows = connection.rows(told + in_numbers(some))
        found |= {entry: (section, family) for entry, section, family in rows}
    return found


def numbers_of(connection: Connection, urls: Iterable[str]) -> list[int]:
    """The numbers of the entries that are called so."""
    found: list[int] = []
    for some in batches(urls, 500):
        called, values = numbered(some)
        found += connection.column(f"SELECT entry FROM entry_lines WHERE url IN {called}", **values)
    return found


def find_open(connection: Connection, limit: int) -> list[int]:
    """The open entries that are worth most."""
    opened = f"FROM entry_lines WHERE kind = '{AnswerKind.OPEN}'"
    best = f"SELECT value {opened} ORDER BY value DESC LIMIT {limit:d}"
    least = min(connection.column(best), default=0.0)
    query = f"SELECT entry {opened} AND value >= :least ORDER BY value DESC, hits DESC, url"
    return connection.column(f"{query} LIMIT {limit:d}", least=least)


def find_waiting(connection: Connection) -> list[int]:
    """Entries whose page has to be written, or published, first; the most valuable first."""
    planned = {d.url for d in planned_pages(connection)}
    waiting = f"kind = '{AnswerKind.WANTED}'"
    if planned:
        state = f"SELECT url FROM destinations WHERE state = '{StockState.PLANNED}'"
        waiting += f" OR destination IN ({state})"
    query = f"SELECT entry, kind, destination FROM entry_lines WHERE {waiting}"
    return [
        number
        for number, kind, destination in connection.rows(f"{query} ORDER BY value DESC, url")
        if kind == AnswerKind.WANTED or destination in planned
    ]


def count_given(connection: Connection, by: str, where: str) -> int:
    """How many entries have the answer that a rule of that name gives them."""
    query = 'SELECT COUNT(*) FROM entry_lines WHERE "by" = :by AND "where" = :where'
    return int(connection.value(query, by=by, where=where))


def _fitting(connection: Connection, filters: Filters) -> tuple[str, dict[str, Any]]:
    """The condition on a line x that fits, and the values in it."""
    f = filters
    equal = {"site": f.site or None, "kind": f.answer or None, "by": f.by or None}
    equal |= {"section": f.section, "family": f.family}
    values: dict[str, Any] = {name: value for name, value in equal.items() if value is not None}
    wanted = ["x.entry IS NOT NULL", *(f'x."{name}" = :{name}' for name in values)]
    if f.status:
        wanted.append("x.statuses LIKE :status ESCAPE '~'")
        values["status"] = f"%|{_literal(f.status)}:%"
    if f.source:
        names = connection.rows("SELECT id, name FROM sources WHERE NOT withdrawn")
        fitting = [f"x.sources LIKE '%|{n}|%'" for n, name in names if fnmatchcase(name, f.source)]
        wanted.append(f"({' OR '.join(fitting)})" if fitting else "1 = 0")
    if f.below is not None:
        wanted.append(
            "EXISTS (SELECT 1 FROM answers a WHERE a.entry = x.entry AND a.confidence < :below)"
        )
        values["below"] = f.below
    if f.pattern:
        wanted.append(_fits_pattern(connection, f.pattern.lower(), values))
    if f.numbers is not None:
        wanted.append(f"x.entry IN {_among(connection, 'these_numbers', f.numbers)}")
    if f.without:
        wanted.append(f"x.entry NOT IN {_among(connection, 'those_numbers', f.without)}")
    return " AND ".join(wanted), values


def _fits_pattern(connection: Connection, low: str, values: dict[str, Any]) -> str:
    """Whether the address holds a text, or it or the key fits a pattern; letter case is all one."""
    key = '(SELECT e."key" FROM entries e WHERE e.id = x.entry)'
    if low.isascii() and "[" not in low:
        if "*" not in low:
            values["pattern"] = f"%{_literal(low)}%"
            return "LOWER(x.url) LIKE :pattern ESCAPE '~'"
        values["pattern"] = "".join(_LIKE.get(c) or _literal(c) for c in low)
        fits = (f"LOWER({text}) LIKE :pattern ESCAPE '~'" for text in ("x.url", key))
        return f"({' OR '.join(fits)})"

    def fits_too(url: str, key: str) -> bool:
        if "*" not in low:
            return low in url.lower()
        return fnmatchcase(url.lower(), low) or fnmatchcase(key.lower(), low)

    # What databases read otherwise: sets of characters, and letters beyond ASCII.
    rows = connection.rows(f"SELECT x.entry, x.url, {key} FROM entry_lines x")
    return f"x.entry IN {_among(connection, 'fitting', [r[0] for r in rows if fits_too(*r[1:])])}"


_LIKE = {"*": "%", "?": "_"}


def _literal(text: str) -> str:
    """A text as LIKE reads it, which takes it for itself."""
    return text.replace("~", "~~").replace("%", "~%").replace("_", "~_")


def _among(connection: Connection, name: str, numbers: Iterable[int]) -> str:
    """What stands behind IN for many numbers: a table that holds them."""
    connection.run(f"CREATE TEMPORARY TABLE IF NOT EXISTS {name} (entry INTEGER PRIMARY KEY)")
    connection.run(f"DELETE FROM {name}")
    connection.load(name, ("entry",), ((n,) for n in sorted(numbers)))
    return f"(SELECT entry FROM {name})"


_TOGETHER = 5_000  # entries in one question
USED = ("links", "hits", "visits", "clicks", "impressions")
"""Figures of an entry that say that somebody links to it or asks for it."""
_IN_USE = " OR ".join(f"{name} > 0" for name in USED)


def used_figures(amounts: Sequence[float]) -> dict[str, float]:
    """Figures (`USED`) by their names, without those that are 0."""
    return {name: n for name, n in zip(USED, amounts, strict=True) if n}


def open_of_site(connection: Connection, site: str) -> Iterator[str]:
    """The addresses of a site's open entries, the most valuable first."""
    query = (
        "SELECT url FROM entry_lines WHERE kind = :open AND site = :site ORDER BY value DESC, url"
    )
    yield from connection.column(query, open=AnswerKind.OPEN, site=site)


def gone_in_use(connection: Connection) -> list[tuple[Any, ...]]:
    """Of entries that end though they are linked or asked for: address, what gave the answer, where
    it stood, and figures (`USED`); the most valuable first.
    """
    query = (
        f'SELECT url, "by", "where", {", ".join(USED)} FROM entry_lines '
        f"WHERE kind = :gone AND ({_IN_USE}) ORDER BY value DESC, url"
    )
    return connection.rows(query, gone=AnswerKind.GONE)


def used_among(connection: Connection, entries: Iterable[int]) -> list[tuple[Any, ...]]:
    """Address and figures (`USED`) of those of these entries that are linked or asked for, the most
    valuable first.
    """
    query = f"SELECT value, url, {', '.join(USED)} FROM entry_lines WHERE ({_IN_USE}) AND entry IN "
    found = [
        row
        for some in batches(entries, _TOGETHER)
        for row in connection.rows(query + in_numbers(some))
    ]
    return [row[1:] for row in sorted(found, key=lambda row: (-row[0], row[1]))]
