"""A small local server: answers by a function. It serves a rule set, or a whole site, where no real
server is at hand.
"""

from __future__ import annotations

import ssl
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from html import escape
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import NamedTuple


class Served(NamedTuple):
    """What is answered to one request. location: empty without a redirect; headers: further
    ones.
    """

    status: int
    body: str = ""
    location: str = ""
    content_type: str = "text/html; charset=utf-8"
    headers: tuple[tuple[str, str], ...] = ()


Respond = Callable[[str, str], tuple[int, str, str]]
"""(host, request target) → status, Location, page title; empty texts where there is none."""


@contextmanager
def serve(respond: Respond) -> Iterator[str]:
    """Serve pages that hold nothing but a title, on a free local port while the context lasts;
    yields the address.
    """

    def titled(host: str, target: str) -> Served:
        status, location, title = respond(host, target)
        return Served(status, f"<!doctype html><title>{escape(title)}</title>", location)

    with serve_whole(titled) as address:
        yield address


@contextmanager
def serve_whole(
    respond: Callable[[str, str], Served], port: int = 0, tls: ssl.SSLContext | None = None
) -> Iterator[str]:
    """Serve whole answers, on a local port, or a free one, while the context lasts; yields the
    address. tls: with a certificate, to speak it.
    """

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            found = respond(self.headers.get("Host", ""), self.path)
            body = found.body.encode()
            self.send_response(found.status)
            if found.location:
                self.send_header("Location", found.location)
            for name, value in found.headers:
                self.send_header(name, value)
            self.send_header("Content-Type", found.content_type)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(body)

        do_HEAD = do_GET  # noqa: N815 - the name is http.server's

        def do_POST(self) -> None:
            self.rfile.read(int(self.headers.get("Content-Length", 0)))
            self.do_GET()

        def log_message(self, *_: object) -> None:
            """Stay silent: the client records every hop."""

    server = _Quiet(("127.0.0.1", port), Handler)
    if tls is not None:
        server.socket = tls.wrap_socket(
            server.socket, server_side=True, do_handshake_on_connect=False
        )
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"{'https' if tls else 'http'}://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


class _Quiet(ThreadingHTTPServer):
    daemon_threads = True

    def handle_error(self, *_: object) -> None:
        """A client that leaves early is no fault."""
