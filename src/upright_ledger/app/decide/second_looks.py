"""What deserves a second look as soon as it is decided: destinations that are no page in stock, and
addresses that end though they are linked or asked for.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from upright_ledger.core.inventory.answer import AnswerKind, Decision
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.url.address import parse_address, split_text
from upright_ledger.core.url.destination import page_key, slash_twin
from upright_ledger.errors import UsageError
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.rows import find_ids
from upright_ledger.ledger.lines.listing import used_among, used_figures
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.stock import count_stock, has_stock, pages_among, stocked_pages
from upright_ledger.settings.model import Settings

_SHOWN = 8
_LIKE = 60  # of 100
_NEAR = 50  # pages, of which the most like is one


_MOST_ROWS, _MOST_PAGES = 5_000, 20_000


def is_soon_looked_at(ledger: Ledger, rows: int) -> bool:
    """Whether so many rows of a sheet are set beside what match finds whenever they are posted;
    more only where it is wished.
    """
    with ledger.reading() as connection:
        return rows <= _MOST_ROWS and 0 < count_stock(connection) <= _MOST_PAGES


class Unstocked(NamedTuple):
    """A destination, and the page in stock whose address is most like it; empty where none is, or
    where many others are named before.
    """

    destination: str
    nearest: str


class InUse(NamedTuple):
    """An address that ends, and what it is worth: figures by their names, those that are not 0."""

    legacy_url: str
    figures: dict[str, float]


class Doubt(NamedTuple):
    """A row whose page is hardly the right one: the better one, the confidence in it, and why."""

    legacy_url: str
    destination: str
    better: str
    confidence: float
    reasons: tuple[str, ...]


class SecondLooks(NamedTuple):
    """unstocked: destinations that are no page in stock. in_use: addresses that end though they are
    linked or asked for, the most valuable first.
    """

    unstocked: tuple[Unstocked, ...] = ()
    in_use: tuple[InUse, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {
            "not_in_stock": [u._asdict() for u in self.unstocked],
            "gone_in_use": [{"legacy_url": url, **told} for url, told in self.in_use],
        }


def second_looks(
    connection: Connection, settings: Settings, answers: Iterable[tuple[int, Decision]]
) -> SecondLooks:
    """What deserves one of some answers (entry, answer), all of which are given."""
    told = list(answers)
    wanted = (answer.destination for _, answer in told)
    return SecondLooks(not_in_stock(connection, settings, wanted), gone_in_use(connection, told))


def gone_in_use(
    connection: Connection, answers: Iterable[tuple[int, Decision]]
) -> tuple[InUse, ...]:
    """What ends by some answers (entry, answer) though it is linked or asked for."""
    gone = [entry for entry, answer in answers if answer.kind == AnswerKind.GONE]
    return tuple(
        InUse(url, used_figures(amounts)) for url, *amounts in used_among(connection, gone)
    )


def need_stock(connection: Connection, settings: Settings, destination: str) -> None:
    """Raises UsageError for a destination on the new site that is no page in stock, with the page
    that may be meant.
    """
    for missing in not_in_stock(connection, settings, [destination]):
        meant = f"; the one most like it is {missing.nearest}" if missing.nearest else ""
        raise UsageError(
            f"{destination} is no page in stock{meant}",
            "give the page's address, or keep this one with --as-given",
        )


def not_in_stock(
    connection: Connection, settings: Settings, destinations: Iterable[str]
) -> tuple[Unstocked, ...]:
    """Those of these destinations on the new site that are no page in stock, in their order; none
    where nothing is in stock.
    """
    if not has_stock(connection):
        return ()
    keys: dict[str, tuple[str, str]] = {}
    told = dict.fromkeys(filter(None, destinations))
    as_they_stand = pages_among(connection, told)  # most are, and need no second look
    for text in told:
        if text in as_they_stand:
            continue
        address = parse_address(text)
        if settings.sites.is_new(address):
            key = page_key(address)
            keys[text] = (key, key.partition("?")[0])
    known = pages_among(connection, {key for pair in keys.values() for key in pair})
    missing = [text for text, pair in keys.items() if known.isdisjoint(pair)]
    if not missing:
        return ()
    paths = {page: _path_of(page) for page in stocked_pages(connection)}
    names = {page: _name_of(path) for page, path in paths.items()}
    return tuple(
        Unstocked(text, _most_like(_path_of(keys[text][1]), paths, names) if n < _SHOWN else "")
        for n, text in enumerate(missing)
    )


def mendable(connection: Connection, settings: Settings, destinations: Iterable[str]) -> set[str]:
    """Those of these destinations that `check` names and mends: entries, as the links of a chain
    are, and pages but for their closing slash.
    """
    named, twins = {}, {}
    for text in destinations:
        address = parse_address(text)
        twins[text] = slash_twin(page_key(address))
        if site := settings.sites.site_of(address):
            named[text] = (site, fold(address, settings.policy).key)
    entries = find_ids(connection, "entries", list(named.values()))
    pages = pages_among(connection, twins.values())
    return {text for text, twin in twins.items() if twin in pages or named.get(text) in entries}


def _most_like(path: str, paths: Mapping[str, str], names: Mapping[str, str]) -> str:
    """The page whose address is most like a path, its name above all; empty where none is. paths,
    names: page → its path, and the last part of that.
    """
    from rapidfuzz import fuzz, process

    name = _name_of(path)
    near = process.extract(path, paths, scorer=fuzz.ratio, score_cutoff=_LIKE // 2, limit=_NEAR)
    near += process.extract(name, names, scorer=fuzz.ratio, score_cutoff=_LIKE, limit=_NEAR)
    scores = {
        page: (fuzz.ratio(name, names[page]) + fuzz.ratio(path, paths[page])) / 2
        for _, _, page in near
    }
    best = max(scores, key=lambda page: (scores[page], page), default="")
    return best if scores.get(best, 0.0) >= _LIKE else ""


def _name_of(path: str) -> str:
    return path.rstrip("/").rpartition("/")[2]


def _path_of(page: str) -> str:
    return split_text(page)[2].lower()
