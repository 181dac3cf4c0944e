"""Entries and pages in stock, as they are matched."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from upright_ledger.app.decide.page_texts import PageTexts
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.matching import MatchPage
from upright_ledger.core.matching.pages.item_numbers import ToldNumbers
from upright_ledger.core.url.address import Address, NotAnAddressError, address_of, parse_address
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.language import page_languages
from upright_ledger.core.url.tokens import path_parts, spelled_words
from upright_ledger.ledger.tables.stock import Destination

NO_TEXTS = PageTexts()


def can_be_proposed(page: Destination) -> bool:
    """Pages that answer or are planned, but no doubles that name another page as the canonical
    one.
    """
    if page.status not in {0, 200}:
        return False
    try:
        return not page.canonical or page_key(parse_address(page.canonical, page.url)) == page.page
    except NotAnAddressError:
        return True


def in_languages(pages: list[tuple[MatchPage, Address, str]]) -> list[MatchPage]:
    """Pages of one site, each with its address and the language that it declares, in their
    languages.
    """
    languages = page_languages(
        [(address.host, address.path, declared) for _, address, declared in pages]
    )
    return [
        replace(page, language=language) if language != page.language else page
        for (page, _, _), language in zip(pages, languages, strict=True)
    ]


def old_pages(
    entries: Iterable[Entry], numbers: ToldNumbers, texts: PageTexts = NO_TEXTS
) -> list[MatchPage]:
    """Entries of one site as old pages, in their languages."""
    return in_languages(
        [(old_page(e, numbers, texts), address_of(e.legacy_url), e.language) for e in entries]
    )


def new_pages(pages: Iterable[Destination], texts: PageTexts = NO_TEXTS) -> list[MatchPage]:
    """Pages in stock as new pages, in their languages."""
    return in_languages([(new_page(d, texts), parse_address(d.url), d.language) for d in pages])


def old_page(entry: Entry, numbers: ToldNumbers, texts: PageTexts = NO_TEXTS) -> MatchPage:
    """An entry as an old page."""
    address = address_of(entry.legacy_url)
    values = _values(address)
    told = numbers.new_numbers(entry.items, (*values, *_named(address.path)))
    title, *others = entry.titles or ("",)
    words = (*others, *entry.anchors)
    items = (*entry.items, *told)
    text = texts.old.get(entry.id, "")
    return MatchPage(entry.legacy_url, address.path, title, values, words, items=items, text=text)


def _named(path: str) -> tuple[str, ...]:
    """What may be an item number in a path: its segments, and the ends of the last one."""
    parts = path_parts(path)
    runs = spelled_words(parts[-1]) if parts else []
    return (*parts, *runs[:1], *runs[-1:])


def new_page(page: Destination, texts: PageTexts = NO_TEXTS) -> MatchPage:
    """A page in stock as a new page."""
    address = parse_address(page.url)
    title = page.title or page.heading
    words = (page.heading,) if page.heading and page.heading != title else ()
    items = (page.item,) if page.item else ()
    return MatchPage(
        page.page, address.path, title, _values(address), words, section=page.section, items=items,
        text=texts.new.get(page.page, ""),
    )  # fmt: skip


def _values(address: Address) -> tuple[str, ...]:
    return tuple(p.partition("=")[2] for p in address.query.split("&") if p)


def address_page(address: Address) -> MatchPage:
    """A page of which nothing but the address is known."""
    return MatchPage(address.without_fragment, address.path, params=_values(address))
