"""Columns of exports: what a header means, and what a cell says."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from upright_ledger.core.evidence import CLICKS, HITS, IMPRESSIONS, LINKING_DOMAINS, LINKING_PAGES, VISITS

URL = "url"
STATUS = "status"
TITLE = "title"
LANGUAGE = "language"
LAST_SEEN = "last seen"
REFERRER = "referrer"
HEADING = "heading"
DESCRIPTION = "description"
CANONICAL = "canonical"
INDEXABLE = "indexable"
REDIRECTS_TO = "redirects to"

# Header words in the order of preference; compared without case, blanks, underscores, dots and hyphens.
NAMES: Mapping[str, tuple[str, ...]] = {
    URL: (
        "url", "address", "pageurl", "page", "landingpage", "pagepath", "path", "oldurl", "legacyurl", "targeturl", "uri",
        "loc", "location", "link", "permalink", "fullurl", "pageaddress", "destinationurl", "toppages", "requesturl", "webaddress",
    ),
    HITS: ("hits", "requests", "pageviews", "views"),
    VISITS: ("visits", "sessions", "users", "visitors", "entrances"),
    CLICKS: ("clicks",),
    IMPRESSIONS: ("impressions",),
    LINKING_DOMAINS: ("linkingdomains", "referringdomains", "domains", "refdomains", "linkingsites"),
    LINKING_PAGES: ("linkingpages", "backlinks", "inlinks", "links", "incominglinks", "inboundlinks"),
    STATUS: ("status", "statuscode", "httpstatus", "responsecode", "code", "httpcode", "response"),
    TITLE: ("title", "pagetitle", "titletag", "name"),
    LANGUAGE: ("language", "lang", "locale"),
    LAST_SEEN: ("lastseen", "lastcrawled", "date", "lastmod", "detected", "day"),
    REFERRER: ("referrer", "linkingpage", "linkedfrom", "referringpage", "sourceurl", "source", "referer", "foundon"),
    HEADING: ("h1", "heading", "firstheading"),
    DESCRIPTION: ("description", "metadescription"),
    CANONICAL: ("canonical", "canonicalurl", "canonicallink"),
    INDEXABLE: ("indexable", "indexability"),
    REDIRECTS_TO: ("redirectsto", "redirecturl", "redirecttarget", "redirectlocation"),
}  # fmt: skip


def bare(header: str) -> str:
    """A header for comparing: "Page URL" and "page_url" are one."""
    return re.sub(r"[\s_.\-]+", "", header.strip().strip('"').lower())


def is_header_word(text: str) -> bool:
    """Whether a text alone in a line is the header of a URL column."""
    return bare(text) in NAMES[URL]


def map_columns(header: Sequence[str], given: Mapping[str, str]) -> dict[str, int]:
    """Meaning → column number, from the user's word first and the headers' names second.

    Raises KeyError with the header a user gave that is not there.
    """
    words = [bare(h) for h in header]
    found: dict[str, int] = {}
    for meaning, text in given.items():
        if bare(text) not in words:
            raise KeyError(text)
        found[meaning] = words.index(bare(text))
    for meaning, names in NAMES.items():
        if meaning in found:
            continue
        for name in names:
            if name in words and words.index(name) not in found.values():
                found[meaning] = words.index(name)
                break
    return found


_ADDRESS = re.compile(r"^(?:https?://\S+|/\S*|www\.\S+)$", re.IGNORECASE)


def looks_like_address(cell: str) -> bool:
    """Whether a cell holds a URL or an absolute path."""
    return _ADDRESS.match(cell.strip()) is not None


def url_column(rows: Sequence[Sequence[str]]) -> int | None:
    """The first column in which four of five filled cells are addresses, or None."""
    width = max((len(r) for r in rows), default=0)
    for column in range(width):
        cells = [r[column] for r in rows if len(r) > column and r[column].strip()]
        if cells and sum(map(looks_like_address, cells)) * 5 >= len(cells) * 4:
            return column
    return None


def status_code(cell: str) -> int:
    """An HTTP status as a cell gives it; 0 where it gives none."""
    return int(cell) if re.fullmatch(r"[0-9]{3}", cell) else 0


def number(cell: str) -> float | None:
    """A figure as exports write it: 1,234 or 1.234 or 1 234 or 12.5; None when it is none."""
    text = re.sub(r"[\s\u00a0\u202f']", "", cell).rstrip("%")
    if re.fullmatch(r"\d{1,3}(?:([.,])\d{3})(?:\1\d{3})*", text):
        return float(re.sub(r"[.,]", "", text))
    text = text.replace(",", ".") if text.count(",") == 1 and "." not in text else text.replace(",", "")
    try:
        return float(text) if re.fullmatch(r"\d+(?:\.\d+)?", text) else None
    except ValueError:
        return None
