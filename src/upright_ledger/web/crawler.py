"""Crawling: from start addresses along links, within some hosts, each address once, politely."""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial

from protego import Protego

from upright_ledger.core.addresses import Address, address_of, parse_address
from upright_ledger.core.surveying import (
    HREFLANG,
    OFF_SITE,
    PROBE,
    RESOURCE,
    ROBOTS,
    SITEMAP_LINE,
    Facts,
    Frontier,
    Limits,
    Seen,
)
from upright_ledger.web.client import Place, leads_to, resolve
from upright_ledger.web.exchange import Exchange, Manner, Request, Response

PAGE_BYTES = 4 << 20
_KEPT_HEADERS = ("x-robots-tag", "strict-transport-security", "content-language", "location")
_LONGEST_DELAY = 10.0  # seconds between requests that a robots.txt may ask for
_AS_PAGES = ("text/html", "application/xhtml+xml", "text/css", "application/xml", "text/xml", "application/rss", "application/atom", "application/pdf")  # fmt: skip

ReadFacts = Callable[[bytes, str, str], Facts]


@dataclass(frozen=True, slots=True)
class Start:
    """Where a survey begins. addresses: of pages; sitemaps: besides those that robots.txt names. usual_sitemaps: look in the usual place, too.

    probes: asked to see how the server answers them, and followed no further.
    """

    addresses: tuple[Address, ...]
    sitemaps: tuple[Address, ...] = ()
    usual_sitemaps: bool = True
    probes: tuple[Address, ...] = ()


def crawl(
    start: Start,
    limits: Limits,
    place: Place,
    manner: Manner,
    read_facts: ReadFacts,
    done: Callable[[Seen], None],
    *,
    own_site: bool = False,
    before: Iterable[Seen] = (),
    meanwhile: Callable[[], None] = lambda: None,
) -> None:
    """Ask for every address that can be reached, calling `done` with what was seen of it, and `meanwhile` again and again.

    own_site: robots.txt and nofollow are no bounds. before: what an earlier crawl saw already, which is not asked for again.
    """
    crawler = _Crawler(limits, place, manner, read_facts, done, own_site=own_site)
    crawler.begin(start, list(before))
    crawler.exchange.run(meanwhile=meanwhile)


