"""How requests reach servers: over sockets by libcurl, or otherwise where a test says so."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple, Protocol

import pycurl

from upright_ledger.web.http.guard import public_socket
from upright_ledger.web.http.options import RequestOptions, host_part
from upright_ledger.web.http.received import Received, Response

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


class Answered(NamedTuple):
    """What came of a request. again: it may come right another time. final: it will not."""

    request: Request
    response: Response
    again: bool = False
    final: bool = False


class Transport(Protocol):
    """Sends requests, several at a time, and hands over what comes back."""

    @property
    def active(self) -> int:
        """How many are under way."""

    def start(self, request: Request) -> None:
        """Send a request."""

    def wait(self, seconds: float) -> list[Answered]:
        """What has ended, waiting so long for it at most."""


OpenTransport = Callable[[RequestOptions], Transport]


class CurlTransport:
    """Requests over HTTP by libcurl. Nothing is followed, no proxy or cookie plays a part, and what
    a server sends is bounded.
    """

    def __init__(self, manner: RequestOptions) -> None:
        self.manner = manner
        self._multi = pycurl.CurlMulti()
        self._idle: list[pycurl.Curl] = []
        self._active: dict[pycurl.Curl, tuple[Request, Received]] = {}

    @property
    def active(self) -> int:
        return len(self._active)

    def start(self, request: Request) -> None:
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

    def wait(self, seconds: float) -> list[Answered]:
        if not self._active:
            if seconds:
                time.sleep(seconds)
            return []
        _, running = self._multi.perform()
        ended = self._take_up()
        if not ended and running:
            self._multi.select(min(seconds, 0.2) or 0.01)
        return ended

    def _take_up(self) -> list[Answered]:
        ended = []
        while True:
            left, good, bad = self._multi.info_read()
            ended += [self._answered(curl, 0, "") for curl in good]
            ended += [self._answered(curl, code, text) for curl, code, text in bad]
            if not left:
                return ended

    def _answered(self, curl: pycurl.Curl, code: int, text: str) -> Answered:
        request, received = self._active.pop(curl)
        self._multi.remove_handle(curl)
        seconds = float(curl.getinfo(pycurl.TOTAL_TIME))
        self._idle.append(curl)
        response = received.response(seconds, code, text, self.manner.seconds)
        response.head = request.head
        if received.private:
            response.error = "its address lies within a private network"
        again = not response.status and code in _TRANSIENT
        return Answered(request, response, again, received.private)
