"""What search engines are told after a move: the new site's sitemap, and which addresses moved
where and when.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple
from xml.sax.saxutils import escape

from upright_ledger.app.live.fix_times import load_fixes
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.destination import page_key
from upright_ledger.errors import UsageError
from upright_ledger.formats.files.outputs import write_output
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet
from upright_ledger.ledger.tables.stock import Destination, StockState, load_stock

MOVED_COLUMNS = ("old", "new", "status", "date")
MOST = 50_000
"""Addresses of one sitemap, as its protocol has it."""
_SPACE = "http://www.sitemaps.org/schemas/sitemap/0.9"
_NO = frozenset(["no", "false", "0", "noindex", "non-indexable", "nonindexable"])


class Moved(NamedTuple):
    """An address that moved. date: the day on which that went live (YYYY-MM-DD), or empty."""

    old: str
    new: str
    status: int
    date: str


def moved(move: MoveState) -> list[Moved]:
    """The addresses that moved for good, the most valuable first."""
    fixes = load_fixes(move.ledger)
    told = sorted(
        (e for e in move.entries if e.answer.kind == AnswerKind.MOVE),
        key=lambda e: (-e.evidence.value, e.legacy_url),
    )
    return [
        Moved(e.legacy_url, e.answer.destination, e.answer.status, fixes.of(e).live[:10])
        for e in told
    ]


def write_moved(move: MoveState, path: Path) -> list[Moved]:
    """Write the addresses that moved as a table. Returns them."""
    rows = moved(move)
    write_table(path, Sheet("moved", MOVED_COLUMNS, rows, ("old", "new")), otherwise=CSV)
    return rows


class SitemapWritten(NamedTuple):
    """addresses: how many; files: in which they are, the one to submit first."""

    addresses: int
    files: list[Path]


def write_sitemap(move: MoveState, path: Path) -> SitemapWritten:
    """Write the pages of the new site as a sitemap: those in stock that answer and may be indexed,
    or, where nothing is in stock, those to which answers lead. A page to which something moved has
    the day on which that went live. More than `MOST` become several files, and an index of them.

    Raises UsageError where there is no page.
    """
    days: dict[str, str] = {}
    for row in moved(move):
        key = page_key(parse_address(row.new)).partition("#")[0]
        days[key] = max(days.get(key, ""), row.date)
    with move.ledger.reading() as connection:
        stock = load_stock(connection)
    pages = {k: p.url for k, p in stock.items() if _is_listed(p)} if stock else {}
    if not stock:
        pages = {key: key for key in days if move.sites.is_new(parse_address(key))}
    rows = [(url, days.get(key, "")) for key, url in sorted(pages.items())]
    if not rows:
        raise UsageError("no page of the new site is known", "upright stock, or answers, name them")
    if len(rows) <= MOST:
        write_output(path, urlset(rows))
        return SitemapWritten(len(rows), [path])
    parts = [
        (path.with_name(f"{path.stem}-{n}{path.suffix}"), part)
        for n, part in enumerate(_portions(rows), 1)
    ]
    for part_path, part in parts:
        write_output(part_path, urlset(part))
    base = f"{move.sites.new[0]}/"
    write_output(path, _index([f"{base}{p.name}" for p, _ in parts]))
    return SitemapWritten(len(rows), [path, *(p for p, _ in parts)])


def _is_listed(page: Destination) -> bool:
    """Whether a page in stock belongs into a sitemap: it answers, may be indexed, and names no
    other as its canonical address.
    """
    if page.state != StockState.LIVE or page.status not in {0, 200} or page.redirects_to:
        return False
    return page.indexable.strip().lower() not in _NO and page.canonical in {"", page.url}


def _portions(rows: Sequence[tuple[str, str]]) -> Iterator[Sequence[tuple[str, str]]]:
    for first in range(0, len(rows), MOST):
        yield rows[first : first + MOST]


def urlset(rows: Iterable[tuple[str, str]]) -> bytes:
    """A sitemap of addresses, each with its day, or none."""
    told = "".join(
        f"<url><loc>{escape(url)}</loc>{f'<lastmod>{day}</lastmod>' if day else ''}</url>\n"
        for url, day in rows
    )
    return _document("urlset", told)


def _index(addresses: Sequence[str]) -> bytes:
    told = "".join(f"<sitemap><loc>{escape(url)}</loc></sitemap>\n" for url in addresses)
    return _document("sitemapindex", told)


def _document(name: str, told: str) -> bytes:
    head = '<?xml version="1.0" encoding="UTF-8"?>\n'
    return f'{head}<{name} xmlns="{_SPACE}">\n{told}</{name}>\n'.encode()
