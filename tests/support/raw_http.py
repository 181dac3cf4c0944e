"""Talking to servers byte by byte, as clients do that no library would imitate."""

from __future__ import annotations

import socket
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from conftest import NEW
from upright_ledger.demo.faulty_site import FaultySite
from upright_ledger.web.local.real_nginx import run_nginx
from upright_ledger.web.local.stand_in import Served, serve_whole


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


def ask_headers(
    place: tuple[str, int], host: str, target: str, header: str = ""
) -> tuple[int, dict[str, str]]:
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
    """A server of whole pages (path → HTML) and redirects to the new site (path → path); yields its
    address.
    """

    def respond(_: str, target: str) -> Served:
        if target in moves:
            return Served(301, "", f"{NEW}{moves[target]}")
        return Served(200 if target in pages else 404, pages.get(target, ""))

    with serve_whole(respond) as address:
        yield address


@contextmanager
def serve_site(site: FaultySite, asked: list[str] | None = None) -> Iterator[str]:
    """A server of a whole site at its origin; yields that. asked: takes the targets of requests."""

    def respond(_: str, target: str) -> Served:
        if asked is not None:
            asked.append(target)
        return site.answer(target)

    with serve_whole(respond, int(site.origin.rpartition(":")[2])):
        yield site.origin
