"""The login and the headers for a staging server go there and nowhere else."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from conftest import Program, opened

LOGIN = {"UPRIGHT_HTTP_LOGIN": "staging:S3CRET"}
HEADERS = ("--header", "X-Pass: S3CRET", "--header", "Cookie: visit=S3CRET")
PAGE = "<html><head><title>{0}</title></head><body>{0} {1}</body></html>"


class Counting:
    """A server that notes for each request its host, its target, and whether anything secret came
    with it.
    """

    def __init__(self) -> None:
        self.asked: list[tuple[str, str, bool]] = []
        self.moves: dict[str, str] = {}
        self.links: list[str] = []
        counting = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                secret = "Authorization" in self.headers or "S3CRET" in str(self.headers)
                counting.asked.append((self.headers.get("Host", ""), self.path, secret))
                goal = counting.moves.get(self.path)
                body = PAGE.format(
                    self.path, "".join(f'<a href="{u}">x</a>' for u in counting.links)
                ).encode()
                self.send_response(301 if goal else 404 if self.path == "/robots.txt" else 200)
                if goal:
                    self.send_header("Location", goal)
                self.send_header("Content-Type", "text/html")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body if self.command == "GET" else b"")

            def do_HEAD(self) -> None:
                self.do_GET()

            def log_message(self, *_: object) -> None:
                """Quiet."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.port = self.server.server_address[1]

    def told(self, *, secret: bool) -> set[str]:
        return {host for host, _, with_it in self.asked if with_it is secret}


@contextmanager
def counting() -> Iterator[Counting]:
    found = Counting()
    thread = threading.Thread(target=found.server.serve_forever, daemon=True)
    thread.start()
    try:
        yield found
    finally:
        found.server.shutdown()
        thread.join()


ELSEWHERE = (
    "elsewhere.example",
    "cdn.quillhaven.example",
    "quillhaven.example",
    "www.quillhaven.example:8081",
)


@pytest.mark.parametrize("named", [True, False])
def test_a_survey_gives_strangers_nothing(tmp_path: Path, named: bool) -> None:
    """Linked, linked as an image, redirected to, named by a sitemap: none of these is where the
    survey began.
    """
    with counting() as server:
        origin = f"http://localhost:{server.port}"
        surveyor = opened(tmp_path / "museum", "--old", origin, "--new", origin)
        server.links = [f"http://{host}/x" for host in ELSEWHERE] + ["/away", "/page"]
        server.moves = {"/away": f"http://{ELSEWHERE[0]}/landed"}
        connect = [part for host in ELSEWHERE for part in ("--connect", (
            f"{host.partition(':')[0]}{'' if ':' not in host else ':8081'}=127.0.0.1:{server.port}"
        ))]  # fmt: skip
        own = [
            "--login-for",
            origin,
        ]  # the others are named by --connect, which alone would make them own places, too
        found = surveyor(
            "survey", f"{origin}/", "--external", *connect, *own, *HEADERS, code=None, **LOGIN
        )
        assert server.told(secret=True) == {f"localhost:{server.port}"}
        assert {"elsewhere.example", "cdn.quillhaven.example"} <= server.told(secret=False)
        assert "S3CRET" not in found.out + found.err
        server.asked.clear()
        if named:
            surveyor(
                "survey",
                f"{origin}/",
                "--login-for",
                "https://localhost",
                *HEADERS,
                code=None,
                **LOGIN,
            )
            assert server.told(secret=True) == set()
        else:
            surveyor("survey", f"{origin}/", *HEADERS, code=None, **LOGIN)
            assert server.told(secret=False) == set()


def test_a_replay_gives_the_hosts_of_the_move_nothing_unless_they_are_named(tmp_path: Path) -> None:
    with counting() as one, counting() as other:
        old = f"http://localhost:{one.port}", f"http://127.0.0.1:{other.port}"
        replaying = opened(tmp_path / "museum", "--old", old[0], "--old", old[1], "--new", old[1])
        one.moves = {"/a": f"{old[1]}/landed"}
        replaying.write("urls.txt", f"{old[0]}/a\n{old[1]}/b\n")
        command = ("replay", "urls.txt", *HEADERS)
        for named, secret in (((), ([], [])), (("--login-for", old[0]), ([old[0][7:]], []))):
            one.asked.clear()
            other.asked.clear()
            said = replaying(*command, *named, code=None, **LOGIN)
            assert [sorted(s.told(secret=True)) for s in (one, other)] == list(secret)
            assert len(one.asked) == 1
            assert len(other.asked) == 2
            assert ("goes to no host" in said.err) is not bool(named)


def test_what_stands_in_for_all_hosts_gets_the_login_and_that_it_is_plain_is_said(
    tmp_path: Path,
) -> None:
    with counting() as server:
        replaying = opened(
            tmp_path / "museum",
            "--old",
            "http://www.quillhaven.example",
            "--new",
            "https://www.quillhaven.example",
        )
        replaying.write("urls.txt", "http://www.quillhaven.example/a\n")
        place = f"http://127.0.0.1:{server.port}"
        said = replaying("replay", "urls.txt", "--at", place, *HEADERS, code=None, **LOGIN)
        assert server.told(secret=False) == set()
        assert f"goes to {place} alone" in " ".join(said.err.split())
        server.asked.clear()
        connect = ("--connect", f"www.quillhaven.example:80=127.0.0.1:{server.port}")
        replaying("replay", "urls.txt", *connect, *HEADERS, code=None, **LOGIN)
        assert server.told(secret=True) == {"www.quillhaven.example"}


def test_plain_http_on_the_way_to_another_machine_gets_no_login() -> None:
    from upright_ledger.cli.options.http import (
        _own,
    )  # the choice of origins, which needs no machine
    from upright_ledger.web.http.options import RequestOptions

    manner = RequestOptions(own=_own((), [("www.quillhaven.example", "", "192.0.2.7", "8443")], ()))
    assert manner.is_own("https://www.quillhaven.example")
    assert manner.is_own("https://www.quillhaven.example:8443")
    assert not manner.is_own("http://www.quillhaven.example")
    assert not manner.is_own("https://quillhaven.example")
    assert not manner.is_own("https://www.quillhaven.example.elsewhere.example")


def test_what_is_no_origin_is_refused(museum: Program) -> None:
    museum.write("urls.txt", "/a\n")
    assert "cannot be used" in museum("replay", "urls.txt", "--login-for", "ftp://x", code=2).err
