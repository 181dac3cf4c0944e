"""HTML pages: what their head says of themselves."""

from __future__ import annotations

import re
from typing import Any

from upright_ledger.core.verdicts import Page


def read_page(body: bytes, content_type: str, robots_header: str) -> Page:
    """Title, canonical address and indexability of a page, from as much of it as was read."""
    noindex = _forbids(robots_header)
    if not body.strip() or "html" not in (content_type or "html"):
        return Page(noindex=noindex)
    from lxml import etree, html

    charset = re.search(r"charset=[\"']?([\w-]+)", content_type, re.IGNORECASE)
    try:
        parser = html.HTMLParser(encoding=charset[1] if charset else None, huge_tree=False)
    except LookupError:
        parser = html.HTMLParser(huge_tree=False)
    try:
        root: Any = html.document_fromstring(body, parser=parser)
    except (etree.ParserError, etree.XMLSyntaxError, ValueError):
        return Page(noindex=noindex)  # no page that a browser could show a title of
    title = " ".join("".join(root.xpath("//title[1]//text()")).split())
    links = root.xpath("//link[translate(@rel,'CANONICAL','canonical')='canonical']/@href")
    robots = root.xpath("//meta[translate(@name,'ROBOTS','robots')='robots']/@content")
    return Page(
        title[:500], str(links[0]).strip()[:2000] if links else "", noindex or any(_forbids(str(r)) for r in robots)
    )


def _forbids(directives: str) -> bool:
    return any(d.strip().lower() in {"noindex", "none"} for d in directives.split(","))
