"""HTML pages that a crawl fetched: what they say of themselves, and every address they name.

The parts that stand around all pages of a site (navigation, header, footer) are looked at once for
each text they have.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from typing import Any, NamedTuple

from upright_ledger.core.contents.sketches import sketch_of
from upright_ledger.core.crawl.observation import (
    CANONICAL,
    HREFLANG,
    PAGE_LINK,
    RESOURCE,
    AskedFor,
    Facts,
    Link,
)
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.formats.html.page_head import CHROME, page_text, parse_page, within

MOST_LINKS = 5_000  # of one page
_CSS_URL = re.compile(
    r"url\(\s*[\"']?([^\"')]{1,2000})|@import\s+[\"']([^\"']{1,2000})", re.IGNORECASE
)
_NO_ADDRESS = ("#", "mailto:", "tel:", "javascript:", "data:", "sms:", "blob:", "about:")
_RESOURCES = {
    "img": "src",
    "script": "src",
    "iframe": "src",
    "source": "src",
    "video": "src",
    "audio": "src",
    "embed": "src",
    "object": "data",
    "input": "src",
    "track": "src",
}
_WITH_LINKS = ("a", "area", "link", "style", *_RESOURCES)
_LEAST_TEXT = 80  # letters; a page of fewer that loads scripts shows its content by them
_MOST_PARTS = 4_096
_FROM_ANYWHERE = ("/", "http://", "https://", *_NO_ADDRESS)
_PLAIN_NAME = re.compile(
    r"[A-Za-z0-9_-][A-Za-z0-9_-]*(?:[/.][A-Za-z0-9_-]+)*/?(?:\?[A-Za-z0-9_=&.-]*)?"
)  # relative, with no dot segments


class _Written(NamedTuple):
    """A link as it stands in a page, before it is resolved."""

    written: str
    kind: str
    text: str
    place: str


_parts: dict[bytes, tuple[_Written, ...]] = {}  # digest of a part around the page → its links


def html_facts(body: bytes, content_type: str, url: str) -> Facts:
    """What a page says of itself, and its links; nothing where it cannot be read."""
    root = parse_page(body, content_type)
    if root is None:
        return Facts()
    told: dict[str, str] = {}
    robots: list[str] = []
    for element in root.iter("title", "h1", "meta"):
        if element.tag == "meta":
            name = (element.get("name") or element.get("http-equiv") or "").strip().lower()
            content = (element.get("content") or "").strip()[:2000]
            if name == "robots":
                robots.append(content.lower())
            elif name == "description" or (name == "refresh" and not within(element, "noscript")):
                told.setdefault(name, content)
        elif element.tag not in told:
            told[element.tag] = " ".join("".join(element.itertext()).split())[:500]
    base = next((b.get("href") for b in root.iter("base") if b.get("href")), "")
    links = tuple(_page_links(root, absolute(base, url) or url))
    language = (root.get("lang") or "")[:20]
    scripts = next(root.iter("script"), None) is not None
    text = page_text(root)
    canonical = next((link.target for link in links if link.kind == CANONICAL), "")
    digest = (
        hashlib.blake2b(text.encode("utf-8", "replace"), digest_size=8).hexdigest() if text else ""
    )
    return Facts(
        told.get("title", ""), told.get("h1", ""), told.get("description", ""), language, canonical,
        ",".join(robots), told.get("refresh", ""),
        digest, len(text), scripts and len(text) < _LEAST_TEXT, sketch_of(text), links,
    )  # fmt: skip


def css_addresses(text: str) -> Iterator[str]:
    """The addresses that a style sheet names, as written."""
    for first, second in _CSS_URL.findall(text[: 4 << 20])[:MOST_LINKS]:
        yield (first or second).strip()


def absolute(written: str, base: str) -> str:
    """An address as a browser resolves it, without fragment; empty where it is none that a browser
    would ask for.
    """
    if not written or written.startswith(_NO_ADDRESS):
        return ""
    return _resolve(written, base)


def _resolve(written: str, base: str) -> str:
    import ada_url

    try:
        if written[0] == "/" != written[1:2]:
            return parse_address(written, base).without_fragment
        if _PLAIN_NAME.fullmatch(written) and "?" not in base and base.count("/") > 2:
            return parse_address(base[: base.rindex("/") + 1] + written).without_fragment
        return parse_address(ada_url.join_url(base, written)).without_fragment
    except (NotAnAddressError, ValueError):
        return ""


_kept: dict[tuple[bytes, str], list[Link]] = {}  # part around the page, and origin → its links


def _page_links(root: Any, base: str) -> list[Link]:
    """Every link of a page, those of one target, text and place once: of the parts around it, then
    its own. The parts are taken out of the tree.
    """
    from lxml import etree

    origin = base[: base.index("/", 8)] if base.count("/") > 2 else base
    found: dict[Link, None] = {}
    for part in [p for p in root.iter(*CHROME) if next(p.iterancestors(*CHROME), None) is None]:
        key = hashlib.blake2b(etree.tostring(part, with_tail=False), digest_size=16).digest()
        links = _kept.get((key, origin))
        if links is None:
            written = _parts.get(key)
            if written is None:
                written = tuple(
                    w
                    for element in part.iter(*_WITH_LINKS)
                    for w in _links_of(element, _place(element))
                )
                if len(_parts) < _MOST_PARTS:
                    _parts[key] = written
            links = [link for w in written if (link := _link(w, base, origin)) is not None]
            # None of these depends on the page: they lead to the same from everywhere.
            if len(_kept) < _MOST_PARTS and all(
                w.written.startswith(_FROM_ANYWHERE) for w in written
            ):
                _kept[key, origin] = links
        found |= dict.fromkeys(links)
        if len(found) >= MOST_LINKS:
            break
    etree.strip_elements(root, *CHROME, with_tail=False)
    for element in root.iter(*_WITH_LINKS):
        for written_link in _links_of(element, AskedFor.TEXT):
            link = _link(written_link, base, origin)
            if link is not None:
                found[link] = None
        if len(found) >= MOST_LINKS:
            break
    return list(found)


_known: dict[
    tuple[_Written, str], Link | None
] = {}  # links that lead to the same from every page, and origin
_MOST_KNOWN = 1 << 16


def _link(written: _Written, base: str, origin: str) -> Link | None:
    """A link as an address; one object for a link that many pages hold."""
    from_root = written.written[:1] == "/" != written.written[1:2]
    if not from_root:
        target = absolute(written.written, base)
        return Link(target, *written) if target else None
    key = (written, origin)
    if key not in _known:
        if len(_known) >= _MOST_KNOWN:
            _known.clear()
        target = _resolve(written.written, f"{origin}/")
        _known[key] = Link(target, *written) if target else None
    return _known[key]


def _links_of(element: Any, place: str) -> Iterator[_Written]:
    """The links of one element."""
    tag = element.tag
    if tag in {"a", "area"}:
        written = (element.get("href") or "").strip()
        if written:
            text = "".join(element.itertext()) if len(element) else element.text or ""
            yield _Written(
                written[:2000],
                PAGE_LINK,
                " ".join(text.split())[:200] or _image_text(element),
                place,
            )
    elif tag == "link":
        yield from _head_link(element)
    elif tag == "style":
        for written in css_addresses(element.text or ""):
            yield _Written(written, RESOURCE, "", place)
    else:
        kind = PAGE_LINK if tag == "iframe" else RESOURCE
        for written in (
            (element.get(_RESOURCES[tag]) or "").strip(),
            *_srcset(element.get("srcset") or ""),
        ):
            if written:
                yield _Written(written[:2000], kind, "", place)


def _head_link(element: Any) -> Iterator[_Written]:
    written = (element.get("href") or "").strip()[:2000]
    relations = set((element.get("rel") or "").lower().split())
    if not written:
        return
    if "canonical" in relations:
        yield _Written(written, CANONICAL, "", AskedFor.HEAD)
    elif "alternate" in relations and element.get("hreflang"):
        yield _Written(
            written, HREFLANG, element.get("hreflang").strip().lower()[:20], AskedFor.HEAD
        )
    elif relations & {"next", "prev", "alternate", "amphtml"}:
        yield _Written(written, PAGE_LINK, "", AskedFor.HEAD)
    elif relations & {
        "stylesheet",
        "icon",
        "preload",
        "manifest",
        "modulepreload",
        "apple-touch-icon",
    }:
        yield _Written(written, RESOURCE, "", AskedFor.HEAD)


def _image_text(element: Any) -> str:
    return next(
        (
            f"image: {i.get('alt').strip()}"[:200]
            for i in element.iter("img")
            if (i.get("alt") or "").strip()
        ),
        "",
    )


def _place(element: Any) -> str:
    """The part around the page in which an element stands: the innermost."""
    return next((str(above.tag) for above in element.iterancestors(*CHROME)), AskedFor.TEXT)


def _srcset(text: str) -> list[str]:
    """The addresses of a srcset (HTML, section 4.8.4.2.1), whose parts are divided by commas and
    blanks.
    """
    return [part.split()[0] for part in re.split(r",\s+", text) if part.split()] if text else []
