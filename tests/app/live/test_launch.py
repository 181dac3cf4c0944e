"""Go or no-go: every line says so when what it looks at is wrong, and a whole move is a go."""

from __future__ import annotations

import ssl
from pathlib import Path
from typing import Any

import pytest
import trustme

from conftest import Program, opened
from upright_ledger.web.local.stand_in import Served, serve_whole

OLD, NEW = "http://www.quillhaven.example", "https://new.quillhaven.example"
HOSTS = ("www.quillhaven.example", "quillhaven.example", "new.quillhaven.example",
    "www.new.quillhaven.example")  # fmt: skip
OLD_HOSTS = HOSTS[:2]
TEXT = " ".join(f"The {n} of the clock was made by hand and hung in the tower." for n in "abcde")
NOT_FOUND = Served(404, "<title>Page not found</title>")


def page(title: str, head: str = "") -> Served:
    links = '<a href="/">home</a><a href="/bells/">bells</a>'
    return Served(200, f"<!doctype html><title>{title}</title>{head}<main>{links}{TEXT}</main>")


def plain(text: str, kind: str = "text/plain") -> Served:
    return Served(200, text, content_type=kind)


def pages() -> dict[str, Served]:
    """The new site by its targets."""
    urls = "".join(f"<url><loc>{NEW}{path}</loc></url>" for path in ("/", "/bells/"))
    return {
        "/": page("Home"), "/bells/": page("Bells"),
        "/bells": Served(301, location=f"{NEW}/bells/"),
        "/robots.txt": plain(f"User-agent: *\nAllow: /\nSitemap: {NEW}/sitemap.xml\n"),
        "/sitemap.xml": plain(f"<urlset>{urls}</urlset>", "application/xml"),
    }  # fmt: skip


RULES = {
    "/": Served(301, location=f"{NEW}/"),
    "/old-bells.html": Served(301, location=f"{NEW}/bells/"),
    "/gone.html": Served(410),
}
"""What the old hosts answer after the switch."""


@pytest.fixture
def ready(tmp_path: Path) -> Program:
    program = opened(tmp_path / "museum", "--old", OLD, "--new", NEW)
    program.write("old.csv", "url,hits\n/old-bells.html,90\n/gone.html,4\n")
    program("gather", "old.csv")
    program("stock", program.write("new.csv", f"url,status\n{NEW}/,200\n{NEW}/bells/,200\n"))
    program("decide", "--from", program.pairs("/old-bells.html,/bells/,301", "/gone.html,,410"))
    program("build", "--for", "nginx", "--out", "rules")
    return program


def look(
    program: Program,
    *options: str,
    rules: dict[str, Served] = RULES,
    site: dict[str, Served] | None = None,
) -> dict[str, dict[str, Any]]:
    """The lines of a look at the production hosts, which stand-ins take the place of."""
    site = pages() if site is None else site

    def answer(host: str, target: str, *, safe: bool) -> Served:
        host = host.partition(":")[0]
        if host in OLD_HOSTS:
            return rules.get(target, NOT_FOUND)
        if not safe or host != "new.quillhaven.example":
            return Served(301, location=f"{NEW}{target.rstrip('/')}/")
        return site.get(target, NOT_FOUND)

    authority = trustme.CA()
    ca = program.folder / "ca.pem"
    authority.cert_pem.write_to_path(ca)
    tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert(*HOSTS).configure_cert(tls)
    with (
        serve_whole(lambda h, t: answer(h, t, safe=False)) as clear,
        serve_whole(lambda h, t: answer(h, t, safe=True), tls=tls) as safe,
    ):
        ends = {80: clear.partition("://")[2], 443: safe.partition("://")[2]}
        connect = [
            o
            for host in HOSTS
            for n, end in ends.items()
            for o in ("--connect", f"{host}:{n}={end}")
        ]
        told = program.json("launch", *connect, "--ca", str(ca), *options, code=None)
    assert told["go"] == all(line["light"] != "no-go" for line in told["lines"])
    return {line["about"]: line for line in told["lines"]}


def against(lines: dict[str, dict[str, Any]]) -> dict[str, str]:
    """The lines that say no-go, and their remedies."""
    assert all(x["remedy"].startswith("upright ") for x in lines.values() if x["light"] == "no-go")
    return {about: x["told"] for about, x in lines.items() if x["light"] == "no-go"}


def test_a_whole_move_is_a_go(ready: Program) -> None:
    lines = look(ready, "--running", "rules/redirects.conf")
    assert against(lines) == {}
    assert {x["light"] for x in lines.values()} == {"go"}
    assert lines["most valuable"]["told"] == "2 of 2 addresses are ok"


def test_what_the_books_lack_is_a_no_go(ready: Program) -> None:
    ready("gather", ready.write("more.csv", "url,hits\n/open.html,50\n"))
    assert against(look(ready)).keys() == {"answers", "most valuable"}
    ready("decide", "/open.html", "--wanted")
    assert "pages to come" in against(look(ready))
    ready("decide", "/open.html", "--to", "/nowhere/", "--as-given")
    told = against(look(ready))
    assert told["build"] == "answers were changed after the last build"
    assert told["faults"] == "0 errors and 1 warning in 3 answers with a rule"


def test_what_the_server_does_otherwise_is_a_no_go(ready: Program) -> None:
    told = against(look(ready, rules=RULES | {"/gone.html": NOT_FOUND}))
    assert list(told) == ["most valuable"]
    assert "1 of 2 addresses are ok; 1 " in told["most valuable"]
    told = against(look(ready, rules=RULES | {"/": Served(302, location=f"{NEW}/")}))
    assert list(told) == ["schemes and hosts"]
    listed = (ready.folder / "rules/redirects.csv").read_text()
    ready.write("running.csv", listed.replace("/bells/", "/dials/"))
    told = against(look(ready, "--running", "running.csv"))
    assert told == {"server's file": "1 of 2 addresses differ from the ledger"}


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({"/robots.txt": plain("User-agent: *\nDisallow: /\n")}, "robots.txt keeps from crawlers"),
        ({"/": page("Home", '<meta name="robots" content="noindex">'),
            "/bells/": page("Bells", '<meta name="robots" content="noindex">')},
            "ask search engines to leave them out"),
        ({"/sitemap.xml": plain(f"<urlset><url><loc>{NEW}/lost/</loc></url></urlset>",
            "application/xml")}, "do not answer 200"),
    ],
)  # fmt: skip
def test_what_keeps_search_engines_away_is_a_no_go(
    ready: Program, changed: dict[str, Served], said: str
) -> None:
    told = against(look(ready, site=pages() | changed))
    assert said in told["sitemap, noindex, robots"]


def test_before_the_switch_one_address_is_asked_and_what_was_not_is_said(ready: Program) -> None:
    site, rules = pages(), RULES

    def answer(host: str, target: str) -> Served:
        own = host == "new.quillhaven.example"
        return site.get(target, NOT_FOUND) if own else rules.get(target, NOT_FOUND)

    with serve_whole(answer) as address:
        done = ready("launch", "--at", address, code=None)
    assert "sitemap, noindex, robots" in done.out
    assert "2 lines not looked at" in " ".join(done.out.split())
    ready("launch", "--running", "nowhere.conf", code=2)
    # A server that does not answer is a line like the others.
    told = {x["about"]: x for x in ready.json("launch", "--at", address, code=1)["lines"]}
    assert told["most valuable"]["light"] == told["schemes and hosts"]["light"] == "no-go"
    assert "nothing listens there" in told["most valuable"]["told"]
    assert told["build"]["light"] == "go"
