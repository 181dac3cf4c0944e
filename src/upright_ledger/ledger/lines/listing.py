"""Which entries fit, in which order, and what they amount to: asked of the database."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Select,
    column,
    exists,
    false,
    func,
    or_,
    select,
    table,
)

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import batches, load_rows
from upright_ledger.ledger.db.derived import entry_lines
from upright_ledger.ledger.lines.totals import kept_totals
from upright_ledger.ledger.tables.stock import StockState, planned_pages

_X = entry_lines.c
_SORTS = {
    "value": _X.value,
    "hits": _X.hits,
    "bots": _X.bots,
    "visits": _X.visits,
    "clicks": _X.clicks,
    "impressions": _X.impressions,
    "links": _X.links,
    "variants": _X.variants,
    "last-seen": _X.last_seen,
}
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
    query = _where(connection, select(_X.entry), filters)
    if sort in _SORTS:
        query = query.order_by(_SORTS[sort].desc())
    return list(connection.scalars(query.order_by(_X.url).limit(limit)))


def count_fitting(connection: Connection, filters: Filters) -> int:
    """How many entries fit."""
    if filters == Filters(answer=filters.answer):
        counts = kept_totals(connection).entries
        return counts[filters.answer] if filters.answer else counts.total()
    query = _where(connection, select(func.count()).select_from(entry_lines), filters)
    return connection.scalar(query) or 0


@dataclass(frozen=True, slots=True)
class GroupTotal:
    """What the entries of one group amount to. site: empty where groups span sites."""

    name: str
    site: str
    entries: int
    hits: float
    value: float


def group_totals(connection: Connection, filters: Filters, what: str) -> list[GroupTotal]:
    """Entries that fit by "family" or "section", in no order; those without one together."""
    name = _X[what]
    site = func.min(_X.site)
    sums = (func.count(), func.sum(_X.hits), func.sum(_X.value))
    query = _where(connection, select(name, site, *sums), filters)
    by = (name, _X.site) if what == "family" else (name,)
    found: dict[tuple[str, str], GroupTotal] = {}
    for row in connection.execute(query.group_by(*by)):
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
    name, apart = _X[what], what == "family"
    within = (name, _X.site) if apart else (name,)
    place = func.row_number().over(partition_by=within, order_by=(_X.value.desc(), _X.url))
    ranked = select(name.label("name"), _X.site, _X.url, place.label("place")).where(name != "")
    if len(groups) <= _FEW_GROUPS:
        ranked = ranked.where(name.in_({g.name for g in groups}))
    r = _where(connection, ranked, filters).subquery().c
    found: dict[tuple[str, str], list[str]] = defaultdict(list)
    query = select(r.name, r.site, r.url).where(r.place <= each)
    for group, site, url in connection.execute(query.order_by(r.name, r.site, r.place)):
        found[group, site if apart else ""].append(url)
    return found


def groups_of(connection: Connection, numbers: Sequence[int]) -> dict[int, tuple[str, str]]:
    """Entry → its section and its family, empty where it has none."""
    found: dict[int, tuple[str, str]] = {}
    for some in batches(numbers, 500):
        query = select(_X.entry, _X.section, _X.family).where(_X.entry.in_(some))
        found |= {row[0]: (row[1], row[2]) for row in connection.execute(query)}
    return found


def numbers_of(connection: Connection, urls: Iterable[str]) -> list[int]:
    """The numbers of the entries that are called so."""
    return [
        number
        for some in batches(urls, 500)
        for number in connection.scalars(select(_X.entry).where(_X.url.in_(some)))
    ]


def find_open(connection: Connection, limit: int) -> list[int]:
    """The open entries that are worth most."""
    is_open = _X.kind == AnswerKind.OPEN
    values = select(_X.value).where(is_open).order_by(_X.value.desc()).limit(limit)
    least = min(connection.scalars(values), default=0.0)
    query = select(_X.entry).where(is_open, _X.value >= least)
    order = (_X.value.desc(), _X.hits.desc(), _X.url)
    return list(connection.scalars(query.order_by(*order).limit(limit)))


def find_waiting(connection: Connection) -> list[int]:
    """Entries whose page has to be written, or published, first; the most valuable first."""
    planned = {d.url for d in planned_pages(connection)}
    d = schema.destinations.c
    waiting = _X.kind == AnswerKind.WANTED
    if planned:
        waiting |= _X.destination.in_(select(d.url).where(d.state == StockState.PLANNED))
    query = select(_X.entry, _X.kind, _X.destination).where(waiting)
    return [
        number
        for number, kind, destination in connection.execute(query.order_by(_X.value.desc(), _X.url))
        if kind == AnswerKind.WANTED or destination in planned
    ]


def count_given(connection: Connection, by: str, where: str) -> int:
    """How many entries have the answer that a rule of that name gives them."""
    query = select(func.count()).select_from(entry_lines)
    return connection.scalar(query.where(_X.by == by, _X.where == where)) or 0


def _where(connection: Connection, query: Select[Any], filters: Filters) -> Select[Any]:
    """A query of lines, for those that fit."""
    f = filters
    equal = {"site": f.site, "kind": f.answer, "by": f.by}
    wanted: list[ColumnElement[bool]] = [_X[n] == v for n, v in equal.items() if v]
    groups = {"section": f.section, "family": f.family}
    wanted += [_X[n] == v for n, v in groups.items() if v is not None]
    if f.status:
        wanted.append(_X.statuses.contains(f"|{f.status}:", autoescape=True))
    if f.source:
        names = connection.execute(
            select(schema.sources.c.id, schema.sources.c.name).where(
                schema.sources.c.withdrawn.is_(False)
            )
        )
        fitting = [number for number, name in names if fnmatchcase(name, f.source)]
        wanted.append(or_(false(), *(_X.sources.contains(f"|{number}|") for number in fitting)))
    if f.below is not None:
        a = schema.answers.c
        wanted.append(exists().where(a.entry == _X.entry, a.confidence < f.below))
    if f.pattern:
        wanted.append(_fits_pattern(connection, f.pattern.lower()))
    if f.numbers is not None:
        wanted.append(_among(connection, "these_numbers", f.numbers))
    if f.without:
        wanted.append(~_among(connection, "those_numbers", f.without))
    return query.where(*wanted)


def _fits_pattern(connection: Connection, low: str) -> ColumnElement[bool]:
    """Whether the address holds a text, or it or the key fits a pattern; letter case is all one."""
    key = select(schema.entries.c.key).where(schema.entries.c.id == _X.entry).scalar_subquery()
    plain = low.isascii() and "[" not in low
    if "*" not in low and plain:
        return func.lower(_X.url).contains(low, autoescape=True)
    if plain:
        like = "".join(_LIKE.get(c, c) for c in low)
        return func.lower(_X.url).like(like, escape="\\") | func.lower(key).like(like, escape="\\")
    # What databases read otherwise: sets of characters, and letters beyond ASCII.
    rows = connection.execute(select(_X.entry, func.coalesce(_X.url, ""), key))

    def fits(url: str, key: str) -> bool:
        if "*" not in low:
            return low in url.lower()
        return fnmatchcase(url.lower(), low) or fnmatchcase(key.lower(), low)

    # Read whole first: a table cannot be made while another is gone through.
    return _among(connection, "fitting", [r[0] for r in rows if fits(r[1], r[2])])


_LIKE = {"*": "%", "?": "_", "%": "\\%", "_": "\\_", "\\": "\\\\"}


def _among(connection: Connection, name: str, numbers: Iterable[int]) -> ColumnElement[bool]:
    connection.exec_driver_sql(
        f"CREATE TEMPORARY TABLE IF NOT EXISTS {name} (entry INTEGER PRIMARY KEY)"
    )
    connection.exec_driver_sql(f"DELETE FROM {name}")  # noqa: S608 - a name of our own
    load_rows(connection, schema.staging(name), ("entry",), ((n,) for n in sorted(numbers)))
    return _X.entry.in_(select(table(name, column("entry")).c.entry))
