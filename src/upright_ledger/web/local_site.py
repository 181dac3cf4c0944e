"""A site on this machine for a browser: each host of the move on a port of its own, answered by a function."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from upright_ledger.errors import InputError


@dataclass(frozen=True, slots=True)
class Reply:
    """What a browser gets. location: empty where it is no redirect; page: HTML in UTF-8."""

    status: int
    location: str
    page: str


Respond = Callable[[str, str], Reply]
"""(origin that a port stands for, request target) → what the browser gets."""

_POLICY = "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'"  # nothing is run, nothing is fetched


def serve_locally(origins: Sequence[str], first_port: int, respond: Respond, started: Callable[[], None]) -> None:
    """Serve each origin on 127.0.0.1, from a first port upwards, until Ctrl-C. `started` is called once all listen.

    Raises InputError where a port is taken.
    """
    servers = []
    try:
        for port, origin in enumerate(origins, first_port):
            try:
                servers.append(ThreadingHTTPServer(("127.0.0.1", port), _handler(origin, respond)))
            except OSError as error:
                raise InputError(
                    f"port {port} cannot be used: {error.strerror or error}", "choose others with --port"
                ) from None
        for server in servers:
            server.daemon_threads = True
            threading.Thread(target=server.serve_forever, daemon=True).start()
        started()
        threading.Event().wait()
    except KeyboardInterrupt:
        return
    finally:
        for server in servers:
            server.server_close()


def _handler(origin: str, respond: Respond) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        timeout = 30

        def do_GET(self) -> None:
            reply = respond(origin, self.path)
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

        do_HEAD = do_POST = do_GET  # noqa: N815 - the names are http.server's

        def log_message(self, *_: object) -> None:
            """Stay silent: the page says what was answered."""

    return Handler
