"""Replay over TLS: another address for a host, its own name in TLS and Host, and certificates that are no good."""

from __future__ import annotations

import csv
import http.server
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import trustme

from conftest import NEW, Program
from upright_ledger.web.standin import serve

HOST = "www.quillhaven.example"
CERTIFICATES = trustme.CA()


@contextmanager
def tls_server(*names: str, expired: bool = False) -> Iterator[tuple[int, list[str], list[str]]]:
    """A server with a certificate for some names; yields its port, the names that TLS asked for, and the hosts of requests."""
    before = datetime.now(UTC) - timedelta(days=1)
    cert = CERTIFICATES.issue_cert(*names, **({"not_after": before} if expired else {}))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    cert.configure_cert(context)
    asked: list[str] = []
    hosts: list[str] = []

    def note(_socket: ssl.SSLObject, name: str | None, _context: ssl.SSLContext) -> None:
        asked.append(name or "")

    context.sni_callback = note

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            hosts.append(self.headers["Host"])
            authorized = self.headers.get("Authorization") == "Basic c3RhZ2luZzpzZWNyZXQ="  # staging:secret
            moved = self.path == "/old.html"
            self.send_response(401 if self.path == "/inside" and not authorized else 301 if moved else 200)
            if moved:
                self.send_header("Location", f"{NEW}/new/")
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None: ...

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield server.server_address[1], asked, hosts
    finally:
        server.shutdown()
        server.server_close()


@pytest.fixture
def asking(museum: Program) -> Program:
    CERTIFICATES.cert_pem.write_to_path(str(museum.folder / "ca.pem"))
    museum.write("urls.txt", f"{NEW}/old.html\n")
    return museum


def verdicts(program: Program, *options: object) -> list[tuple[str, str, str]]:
    program("replay", "urls.txt", *options, "--out", "rows.csv", code=None)
    with Path(program.folder / "rows.csv").open() as file:
        return [(r["verdict"], r["final_url"], r["detail"]) for r in csv.DictReader(file)]


def test_a_host_is_asked_elsewhere_with_its_own_name(asking: Program) -> None:
    with tls_server(HOST) as (port, asked, hosts):
        told = verdicts(asking, "--connect", f"{HOST}=127.0.0.1:{port}", "--ca", "ca.pem")
        assert told == [("ok", f"{NEW}/new/", "")]
        assert (set(asked), set(hosts)) == ({HOST}, {HOST})
        assert verdicts(asking, "--at", f"https://127.0.0.1:{port}", "--insecure") == told


def test_every_scheme_host_and_slash_ends_at_the_canonical_origin(asking: Program) -> None:
    asking("decide", "/old.html", "--to", "/new/")

    def settled(host: str, target: str) -> tuple[int, str, str]:
        return 301, f"{NEW}{'/new/' if target.startswith('/new') else target}", ""

    with serve(settled) as plain, tls_server(HOST, HOST.removeprefix("www.")) as (port, _, _):
        connect = []
        for host in (HOST, HOST.removeprefix("www.")):
            connect += [
                "--connect",
                f"{host}:80={plain.removeprefix('http://')}",
                "--connect",
                f"{host}:443=127.0.0.1:{port}",
            ]
        found = asking.json("replay", "--matrix", *connect, "--ca", "ca.pem", "--out", "rows.csv", code=1)
    wrong = {r["url"]: r["verdict"] for r in found["rows"]}
    # The TLS server answers without www, and without the slash, as if that were canonical.
    assert wrong == {
        "https://quillhaven.example/": "not-moved",
        f"{NEW}/new": "not-moved",
        "https://quillhaven.example/new": "not-moved",
        "https://quillhaven.example/new/": "not-moved",
    }
    assert found["counts"]["ok"] == 8


def test_certificates_that_are_no_good_are_said(asking: Program) -> None:
    with tls_server("elsewhere.example") as (port, _, hosts):
        verdict, _, why = verdicts(asking, "--connect", f"{HOST}=127.0.0.1:{port}", "--ca", "ca.pem")[0]
        assert (verdict, "certificate" in why) == ("unreachable", True)
        assert hosts == []
    with tls_server(HOST, expired=True) as (port, _, _):
        verdict, _, why = verdicts(asking, "--connect", f"{HOST}=127.0.0.1:{port}", "--ca", "ca.pem")[0]
        assert (verdict, "expired" in why) == ("unreachable", True)
        assert (
            "--insecure"
            in asking("replay", "urls.txt", "--at", f"https://127.0.0.1:{port}", "--ca", "ca.pem", code=3).err
        )


def test_a_staging_server_may_ask_for_a_password(asking: Program) -> None:
    asking.write("urls.txt", f"{NEW}/inside\n")
    with tls_server(HOST) as (port, _, _):
        at = ["--at", f"https://127.0.0.1:{port}", "--insecure", "--out", "rows.csv"]
        assert asking.json("replay", "urls.txt", *at, code=1)["counts"] == {"blocked": 1}
        asking("replay", "urls.txt", *at, UPRIGHT_HTTP_LOGIN="staging:secret")
    assert "cannot be read" in asking("replay", "urls.txt", "--connect", "x", code=2).err
    assert "names no header" in asking("replay", "urls.txt", "--header", "x", code=2).err
