"""What a crawl saw of each address."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.word import Word


class CrawlOutcome(Word):
    """What became of an address in a crawl."""

    ANSWERED = "answered"
    MOVED = "moved"
    REFUSED = "refused"
    FAILING = "failing"
    UNREACHABLE = "unreachable"
    NOT_ASKED = "not asked"


OUTCOMES = (
    CrawlOutcome.ANSWERED,
    CrawlOutcome.MOVED,
    CrawlOutcome.REFUSED,
    CrawlOutcome.FAILING,
    CrawlOutcome.UNREACHABLE,
    CrawlOutcome.NOT_ASKED,
)
"""What became of an address. NOT_ASKED comes with the reason."""

# What a link is to the page that holds it.
PAGE_LINK, RESOURCE, CANONICAL, HREFLANG, REDIRECT, SITEMAP_LINE = (
    "link",
    "resource",
    "canonical",
    "hreflang",
    "redirect",
    "sitemap",
)

# Where in a page it stands.


class AskedFor(Word):
    """How much of a page is asked for."""

    HEAD = "head"
    TEXT = "text"


class Link(NamedTuple):
    """A link of a page. target: absolute, without fragment. written: as it stands in the page.
    kind, place: see above; place may also be nav, header, footer or aside. text: of a link; the
    language of an hreflang.
    """

    target: str
    written: str
    kind: str
    text: str = ""
    place: str = AskedFor.TEXT


class Facts(NamedTuple):
    """What a body says of itself. robots: its directives, in lower case. digest: of its text
    without what stands around all pages; letters: of that text; sketch: what it says, in short.

    needs_script: hardly any text, and scripts. mixed: resources over plain HTTP.
    """

    title: str = ""
    heading: str = ""
    description: str = ""
    language: str = ""
    canonical: str = ""
    robots: str = ""
    refresh: str = ""
    digest: str = ""
    letters: int = 0
    needs_script: bool = False
    sketch: Sketch = ""
    links: tuple[Link, ...] = ()


class Observation(NamedTuple):
    """One address as a survey saw it.

    status 0: no response; error: why, or what was wrong with it. location: where a redirect or
    refresh leads, resolved. reason: why it was not asked. via: the address that led here first;
    depth: how many links from a start. headers: those that audits look at. barred: robots.txt keeps
    it from crawlers, and it was asked for all the same.
    """

    url: str
    status: int = 0
    location: str = ""
    error: str = ""
    reason: str = ""
    content_type: str = ""
    seconds: float = 0.0
    size: int = 0
    headers: Mapping[str, str] = {}
    via: str = ""
    depth: int = 0
    barred: bool = False
    facts: Facts = Facts()

    @property
    def outcome(self) -> CrawlOutcome:
        """One of OUTCOMES."""
        if self.reason:
            return CrawlOutcome.NOT_ASKED
        if not self.status:
            return CrawlOutcome.UNREACHABLE
        if self.location or 300 <= self.status < 400:
            return CrawlOutcome.MOVED
        if self.status < 300:
            return CrawlOutcome.ANSWERED
        return CrawlOutcome.REFUSED if self.status in {401, 403, 429} else CrawlOutcome.FAILING

    @property
    def noindex(self) -> bool:
        """Whether the page asks search engines to leave it out."""
        told = f"{self.facts.robots},{self.headers.get('x-robots-tag', '').lower()}"
        return bool(
            {d.strip().rpartition(":")[2].strip() for d in told.split(",")} & {"noindex", "none"}
        )
