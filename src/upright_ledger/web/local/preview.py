"""A site on this machine for a browser: each host of the move on a port of its own, answered by a
function.
"""

from __future__ import annotations

import re
import sys
import threading
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from upright_ledger.errors import InputError


@dataclass(frozen=True, slots=True)
class Reply:
    """What a browser gets. location: empty where it is no redirect; page: HTML in UTF-8."""

    status: int
    location: str
    page: str


Respond = Callable[[str, str], Reply]
"""(origin that a port stands for, request target) → what the browser gets."""

# nothing is run, nothing is fetched
_POLICY = "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'"


_OWN_NAMES = frozenset(["127.0.0.1", "localhost", "[::1]"])
MOST_BODY = 1 << 20
"""Bytes of a form that are read; of a longer one none is."""


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    request_queue_size = 1024

    def handle_error(self, *where: Any) -> None:
        """Say what went wrong, unless a client left before it had its answer."""
        if not isinstance(sys.exception(), OSError):
            super().handle_error(*where)


def serve_locally(
    origins: Sequence[str],
    first_port: int,
    respond: Respond,
    started: Callable[[], None],
    hosts: Collection[str] = (),
) -> None:
    """Serve each origin on 127.0.0.1, from a first port upwards, until Ctrl-C. `started` is called
    once all listen. hosts: by which a browser may ask, besides the names of this machine: a page
    elsewhere that makes its own name lead here is answered nothing.

    Raises InputError where a port is taken.
    """
    servers = []
    try:
        for port, origin in enumerate(origins, first_port):
            try:
                servers.append(
                    _Server(("127.0.0.1", port), _handler(origin, respond, {*_OWN_NAMES, *hosts}))
                )
            except OSError as error:
                raise InputError(
                    f"port {port} cannot be used: {error.strerror or error}",
                    "choose others with --port",
                ) from None
        for server in servers:
            threading.Thread(target=server.serve_forever, daemon=True).start()
        started()
        threading.Event().wait()
    except KeyboardInterrupt:
        return
    finally:
        for server in servers:
            server.server_close()


def _handler(origin: str, respond: Respond, names: Collection[str]) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        timeout = 30

        def do_GET(self) -> None:
            host = re.sub(r":\d+$", "", self.headers.get("Host", "").lower())
            if host not in names:
                self.close_connection = True
                self._send(
                    Reply(
                        421,
                        "",
                        "<!doctype html><title>Not here</title><p>This site is asked by another "
                        "name.",
                    )
                )
                return
            self._send(respond(origin, self.path))

        def do_POST(self) -> None:
            length = self.headers.get("Content-Length", "0")
            if (
                not (length.isascii() and length.isdigit() and int(length) <= MOST_BODY)
                or "Transfer-Encoding" in self.headers
            ):
                self.close_connection = True  # what follows is no request
            else:
                self.rfile.read(int(length))
            self.do_GET()

        def _send(self, reply: Reply) -> None:
            body = reply.page.encode("utf-8", "replace")
            self.send_response(reply.status)
            if reply.location:
                self.send_header("Location", reply.location)
            self.send_header("Content-Type", "text/html; charset=utf-8")
            self.send_header("Content-Length", str(len(body)))
            self.send_header("Content-Security-Policy", _POLICY)
            self.send_header("Cache-Control", "no-store")
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(body)

        do_HEAD = do_GET  # noqa: N815 - the name is http.server's

        def log_message(self, *_: object) -> None:
            """Stay silent: the page says what was answered."""

    return Handler
