"""The stock of destinations, and what matching proposed from it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields
from operator import attrgetter
from typing import Any

from sqlalchemy import ColumnElement, Connection, func, select, true

from upright_ledger.core.word import Word
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import load_rows


class StockState(Word):
    """Whether a page is on the new site already, or still to be published."""

    LIVE = "live"
    PLANNED = "planned"


PURPOSES = {StockState.LIVE: "stock", StockState.PLANNED: "planned"}
"""States of a destination: on the new site already, or still to be published; and the purposes of
sources that say so.
"""


@dataclass(frozen=True, slots=True)
class Destination:
    """A page of the new site. status 0: not said. page: its page key."""

    page: str
    url: str
    status: int = 0
    title: str = ""
    heading: str = ""
    description: str = ""
    canonical: str = ""
    indexable: str = ""
    language: str = ""
    redirects_to: str = ""
    state: StockState = StockState.LIVE
    section: str = ""
    item: str = ""


_COLUMNS = tuple(f.name for f in fields(Destination))


def add_destinations(connection: Connection, source: int, pages: Iterable[Destination]) -> None:
    """Store the pages one source names; of two with the same page key the last counts."""
    unique = {p.page: p for p in pages}
    values = attrgetter(*_COLUMNS)
    rows = ((source, *values(page)) for page in unique.values())
    load_rows(connection, schema.destinations, ("source", *_COLUMNS), rows)


def find_stocked(connection: Connection, name: str) -> int:
    """The number of the newest list of pages with that name which still counts; 0 where there is
    none.
    """
    s = schema.sources
    query = select(func.max(s.c.id)).where(
        s.c.name == name, s.c.purpose.in_(PURPOSES.values()), s.c.withdrawn.is_(False)
    )
    return connection.scalar(query) or 0


def load_list(connection: Connection, source: int) -> list[Destination]:
    """The pages that one list names."""
    d = schema.destinations
    rows = connection.execute(select(d).where(d.c.source == source).order_by(d.c.page)).mappings()
    return [Destination(**{k: v for k, v in row.items() if k != "source"}) for row in rows]


def load_stock(connection: Connection) -> dict[str, Destination]:
    """Page key → destination, later sources filling in and overruling earlier ones."""
    return _merged(connection, true())


def stocked_as(connection: Connection, page: str) -> Destination | None:
    """The destination with a page key, or None."""
    return _merged(connection, schema.destinations.c.page == page).get(page)


def _merged(connection: Connection, wanted: ColumnElement[bool]) -> dict[str, Destination]:
    d, s = schema.destinations, schema.sources
    query = (
        select(d)
        .join(s, s.c.id == d.c.source)
        .where(s.c.withdrawn.is_(False), wanted)
        .order_by(d.c.source, d.c.page)
    )
    merged: dict[str, dict[str, Any]] = {}
    for row in connection.execute(query).mappings():
        values = {k: v for k, v in row.items() if k != "source"}
        known = merged.setdefault(row["page"], values)
        known.update({k: v for k, v in values.items() if v})
    return {page: Destination(**values) for page, values in merged.items()}


def has_stock(connection: Connection) -> bool:
    """Whether any page is in stock."""
    d, s = schema.destinations, schema.sources
    query = select(d.c.source).join(s, s.c.id == d.c.source).where(s.c.withdrawn.is_(False))
    return connection.scalar(query.limit(1)) is not None


def planned_pages(connection: Connection) -> list[Destination]:
    """The pages that are still to be published."""
    d, s = schema.destinations, schema.sources
    planned = s.c.withdrawn.is_(False) & (s.c.purpose == PURPOSES[StockState.PLANNED])
    lists = list(connection.scalars(select(s.c.id).where(planned)))
    if not lists:
        return []
    named = select(d.c.page).where(d.c.source.in_(lists))
    found = _merged(connection, d.c.page.in_(named)).values()
    return [page for page in found if page.state == StockState.PLANNED]


def count_stock(connection: Connection) -> int:
    """How many pages are in stock."""
    d, s = schema.destinations, schema.sources
    counting = s.c.withdrawn.is_(False) & s.c.purpose.in_(PURPOSES.values())
    lists = list(connection.scalars(select(s.c.id).where(counting)))
    pages = d.c.page if len(lists) == 1 else func.distinct(d.c.page)  # one list names each once
    return connection.scalar(select(func.count(pages)).where(d.c.source.in_(lists))) or 0
