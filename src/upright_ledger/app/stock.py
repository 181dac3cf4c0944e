"""Taking stock: the pages of the new site."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path

from upright_ledger.core.addresses import Address, NotAnAddressError, parse_address
from upright_ledger.core.destinations import page_key, read_destination
from upright_ledger.core.sites import Sites
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats import columns as col
from upright_ledger.formats.pages import read_saved_page
from upright_ledger.formats.reading import digest_of
from upright_ledger.formats.recognising import FEED, JSON, PAGE, SHEET, SITEMAP, TABLE, TEXT, recognise
from upright_ledger.formats.records import ReadOptions, Record, Reject
from upright_ledger.formats.registry import read_urls
from upright_ledger.formats.tables import Table, read_table
from upright_ledger.ledger.sources import SourceFacts, add_source, find_source, withdraw_source
from upright_ledger.ledger.stock import LIVE, PLANNED, PURPOSES, Destination, add_destinations, count_stock
from upright_ledger.ledger.store import Ledger

_TABLES = (TABLE, SHEET, JSON)


@dataclass
class Stocked:
    """What one file added to the stock. known: it had been stocked before, so nothing changed."""

    name: str
    kind: str
    lines: int = 0
    accepted: int = 0
    off_site: int = 0
    rejects: list[Reject] = field(default_factory=list)
    known: bool = False


def stock(
    ledger: Ledger,
    paths: list[Path],
    *,
    options: ReadOptions | None = None,
    publish_as: str = "",
    planned: bool = False,
    replaced: int = 0,
) -> tuple[list[Stocked], int]:
    """Stock files, one step each. Returns what came of each, and how many pages are in stock now.

    publish_as: the production origin of pages that were listed under a staging host. planned: they are still to be
    published; stocked again without it, they are live. replaced: the number of a list that counts no longer from now on.
    """
    state = PLANNED if planned else LIVE
    purpose = PURPOSES[state]
    sites = ledger.settings.sites
    target = _publishing_origin(sites, publish_as)
    read: list[tuple[SourceFacts, Stocked, list[Destination]]] = []
    for path in paths:
        digest, size = digest_of(path)
        with ledger.reading() as connection:
            known = find_source(connection, digest, purpose)
        if known is not None or any(facts.digest == digest for facts, _, _ in read):
            read.append(
                (
                    SourceFacts(path.name, "", purpose, digest, size),
                    Stocked(path.name, known.kind if known else "", known=True),
                    [],
                )
            )
            continue
        result, pages = _read(path, options or ReadOptions(), sites, target)
        facts = SourceFacts(path.name, result.kind, purpose, digest, size, lines=result.lines, accepted=result.accepted)
        facts.set_aside, facts.rejected = result.off_site, len(result.rejects)
        read.append((facts, result, pages))
    for facts, result, pages in read:
        if not result.known:
            with ledger.step("stock", facts.name) as step:
                add_destinations(step.connection, add_source(step, facts), [replace(p, state=state) for p in pages])
                step.summary = f"{result.accepted:,} pages"
                if replaced:
                    withdraw_source(step, replaced)
                    replaced = 0
    with ledger.reading() as connection:
        return [result for _, result, _ in read], count_stock(connection)


def _publishing_origin(sites: Sites, publish_as: str) -> Address | None:
    if not publish_as:
        return None
    try:
        address = parse_address(publish_as)
    except NotAnAddressError as error:
        raise UsageError(f"{publish_as!r} cannot be used: {error}") from None
    if not sites.is_new(address):
        raise UsageError(f"{address.origin} is no declared new origin", f"these are: {', '.join(sites.new)}")
    return address


def _read(path: Path, options: ReadOptions, sites: Sites, target: Address | None) -> tuple[Stocked, list[Destination]]:
    kind = recognise(path)
    if kind not in {*_TABLES, SITEMAP, TEXT, FEED, PAGE}:
        raise InputError(
            f"{path} is of the kind {kind}, which lists no destinations", "stock a CSV, a list of URLs or a sitemap"
        )
    options = replace(options, hosts=frozenset(parse_address(o).authority for o in sites.new))
    result, pages = Stocked(path.name, kind), []
    for line, url, facts in _pages(path, kind, options, result):
        result.lines += 1
        try:
            address = read_destination(url, sites.new[0])
        except NotAnAddressError as error:
            result.rejects.append(Reject(line, str(error), url))
            continue
        if target is not None:
            address = Address(target.scheme, target.host, target.port, address.path, address.query)
        if not sites.is_new(address):
            result.off_site += 1
            continue
        result.accepted += 1
        pages.append(Destination(page_key(address), address.without_fragment, **facts))  # type: ignore[arg-type]
    if not result.accepted:
        where = ", ".join(sites.new)
        raise InputError(
            f"{path} names no page on {where}", "check the file, or say --publish-as when it lists a staging host"
        )
    return result, pages


def _pages(
    path: Path, kind: str, options: ReadOptions, result: Stocked
) -> Iterator[tuple[int, str, dict[str, object]]]:
    if kind in _TABLES:
        table = read_table(path, options, kind)
        for line, row in table.rows:
            if row:
                yield line, table.cell(row, col.URL), _facts(table, row)
        return
    if kind == PAGE:
        page = read_saved_page(path, options)
        if not page.url:
            raise InputError(
                f"{path} does not say its own address", "give it a canonical link, or stock a list of addresses"
            )
        yield 1, page.url, {name: value for name, value in asdict(page).items() if name != "url"}
        return
    for item in read_urls(path, kind, options)[1].items:
        if isinstance(item, Record):
            yield item.line, item.url, {}
        elif isinstance(item, Reject):
            result.lines += 1
            result.rejects.append(item)


def _facts(table: Table, row: list[str]) -> dict[str, object]:
    return {
        "status": col.status_code(table.cell(row, col.STATUS)),
        "title": table.cell(row, col.TITLE),
        "heading": table.cell(row, col.HEADING),
        "description": table.cell(row, col.DESCRIPTION),
        "canonical": table.cell(row, col.CANONICAL),
        "indexable": table.cell(row, col.INDEXABLE),
        "language": table.cell(row, col.LANGUAGE),
        "redirects_to": table.cell(row, col.REDIRECTS_TO),
        "section": table.cell(row, col.SECTION),
        "item": table.cell(row, col.ITEM),
    }
