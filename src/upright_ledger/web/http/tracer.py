"""Tracing over HTTP: production addresses, asked where they are or at another place, every hop
recorded.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from itertools import chain

from upright_ledger.core.tracing.trace import MAX_HOPS, REDIRECTS, Hop, Page, Trace
from upright_ledger.core.url.address import Address, NotAnAddressError, followed
from upright_ledger.core.url.difference import changed_between
from upright_ledger.errors import InputError
from upright_ledger.web.http.client import HttpClient
from upright_ledger.web.http.options import EVERYWHERE, RequestOptions
from upright_ledger.web.http.received import Response
from upright_ledger.web.http.transport import CurlTransport, OpenTransport, Request

_REFRESH = re.compile(
    r"\s*([0-9]+(?:\.[0-9]*)?)\s*(?:[;,]\s*(?:url\s*=\s*)?[\"']?(.*?)[\"']?\s*)?\Z",
    re.IGNORECASE | re.DOTALL,
)
MOST_SECONDS_OF_A_REFRESH = 10
"""A page that changes to another one later than this is a page."""

_CACHE_HEADERS = ("cache-control", "age", "expires", "x-cache", "cf-cache-status", "via", "vary")

ReadPage = Callable[[bytes, str, str], Page]


@dataclass(frozen=True, slots=True)
class Target:
    """Where requests are sent. at: the scheme and address that stand in for every host, or None for
    the hosts themselves.

    hosts: those that may be asked; others are somebody else's. index_files: their names, by which
    hops tell what they change.
    """

    hosts: frozenset[str]
    at: Address | None = None
    index_files: frozenset[str] = frozenset()

    def origin(self, address: Address) -> str:
        """The origin under which an address is asked: its own, but for the scheme of a place that
        stands in for it.
        """
        return address.origin if self.at is None else f"{self.at.scheme}://{address.authority}"

    @property
    def name(self) -> str:
        """The place in words."""
        return self.at.origin if self.at else "the hosts themselves"


def trace_all(
    addresses: Iterable[tuple[int, Address]],
    place: Target,
    manner: RequestOptions,
    read_page: ReadPage,
    done: Callable[[int, Trace], None],
    meanwhile: Callable[[], None] = lambda: None,
    ending: Callable[[], bool] = lambda: False,
    *,
    transport: OpenTransport = CurlTransport,
) -> None:
    """Trace every numbered address, calling `done` with its number and trace as each one ends, and
    `meanwhile` again and again. ending: whether no more of them is to be begun.

    Raises InputError where nothing answers at a place that stands in for the hosts.
    """
    at = place.at
    coming = iter(addresses)
    first = next(coming, None)
    if first is None:
        return
    if at is not None:
        port = at.port or ("443" if at.scheme == "https" else "80")
        host = f"[{at.host}]" if ":" in at.host and not at.host.startswith("[") else at.host
        own = manner.own or frozenset(
            {EVERYWHERE}
        )  # whatever the name, it is the one place that is asked
        manner = replace(manner, connect=(*manner.connect, ("", "", host, port)), own=own)
        _knock(place, place.origin(first[1]), manner, transport)
    exchange = HttpClient(manner, transport(manner))

    def start(number: int, address: Address) -> Request:
        return _Tracer(exchange, address, place, read_page, lambda trace: done(number, trace)).ask()

    requests = (start(number, address) for number, address in chain((first,), coming))
    exchange.run(requests, meanwhile, ending=ending)


def _knock(place: Target, origin: str, manner: RequestOptions, transport: OpenTransport) -> None:
    """Make sure that something listens, so that a wrong address is one sentence and not thousands
    of verdicts.

    A server that listens and answers nonsense is one to be traced.
    """
    told: list[Response] = []
    once = replace(manner, retries=0)
    exchange = HttpClient(once, transport(once))
    exchange.submit(Request(origin, "/", told.append, want_body=False))
    exchange.run()
    if told[0].error == "nothing listens there" or "not known to DNS" in told[0].error:
        raise InputError(
            f"nothing answers at {place.name}: {told[0].error}",
            "check the address and that the server runs",
        )
    if "certificate" in told[0].error and not manner.insecure:
        raise InputError(
            f"{place.name} cannot be trusted: {told[0].error}",
            "name its certificate authority with --ca FILE, or say --insecure",
        )


class _Tracer:
    """One address on its way, hop by hop."""

    def __init__(
        self,
        exchange: HttpClient,
        start: Address,
        place: Target,
        read_page: ReadPage,
        done: Callable[[Trace], None],
    ) -> None:
        self.exchange, self.place, self.read_page, self.done = exchange, place, read_page, done
        self.start = self.address = start
        self.hops: list[Hop] = []
        self.seen = {start.without_fragment}

    def ask(self) -> Request:
        """The request for where it is now."""
        origin = self.place.origin(self.address)
        return Request(origin, self.address.target, self.answered, further=bool(self.hops))

    def answered(self, response: Response) -> None:
        """Go on from a response, or end."""
        address = self.address
        here = address.without_fragment
        page = Page()
        if response.status == 200:
            page = self.read_page(
                response.body, response.header("content-type"), response.header("x-robots-tag")
            )
        location, how = leads_to(response, page.refresh)
        cache = "; ".join(
            [
                f"{name}: {response.headers[name]}"
                for name in _CACHE_HEADERS
                if name in response.headers
            ]
        )[:500]
        seconds, error = response.seconds, response.error or response.note
        if not how:
            self.end(
                Hop(here, response.status, location, "", (), seconds, error, cache, how),
                response.status,
                page,
            )
            return
        following, reason = resolve(location, address)
        if following is None:
            self.end(Hop(here, 0, location, "", (), seconds, reason, cache, how), 0, page)
            return
        changed = changed_between(address, following, self.place.index_files)
        self.hops.append(
            Hop(
                here, response.status, location, following.text, changed, seconds, error, cache, how
            )
        )
        self.address = following
        goal = following.without_fragment
        if goal in self.seen or len(self.hops) > MAX_HOPS:
            self.done(
                Trace(self.start.without_fragment, tuple(self.hops), following.text, 0, loops=True)
            )
        elif following.authority not in self.place.hosts:
            # Somebody else's server: where it leads is known, and it is not ours to ask.
            self.done(Trace(self.start.without_fragment, tuple(self.hops), following.text, 0))
        else:
            self.seen.add(goal)
            self.exchange.submit(self.ask())

    def end(self, hop: Hop, status: int, page: Page) -> None:
        """Nothing follows on this hop."""
        self.hops.append(hop)
        self.done(
            Trace(self.start.without_fragment, tuple(self.hops), self.address.text, status, page)
        )


def leads_to(response: Response, refresh: str) -> tuple[str, str]:
    """Where a response sends a browser, as it says so, and by what: "redirect", "refresh" (header,
    or of the page) or nothing.
    """
    if response.status in REDIRECTS:
        return response.header("location").strip(), "redirect"
    for text in (response.header("refresh"), refresh) if response.status == 200 else ():
        match = _REFRESH.match(text)
        if match and match[2] and float(match[1]) <= MOST_SECONDS_OF_A_REFRESH:
            return match[2].strip(), "refresh"
    return "", ""


def resolve(location: str, base: Address) -> tuple[Address | None, str]:
    """Where a Location leads, or why it leads nowhere."""
    if not location:
        return None, "a redirect without a Location"
    try:
        return followed(location, base), ""
    except NotAnAddressError as error:
        return None, f"its Location cannot be followed: {error}"
