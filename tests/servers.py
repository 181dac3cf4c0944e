"""Talking to servers byte by byte, as clients do that no library would imitate."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from conftest import NEW
from upright_ledger.demo.faulty_site import FaultySite
from upright_ledger.web.local_nginx import run_nginx


@contextmanager
def nginx_with(rules: Path) -> Iterator[tuple[str, int]]:
    """A real nginx with built rules; all else answers 404. Yields host and port."""

    def http(folder: Path, port: int) -> str:
        return (
            f"include {folder}/redirects.conf;\n"
            f"server {{ listen 127.0.0.1:{port}; include {folder}/server.inc; return 404; }}\n"
            f"server {{ listen 127.0.0.1:{port}; server_name untouched.example; return 204; }}"
        )

    with run_nginx(http, (rules / "redirects.conf", rules / "server.inc")) as address:
        host, _, port = address.removeprefix("http://").partition(":")
        yield host, int(port)


def ask(place: tuple[str, int], host: str, target: str, header: str = "") -> tuple[int, str]:
    """Status and Location for a raw request target; header: one more line of the request."""
    status, headers = ask_headers(place, host, target, header)
    return status, headers.get("location", "")


def ask_headers(place: tuple[str, int], host: str, target: str, header: str = "") -> tuple[int, dict[str, str]]:
    """Status and headers (names in lower case) for a raw request target."""
    with socket.create_connection(place, timeout=10) as connection:
        line = (
            b"GET "
            + target.encode("utf-8", "surrogateescape")
            + b" HTTP/1.1\r\nHost: "
            + host.encode()
            + (f"\r\n{header}".encode() if header else b"")
            + b"\r\nConnection: close\r\n\r\n"
        )
        connection.sendall(line)
        data = b""
        while chunk := connection.recv(65536):
            data += chunk
    head = data.partition(b"\r\n\r\n")[0].decode("latin-1").split("\r\n")
    pairs = (h.partition(": ") for h in head[1:])
    return int(head[0].split()[1]), {name.lower(): value for name, _, value in pairs}


@contextmanager
def serve_pages(pages: dict[str, str], moves: dict[str, str]) -> Iterator[str]:
    """A server of whole pages (path → HTML) and redirects to the new site (path → path); yields its address."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            goal, page = moves.get(self.path), pages.get(self.path, "")
            self.send_response(301 if goal else 200 if page else 404)
            if goal:
                self.send_header("Location", f"{NEW}{goal}")
            self.send_header("Content-Type", "text/html; charset=utf-8")
            self.send_header("Content-Length", str(len(page.encode())))
            self.end_headers()
            self.wfile.write(page.encode())

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def serve_site(site: FaultySite, asked: list[str] | None = None) -> Iterator[str]:
    """A server of a whole site, which learns its origin here; yields that. asked: takes the targets of requests."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            if asked is not None:
                asked.append(self.path)
            found = site.answer(self.path)
            body = found.body.encode()
            self.send_response(found.status)
            if found.location:
                self.send_header("Location", found.location)
            self.send_header("Content-Type", found.content_type)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(body)

        do_HEAD = do_GET  # noqa: N815 - the name is http.server's

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    server = ThreadingHTTPServer(("127.0.0.1", int(site.origin.rpartition(":")[2])), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield site.origin
    finally:
        server.shutdown()
        server.server_close()
