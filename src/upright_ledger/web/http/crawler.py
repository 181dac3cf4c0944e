"""Crawling: from start addresses along links, within some hosts, each address once, politely."""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from typing import NamedTuple, Protocol

from protego import Protego

from upright_ledger.core.crawl.audits.server_setup import probes_of
from upright_ledger.core.crawl.frontier import (
    BOOKS,
    EXTERNAL,
    PROBE,
    USUAL,
    Frontier,
    Limits,
    NotAsked,
)
from upright_ledger.core.crawl.observation import (
    HREFLANG,
    RESOURCE,
    SITEMAP_LINE,
    CrawlOutcome,
    Observation,
)
from upright_ledger.core.crawl.publishing import Publishing
from upright_ledger.core.url.address import Address, address_of, parse_address, split_text
from upright_ledger.web.http.client import HttpClient
from upright_ledger.web.http.options import RequestOptions
from upright_ledger.web.http.received import Response
from upright_ledger.web.http.tracer import Target, leads_to, resolve
from upright_ledger.web.http.transport import CurlTransport, OpenTransport, Request, Transport

PAGE_BYTES = 4 << 20
_KEPT_HEADERS = ("x-robots-tag", "strict-transport-security", "content-language", "location")
_LONGEST_DELAY = 10.0  # seconds between requests that a robots.txt may ask for
_MOST_UNREAD = 32 << 20  # bytes of bodies that wait for being read
_MOST_SAMPLES = 20  # pages of which second addresses are asked for
_ROBOTS_HOPS = 5  # redirects of a robots.txt that are followed (RFC 9309, section 2.3.1.2)
_USUAL_SITEMAPS = ("/sitemap.xml", "/sitemap_index.xml", "/sitemap-index.xml")
_UNTOLD = frozenset([PROBE, EXTERNAL])  # what led to addresses from which nothing is followed
_AS_PAGES = (
    "text/html",
    "application/xhtml+xml",
    "text/css",
    "application/xml",
    "text/xml",
    "application/rss",
    "application/atom",
    "application/pdf",
)


class Read(NamedTuple):
    """What a body says: packed, for whoever keeps it. refresh: where it sends a browser, as
    written. follow: (address, kind of link) to go on with, without those that were told before.
    """

    facts: bytes = b""
    refresh: str = ""
    follow: tuple[tuple[str, str], ...] = ()


class BodyReader(Protocol):
    """Reads bodies: at once, or elsewhere while others are asked for."""

    def read(
        self, body: bytes, kind: str, url: str, follow: bool | None, then: Callable[[Read], None]
    ) -> None:
        """Read a body of a content type, and call `then` with what it says: now, or from `collect`.
        follow: whether its links are; None: unless it says nofollow.
        """

    def collect(self) -> None:
        """Hand over what was read meanwhile."""

    @property
    def waiting(self) -> int:
        """Bytes that are still to be read."""


@dataclass(frozen=True, slots=True)
class Start:
    """Where a survey begins. addresses: of pages; sitemaps: besides those that robots.txt names,
    and those in the usual places. known: what the ledger knows, asked for as well.

    probes: asked to see how the server answers them, and followed no further. alone: the addresses
    are asked and nothing else, wherever they lead.
    """

    addresses: tuple[Address, ...]
    sitemaps: tuple[Address, ...] = ()
    known: tuple[Address, ...] = ()
    probes: tuple[Address, ...] = ()
    alone: bool = False


@dataclass(frozen=True, slots=True)
class CrawlPlan:
    """What a crawl is to do. own_site: robots.txt and nofollow are no bounds. external: the status
    of links to other sites is asked for, too. publishing: where the site is asked, if that is not
    where it is public.
    """

    start: Start
    limits: Limits
    place: Target
    manner: RequestOptions
    own_site: bool = False
    external: bool = False
    publishing: Publishing | None = None


def crawl(
    plan: CrawlPlan,
    reader: BodyReader,
    done: Callable[[Observation, bytes], None],
    *,
    before: Iterable[Observation] = (),
    meanwhile: Callable[[], None] = lambda: None,
    ending: Callable[[], bool] = lambda: False,
    transport: OpenTransport = CurlTransport,
) -> None:
    """Ask for every address that can be reached, calling `done` with what was seen of it and what
    its reader packed, and `meanwhile` again and again.

    before: what an earlier crawl saw already, which is not asked for again. ending: whether no more
    is to be asked for.
    """
    crawler = _Crawler(plan, reader, done, transport(plan.manner))

    def turn() -> None:
        reader.collect()
        meanwhile()

    def busy() -> bool:
        return reader.waiting > 0

    crawler.begin(plan.start, list(before))
    crawler.exchange.run(meanwhile=turn, busy=busy, ending=ending)
    crawler.probe()
    crawler.exchange.run(meanwhile=turn, busy=busy, ending=ending)


