"""The stock of destinations, and what matching proposed from it."""

from __future__ import annotations

from collections.abc import Iterable
from operator import itemgetter
from typing import Any, NamedTuple

from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.word import Word
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers, numbered, quoted


class StockState(Word):
    """Whether a page is on the new site already, or still to be published."""

    LIVE = "live"
    PLANNED = "planned"


PURPOSES = {StockState.LIVE: "stock", StockState.PLANNED: "planned"}
"""States of a destination: on the new site already, or still to be published; and the purposes of
sources that say so.
"""


class Destination(NamedTuple):
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


_COLUMNS = Destination._fields
_LISTED = ", ".join(f"d.{quoted([name])}" for name in _COLUMNS)
_AT_ONCE, _MANY = 5_000, 20_000  # keys in one question, and such as are asked for all of the stock
_STATE = _COLUMNS.index("state")


def add_destinations(connection: Connection, source: int, pages: Iterable[Destination]) -> None:
    """Store the pages one source names; of two with the same page key the last counts."""
    unique = {p.page: p for p in pages}
    rows = ((source, *unique[page]) for page in sorted(unique))  # as the index has them
    connection.load("destinations", ("source", *_COLUMNS), rows)


def find_stocked(connection: Connection, name: str) -> int:
    """The number of the newest list of pages with that name which still counts; 0 where there is
    none.
    """
    lists = in_numbers(_lists(connection, *PURPOSES))
    query = f"SELECT MAX(id) FROM sources WHERE name = :name AND id IN {lists}"
    return connection.value(query, name=name) or 0


def load_list(connection: Connection, source: int) -> list[Destination]:
    """The pages that one list names."""
    query = f"SELECT {_LISTED} FROM destinations d WHERE source = :source ORDER BY page"
    return [_destination(row) for row in connection.rows(query, source=source)]


def load_stock(connection: Connection) -> dict[str, Destination]:
    """Page key → destination, later sources filling in and overruling earlier ones."""
    return {page: _destination(row) for page, row in _merged(connection).items()}


def load_pages(connection: Connection) -> dict[str, StockPage]:
    """Page key → what rules need to know of a page."""
    rows = _merged(connection, "d.page, d.status, d.redirects_to, d.state").values()
    live, planned = StockState.LIVE.value, StockState.PLANNED.value
    usual = {status: StockPage(status) for status in {row[1] for row in rows}}
    return {
        page: usual[status] if state == live and not to else StockPage(status, to, state == planned)
        for page, status, to, state, *_ in rows
    }


def stocked_as(connection: Connection, page: str) -> Destination | None:
    """The destination with a page key, or None."""
    found = _merged(connection, which=" AND d.page = :page", page=page).get(page)
    return _destination(found) if found is not None else None


def _merged(
    connection: Connection, columns: str = _LISTED, which: str = "", **values: Any
) -> dict[str, tuple[Any, ...]]:
    """Page key → columns of pages d, the key first, and the number of their list. which: a further
    condition, with values.
    """
    counting = in_numbers(connection.column("SELECT id FROM sources WHERE NOT withdrawn"))
    query = f"SELECT {columns}, d.source FROM destinations d WHERE d.source IN {counting}{which}"
    rows = connection.rows(query, **values)
    if len(set(map(itemgetter(-1), rows))) < 2:  # one list names each page once
        return {row[0]: row for row in rows}
    rows.sort(key=itemgetter(-1))
    merged: dict[str, tuple[Any, ...]] = {}
    for row in rows:
        known = merged.setdefault(row[0], row)
        if known is not row:
            merged[row[0]] = tuple([new or old for new, old in zip(row, known, strict=True)])
    return merged


def _destination(row: tuple[Any, ...]) -> Destination:
    """A page of its columns; those behind them are no matter."""
    values = (*row[:_STATE], StockState(row[_STATE]), *row[_STATE + 1 : len(_COLUMNS)])
    return Destination(*values)


def stocked_pages(connection: Connection) -> list[str]:
    """The keys of all pages in stock."""
    lists = in_numbers(_lists(connection, *PURPOSES))
    return connection.column(f"SELECT DISTINCT page FROM destinations WHERE source IN {lists}")


def pages_among(connection: Connection, keys: Iterable[str]) -> set[str]:
    """Those of these keys that are pages in stock."""
    lists = in_numbers(_lists(connection, *PURPOSES))
    wanted = sorted(keys)
    if len(wanted) > _MANY:
        query = f"SELECT page FROM destinations WHERE source IN {lists}"
        return set(wanted).intersection(connection.column(query))
    found: set[str] = set()
    for some in batches(wanted, _AT_ONCE):
        names, values = numbered(some)
        query = f"SELECT page FROM destinations WHERE source IN {lists} AND page IN {names}"
        found.update(connection.column(query, **values))
    return found


def has_stock(connection: Connection) -> bool:
    """Whether any page is in stock."""
    query = (
        "SELECT 1 FROM sources s WHERE NOT s.withdrawn "
        "AND EXISTS (SELECT 1 FROM destinations d WHERE d.source = s.id) LIMIT 1"
    )
    return connection.value(query) is not None


def planned_pages(connection: Connection) -> list[Destination]:
    """The pages that are still to be published."""
    lists = _lists(connection, StockState.PLANNED)
    if not lists:
        return []
    named = f"SELECT page FROM destinations WHERE source IN {in_numbers(lists)}"
    found = map(_destination, _merged(connection, which=f" AND d.page IN ({named})").values())
    return [page for page in found if page.state == StockState.PLANNED]


def count_stock(connection: Connection) -> int:
    """How many pages are in stock."""
    lists = _lists(connection, *PURPOSES)
    pages = "page" if len(lists) == 1 else "DISTINCT page"  # one list names each once
    counted = f"SELECT COUNT({pages}) FROM destinations WHERE source IN {in_numbers(lists)}"
    return int(connection.value(counted))


def _lists(connection: Connection, *states: StockState) -> list[int]:
    """The sources that count and list pages of these states."""
    purposes, values = numbered(PURPOSES[state] for state in states)
    query = f"SELECT id FROM sources WHERE NOT withdrawn AND purpose IN {purposes}"
    return connection.column(query, **values)
