"""Requests over HTTP, many at a time: what is asked goes where it should, within its time and size,
politely.
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

from upright_ledger.errors import InputError
from upright_ledger.web.http.interrupts import SECONDS_TO_END, interrupts
from upright_ledger.web.http.options import RequestOptions
from upright_ledger.web.http.received import Response
from upright_ledger.web.http.transport import Answered, CurlTransport, Request, Transport

MOST_AT_ONCE = 64
LONGEST_WAIT = 60.0  # seconds that a server may ask us to wait
_MANY_HOSTS = 256  # from which on those that are done with are let go
_SHORT = 0.002  # seconds between looks at what is under way elsewhere


class HttpClient:
    """Sends requests as others finish. `submit` may be called from within `done`."""

    def __init__(self, manner: RequestOptions, transport: Transport | None = None) -> None:
        """transport: libcurl where none is given."""
        self.manner = manner
        self._transport = transport or CurlTransport(manner)
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
                    not self._transport.active
                    and not more
                    and not self._later
                    and not self._waiting
                    and not busy()
                ):
                    return
                for answered in self._transport.wait(pause):
                    self._finish(answered)
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
        return self._waiting + self._transport.active + len(self._later) < 2 * MOST_AT_ONCE

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
                and self._transport.active < MOST_AT_ONCE
            ):
                if host.next_at > now:
                    soonest = min(soonest, host.next_at - now)
                    break
                if host.gap:
                    host.next_at = max(host.next_at, now - host.gap) + host.gap
                host.active += 1
                self._waiting -= 1
                request = host.waiting.popleft()
                request.tries += 1
                self._transport.start(request)
        if len(self._hosts) > _MANY_HOSTS:
            self._hosts = {
                o: h
                for o, h in self._hosts.items()
                if h.waiting or h.active or h.next_at > now or h.slowed
            }
        return max(0.0, min(soonest, 1.0))

    def _finish(self, answered: Answered) -> None:
        request, response, again, final = answered
        host = self._host(request)
        host.active -= 1
        if request.tries <= self.manner.retries and not final:
            if response.status in {429, 503}:
                self._back_off(host, request, response)
                return
            if again:
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