class _Crawler:
    def __init__(
        self,
        limits: Limits,
        place: Place,
        manner: Manner,
        read_facts: ReadFacts,
        done: Callable[[Seen], None],
        *,
        own_site: bool,
    ) -> None:
        self.exchange = Exchange(manner)
        self.frontier = Frontier(limits)
        self.place, self.read_facts, self.done, self.own_site = place, read_facts, done, own_site
        self.agent = manner.agent
        self.queue: deque[tuple[Address, int, str, bool]] = deque()
        self.robots: dict[str, Protego | None] = {}
        self.waiting: dict[str, list[tuple[Address, int, str, bool]]] = defaultdict(list)

    def begin(self, start: Start, before: list[Seen]) -> None:
        """Queue the starts, and what pages seen before lead to."""
        for seen in before:
            self.frontier.known.add(seen.url)
            self.frontier.accepted += not seen.reason
        for origin in dict.fromkeys(a.origin for a in start.addresses):
            for sitemap in (parse_address(f"{origin}/sitemap.xml"),) if start.usual_sitemaps else ():
                self._found(sitemap, 0, "", page=True)
        for address in (*start.addresses, *start.sitemaps):
            self._found(address, 0, "", page=True)
        for address in start.probes:
            if address.without_fragment not in self.frontier.known:
                self.queue.append((address, 0, PROBE, True))
        for seen in before:
            self._follow(seen)
        self._top_up()

    def _found(self, address: Address, depth: int, via: str, *, page: bool) -> None:
        address = self.frontier.settled(address)
        reason = self.frontier.take(address, depth)
        if reason == "":
            self.queue.append((address, depth, via, page))
        elif reason is not None and reason != OFF_SITE:
            self.done(Seen(address.without_fragment, reason=reason, via=via, depth=depth))

    def _top_up(self) -> None:
        while self.queue and self.exchange.has_room():
            self._ask(*self.queue.popleft())

    def _ask(self, address: Address, depth: int, via: str, page: bool) -> None:
        origin = address.origin
        if not self.own_site:
            if origin not in self.robots:
                first = origin not in self.waiting
                self.waiting[origin].append((address, depth, via, page))
                if first:
                    self.exchange.submit(
                        Request(self.place.origin(address), "/robots.txt", partial(self._read_robots, origin))
                    )
                return
            rules = self.robots[origin]
            if rules is not None and not rules.can_fetch(address.text, self.agent):
                self.done(Seen(address.without_fragment, reason=ROBOTS, via=via, depth=depth))
                return
        answered = partial(self._answered, address, depth, via)
        self.exchange.submit(Request(self.place.origin(address), address.target, answered, head=not page))

    def _read_robots(self, origin: str, response: Response) -> None:
        """Take up a robots.txt (RFC 9309): without one all may be asked, with a server in trouble nothing may."""
        if response.status >= 500 or not response.status:
            self.robots[origin] = Protego.parse("User-agent: *\nDisallow: /")
        elif response.status == 200:
            rules = self.robots[origin] = Protego.parse(response.body.decode("utf-8", "replace"))
            if delay := rules.crawl_delay(self.agent):
                self.exchange.slow_down(self.place.origin(parse_address(origin)), min(float(delay), _LONGEST_DELAY))
            for text in list(rules.sitemaps)[:100]:
                self._found_text(text, 0, f"{origin}/robots.txt", page=True)
        else:
            self.robots[origin] = None
        for waiting in self.waiting.pop(origin, ()):
            self.queue.append(waiting)
        self._top_up()

    def _answered(self, address: Address, depth: int, via: str, response: Response) -> None:
        url, kind = address.without_fragment, response.header("content-type")
        if response.status in {400, 403, 404, 405, 501} and not response.body and response.head:
            # Some servers answer HEAD in another way than GET.
            self.exchange.submit(
                Request(
                    self.place.origin(address),
                    address.target,
                    partial(self._answered, address, depth, via),
                    want_body=False,
                )
            )
            return
        facts, error = Facts(), response.error or response.note
        if response.status == 200 and kind.partition(";")[0].strip().lower().startswith(_AS_PAGES):
            if response.header("content-encoding") not in {"", "identity"}:
                error = "it is packed, although that was not asked for"
            else:
                facts = self.read_facts(response.body, kind, url)
        location, how = leads_to(response, facts.refresh)
        following, problem = resolve(location, address) if how else (None, "")
        headers = {name: response.headers[name][:500] for name in _KEPT_HEADERS if name in response.headers}
        seen = Seen(
            url, response.status, following.text if following else "", error or problem, "", kind[:100], round(response.seconds, 4),
            len(response.body), headers, via, depth, facts,
        )  # fmt: skip
        self.done(seen)
        if via != PROBE:
            self._follow(seen)
        self._top_up()

    def _follow(self, seen: Seen) -> None:
        """Queue what a page, or a redirect, leads to."""
        if seen.location:
            self._found_text(seen.location, seen.depth + 1, seen.url, page=True)
        if not self.own_site and "nofollow" in f"{seen.facts.robots},{seen.headers.get('x-robots-tag', '')}".lower():
            return
        known, plain = self.frontier.known, not self.frontier.limits.ignored
        for link in seen.facts.links:
            if plain and link.target in known:
                continue
            page = link.kind != RESOURCE or link.target.partition("?")[0].endswith(".css")
            # What sitemaps and other languages name is as near as what a start page links to.
            near = seen.depth if link.kind in {SITEMAP_LINE, HREFLANG} else seen.depth + 1
            self._found(address_of(link.target), near, seen.url, page=page)

    def _found_text(self, text: str, depth: int, via: str, *, page: bool) -> None:
        following, _ = resolve(text, parse_address(via))
        if following is not None:
            self._found(following, depth, via, page=page)
