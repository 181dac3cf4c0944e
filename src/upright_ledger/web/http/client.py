"""Requests over HTTP, many at a time: what is asked goes where it should, within its time and size,
politely.

libcurl does the asking. Nothing is followed, no proxy or cookie plays a part, and what a server
sends is bounded.
"""

from __future__ import annotations

import heapq
import math
import time
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from email.utils import parsedate_to_datetime
from itertools import count

import pycurl

from upright_ledger.errors import InputError
from upright_ledger.web.http.guard import public_socket
from upright_ledger.web.http.interrupts import SECONDS_TO_END, interrupts
from upright_ledger.web.http.options import RequestOptions, host_part
from upright_ledger.web.http.received import Received, Response

MOST_AT_ONCE = 64
LONGEST_WAIT = 60.0  # seconds that a server may ask us to wait
_MANY_HOSTS = 256  # from which on those that are done with are let go
_SHORT = 0.002  # seconds between looks at what is under way elsewhere
_TRANSIENT = frozenset(
    [
        pycurl.E_COULDNT_CONNECT,
        pycurl.E_GOT_NOTHING,
        pycurl.E_RECV_ERROR,
        pycurl.E_SEND_ERROR,
        pycurl.E_PARTIAL_FILE,
    ]
)


@dataclass(slots=True)
class Request:
    """One request. origin: scheme and authority; target: path and query, sent as they stand. done:
    called with the response. head: without body.

    further: it goes on with what an answer began, and is asked even where no more is begun. public:
    an address that somebody else named, so that nothing within this machine's own network is asked,
    unless `RequestOptions.connect` names its host.
    """

    origin: str
    target: str
    done: Callable[[Response], None]
    want_body: bool = True
    head: bool = False
    public: bool = False
    further: bool = False
    tries: int = 0


