"""Which addresses a crawl goes to: how far it may go, and what it leaves out, with the reason."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

from upright_ledger.core.crawl.publishing import Publishing
from upright_ledger.core.inventory.path_noise import without_path_session
from upright_ledger.core.url.address import Address
from upright_ledger.core.url.conventions import DOUBTFUL_SESSION
from upright_ledger.core.url.redaction import names_a_visit
from upright_ledger.core.word import Word


@dataclass(frozen=True)
class Limits:
    """How far a survey goes. hosts: those that may be asked. most: addresses; depth: links from a
    start; within, without: path patterns that an address must, and must not, fit; ignored:
    parameters (lower case) that are taken off. per_path: queries of one path.
    """

    hosts: frozenset[str]
    most: int = 500_000
    depth: int = 100
    within: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    ignored: frozenset[str] = frozenset()
    per_path: int = 500


PROBE, USUAL, EXTERNAL, BOOKS = "probe", "usual place", "external", "ledger"
"""What led to an address that no page of the site did: it is asked to see how the server answers
it; a sitemap may be there; a page links to it on another site; the ledger knows it.
"""


class NotAsked(Word):
    """Why a crawl leaves an address alone."""

    OFF_SITE = "another host"
    TOO_DEEP = "too many links away"
    TOO_MANY = "beyond the number wanted"
    TRAP = "a trap: its path repeats itself"
    TOO_LONG = "longer than 2,000 characters"
    QUERIES = "too many queries of one path"
    PATTERN = "left out by a pattern"
    ROBOTS = "robots.txt keeps it from crawlers"
    UNREAD = "robots.txt could not be read, so nothing may be asked"


_MOST_CHARACTERS = 2_000


@dataclass
class Frontier:
    """Which addresses are known, and which of them may be asked: each of them once. publishing:
    where the site is asked, if that is not where it is public.
    """

    limits: Limits
    publishing: Publishing | None = None
    known: set[str] = field(default_factory=set)
    accepted: int = 0
    _queries: Counter[str] = field(default_factory=Counter)

    def canonicalise(self, address: Address) -> Address:
        """An address without the parameters that are ignored, and without its fragment, where it is
        asked.
        """
        if self.publishing is not None:
            address = self.publishing.asked(address)
        ignored = self.limits.ignored
        if ignored:
            address = address._replace(path=without_path_session(address.path))
        if not address.query or not ignored:
            return address._replace(fragment="") if address.fragment else address
        kept = [p for p in address.query.split("&") if not self._is_ignored(*p.partition("=")[::2])]
        return address._replace(query="&".join(kept), fragment="")

    def _is_ignored(self, name: str, value: str) -> bool:
        low = name.lower()
        return low in self.limits.ignored or (low in DOUBTFUL_SESSION and names_a_visit(low, value))

    def take(self, address: Address, depth: int) -> str | None:
        """Note a settled address. None where it was known; else why it is not to be asked, empty
        where it is.
        """
        text = address.without_fragment
        if text in self.known:
            return None
        if address.authority not in self.limits.hosts:
            return NotAsked.OFF_SITE  # not kept: the web is large
        self.known.add(text)
        reason = self._refuses(address, text, depth)
        if not reason:
            self.accepted += 1
        return reason

    def _refuses(self, address: Address, text: str, depth: int) -> str:
        limits = self.limits
        if len(text) > _MOST_CHARACTERS:
            return NotAsked.TOO_LONG
        if repeats_itself(address.path):
            return NotAsked.TRAP
        if limits.within and not any(fnmatchcase(address.path, p) for p in limits.within):
            return NotAsked.PATTERN
        if any(fnmatchcase(address.path, p) for p in limits.without):
            return NotAsked.PATTERN
        if depth > limits.depth:
            return NotAsked.TOO_DEEP
        if self.accepted >= limits.most:
            return NotAsked.TOO_MANY
        if address.query:
            path = f"{address.authority}{address.path}"
            self._queries[path] += 1
            if self._queries[path] > limits.per_path:
                return NotAsked.QUERIES
        return ""


_REPEATED = re.compile(r"((?:/[^/]+){1,4}?)\1\1(?:/|\Z)")


def repeats_itself(path: str) -> bool:
    """Whether a path holds the same segments three times in a row, as wrong relative links spin
    them on without end, or far too many.
    """
    return path.count("/") > 40 or _REPEATED.search(path) is not None
