"""Tracing over HTTP: production addresses, asked at another place, every hop recorded."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import aiohttp
from yarl import URL

from upright_ledger.core.addresses import Address, NotAnAddressError, parse_address
from upright_ledger.core.verdicts import MAX_HOPS, REDIRECTS, Hop, Page, Trace, what_changed
from upright_ledger.errors import InputError

BODY_BYTES = 65536
SECONDS_A_REQUEST = 20
CONCURRENT = 16
RETRIES = 1

ReadPage = Callable[[bytes, str, str], Page]


@dataclass(frozen=True, slots=True)
class Place:
    """Where requests are sent: the scheme and address that stand in for every host of the move."""

    address: Address
    hosts: frozenset[str]


def trace_all(
    addresses: Iterable[Address],
    place: Place,
    read_page: ReadPage,
    done: Callable[[int, Trace], None],
    *,
    concurrent: int = CONCURRENT,
) -> None:
    """Trace every address, calling `done` with its number and trace as each one ends.

    Raises InputError when nothing answers at the place at all.
    """
    asyncio.run(_trace_all(list(addresses), place, read_page, done, concurrent))


async def _trace_all(
    addresses: list[Address], place: Place, read_page: ReadPage, done: Callable[[int, Trace], None], concurrent: int
) -> None:
    limits = aiohttp.ClientTimeout(total=SECONDS_A_REQUEST)
    headers = {"User-Agent": "upright-ledger (redirect check)", "Accept-Encoding": "identity"}
    connector = aiohttp.TCPConnector(limit=concurrent, ttl_dns_cache=300)
    waiting = iter(enumerate(addresses))
    jar = aiohttp.DummyCookieJar()
    async with aiohttp.ClientSession(
        timeout=limits, headers=headers, connector=connector, cookie_jar=jar, auto_decompress=False
    ) as session:
        await _knock(session, place)

        async def work() -> None:
            for number, address in waiting:
                done(number, await _trace(session, address, place, read_page))

        await asyncio.gather(*(work() for _ in range(concurrent)))


async def _knock(session: aiohttp.ClientSession, place: Place) -> None:
    """Make sure that something listens, so that a wrong address is one sentence and not thousands of verdicts.

    A server that listens and answers nonsense is one to be traced.
    """
    try:
        async with session.head(place.address.origin + "/", allow_redirects=False):
            return
    except aiohttp.ClientConnectorError as error:
        reason = error.strerror or str(error)
        raise InputError(
            f"nothing answers at {place.address.origin}: {reason}", "check the address and that the server runs"
        ) from None
    except (aiohttp.ClientError, OSError, TimeoutError):
        return


@dataclass(frozen=True, slots=True)
class _Response:
    status: int
    location: str
    body: bytes
    kind: str
    robots: str
    seconds: float
    error: str = ""


async def _trace(session: aiohttp.ClientSession, start: Address, place: Place, read_page: ReadPage) -> Trace:
    hops: list[Hop] = []
    address = start
    seen = {start.without_fragment}
    while len(hops) <= MAX_HOPS:
        response = await _ask(session, address, place)
        here = address.without_fragment
        if response.status not in REDIRECTS:
            hops.append(Hop(here, response.status, seconds=response.seconds, error=response.error))
            page = read_page(response.body, response.kind, response.robots) if response.status == 200 else Page()
            return Trace(start.without_fragment, tuple(hops), address.text, response.status, page)
        following, error = _resolve(response.location, address)
        if following is None:
            hops.append(Hop(here, 0, response.location, seconds=response.seconds, error=error))
            return Trace(start.without_fragment, tuple(hops), here, 0)
        changed = what_changed(address.text, following.text)
        hops.append(Hop(here, response.status, response.location, following.text, changed, response.seconds))
        address = following
        if address.without_fragment in seen:
            return Trace(start.without_fragment, tuple(hops), address.text, 0, loops=True)
        if address.authority not in place.hosts:
            # Somebody else's server: where it leads is known, and it is not ours to ask.
            return Trace(start.without_fragment, tuple(hops), address.text, 0)
        seen.add(address.without_fragment)
    return Trace(start.without_fragment, tuple(hops), address.text, 0, loops=True)


def _resolve(location: str, base: Address) -> tuple[Address | None, str]:
    """Where a Location leads, or why it leads nowhere."""
    if not location:
        return None, "a redirect without a Location"
    try:
        return parse_address(location, base.text), ""
    except NotAnAddressError as error:
        return None, f"its Location cannot be followed: {error}"


async def _ask(session: aiohttp.ClientSession, address: Address, place: Place) -> _Response:
    """One request for a production address at the place that stands in for it; retried once when the connection fails."""
    at = place.address
    url = URL(f"{at.origin}{address.target}", encoded=True)
    error = ""
    for _ in range(RETRIES + 1):
        began = time.monotonic()
        try:
            async with session.get(url, headers={"Host": address.authority}, allow_redirects=False) as response:
                body = await _first_bytes(response) if response.status == 200 else b""
                return _Response(
                    response.status,
                    _location(response),
                    body,
                    response.headers.get("Content-Type", ""),
                    response.headers.get("X-Robots-Tag", ""),
                    time.monotonic() - began,
                )
        except TimeoutError:
            error = f"no answer within {SECONDS_A_REQUEST} seconds"
            break
        except (aiohttp.ClientError, OSError, ValueError) as failure:
            error = str(failure) or type(failure).__name__
    return _Response(0, "", b"", "", "", time.monotonic() - began, error)


def _location(response: aiohttp.ClientResponse) -> str:
    """The Location as sent; raw bytes in it are kept as the characters a browser would take them for."""
    for name, value in response.raw_headers:
        if name.lower() == b"location":
            return value.decode("utf-8", "replace").strip()
    return ""


async def _first_bytes(response: aiohttp.ClientResponse) -> bytes:
    """The body as far as its head reaches; more is not read."""
    if "html" not in response.headers.get("Content-Type", "html"):
        return b""
    found = b""
    while len(found) < BODY_BYTES:
        chunk = await response.content.read(BODY_BYTES - len(found))
        if not chunk:
            break
        found += chunk
    return found
