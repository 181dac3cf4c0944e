"""Taking stock: the pages of the new site."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from itertools import islice
from pathlib import Path
from typing import Any, NamedTuple

from upright_ledger.app.collect.reading.parts import by_sheets
from upright_ledger.core.inventory.placing.classification import Classifier
from upright_ledger.core.tracing.missing_titles import may_say_so, says_it_is_none
from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.core.url.destination import page_key, plain_destinations, read_destination
from upright_ledger.core.url.origins import Sites
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.detection import OF_ROWS, FileKind, recognise
from upright_ledger.formats.files.compressed import Input
from upright_ledger.formats.files.text import digest_of
from upright_ledger.formats.html.page_head import read_saved_page
from upright_ledger.formats.records import BLOCK, FEW, ReadOptions, Record, Reject, one_by_one
from upright_ledger.formats.registry import read_urls
from upright_ledger.formats.tables import column_names as col
from upright_ledger.formats.tables.cells import column_of, status_code
from upright_ledger.formats.tables.meanings.address_cells import fault_of
from upright_ledger.formats.tables.rows.workbook_rows import fullest_sheet
from upright_ledger.formats.tables.url_table import Table, read_table
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.reclassify import join_stocked
from upright_ledger.ledger.tables.sources import (
    SourceFacts,
    add_source,
    find_source,
    withdraw_source,
)
from upright_ledger.ledger.tables.stock import (
    PURPOSES,
    Destination,
    StockState,
    add_destinations,
    count_stock,
    load_stock,
)


class Clash(NamedTuple):
    """An address that two pages claim. first, second: what each is called, with its row; where:
    what the address of the first was.
    """

    url: str
    first: str
    second: str
    why: str


@dataclass
class Stocked:
    """What one file added to the stock. known: it had been stocked before, so nothing changed.
    hosts: off-site host → rows. sums: rows of totals. missing: addresses that answer with a page
    that says it is none, which is nothing to lead to. clashes: addresses that two pages claim.
    mapping: meaning → header.
    """

    name: str
    kind: str
    lines: int = 0
    accepted: int = 0
    off_site: int = 0
    rejects: list[Reject] = field(default_factory=list)
    known: bool = False
    sums: int = 0
    missing: list[str] = field(default_factory=list)
    hosts: Counter[str] = field(default_factory=Counter)
    clashes: list[Clash] = field(default_factory=list)
    mapping: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)


_GONE = 410


def stock(
    ledger: Ledger,
    paths: list[Path],
    *,
    options: ReadOptions | None = None,
    publish_as: str = "",
    planned: bool = False,
    going: bool = False,
    replaced: int = 0,
) -> tuple[list[Stocked], int]:
    """Stock files, one step each. Returns what came of each, and how many pages are in stock now.

    publish_as: the production origin of pages that were listed under a staging host. planned: they
    are still to be published; stocked again without it, they are live. going: they are still there,
    and will be taken down, so that nothing may lead to them any more. replaced: the number of a
    list that counts no longer from now on.
    """
    state = StockState.PLANNED if planned else StockState.LIVE
    purpose = PURPOSES[state]
    sites = ledger.settings.sites
    options = options or ReadOptions()
    with ledger.reading() as connection:
        before = load_stock(connection)
    whole = [part for path in paths for part in _parts_of(path, options)]
    target = _publishing_origin(sites, publish_as)
    read: list[tuple[SourceFacts, Stocked, list[Destination]]] = []
    for file, notes in whole:
        path = file.path
        digest, size = digest_of(path)
        if file.sheet and file.sheet != fullest_sheet(path):
            digest = f"{digest}#{file.sheet}"
        digest += "#going" if going else ""
        with ledger.reading() as connection:
            known = find_source(connection, digest, purpose)
        if known is not None or any(facts.digest == digest for facts, _, _ in read):
            read.append(
                (
                    SourceFacts(file.name, "", purpose, digest, size),
                    Stocked(file.name, known.kind if known else "", known=True),
                    [],
                )
            )
            continue
        result, pages = _read(
            file, replace(options, sheet=file.sheet), sites, target, before, state
        )
        result.notes += notes
        if going:
            pages = [page._replace(status=_GONE) for page in pages]
        facts = SourceFacts(
            file.name,
            result.kind,
            purpose,
            digest,
            size,
            lines=result.lines,
            accepted=result.accepted,
        )
        facts.set_aside, facts.rejected = result.off_site, len(result.rejects)
        read.append((facts, result, pages))
    for facts, result, pages in read:
        if not result.known:
            with ledger.step("stock", facts.name) as step:
                if find_source(step.connection, facts.digest, purpose) is not None:
                    result.known = True  # somebody else was quicker
                    continue
                add_destinations(
                    step.connection,
                    add_source(step, facts),
                    pages,
                )
                placer = Classifier(sites, stored_policy(step.connection)[1])
                join_stocked(step, placer)
                step.summary = f"{result.accepted:,} pages"
                if replaced:
                    withdraw_source(step, replaced)
                    replaced = 0
    with ledger.reading() as connection:
        return [result for _, result, _ in read], count_stock(connection)


def _parts_of(path: Path, options: ReadOptions) -> list[tuple[Input, list[str]]]:
    """A file, or the sheets of a workbook that hold addresses; each with what a user should
    know.
    """
    notes: list[str] = []
    file = Input(path, path.name)
    parts = (
        by_sheets(file, options, notes.append)
        if path.is_file() and recognise(path) == FileKind.SHEET
        else [file]
    )
    return [(part, notes if n == 0 else []) for n, part in enumerate(parts)]


def _publishing_origin(sites: Sites, publish_as: str) -> Address | None:
    if not publish_as:
        return None
    try:
        address = parse_address(publish_as)
    except NotAnAddressError as error:
        raise UsageError(f"{publish_as!r} cannot be used: {error}") from None
    if not sites.is_new(address):
        raise UsageError(
            f"{address.origin} is no declared new origin", f"these are: {', '.join(sites.new)}"
        )
    return address


def _read(
    file: Input,
    options: ReadOptions,
    sites: Sites,
    target: Address | None,
    before: Mapping[str, Destination],
    state: StockState,
) -> tuple[Stocked, list[Destination]]:
    path = file.path
    kind = recognise(path)
    if kind not in {*OF_ROWS, FileKind.SITEMAP, FileKind.TEXT, FileKind.FEED, FileKind.PAGE}:
        raise InputError(
            f"{path} is of the kind {kind}, which lists no destinations",
            "stock a CSV, a list of URLs or a sitemap",
        )
    options = replace(options, hosts=frozenset(parse_address(o).authority for o in sites.new))
    result, pages = Stocked(file.name, kind), []
    claims: dict[str, tuple[int, Destination]] = {}
    is_plain = plain_destinations(() if target is not None else sites.new)
    for line, url, facts in _pages(path, kind, options, result, is_plain):
        result.lines += 1
        if is_plain(url):
            key = text = url
        else:
            try:
                address = read_destination(url, sites.new[0])
            except NotAnAddressError as error:
                result.rejects.append(Reject(line, str(error), url))
                continue
            if target is not None:
                place = (target.scheme, target.host, target.port)
                address = Address(*place, address.path, address.query)
            if not sites.is_new(address):
                result.off_site += 1
                result.hosts[address.authority] += 1
                continue
            key, text = page_key(address), address.without_fragment
        result.accepted += 1
        page = Destination._make((key, text, *facts.words, state, *facts.place))
        if (clash := _clash(line, page, claims, before)) is not None:
            result.clashes.append(clash)
        pages.append(page)
    if not result.accepted:
        where = ", ".join(sites.new)
        named = ", ".join(f"{host} ({n:,})" for host, n in result.hosts.most_common(3))
        of_old = any(sites.site_of(parse_address(f"http://{host}/")) for host in result.hosts)
        raise InputError(
            f"{path} names no page on {where}" + (f", but on {named}" if named else ""),
            "these are pages of the old site: upright gather takes them"
            if of_old
            else "check the file, or say --publish-as when it lists a staging host",
        )
    return result, pages


def _clash(
    line: int,
    page: Destination,
    claims: dict[str, tuple[int, Destination]],
    before: Mapping[str, Destination],
) -> Clash | None:
    """Whether an address, slash and letter case aside, is claimed by another page of this list, or
    was another page's until now.
    """
    key = page.page.lower().rstrip("/")
    known = claims.get(key)
    if known is None:
        claims[key] = (line, page)
    elif _differ(known[1], page):
        spelled = (
            "" if known[1].page == page.page else " (they differ by slash or letter case alone)"
        )
        return Clash(
            page.url,
            f"{_called(known[1])} in row {known[0]:,}",
            f"{_called(page)} in row {line:,}",
            f"claimed twice{spelled}",
        )
    was = before.get(page.page) if before else None
    if was is not None and was.item and page.item and was.item != page.item:
        return Clash(
            page.url,
            f"{_called(was)} until now",
            f"{_called(page)} in row {line:,}",
            "has become another page's address",
        )
    return None


def _differ(one: Destination, other: Destination) -> bool:
    """Whether two rows speak of two pages: two items, or two titles where no item is known."""
    if one.item and other.item:
        return one.item != other.item
    return bool(one.title and other.title and one.title != other.title)


def _called(page: Destination) -> str:
    return " ".join(filter(None, (page.item, page.title or page.heading))) or page.url


class _Facts(NamedTuple):
    """What a list says of a page. words: status, title, heading, description, canonical, indexable,
    language and redirects_to; place: section and item.
    """

    words: tuple[Any, ...] = (0, "", "", "", "", "", "", "")
    place: tuple[Any, ...] = ("", "")


def _pages(
    path: Path, kind: str, options: ReadOptions, result: Stocked, is_plain: Callable[[str], bool]
) -> Iterator[tuple[int, str, _Facts]]:
    """The line of each page, its address as written, and what is said of it. is_plain: a test for
    addresses that are destinations as they stand.
    """
    if kind in OF_ROWS:
        yield from _rows(read_table(path, options, kind), result, is_plain)
        return
    if kind == FileKind.PAGE:
        page = read_saved_page(path, options)
        if not page.url:
            raise InputError(
                f"{path} does not say its own address",
                "give it a canonical link, or stock a list of addresses",
            )
        told = {**dict.fromkeys(_FACTS, ""), **asdict(page)}
        texts = [told[name] for name in _FACTS]
        yield 1, page.url, _Facts((told.get("status", 0), *texts[:7]), (*texts[7:],))
        return
    for item in one_by_one(read_urls(path, kind, options)[1].items):
        if isinstance(item, Record):
            yield item.line, item.url, _Facts()
        elif isinstance(item, Reject):
            result.lines += 1
            result.rejects.append(item)


_FACTS = {
    "title": col.TITLE,
    "heading": col.HEADING,
    "description": col.DESCRIPTION,
    "canonical": col.CANONICAL,
    "indexable": col.INDEXABLE,
    "language": col.LANGUAGE,
    "redirects_to": col.REDIRECTS_TO,
    "section": col.SECTION,
    "item": col.ITEM,
}
"""What is kept of a page → the column that tells it."""


def _rows(
    table: Table, result: Stocked, is_plain: Callable[[str], bool]
) -> Iterator[tuple[int, str, _Facts]]:
    """What each row of a table says of its page."""
    result.mapping, result.notes = table.mapping, table.notes
    unused = table.unused
    if unused:
        result.notes.append(f"columns that are not used: {', '.join(unused[:8])}")
    url, most = table.columns[col.URL], table.width.most
    status = table.columns.get(col.STATUS)
    told = [table.columns.get(meaning) for meaning in _FACTS.values()]
    while some := list(islice(table.rows, BLOCK)):
        cells = [row for _, row in some]
        urls, (titles, *others) = column_of(cells, url), [column_of(cells, at) for at in told]
        said = column_of(cells, status)
        known = {cell: status_code(cell) for cell in set(said)}
        codes = [*map(known.__getitem__, said)]
        doubts: Sequence[bool] = [told[_TITLE_AT] is not None] * len(some)
        if told[_TITLE_AT] is not None and len(some) > FEW:
            doubts = may_say_so(titles)
        words = zip(codes, titles, *others[:-2], strict=True)
        facts = zip(words, zip(*others[-2:], strict=True), strict=True)
        for (line, row), written, of_page, doubt in zip(some, urls, facts, doubts, strict=True):
            if not row:
                continue
            address = written
            if not is_plain(written) or len(row) > most:
                address, fault = table.address(row), table.width.fault(row)
                if not fault and (table.is_sum(address) or table.repeats(row, table.header)):
                    result.sums += 1
                    continue
                if fault := fault or fault_of(address):
                    result.lines += 1
                    result.rejects.append(Reject(line, fault, " | ".join(row)))
                    continue
            if doubt and of_page[0][0] < _MOVED and says_it_is_none(of_page[0][1]):
                result.lines += 1
                result.missing.append(address)
                continue
            yield line, address, _Facts(*of_page)


_MOVED, _TITLE_AT = 300, [*_FACTS].index("title")
