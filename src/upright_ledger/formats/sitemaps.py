"""What a site says of itself: XML sitemaps (sitemaps protocol), RSS and Atom feeds, robots.txt (RFC 9309)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from upright_ledger.core.evidence import LISTED, Figure
from upright_ledger.core.mending import mend
from upright_ledger.core.traffic import BLANK, NEIGHBOUR
from upright_ledger.errors import InputError
from upright_ledger.formats.columns import day_of
from upright_ledger.formats.reading import open_text, text_lines
from upright_ledger.formats.records import Aside, Item, Reading, ReadOptions, Record, Reject
from upright_ledger.formats.streams import open_bytes

_LISTED = (Figure(LISTED, 1.0),)
_SITEMAP_LINE = re.compile(r"\s*sitemap\s*:\s*(\S+)", re.IGNORECASE)


def read_sitemap(path: Path, options: ReadOptions) -> Reading:
    """The `loc` of every `url`, with the pages of other languages beside it. Other sitemaps are set aside."""
    del options
    reading = Reading()
    reading.items = _elements(
        path, {"url", "sitemap"}, lambda line, tag, element: _sitemap_items(line, tag, element, reading)
    )
    return reading


def _sitemap_items(line: int, tag: str, element: Any, reading: Reading) -> Iterator[Item]:
    from lxml import etree

    parts: dict[str, str] = {}
    others = []
    for child in element.iter():
        if isinstance(child.tag, str):
            name = etree.QName(child).localname
            parts.setdefault(name, (child.text or "").strip())
            if name == "link" and child.get("href"):
                others.append(child.get("href"))
            if name == "loc" and child.getparent() is not element and child.text:
                others.append(child.text.strip())
    loc = parts.get("loc", "")
    if tag == "sitemap":
        reading.neighbours.append(loc)
        yield Aside(line, NEIGHBOUR, loc[:2000])
    elif not loc:
        yield Reject(line, "this url has no loc", "")
    else:
        url = mend(loc)
        day = day_of(parts.get("lastmod", ""))
        yield Record(line, url.text, figures=_LISTED, day=day, title=parts.get("title", ""), mends=url.mends)
        for other in others:
            if other != loc:
                yield Record(line, mend(other).text, 0, figures=_LISTED)


def read_feed(path: Path, options: ReadOptions) -> Reading:
    """The links of an RSS or Atom feed's entries, with their titles; enclosures, too."""
    del options
    return Reading(_elements(path, {"item", "entry"}, _feed_items))


def _feed_items(line: int, tag: str, element: Any) -> Iterator[Item]:
    from lxml import etree

    del tag
    found: list[str] = []
    title, day = "", ""
    for child in element:
        if not isinstance(child.tag, str):
            continue
        name, text = etree.QName(child).localname, (child.text or "").strip()
        if name == "title":
            title = text[:500]
        elif name in {"pubDate", "updated", "published", "date"}:
            day = day or day_of(text)
        elif name == "link":
            found.append(child.get("href") or text)
        elif name == "guid" and child.get("isPermaLink", "true").lower() == "true" and text.startswith("http"):
            found.append(text)
        elif name == "enclosure" and child.get("url"):
            found.append(child.get("url"))
    found = list(dict.fromkeys(f for f in found if f))
    if not found:
        yield Reject(line, "this entry of the feed has no link", title)
    for n, text in enumerate(found):
        url = mend(text)
        yield Record(
            line, url.text, int(n == 0), figures=_LISTED, title=title if n == 0 else "", day=day, mends=url.mends
        )


def _elements(path: Path, wanted: set[str], items: Callable[[int, str, Any], Iterator[Item]]) -> Iterator[Item]:
    """Items of the wanted elements of an XML file. Entities are not expanded and nothing is fetched."""
    from lxml import etree

    count = 0
    with open_bytes(path) as file:
        try:
            events = etree.iterparse(
                file, events=("end",), resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False,
                remove_comments=True,
            )  # fmt: skip
            for _, element in events:
                tag = etree.QName(element).localname
                if tag not in wanted:
                    continue
                count += 1
                yield from items(int(element.sourceline or count), tag, element)
                element.clear()
                while element.getprevious() is not None:
                    del element.getparent()[0]
        except etree.XMLSyntaxError as error:
            raise InputError(f"{path} is damaged XML: {error.msg}", "fetch it again") from None
    if not count:
        raise InputError(f"{path} names no addresses", "check that it is the right file")


def read_robots(path: Path, options: ReadOptions) -> Reading:
    """The sitemaps that a robots.txt names; its rules name patterns, not pages."""
    reading = Reading()
    reading.items = _robots_items(path, options, reading)
    return reading


def _robots_items(path: Path, options: ReadOptions, reading: Reading) -> Iterator[Item]:
    with open_text(path, options.encoding) as file:
        for number, line in text_lines(file):
            if match := _SITEMAP_LINE.match(line):
                reading.neighbours.append(match[1])
                yield Aside(number, NEIGHBOUR, match[1][:2000])
            else:
                yield Aside(number, BLANK, line[:500])
