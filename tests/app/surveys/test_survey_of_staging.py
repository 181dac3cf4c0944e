"""Surveying a staging server under a name or address of its own, as the site that it will be."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.core.crawl.publishing import Publishing
from upright_ledger.core.url.address import address_of
from upright_ledger.web.local.stand_in import Served, serve_whole

PAGES = {
    "/": '<a href="/visit/">Visit</a><a href="{new}/shop/">Shop</a><a href="{here}/old/">Old</a>'
    '<link rel="canonical" href="{here}/">',
    "/visit/": '<title>Visit</title><a href="https://partner.example/">Elsewhere</a>',
    "/shop/": '<title>Shop</title><link rel="canonical" href="{new}/shop/">',
    "/sitemap.xml": '<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url>'
    "<loc>{new}/listed/</loc></url></urlset>",
    "/listed/": "<title>Listed</title>",
}


class Staging:
    """A server that answers with pages that name it and the public site; keeps the hosts asked."""

    def __init__(self) -> None:
        self.asked: set[str] = set()

    def __call__(self, host: str, target: str) -> Served:
        self.asked.add(host)
        if target == "/robots.txt":
            return Served(200, "User-agent: *\nDisallow: /\n", content_type="text/plain")
        if target == "/old/":
            return Served(301, "", f"http://{host}/visit/")
        page = PAGES.get(target)
        if page is None:
            return Served(404, "<title>Nothing here</title>")
        kind = "application/xml" if target.endswith("xml") else "text/html"
        text = page.replace("{new}", NEW).replace("{here}", f"http://{host}")
        return Served(200, text, content_type=kind)


@pytest.fixture
def staging() -> Staging:
    return Staging()


def test_a_staging_server_is_surveyed_as_what_it_will_be(museum: Program, staging: Staging) -> None:
    with serve_whole(staging) as origin:
        found = museum.json("survey", f"{origin}/", "--as", "new", "--publish-as", NEW, code=None)
    assert found["at"] == NEW
    assert found["counts"]["moved"] == 1
    assert staging.asked == {origin.removeprefix("http://")}
    kinds = {f["kind"]: [row[0] for row in f["rows"]] for f in found["faults"]}
    assert sorted(kinds["staging-named"]) == [f"{origin}/", f"{origin}/old/"]
    assert not {"https-not-in-one-hop", "staging-in-links", "staging-in-canonical"} & kinds.keys()
    assert all(
        origin not in url for kind, urls in kinds.items() for url in urls if kind != "staging-named"
    )
    museum.pairs(
        *(f"{OLD}/{n}.html,{NEW}{path},301," for n, path in enumerate(["/listed/", "/shop/"]))
    )
    museum("decide", "--from", "pairs.csv")  # both are in stock
    assert museum("check", code=None).out.count("not-in-stock") == 0


def test_what_is_surveyed_under_a_wrong_side_is_refused_before_anything_is_asked(
    museum: Program, staging: Staging
) -> None:
    with serve_whole(staging) as origin:
        told = museum("survey", f"{origin}/", "--as", "new", code=2).err
        assert f"{origin} is none of the new origins, which are {NEW}" in told
        assert f"--publish-as {NEW}" in told
        other = ("--publish-as", "https://partner.example")
        assert "no origin of this ledger" in museum("survey", f"{origin}/", *other, code=2).err
        two = (f"{origin}/", "http://127.0.0.2:1/", "--publish-as", NEW)
        assert "is of one staging server" in museum("survey", *two, code=2).err
    assert not staging.asked
    assert (
        "would keep nothing" in museum("survey", "https://else.example/", "--as", "old", code=2).err
    )


@pytest.mark.parametrize(
    ("staging", "public", "url", "becomes"),
    [
        (
            "http://10.0.0.7:8080",
            "https://a.example",
            "http://10.0.0.7:8080/x?y",
            "https://a.example/x?y",
        ),
        ("http://s.example", "https://a.example", "https://s.example/x", "https://a.example/x"),
        ("https://s.example", "https://a.example", "http://s.example/x", "http://a.example/x"),
        (
            "https://s.example",
            "https://a.example",
            "https://www.s.example/",
            "https://www.s.example/",
        ),
        ("http://[::1]:81", "https://a.example", "http://[::1]:81/", "https://a.example/"),
    ],
)
def test_an_address_of_staging_and_its_public_one(
    staging: str, public: str, url: str, becomes: str
) -> None:
    there = Publishing(staging, public)
    assert there.public_address(url) == becomes
    if becomes.startswith(public):
        asked = there.asked(address_of(becomes)).without_fragment
        assert asked == staging + url.split("/", 3)[3].join(["/", ""])


def test_pages_that_say_they_are_none_are_not_stocked(tmp_path: Path) -> None:
    body = "The page you asked for may have moved, or never was, and we are sorry for that. " * 3

    def respond(_: str, target: str) -> Served:
        if target == "/":
            links = "".join(f'<a href="/{n}/">x</a>' for n in ("visit", "lost", "soft"))
            return Served(200, f"<title>Home</title>{links}")
        if target == "/robots.txt":
            return Served(404, "")
        if target == "/visit/":
            return Served(200, "<title>Visit</title><p>Open daily</p>")
        if target == "/lost/":
            return Served(200, "<title>404 - not found</title>")
        return Served(200, f"<title>Quillhaven</title><p>{body}</p>")

    with serve_whole(respond) as origin:
        Program(tmp_path)("open", "soft", "--old", OLD, "--new", origin)
        soft = Program(tmp_path / "soft")
        soft("survey", f"{origin}/", "--as", "new", "--rate", "0", code=None)
        for page, stocked in (("/visit/", True), ("/lost/", False), ("/soft/", False)):
            told = soft("decide", f"/old{page}", "--to", page, code=0 if stocked else 2)
            assert ("no page in stock" in told.err) is not stocked
