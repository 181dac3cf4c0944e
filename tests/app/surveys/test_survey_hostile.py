"""Survey against servers that mean harm: pages without end, bombs, addresses elsewhere, hostile
encodings.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from conftest import Program
from upright_ledger.app.collect.surveys.page_reader import page_reader, read_bodies, unpacked
from upright_ledger.core.crawl.frontier import repeats_itself
from upright_ledger.formats.html.content import read_facts

LONG = b"<p>" + b"the oak case of a clock " * 4000


class Hostile(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    asked: list[tuple[str, str]] = []  # noqa: RUF012 - shared on purpose: one server a test

    def do_GET(self) -> None:
        self.asked.append((self.headers["Host"], self.path))
        path, _, query = self.path.partition("?")
        kind, status, body, headers = "text/html", 200, b"<title>Page</title>", {}
        if path == "/":
            names = [
                "endless/",
                "bomb.xml",
                "deep/",
                "base/",
                "utf7/",
                "many/",
                "packed/",
                "maze/",
                "null/",
                "header/",
                "nest/",
            ]
            body = "".join(f'<a href="/{name}">{name}</a>' for name in names).encode()
            body += (
                b'<a href="javascript:alert(1)">x</a><a href="http://evil.example/">y</a><a '
                b'href="//evil.example/z">z</a><a href="http://[::1">b</a>'
            )
        elif path == "/robots.txt":
            kind, body = (
                "text/plain",
                (
                    b"User-agent: *\nDisallow: /no/\nSitemap: "
                    b"http://evil.example/sitemap.xml\nSitemap: /bomb.xml\n\xff\xfe"
                ),
            )
        elif path == "/endless/":
            self.endless()
            return
        elif path == "/bomb.xml":
            kind = "application/xml"
            body = (
                b'<!DOCTYPE l [<!ENTITY a "aaaaaaaaaa">'
            ) + b"".join(b'<!ENTITY a%d "%s">' % (n,
                b"&a%s;" % (str(n - 1).encode() if n else b"") * 10) for n in range(1,
                12)) + (
                    b"]><urlset><url><loc>http://localhost/&a11;</loc></url></urlset>"
                )  # fmt: skip
        elif path == "/deep/":
            body = b"<div>" * 200_000 + b'<a href="/after-the-deep/">x</a>'
        elif path == "/base/":
            body = (
                b'<base href="http://evil.example/"><a href="taken/">x</a><a href="/rooted/">y</a>'
            )
        elif path == "/utf7/":
            kind, body = (
                "text/html; charset=utf-7",
                b"+ADw-a href=+ACI-/x+ACI-+AD4-" + bytes(range(256)),
            )
        elif path == "/many/":
            body = b"".join(
                b'<a href="?a=%d&b=%d">x</a>'
                % (n, int(query[2:].partition("&")[0] or 0) if query[:2] == "a=" else 0)
                for n in range(60)
            )
        elif path == "/packed/":
            headers, body = {"Content-Encoding": "gzip"}, b"\x1f\x8b" + b"\0" * 1000
        elif path.startswith("/maze/"):
            status, headers = (
                302,
                {"Location": f"{path}x/" if len(path) < 3000 else "http://evil.example/"},
            )
        elif path == "/null/":
            body = b'<title>a\x00b</title><a href="/n\x00ul/">x</a><a href="/caf\xe9/">y</a>'
        elif path == "/header/":
            headers = {"X-Robots-Tag": "n" * 60_000}
        elif path == "/nest/":
            body = b'<a href="nest/">again</a>' + LONG
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    do_HEAD = do_GET  # noqa: N815 - the name is http.server's

    def endless(self) -> None:
        """A page of a gigabyte, unless the reader has enough of it."""
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(1 << 30))
        self.end_headers()
        sent = 0
        try:
            while sent < 1 << 30:
                sent += self.wfile.write(LONG)
        except OSError:
            self.server.cut = sent  # type: ignore[attr-defined]

    def log_message(self, *_: object) -> None:
        """Say nothing."""


@contextmanager
def hostile() -> Iterator[ThreadingHTTPServer]:
    Hostile.asked.clear()
    server = ThreadingHTTPServer(("127.0.0.1", 0), Hostile)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()


def test_every_trap_ends_and_nothing_is_asked_elsewhere(tmp_path: Path) -> None:
    program = Program(tmp_path)
    with hostile() as server:
        port = server.server_address[1]
        origin = f"http://localhost:{port}"
        program("open", "museum", "--old", "http://www.quillhaven.example", "--new", origin)
        museum = Program(tmp_path / "museum")
        found = museum.json(
            "survey",
            f"{origin}/",
            "--depth",
            "40",
            "--connect",
            f"evil.example:80=127.0.0.1:{port}",
            "--out",
            "all.csv",
            code=None,
        )
    assert {host for host, _ in Hostile.asked} == {f"localhost:{port}"}
    assert 0 < getattr(server, "cut", 0) < 64 << 20
    paths = [path for _, path in Hostile.asked]
    assert sum(path.startswith("/many/?") for path in paths) <= 500
    assert sum(path.startswith("/maze/") for path in paths) <= 45
    assert sum(path.startswith("/nest/") for path in paths) <= 5
    assert len(set(paths)) >= len(paths) - 20
    assert "/rooted/" not in paths
    assert found["counts"]["not asked"] > 0
    text = (museum.folder / "all.csv").read_text()
    assert "\x00" not in text
    assert "Traceback" not in text


def test_bodies_that_are_damaged_are_read_as_far_as_they_go() -> None:
    url = "http://www.quillhaven.example/a/b/"
    for kind in (
        "text/html",
        "application/xml",
        "text/css",
        "application/pdf",
        "application/rss+xml",
        "text/html; charset=nonsense",
    ):
        for body in (
            b"",
            b"\0",
            bytes(range(256)) * 40,
            b"<" * 5000,
            b"%PDF-1.4\n%%EOF",
            b"<a href='" + b"x" * 100_000,
            b"\x1f\x8bnot gzip",
        ):
            assert read_facts(body, kind, url).title == ""
    assert (
        read_facts(b"url(x.png) @import 'y.css';", "text/css", url).links[0].target == f"{url}x.png"
    )
    srcset = (
        b'<img srcset="/a.png 1x, /b.png 2x" src=c.png><a href=" ../up/ ">Up</a><a '
        b'href="#top">t</a>'
    )
    assert [
        link.target.removeprefix("http://www.quillhaven.example")
        for link in read_facts(srcset, "text/html", url).links
    ] == ["/a/b/c.png", "/a.png", "/b.png", "/a/up/"]
    feed = (
        b"<rss><channel><item><link>https://www.quillhaven.example/n/</link><enclosure "
        b'url="/m.mp3"/></item></channel></rss>'
    )
    assert [link.target for link in read_facts(feed, "application/rss+xml", url).links] == [
        "https://www.quillhaven.example/n/",
        "http://www.quillhaven.example/m.mp3",
    ]


def test_paths_that_repeat_themselves_are_known() -> None:
    assert repeats_itself("/a/again/again/again/")
    assert repeats_itself("/x/a/b/a/b/a/b/y")
    assert not repeats_itself("/2026/11/11/10/")
    assert not repeats_itself("/a/b/a/b/")
    assert repeats_itself("/" + "/".join(map(str, range(50))))


def deadly(put: Callable[[object], None], bodies: list[tuple[int, bytes, str, str, bool]]) -> None:
    """Reads bodies, and dies of one."""
    if any(body == b"deadly" for _, body, *_ in bodies):
        os._exit(1)
    read_bodies(put, bodies)


def test_a_page_that_is_the_end_of_its_reader_is_left_unread_and_no_other() -> None:
    told: dict[int, str] = {}
    with page_reader(deadly) as reader:
        for n in range(100):
            body = b"deadly" if n in {20, 70} else f"<title>page {n}</title>".encode()
            url = f"http://www.quillhaven.example/{n}"
            reader.read(
                body,
                "text/html",
                url,
                True,
                lambda read, n=n: told.setdefault(n, unpacked(read.facts).title),
            )
        while reader.waiting:
            reader.collect()
            time.sleep(0.01)
    assert told == {n: "" if n in {20, 70} else f"page {n}" for n in range(100)}
