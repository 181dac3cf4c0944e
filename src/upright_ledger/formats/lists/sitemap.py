"""What a site says of itself: XML sitemaps (sitemaps protocol), RSS and Atom feeds, robots.txt (RFC
9309).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.url.repair import mend
from upright_ledger.formats.files.text import open_text, text_lines
from upright_ledger.formats.lists.xml_elements import elements, local_name
from upright_ledger.formats.records import Aside, Item, Reading, ReadOptions, Record, Reject
from upright_ledger.formats.tables.meanings.days import day_of

_LISTED = (Figure(LISTED, 1.0),)
_SITEMAP_LINE = re.compile(r"\s*sitemap\s*:\s*(\S+)", re.IGNORECASE)


def read_sitemap(path: Path, options: ReadOptions) -> Reading:
    """The `loc` of every `url`, with the pages of other languages beside it. Other sitemaps are set
    aside.
    """
    del options
    reading = Reading()
    found = elements(path, frozenset({"url", "sitemap"}), reading)
    reading.items = (
        item for line, tag, element in found for item in _sitemap_items(line, tag, element, reading)
    )
    return reading


def _sitemap_items(line: int, tag: str, element: Any, reading: Reading) -> Iterator[Item]:
    parts: dict[str, str] = {}
    others = []
    for child in element.iter():
        if name := local_name(child.tag):
            parts.setdefault(name, (child.text or "").strip())
            if name == "link" and child.get("href"):
                others.append(child.get("href"))
            if name == "loc" and child.getparent() is not element and child.text:
                others.append(child.text.strip())
    loc = parts.get("loc", "")
    if tag == "sitemap":
        reading.neighbours.append(loc)
        yield Aside(line, AsideClass.NEIGHBOUR, loc[:2000])
    elif not loc:
        yield Reject(line, "this url has no loc", "")
    else:
        url = mend(loc)
        day = day_of(parts.get("lastmod", ""))
        yield Record(
            line, url.text, figures=_LISTED, day=day, title=parts.get("title", ""), mends=url.mends
        )
        for other in others:
            if other != loc:
                yield Record(line, mend(other).text, 0, figures=_LISTED)


def read_feed(path: Path, options: ReadOptions) -> Reading:
    """The links of an RSS or Atom feed's entries, with their titles; enclosures, too."""
    del options
    reading = Reading()
    found = elements(path, frozenset({"item", "entry"}), reading)
    reading.items = (item for line, _, element in found for item in _feed_items(line, element))
    return reading


def _feed_items(line: int, element: Any) -> Iterator[Item]:
    found: list[str] = []
    title, day = "", ""
    for child in element:
        name, text = local_name(child.tag), (child.text or "").strip()
        if name == "title":
            title = text[:500]
        elif name in {"pubDate", "updated", "published", "date"}:
            day = day or day_of(text)
        elif name == "link":
            found.append(child.get("href") or text)
        elif (
            name == "guid"
            and child.get("isPermaLink", "true").lower() == "true"
            and text.startswith("http")
        ):
            found.append(text)
        elif name == "enclosure" and child.get("url"):
            found.append(child.get("url"))
        elif name == "attachment_url":  # of a file, in exports of contents
            found.append(text)
    found = list(dict.fromkeys(f for f in found if f))
    if not found:
        yield Reject(line, "this entry of the feed has no link", title)
    for n, text in enumerate(found):
        url = mend(text)
        yield Record(
            line,
            url.text,
            int(n == 0),
            figures=_LISTED,
            title=title if n == 0 else "",
            day=day,
            mends=url.mends,
        )


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
                yield Aside(number, AsideClass.NEIGHBOUR, match[1][:2000])
            else:
                yield Aside(number, AsideClass.BLANK, line[:500])
