"""HTML pages: what their head says of themselves, and where they link."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any
from urllib.parse import urljoin

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.tracing.trace import Page
from upright_ledger.core.url.repair import mend
from upright_ledger.core.url.tokens import tokens
from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import open_bytes
from upright_ledger.formats.records import Aside, Item, Reading, ReadOptions, Record


def read_page(body: bytes, content_type: str, robots_header: str) -> Page:
    """Title, canonical address and indexability of a page, from as much of it as was read."""
    noindex = _forbids(robots_header)
    if not body.strip() or "html" not in (content_type or "html"):
        return Page(noindex=noindex)
    root = parse_page(body, content_type)
    if root is None:
        return Page(noindex=noindex)  # no page that a browser could show a title of
    page = _head(root)
    return page._replace(noindex=noindex or page.noindex, words=" ".join(words_of(page_text(root))))


def parse_page(body: bytes, content_type: str) -> Any:
    """A page as an lxml element, in the encoding that its header or its head names, or in UTF-8
    where it is that; None where nothing can be read.
    """
    from lxml import etree

    named = _CHARSET.search(content_type)
    charset = named[1] if named else ""
    if not charset and b"charset" not in body[:2048].lower() and _is_utf8(body):
        charset = "utf-8"
    try:
        return etree.fromstring(body, _parser(charset))
    except (etree.XMLSyntaxError, ValueError):
        return None


_CHARSET = re.compile(r"charset=[\"']?([\w-]+)", re.IGNORECASE)


@lru_cache(maxsize=64)
def _parser(charset: str) -> Any:
    """A parser for an encoding; one that nobody knows is left for the page itself to name."""
    from lxml import etree

    quiet = {"huge_tree": False, "remove_comments": True, "remove_pis": True}
    try:
        return etree.HTMLParser(encoding=charset or None, **quiet)
    except LookupError:
        return etree.HTMLParser(**quiet)


def _is_utf8(body: bytes) -> bool:
    try:
        body.decode("utf-8")
    except UnicodeDecodeError as error:
        return error.end >= len(body) - 3 and error.start > 0  # cut off within a character
    return True


def _head(root: Any) -> Page:
    """What the head of a page says: its title, its canonical address, and whether it may be
    indexed.
    """
    told = {"title": "", "heading": "", "canonical": "", "refresh": ""}
    noindex = False
    for element in root.iter("title", "h1", "link", "meta"):
        if element.tag in {"title", "h1"}:
            name = "title" if element.tag == "title" else "heading"
            told[name] = told[name] or " ".join("".join(element.itertext()).split())[:500]
        elif element.tag == "link":
            if (element.get("rel") or "").lower() == "canonical":
                told["canonical"] = told["canonical"] or (element.get("href") or "").strip()[:2000]
        elif (element.get("name") or "").lower() == "robots":
            noindex |= _forbids(element.get("content") or "")
        elif (element.get("http-equiv") or "").lower() == "refresh" and not within(
            element, "noscript"
        ):
            told["refresh"] = told["refresh"] or (element.get("content") or "")[:2000]
    language = (root.get("lang") or root.get("{http://www.w3.org/XML/1998/namespace}lang") or "")[
        :20
    ]
    return Page(
        told["title"], told["canonical"], noindex, told["refresh"], told["heading"], language
    )


def within(element: Any, tag: str) -> bool:
    """Whether an element stands within one of that kind; what noscript holds is for browsers
    without scripts.
    """
    return any(True for _ in element.iterancestors(tag))


_MOST_WORDS = 120  # of one page
_MOST_TEXT = 2_000  # characters of it that are looked at
CHROME = ("nav", "header", "footer", "aside")
"""What pages have around what they are about."""

_NOT_CONTENT = (
    *CHROME,
    "head",
    "script",
    "style",
    "noscript",
    "template",
    "form",
    "svg",
    "select",
    "iframe",
)


def page_text(root: Any) -> str:
    """What a page is about: the text of its main part, without what all pages have around it. It
    takes the tree apart.
    """
    from lxml import etree

    etree.strip_elements(root, *_NOT_CONTENT, with_tail=False)
    return " ".join(" ".join(next(root.iter("main", "article"), root).itertext()).split())


def words_of(text: str) -> list[str]:
    """The first words of a text, each once: a sample of what it is about."""
    return list(dict.fromkeys(tokens(text[:_MOST_TEXT])))[:_MOST_WORDS] if text else []


@dataclass(frozen=True, slots=True)
class SavedPage:
    """What a saved page says of itself. url: its own address, or empty where it does not say.
    indexable: "no" or empty.
    """

    url: str
    title: str
    heading: str
    description: str
    canonical: str
    indexable: str
    language: str


def read_saved_page(path: Path, options: ReadOptions) -> SavedPage:
    """A saved page as one page: its address is that by which a browser saved it, or the one it
    gives as its own.
    """
    return _own(_parsed(path, options))


def _own(root: Any) -> SavedPage:
    def first(query: str) -> str:
        return " ".join(str(next(iter(root.xpath(query)), "")).split())[:2000]

    head = _head(root)
    saved = _SAVED_FROM.search(
        "".join(str(c.text) for c in root.getroottree().xpath("//comment()")[:5])
    )
    return SavedPage(
        (saved[1] if saved else "")
        or head.canonical
        or first("//meta[@property='og:url']/@content"),
        head.title,
        head.heading,
        first("//meta[translate(@name,'DESCRIPTION','description')='description']/@content"),
        head.canonical,
        "no" if head.noindex else "",
        first("/html/@lang"),
    )


def read_page_links(path: Path, options: ReadOptions) -> Reading:
    """A saved page itself, where it says its address, and its links and images, with the words of
    each link.
    """
    return Reading(_links(path, options))


def _parsed(path: Path, options: ReadOptions) -> Any:
    from lxml import etree, html

    with open_bytes(path) as file:
        body = file.read(_MAX_PAGE + 1)
    if len(body) > _MAX_PAGE:
        raise InputError(
            f"{path} is a page of more than {_MAX_PAGE >> 20} MB",
            "split it, or export the list as CSV",
        )
    try:
        return html.document_fromstring(
            body, parser=html.HTMLParser(encoding=options.encoding or None)
        )
    except (etree.ParserError, etree.XMLSyntaxError, ValueError, LookupError):
        raise InputError(f"{path} cannot be read as a page", "save it again") from None


def _links(path: Path, options: ReadOptions) -> Iterator[Item]:
    root = _parsed(path, options)
    own = _own(root)
    if own.url:
        title = own.title or own.heading
        yield Record(
            0, mend(own.url).text, figures=[Figure(LISTED, 1.0)], title=title, language=own.language
        )
    base = "".join(root.xpath("//base[1]/@href"))
    for number, element in enumerate(root.xpath("//*[@href or @src][not(self::base)]"), 1):
        written = (element.get("href") or element.get("src") or "").strip()
        if written.startswith(_NO_PAGES) or not written:
            yield Aside(number, AsideClass.BLANK, written[:500])
            continue
        url = mend(written)
        text = urljoin(base, url.text) if base else url.text
        words = " ".join("".join(element.itertext()).split())[:500] if element.tag == "a" else ""
        yield Record(number, text, figures=[Figure(LISTED, 1.0)], anchor=words, mends=url.mends)


_SAVED_FROM = re.compile(r"saved from url=\(\d+\)(https?://\S+)")
_NO_PAGES = ("#", "mailto:", "tel:", "javascript:", "data:", "sms:", "blob:")
_MAX_PAGE = 1 << 26


def _forbids(directives: str) -> bool:
    return any(d.strip().lower() in {"noindex", "none"} for d in directives.split(","))
