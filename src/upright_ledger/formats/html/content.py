"""Bodies that a crawl fetched, by their content type: HTML, CSS, feeds, sitemaps, PDF."""

from __future__ import annotations

import io
import re
import zlib
from collections.abc import Iterable, Iterator

from upright_ledger.core.crawl.observation import PAGE_LINK, RESOURCE, SITEMAP_LINE, Facts, Link
from upright_ledger.formats.html.links import absolute, css_addresses, html_facts

_PDF_URI = re.compile(rb"/URI\s*\(((?:[^()\\]|\\.){1,2000})\)")
_MOST_LISTED = 60_000  # addresses of one sitemap; the protocol allows 50,000
_MOST_UNPACKED = 64 << 20  # bytes of a packed sitemap


def read_facts(body: bytes, content_type: str, url: str) -> Facts:
    """What a body says, by its content type; nothing of kinds that name no addresses. It never
    raises for damage.
    """
    kind = content_type.partition(";")[0].strip().lower()
    if kind in {"text/html", "application/xhtml+xml", ""}:
        return html_facts(body, content_type, url)
    if kind == "text/css":
        return Facts(
            links=tuple(_named(css_addresses(body.decode("utf-8", "replace")), url, RESOURCE))
        )
    if kind in {"application/rss+xml", "application/atom+xml", "application/xml", "text/xml"}:
        return Facts(links=tuple(_xml_links(body, url)))
    if body[:2] == b"\x1f\x8b" and url.partition("?")[0].endswith(".xml.gz"):
        return Facts(links=tuple(_xml_links(_unpacked(body), url)))
    if kind == "application/pdf":
        return Facts(links=tuple(_named(_pdf(body), url, PAGE_LINK)))
    return Facts()


def _unpacked(body: bytes) -> bytes:
    """A gzip file, up to a bound; as much as is sound of a damaged one."""
    try:
        return zlib.decompressobj(wbits=31).decompress(body, _MOST_UNPACKED)
    except zlib.error:
        return b""


def _named(written: Iterable[str], base: str, kind: str) -> Iterator[Link]:
    for text in dict.fromkeys(w[:2000] for w in written):
        if target := absolute(text, base):
            yield Link(target, text, kind)


def _xml_links(body: bytes, url: str) -> Iterator[Link]:
    """The addresses of a feed or sitemap. Entities are not expanded and nothing is fetched."""
    from lxml import etree

    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, recover=True
    )
    try:
        root = etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError):
        return
    if root is None:
        return
    for count, element in enumerate(root.iter("{*}loc", "{*}link", "{*}guid", "{*}enclosure")):
        if count > _MOST_LISTED:
            return
        name = etree.QName(element).localname
        written = (element.get("href") or element.get("url") or element.text or "").strip()
        if (target := absolute(written, url)) and (name != "guid" or written.startswith("http")):
            yield Link(target, written[:2000], SITEMAP_LINE if name == "loc" else PAGE_LINK)


def _pdf(body: bytes) -> list[str]:
    """The addresses behind the links of a PDF. One that is damaged, or too large to be read whole,
    is looked through for bare ones.
    """
    from pypdf import PdfReader
    from pypdf.errors import PyPdfError

    found: list[str] = []
    try:
        for page in PdfReader(io.BytesIO(body)).pages[:500]:
            for note in page.get("/Annots") or ():
                action = note.get_object().get("/A")
                if action is not None and "/URI" in action.get_object():
                    found.append(str(action.get_object()["/URI"]))
    except (PyPdfError, ValueError, KeyError, TypeError, AttributeError, RecursionError, OSError):
        found += [match.decode("latin-1") for match in _PDF_URI.findall(body)]
    return found