class HttpClient:
    """Sends requests as others finish. `submit` may be called from within `done`."""

    def __init__(self, manner: RequestOptions) -> None:
        self.manner = manner
        self._multi = pycurl.CurlMulti()
        self._idle: list[pycurl.Curl] = []
        self._active: dict[pycurl.Curl, tuple[Request, Received]] = {}
        self._hosts: dict[str, _Host] = {}
        self._waiting = 0  # requests of all hosts
        self._later: list[tuple[float, int, Request]] = []
        self._order = count()

    def submit(self, request: Request) -> None:
        """Ask when it is this request's turn: what goes on with something comes first, so that
        little is half done.
        """
        waiting = self._host(request).waiting
        if request.further:
            waiting.appendleft(request)
        else:
            waiting.append(request)
        self._waiting += 1

    def run(
        self,
        source: Iterable[Request] = (),
        meanwhile: Callable[[], None] = lambda: None,
        busy: Callable[[], bool] = lambda: False,
        ending: Callable[[], bool] = lambda: False,
    ) -> None:
        """Ask all that was submitted, and all of a source, which is read as far as there is room.
        meanwhile: called every turn. busy: whether something is under way elsewhere that may submit
        more. ending: whether no more is to be begun; what is under way is still waited for, for a
        moment.
        """
        more, coming = True, iter(source)
        until = math.inf
        with interrupts() as interrupted:
            while True:
                if interrupted():
                    raise KeyboardInterrupt
                if ending():
                    more, until = False, min(until, time.monotonic() + SECONDS_TO_END)
                    self._begin_no_more()
                    if time.monotonic() > until:
                        return
                while more and self.has_room():
                    following = next(coming, None)
                    if following is None:
                        more = False
                    else:
                        self.submit(following)
                pause = min(self._start_due(), _SHORT if busy() else 1.0)
                if (
                    not self._active
                    and not more
                    and not self._later
                    and not self._waiting
                    and not busy()
                ):
                    return
                self._turn(pause)
                meanwhile()

    def _begin_no_more(self) -> None:
        """Drop what waits for its turn, but what goes on with something."""
        self._later.clear()
        for host in self._hosts.values():
            host.waiting = deque(request for request in host.waiting if request.further)
        self._waiting = sum(len(host.waiting) for host in self._hosts.values())

    def slow_down(self, origin: str, seconds: float) -> None:
        """Leave as much time between requests to an origin, if that is more than the rate
        leaves.
        """
        host = self._host_of(origin)
        host.gap, host.slowed = seconds, True

    def has_room(self) -> bool:
        """Whether few enough requests wait."""
        return self._waiting + len(self._active) + len(self._later) < 2 * MOST_AT_ONCE

    def _host(self, request: Request) -> _Host:
        return self._host_of(request.origin)

    def _host_of(self, origin: str) -> _Host:
        machine = self.manner.machine(origin)
        host = self._hosts.get(machine)
        if host is None:
            host = self._hosts[machine] = _Host(
                gap=1 / self.manner.rate if self.manner.rate else 0.0
            )
        return host

    def _start_due(self) -> float:
        """Start what may start now; the seconds until something else may."""
        now = time.monotonic()
        while self._later and self._later[0][0] <= now:
            self.submit(heapq.heappop(self._later)[2])
        soonest = self._later[0][0] - now if self._later else 1.0
        for host in self._hosts.values():
            while (
                host.waiting
                and host.active < self.manner.concurrent
                and len(self._active) < MOST_AT_ONCE
            ):
                if host.next_at > now:
                    soonest = min(soonest, host.next_at - now)
                    break
                if host.gap:
                    host.next_at = max(host.next_at, now - host.gap) + host.gap
                host.active += 1
                self._waiting -= 1
                self._start(host.waiting.popleft())
        if len(self._hosts) > _MANY_HOSTS:
            self._hosts = {
                o: h
                for o, h in self._hosts.items()
                if h.waiting or h.active or h.next_at > now or h.slowed
            }
        return max(0.0, min(soonest, 1.0))

    def _start(self, request: Request) -> None:
        curl = self._idle.pop() if self._idle else self._handle()
        received = Received(self.manner.body if request.want_body else 0)
        curl.setopt(pycurl.NOBODY, request.head)
        curl.setopt(pycurl.URL, f"{request.origin}/")
        curl.setopt(pycurl.REQUEST_TARGET, request.target.encode("utf-8", "surrogateescape"))
        self._identify(curl, own=self.manner.is_own(request.origin))
        curl.setopt(pycurl.HEADERFUNCTION, received.header)
        curl.setopt(pycurl.WRITEFUNCTION, received.chunk)
        if request.public and not self._is_sent_elsewhere(request.origin):
            curl.setopt(pycurl.OPENSOCKETFUNCTION, public_socket(received.refuse))
        else:
            curl.unsetopt(pycurl.OPENSOCKETFUNCTION)
        request.tries += 1
        self._active[curl] = (request, received)
        self._multi.add_handle(curl)

    def _is_sent_elsewhere(self, origin: str) -> bool:
        """Whether the user says where the host of an origin is asked."""
        host = host_part(origin).partition("://")[2]
        return bool({name for name, _, _, _ in self.manner.connect} & {host, ""})

    def _handle(self) -> pycurl.Curl:
        m, curl = self.manner, pycurl.Curl()
        curl.setopt(pycurl.NOSIGNAL, 1)
        curl.setopt(pycurl.PROXY, "")
        curl.setopt(pycurl.FOLLOWLOCATION, 0)
        curl.setopt(pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
        curl.setopt(pycurl.HTTP_VERSION, pycurl.CURL_HTTP_VERSION_1_1)
        # Nothing packed is asked for; what comes packed all the same (gzip, br, deflate) is
        # unpacked as far as it is kept.
        curl.setopt(pycurl.ACCEPT_ENCODING, "identity")
        curl.setopt(pycurl.TIMEOUT_MS, int(m.seconds * 1000))
        curl.setopt(pycurl.CONNECTTIMEOUT_MS, int(m.seconds * 500))
        curl.setopt(pycurl.USERAGENT, m.agent.encode())
        if m.connect:
            curl.setopt(pycurl.CONNECT_TO, [":".join(parts) for parts in m.connect])
        if m.ca is not None:
            curl.setopt(pycurl.CAINFO, str(m.ca))
        if m.insecure:
            curl.setopt(pycurl.SSL_VERIFYPEER, 0)
            curl.setopt(pycurl.SSL_VERIFYHOST, 0)
        return curl

    def _identify(self, curl: pycurl.Curl, *, own: bool) -> None:
        """Give a request, or keep from it, what is meant for the own servers alone."""
        m = self.manner
        curl.setopt(pycurl.HTTPHEADER, [b"Accept: */*", *(h.encode() for h in m.headers if own)])
        curl.unsetopt(pycurl.USERPWD)
        curl.setopt(pycurl.NETRC, pycurl.NETRC_IGNORED)
        if own and m.user:
            curl.setopt(pycurl.HTTPAUTH, pycurl.HTTPAUTH_BASIC)
            curl.setopt(pycurl.USERPWD, m.user)
        elif own and m.netrc:
            curl.setopt(pycurl.NETRC, pycurl.NETRC_OPTIONAL)

    def _turn(self, pause: float) -> None:
        """Let libcurl work, and take up what has ended."""
        if self._active:
            _, running = self._multi.perform()
            ended = self._take_up()
            if not ended and running:
                self._multi.select(min(pause, 0.2) or 0.01)
        elif pause:
            time.sleep(pause)

    def _take_up(self) -> int:
        ended = 0
        while True:
            left, good, bad = self._multi.info_read()
            for curl in good:
                self._finish(curl, 0, "")
            for curl, code, text in bad:
                self._finish(curl, code, text)
            ended += len(good) + len(bad)
            if not left:
                return ended

    def _finish(self, curl: pycurl.Curl, code: int, text: str) -> None:
        request, received = self._active.pop(curl)
        self._multi.remove_handle(curl)
        host = self._host(request)
        host.active -= 1
        seconds = float(curl.getinfo(pycurl.TOTAL_TIME))
        self._idle.append(curl)
        response = received.response(seconds, code, text, self.manner.seconds)
        response.head = request.head
        if received.private:
            response.error, request.tries = (
                "its address lies within a private network",
                self.manner.retries + 1,
            )
        if request.tries <= self.manner.retries:
            if response.status in {429, 503}:
                self._back_off(host, request, response)
                return
            if not response.status and code in _TRANSIENT:
                self._again(request, 0.2 * request.tries)
                return
        request.done(response)

    def _back_off(self, host: _Host, request: Request, response: Response) -> None:
        """Ask this host nothing for as long as it says, or ever longer where it does not say."""
        wait = _seconds_to_wait(response.header("retry-after"))
        if wait is not None and wait > LONGEST_WAIT and self.manner.leave:
            raise InputError(
                f"{request.origin} asks to be left alone for {wait:,.0f} seconds",
                "go on after that",
            )
        pause = min(wait if wait is not None else 2.0**request.tries, LONGEST_WAIT)
        host.next_at = max(host.next_at, time.monotonic() + pause)
        self._again(request, pause)

    def _again(self, request: Request, pause: float) -> None:
        heapq.heappush(self._later, (time.monotonic() + pause, next(self._order), request))


@dataclass(slots=True)
class _Host:
    waiting: deque[Request] = field(default_factory=deque)
    active: int = 0
    next_at: float = 0.0
    gap: float = 0.0
    slowed: bool = False  # it asked for its own gap


def _seconds_to_wait(text: str) -> float | None:
    """The seconds that a Retry-After names (RFC 9110, section 10.2.3), or None."""
    if text.isascii() and text.isdigit():
        return float(text)
    try:
        return max(0.0, parsedate_to_datetime(text).timestamp() - time.time())
    except (ValueError, TypeError, OverflowError):
        return None
