"""A small local server: answers by a function. It serves a rule set where no real server is at hand."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

Respond = Callable[[str, str], tuple[int, str, str]]
"""(host, request target) → status, Location, page title; empty texts where there is none."""


@contextmanager
def serve(respond: Respond) -> Iterator[str]:
    """Serve on a free local port while the context lasts; yields the address."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            status, location, title = respond(self.headers.get("Host", ""), self.path)
            body = f"<!doctype html><title>{_escape(title)}</title>".encode()
            self.send_response(status)
            if location:
                self.send_header("Location", location)
            self.send_header("Content-Type", "text/html; charset=utf-8")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(body)

        do_HEAD = do_GET  # noqa: N815 - the name is http.server's

        def log_message(self, *_: object) -> None:
            """Stay silent: the client records every hop."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


def _escape(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;")
