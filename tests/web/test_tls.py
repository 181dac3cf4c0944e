"""Replay over TLS: another address for a host, its own name in TLS and Host, and certificates that
are no good.
"""

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
import tomlkit
import trustme

from conftest import NEW, Program, needs_server
from upright_ledger.servers import load_server
from upright_ledger.web.local.real_servers import run_example
from upright_ledger.web.local.stand_in import serve

HOST = "www.quillhaven.example"
CERTIFICATES = trustme.CA()


@contextmanager
def tls_server(*names: str, expired: bool = False) -> Iterator[tuple[int, list[str], list[str]]]:
    """A server with a certificate for some names; yields its port, the names that TLS asked for,
    and the hosts of requests.
    """
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
            authorized = (
                self.headers.get("Authorization") == "Basic c3RhZ2luZzpzZWNyZXQ="
            )  # staging:secret
            moved = self.path == "/old.html"
            self.send_response(
                401 if self.path == "/inside" and not authorized else 301 if moved else 200
            )
            if moved:
                self.send_header("Location", f"{NEW}/new/")
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None: ...

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.socket = context.wrap_socket(
        server.socket, server_side=True, do_handshake_on_connect=False
    )
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
        found = asking.json(
            "replay", "--matrix", *connect, "--ca", "ca.pem", "--out", "rows.csv", code=1
        )
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
        verdict, _, why = verdicts(
            asking, "--connect", f"{HOST}=127.0.0.1:{port}", "--ca", "ca.pem"
        )[0]
        assert (verdict, "certificate" in why) == ("unreachable", True)
        assert hosts == []
    with tls_server(HOST, expired=True) as (port, _, _):
        verdict, _, why = verdicts(
            asking, "--connect", f"{HOST}=127.0.0.1:{port}", "--ca", "ca.pem"
        )[0]
        assert (verdict, "expired" in why) == ("unreachable", True)
        assert (
            "--insecure"
            in asking(
                "replay", "urls.txt", "--at", f"https://127.0.0.1:{port}", "--ca", "ca.pem", code=3
            ).err
        )


def test_a_staging_server_may_ask_for_a_password(asking: Program) -> None:
    asking.write("urls.txt", f"{NEW}/inside\n")
    with tls_server(HOST) as (port, _, _):
        at = ["--at", f"https://127.0.0.1:{port}", "--insecure", "--out", "rows.csv"]
        assert asking.json("replay", "urls.txt", *at, code=1)["counts"] == {"blocked": 1}
        asking("replay", "urls.txt", *at, UPRIGHT_HTTP_LOGIN="staging:secret")
    assert "cannot be read" in asking("replay", "urls.txt", "--connect", "x", code=2).err
    assert "names no header" in asking("replay", "urls.txt", "--header", "x", code=2).err


WITH_TLS = {
    "nginx": ("example/nginx.conf", "listen 127.0.0.1:8080;", (
        "listen 127.0.0.1:8080 ssl; ssl_certificate tls.pem; ssl_certificate_key tls.pem;"
    )),
    "apache": ("example/httpd.conf", "<VirtualHost *>", (
        "LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so\n<VirtualHost *>\nSSLEngine "
        "on\nSSLCertificateFile tls.pem"
    )),
    "haproxy": ("example/haproxy.cfg", "bind 127.0.0.1:8080", (
        "bind 127.0.0.1:8080 ssl crt example/tls.pem"
    )),
}  # fmt: skip
"""What makes a build's example speak TLS: file, what stands there, and what is to stand there."""


@pytest.mark.parametrize("tls", [False, True])
@pytest.mark.parametrize("name", [pytest.param(n, marks=needs_server(n)) for n in WITH_TLS])
def test_real_servers_give_what_was_decided(asking: Program, name: str, tls: bool) -> None:
    settings = asking.folder / "upright.toml"
    document = tomlkit.parse(settings.read_text())
    document["site"][0]["canonical"] = NEW  # type: ignore[index, union-attr]
    document["form"]["scheme"] = "connection"  # type: ignore[index]
    settings.write_text(tomlkit.dumps(document))
    asking(
        "decide", "--from", asking.pairs("/old.html,/new/,301", "/gone,,410", "/later,/soon/,302")
    )
    asking("decide", "/journal/{slug}.html", "--to", "/stories/{slug}/")
    asking("build", "--for", name, "--out", "rules")
    if tls:
        file, stands, wanted = WITH_TLS[name]
        example = asking.folder / "rules" / file
        example.write_text(example.read_text().replace(stands, wanted))
        pem = CERTIFICATES.issue_cert(
            HOST, HOST.removeprefix("www.")
        ).private_key_and_cert_chain_pem.bytes()
        (asking.folder / "rules/example/tls.pem").write_bytes(pem)
    bare = "http://quillhaven.example"
    asking.write(
        "urls.txt",
        f"{bare}/old.html\n{bare}/gone\n{bare}/later\n{bare}/journal/x.html?utm_source=m\n{bare}/"
        f"other?q=1\n{NEW}/here\n",
    )
    with run_example(load_server(name).launch, asking.folder / "rules") as (host, port):
        at = f"{'https' if tls else 'http'}://{host}:{port}"
        asking("replay", "urls.txt", "--at", at, "--ca", "ca.pem", "--hops", "hops.csv", code=1)
    with (asking.folder / "hops.csv").open() as file:
        first = {
            r["trace"]: (r["status"], r["location"])
            for r in csv.DictReader(file)
            if r["hop"] == "1"
        }
    assert first == {
        f"{bare}/old.html": ("301", f"{NEW}/new/"),
        f"{bare}/gone": ("410", ""),
        f"{bare}/later": ("302", f"{NEW}/soon/"),
        f"{bare}/journal/x.html?utm_source=m": ("301", f"{NEW}/stories/x/?utm_source=m"),
        f"{bare}/other?q=1": ("301", f"{NEW}/other?q=1"),
        f"{NEW}/here": ("404", "") if tls else ("301", f"{NEW}/here"),
    }
