"""What a page, a sitemap or a redirect names never has us ask the machines behind the firewall."""

from __future__ import annotations

import pytest

from conftest import OLD, Program
from upright_ledger.web.http.guard import is_public
from upright_ledger.web.local.stand_in import Served, serve_whole

SITEMAP = (
    '<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>{}</loc></url></urlset>'
)
INDEX = '<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{}</sitemapindex>'


@pytest.mark.parametrize(
    "address",
    [
        "127.0.0.1", "10.0.0.1", "192.168.1.1", "172.16.0.1", "169.254.169.254", "0.0.0.0",
        "100.64.0.1", "224.0.0.1", "255.255.255.255", "::1",
        "fe80::1%eth0", "fc00::1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "64:ff9b::7f00:1",
        "64:ff9b::a9fe:a9fe", "2002:7f00:1::", "2002:a00:1::1",
        "::", "ff02::1",
    ],
)  # fmt: skip
def test_what_is_no_public_address(address: str) -> None:
    """IANA's registries of special-purpose addresses, and how IPv4 is wrapped in IPv6 (RFC 4291,
    6052, 3056).
    """
    assert not is_public(address)


@pytest.mark.parametrize(
    "address", ["8.8.8.8", "2606:4700::1111", "::ffff:8.8.8.8", "64:ff9b::808:808"]
)
def test_what_is_a_public_address(address: str) -> None:
    assert is_public(address)


@pytest.mark.parametrize("kind", ["redirect", "index", "robots", "sitemap in index redirects"])
def test_a_sitemap_leads_to_no_machine_behind_the_firewall(museum: Program, kind: str) -> None:
    asked: list[str] = []

    def inner(host: str, target: str) -> Served:
        asked.append(f"{host}{target}")
        return Served(200, SITEMAP.format(f"{OLD}/inside"), content_type="text/xml")

    with serve_whole(inner) as inside:
        # The same machine by another name: nothing but the name tells that a stranger named it.
        secret = inside.replace("127.0.0.1", "localhost") + "/sitemap.xml"

        def respond(_: str, target: str) -> Served:
            if kind == "redirect" or target == "/moved.xml":
                return Served(302, "", secret)
            if target == "/robots.txt":
                return Served(
                    200, f"User-agent: *\nDisallow:\nSitemap: {secret}\n", content_type="text/plain"
                )
            if target == "/own.xml":
                return Served(200, SITEMAP.format(f"{OLD}/own"), content_type="text/xml")
            first = secret if kind == "index" else f"{address}/moved.xml"
            locs = "".join(
                f"<sitemap><loc>{loc}</loc></sitemap>" for loc in (first, f"{address}/own.xml")
            )
            return Served(200, INDEX.format(locs), content_type="text/xml")

        with serve_whole(respond) as address:
            name = "robots.txt" if kind == "robots" else "sitemap.xml"
            told = museum("gather", f"{address}/{name}", code=None)
            assert asked == []
            assert "private network" in " ".join((told.out + told.err).split())
            keys = {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]}
            assert keys == ({"/own"} if "index" in kind else set())
            # What a person names may lie anywhere.
            museum("gather", secret)
            assert len(asked) == 1