class _Crawler:
    def __init__(
        self,
        plan: CrawlPlan,
        reader: BodyReader,
        done: Callable[[Observation, bytes], None],
        transport: Transport,
    ) -> None:
        self.exchange = HttpClient(plan.manner, transport)
        self.frontier = Frontier(plan.limits, plan.publishing)
        self.place, self.reader, self.done = plan.place, reader, done
        self.own_site, self.external = plan.own_site, plan.external
        self.agent = plan.manner.agent
        self.queue: deque[tuple[Address, int, str, bool]] = deque()
        self.robots: dict[str, Protego | None] = {}
        self.unread: dict[str, str] = {}  # origin → why its robots.txt could not be read
        self.waiting: dict[str, list[tuple[Address, int, str, bool]]] = defaultdict(list)
        self.alone = plan.start.alone
        self.samples: dict[tuple[str, str], str] = {}  # one page of each part of a host

    def begin(self, start: Start, before: list[Observation]) -> None:
        """Queue the starts, and what pages seen before lead to."""
        for seen in before:
            self._sample(seen)
            asked = self.frontier.canonicalise(address_of(seen.url))
            self.frontier.known.add(asked.without_fragment)
            self.frontier.accepted += not seen.reason
        for address in (*start.addresses, *start.sitemaps):
            self._found(address, 0, "", page=True)
        origins = () if self.alone else dict.fromkeys(a.origin for a in start.addresses)
        for origin in origins:
            for path in _USUAL_SITEMAPS:
                self._found(parse_address(origin + path), 0, USUAL, page=True)
        for address in start.known:
            self._found(address, 0, BOOKS, page=True)
        for address in start.probes:
            if address.without_fragment not in self.frontier.known:
                self.queue.append((address, 0, PROBE, True))
        for seen in before:
            told = f"{seen.facts.robots},{seen.headers.get('x-robots-tag', '')}"
            links = seen.facts.links if self.own_site or not _forbids(told) else ()
            self._follow(seen, [(link.target, link.kind) for link in links])
        self._top_up()

    def probe(self) -> None:
        """Queue second addresses that some of the pages might have."""
        if self.alone:
            return
        for page in list(self.samples.values())[:_MOST_SAMPLES]:
            for text in probes_of(page):
                address = self.frontier.canonicalise(parse_address(text))
                if address.without_fragment not in self.frontier.known:
                    self.frontier.known.add(address.without_fragment)
                    self.queue.append((address, 0, PROBE, True))
        self._top_up()

    def _found(self, address: Address, depth: int, via: str, *, page: bool) -> None:
        address = self.frontier.canonicalise(address)
        reason = self.frontier.take(address, depth)
        if reason == "":
            self.queue.append((address, depth, via, page))
        elif reason == NotAsked.OFF_SITE:
            if self.external and address.without_fragment not in self.frontier.known:
                self.frontier.known.add(address.without_fragment)
                self.queue.append((address, depth, EXTERNAL, False))
        elif reason is not None:
            self.done(
                Observation(address.without_fragment, reason=reason, via=via, depth=depth), b""
            )

    def _top_up(self) -> None:
        while self.queue and self.reader.waiting < _MOST_UNREAD and self.exchange.has_room():
            self._ask(*self.queue.popleft())

    def _ask(self, address: Address, depth: int, via: str, page: bool) -> None:
        origin = address.origin
        if via == EXTERNAL:
            # One request a link, as a browser makes that follows it: robots.txt is for crawlers.
            answered = partial(self._answered, address, depth, via, False)
            self.exchange.submit(
                Request(
                    self.place.origin(address), address.target, answered, head=True, public=True
                )
            )
            return
        if origin not in self.robots:
            first = origin not in self.waiting
            self.waiting[origin].append((address, depth, via, page))
            if first:
                self._ask_robots(origin, parse_address(f"{origin}/robots.txt"), 0)
            return
        rules = self.robots[origin]
        barred = rules is not None and not rules.can_fetch(address.text, self.agent)
        if not self.own_site and (barred or origin in self.unread):
            reason = NotAsked.ROBOTS if barred else NotAsked.UNREAD
            self.done(
                Observation(
                    address.without_fragment,
                    0,
                    "",
                    self.unread.get(origin, ""),
                    reason,
                    via=via,
                    depth=depth,
                ),
                b"",
            )
            return
        answered = partial(self._answered, address, depth, via, barred)
        self.exchange.submit(
            Request(self.place.origin(address), address.target, answered, head=not page)
        )

    def _ask_robots(self, origin: str, address: Address, hops: int) -> None:
        taken_up = partial(self._read_robots, origin, address, hops)
        self.exchange.submit(Request(self.place.origin(address), address.target, taken_up))

    def _read_robots(self, origin: str, address: Address, hops: int, response: Response) -> None:
        """Take up a robots.txt (RFC 9309): without one all may be asked, with a server in trouble
        nothing may.
        """
        following = resolve(leads_to(response, "")[0], address)[0]
        if (
            following is not None
            and hops < _ROBOTS_HOPS
            and following.authority in self.frontier.limits.hosts
        ):
            self._ask_robots(origin, following, hops + 1)
            return
        self.robots[origin] = None
        if response.status >= 500 or not response.status:
            self.unread[origin] = response.error or f"it answers {response.status}"
        elif response.status == 200:
            rules = self.robots[origin] = Protego.parse(response.body.decode("utf-8", "replace"))
            if delay := rules.crawl_delay(self.agent):
                self.exchange.slow_down(
                    self.place.origin(parse_address(origin)), min(float(delay), _LONGEST_DELAY)
                )
            for text in list(rules.sitemaps)[:100]:
                self._found_text(text, 0, f"{origin}/robots.txt", page=True)
        for waiting in self.waiting.pop(origin, ()):
            self.queue.append(waiting)
        self._top_up()

    def _answered(
        self, address: Address, depth: int, via: str, barred: bool, response: Response
    ) -> None:
        url, kind = address.without_fragment, response.header("content-type")
        if response.status in {400, 403, 404, 405, 501} and not response.body and response.head:
            # Some servers answer HEAD in another way than GET.
            self.exchange.submit(
                Request(
                    self.place.origin(address),
                    address.target,
                    partial(self._answered, address, depth, via, barred),
                    want_body=False,
                    public=via == EXTERNAL,
                )
            )
            return
        error = response.error or response.note
        if response.status == 200 and kind.partition(";")[0].strip().lower().startswith(_AS_PAGES):
            then = partial(self._read, address, depth, via, barred, response, error)
            follow = (
                True
                if self.own_site
                else False
                if _forbids(response.header("x-robots-tag"))
                else None
            )
            self.reader.read(response.body, kind, url, follow, then)
            return
        self._read(address, depth, via, barred, response, error, Read())

    def _read(
        self,
        address: Address,
        depth: int,
        via: str,
        barred: bool,
        response: Response,
        error: str,
        read: Read,
    ) -> None:
        """Keep what was seen of an address, and go on from there."""
        location, how = leads_to(response, read.refresh)
        following, problem = resolve(location, address) if how else (None, "")
        headers = {
            name: response.headers[name][:500] for name in _KEPT_HEADERS if name in response.headers
        }
        seen = Observation(
            address.without_fragment, response.status, following.text if following else "",
            error or problem, "",
            response.header("content-type")[:100], round(response.seconds, 4), len(response.body),
            headers, via, depth, barred,
        )  # fmt: skip
        self.done(seen, read.facts)
        self._sample(seen)
        self._follow(seen, read.follow)
        self._top_up()

    def _sample(self, seen: Observation) -> None:
        if (
            seen.outcome == CrawlOutcome.ANSWERED
            and seen.via not in _UNTOLD
            and seen.content_type.startswith("text/html")
        ):
            _, authority, target = split_text(seen.url)
            self.samples.setdefault(
                (authority, target.split("/", 2)[1] if target.count("/") > 1 else ""), seen.url
            )

    def _follow(self, seen: Observation, links: Iterable[tuple[str, str]]) -> None:
        """Queue what a page, or a redirect, leads to. links: addresses and their kinds."""
        if self.alone or seen.via in _UNTOLD:
            return
        if seen.location:
            self._found_text(seen.location, seen.depth + 1, seen.url, page=True)
        known, plain = self.frontier.known, not self.frontier.limits.ignored
        for target, kind in links:
            if plain and target in known:
                continue
            page = kind != RESOURCE or target.partition("?")[0].endswith(".css")
            # What sitemaps and other languages name is as near as what a start page links to.
            near = seen.depth if kind in {SITEMAP_LINE, HREFLANG} else seen.depth + 1
            self._found(address_of(target), near, seen.url, page=page)

    def _found_text(self, text: str, depth: int, via: str, *, page: bool) -> None:
        following, _ = resolve(text, parse_address(via))
        if following is not None:
            self._found(following, depth, via, page=page)


def _forbids(robots: str) -> bool:
    """Whether directives forbid to follow links."""
    return "nofollow" in robots.lower()
