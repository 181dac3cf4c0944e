"""A request, hop by hop, and the page at its end."""

from __future__ import annotations

from typing import NamedTuple

REDIRECTS = frozenset({301, 302, 303, 307, 308})
MAX_HOPS = 20
"""Browsers give up after as many."""


class Hop(NamedTuple):
    """One request and its response.

    status 0 means there was no response, and `error` says why. location: as sent; resolved: as an
    absolute address, empty when there is none. changed: what the redirect changed on the way.
    seconds: time to the response. cache: what its headers say of caching. how: "redirect", or
    "refresh" where a page or its header sends a browser on. rule: whose answer it is, where that
    was asked (see `root_causes.with_rules`).
    """

    url: str
    status: int
    location: str = ""
    resolved: str = ""
    changed: tuple[str, ...] = ()
    seconds: float = 0.0
    error: str = ""
    cache: str = ""
    how: str = ""
    rule: str = ""


class Page(NamedTuple):
    """What the end page says of itself; empty texts where it says nothing or was not read. refresh:
    of its head, as written. language: as declared.

    words: of its text, as they come, each once; a sample of what it is about.
    """

    title: str = ""
    canonical: str = ""
    noindex: bool = False
    refresh: str = ""
    heading: str = ""
    language: str = ""
    words: str = ""


class Trace(NamedTuple):
    """All hops from a first address to its end. `final_status` is 0 when it is not known."""

    url: str
    hops: tuple[Hop, ...]
    final_url: str
    final_status: int
    page: Page = Page()
    loops: bool = False

    @property
    def first_status(self) -> int:
        return self.hops[0].status if self.hops else 0

    @property
    def first_location(self) -> str:
        return self.hops[0].resolved if self.hops else ""

    @property
    def redirects(self) -> int:
        return sum(1 for hop in self.hops if hop.status in REDIRECTS or hop.how == "refresh")
