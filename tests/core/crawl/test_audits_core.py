"""The core of surveys by itself: what is kept of a site, forms, renamings, replacements, and what a
page says.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.app.collect.surveys.survey_export import replacements
from upright_ledger.core.crawl.audits.duplicates import doubles
from upright_ledger.core.crawl.audits.launch_gate import is_staging
from upright_ledger.core.crawl.audits.moved_pages import KnownPage, compare
from upright_ledger.core.crawl.audits.old_links import old_links
from upright_ledger.core.crawl.audits.site_index import (
    ExpectedSite,
    LinkToMend,
    SurveyedSite,
    severity,
)
from upright_ledger.core.crawl.audits.url_consistency import form_table, forms
from upright_ledger.core.crawl.frontier import Frontier, Limits
from upright_ledger.core.crawl.link_rewriting import MovedTable, replace_in
from upright_ledger.core.crawl.observation import (
    CANONICAL,
    PAGE_LINK,
    SITEMAP_LINE,
    Facts,
    Link,
    Observation,
)
from upright_ledger.core.inventory.evidence import EntryEvidence
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.address import parse_address
from upright_ledger.formats.html.content import read_facts

SITE = "https://www.quillhaven.example"


def seen(
    path: str, status: int = 200, to: str = "", links: Sequence[tuple[str, str]] = (), **facts: Any
) -> Observation:
    """An address as a survey saw it. links: (kind, path)."""
    found = tuple(Link(SITE + target, target, kind, "text") for kind, target in links)
    location = SITE + to if to else ""
    told = Facts(title=facts.pop("title", path), links=found, **facts)
    return Observation(SITE + path, status, location, content_type="text/html", facts=told)


def site_of(*rows: Observation) -> SurveyedSite:
    site = SurveyedSite()
    for row in rows:
        site.add(row)
    site.settle()
    return site


@pytest.mark.parametrize("first", [True, False])
def test_links_are_mended_whichever_end_was_seen_first(first: bool) -> None:
    page = seen(
        "/",
        links=[
            (PAGE_LINK, "/old/"),
            (PAGE_LINK, "/lost/"),
            (PAGE_LINK, "/fine/"),
            (PAGE_LINK, "/never/"),
        ],
    )
    rest = [
        seen("/old/", 301, "/middle/"),
        seen("/middle/", 302, "/fine/"),
        seen("/fine/"),
        seen("/lost/", 404),
    ]
    site = site_of(page, *rest) if first else site_of(*rest, page)
    assert [(m.target, m.final, m.status) for m in site.mends] == [
        (f"{SITE}/lost/", "", 404),
        (f"{SITE}/old/", f"{SITE}/fine/", 301),
    ]
    assert site.inbound[f"{SITE}/never/"] == 1


def test_a_way_without_end_leads_nowhere() -> None:
    site = site_of(
        seen("/", links=[(PAGE_LINK, "/a/")]), seen("/a/", 301, "/b/"), seen("/b/", 301, "/a/")
    )
    assert [(m.target, m.final) for m in site.mends] == [(f"{SITE}/a/", "")]


def test_a_link_on_most_pages_is_one_of_the_template() -> None:
    pages = [
        seen(f"/{n}/", links=[(PAGE_LINK, "/old/"), (PAGE_LINK, f"/gone-{n % 2}/")])
        for n in range(12)
    ]
    site = site_of(*pages, seen("/old/", 301, "/0/"), seen("/gone-0/", 404))
    assert [(m.in_template, m.pages) for m in site.mends[:2]] == [(True, 12), (True, 6)]


@pytest.mark.parametrize(
    ("bad", "whole", "grave"),
    [(12, 400_000, "note"), (12, 200, "error"), (12, 5_000, "warning"), (0, 0, "note")],
)
def test_how_grave_faults_are_follows_from_their_share(bad: int, whole: int, grave: str) -> None:
    assert severity(bad, whole) == grave


def test_forms_that_uses_do_not_share_with_most_pages() -> None:
    listed = [(SITEMAP_LINE, f"/{n}") for n in range(2)] + [(SITEMAP_LINE, "/2/")]
    pages = [
        seen(f"/{n}/", links=[(CANONICAL, f"/{n}/"), (PAGE_LINK, "/Hall/")]) for n in range(20)
    ]
    site = site_of(*pages, seen("/sitemap.xml", links=listed))
    wanted = ExpectedSite(SITE)
    found = {
        f.kind: [row[0].removeprefix(SITE) for row in f.rows]
        for f in forms(form_table(site, wanted), wanted)
    }
    assert found == {"closing-slash-of-sitemap": ["/0", "/1"], "letter-case-of-links": ["/Hall/"]}
    bare = ExpectedSite(SITE, "never")
    kinds = {f.kind for f in forms(form_table(site, bare), bare)}
    assert kinds >= {"closing-slash-of-canonical", "closing-slash-of-links"}


def double(path: str, **facts: Any) -> Observation:
    return seen(path, title="One title", digest="same", letters=900, **facts)


def test_of_two_that_say_the_same_the_one_with_links_of_others_is_the_stronger() -> None:
    site = site_of(
        seen("/", links=[(PAGE_LINK, "/a/")]),
        seen("/x/", links=[(PAGE_LINK, "/a/")]),
        double("/a/"),
        double("/b/"),
    )
    known = {f"{SITE}/b/": EntryEvidence(links=25, clicks=300)}
    (fault,) = doubles(site, ExpectedSite(SITE, known=known.get))
    assert (fault.kind, fault.rows) == ("same-content", [(f"{SITE}/a/", f"{SITE}/b/")])
    (fault,) = doubles(site, ExpectedSite(SITE))
    assert fault.rows == [(f"{SITE}/b/", f"{SITE}/a/")]
    (tie,) = doubles(site_of(double("/a/"), double("/b/")), ExpectedSite(SITE))
    assert tie.kind == "same-content-tie"


def test_links_to_the_old_site_are_told() -> None:
    old = "http://old.quillhaven.example/a.html"
    page = seen("/")._replace(
        facts=Facts(
            links=(Link(old, old, PAGE_LINK, "text"), Link(f"{SITE}/b/", "/b/", PAGE_LINK, "text"))
        )
    )
    site = site_of(page, seen("/b/"))
    (fault,) = old_links(site, ExpectedSite(SITE, is_old=lambda url: url.startswith("http://old.")))
    assert (fault.kind, fault.severity, fault.rows) == (
        "links-to-old-site",
        "error",
        [(old, f"{SITE}/")],
    )
    assert not list(old_links(site, ExpectedSite(SITE)))


def test_the_digits_of_escapes_are_no_letters() -> None:
    pages = [seen(f"/{n}/", links=[(PAGE_LINK, "/caf%C3%A9/")]) for n in range(20)]
    site, wanted = site_of(*pages), ExpectedSite(SITE)
    assert not list(forms(form_table(site, wanted), wanted))


def test_sessions_of_visits_are_no_addresses_of_their_own() -> None:
    frontier = Frontier(
        Limits(frozenset({"www.quillhaven.example"}), ignored=FoldingPolicy().noise_parameters)
    )
    asked = [
        "/a?PHPSESSID=1&item=2",
        "/a?item=2&utm_source=x",
        "/a;jsessionid=9?item=2",
        "/(S(ab12))/a?item=2",
    ]
    assert {frontier.canonicalise(parse_address(SITE + text)).target for text in asked} == {
        "/a?item=2"
    }


@pytest.mark.parametrize(
    ("host", "staging"),
    [
        ("staging.quillhaven.example", True), ("www-dev.quillhaven.example", True),
        ("203.0.113.7", True), ("localhost", True), ("www.quillhaven.example", False),
        ("shop.quillhaven.example", False), ("development-trust.example", False),
        ("protest.example", False),
    ],
)  # fmt: skip
def test_hosts_that_are_not_for_the_public(host: str, staging: bool) -> None:
    assert is_staging(host, "quillhaven.example") is staging
    assert not is_staging(host, host)


def test_renamings_between_two_lists_of_pages() -> None:
    before = {
        "/a/": KnownPage("Anchor", "t1"), "/b/": KnownPage("Bell", "t2"),
        "/c/": KnownPage("Twice", "t3"), "/d/": KnownPage("Dial", "t4", "17"),
        "/e/": KnownPage("Edge", "t5"),
        "/x/": KnownPage("Clock", "t6"),
    }  # fmt: skip
    after = {
        "/a/": KnownPage("Anchor escapements", "t1b"),  # retitled where it was: no renaming
        "/b2/": KnownPage("Bell", "t2"), "/c1/": KnownPage("Twice", "t3"),
        "/c2/": KnownPage("Twice", "t3"), "/d2/": KnownPage("Another title", "t9", "17"),
        "/x/": KnownPage("Ticket", "t7"), "/y/": KnownPage("Clock", "t6"),
    }  # fmt: skip
    found = compare(before, after)
    assert [(r.old, r.new, r.by) for r in found.renamings] == [
        ("/d/", "/d2/", "item number"),
        ("/b/", "/b2/", "title and text"),
    ]
    assert [tuple(c) for c in found.contested] == [("/x/", "Clock", "Ticket", "/y/")]
    assert (found.vanished, found.appeared) == (["/c/", "/e/"], ["/c1/", "/c2/"])
    assert compare(before, before)[0] == []


def test_what_to_search_and_replace() -> None:
    def mend(written: str, final: str = "/new/?a=1") -> LinkToMend:
        target = parse_address(written, f"{SITE}/page/").without_fragment
        return LinkToMend(
            f"{SITE}/page/",
            target,
            written,
            "",
            "text",
            301,
            SITE + final if final else "",
            1,
            False,
        )

    written = [
        "/old.html#top",
        f"{SITE}/old.html",
        "//www.quillhaven.example/old.html",
        "../old.html",
        "old.html",
        "/lost.html",
    ]
    mends = [*map(mend, written[:-1]), mend("/lost.html", ""), mend("/old.html")]
    assert replacements(mends) == [
        ("https://www.quillhaven.example/old.html", f"{SITE}/new/?a=1", 1, ""),
        ("//www.quillhaven.example/old.html", "//www.quillhaven.example/new/?a=1", 1, ""),
        ("/old.html", "/new/?a=1", 2, ""),
    ]


def test_what_plain_search_would_damage_is_said() -> None:
    def mend(written: str, final: str) -> LinkToMend:
        target = parse_address(written, f"{SITE}/").without_fragment
        return LinkToMend(f"{SITE}/", target, written, "", "text", 301, SITE + final, 1, False)

    mends = [mend("/visit", "/visit/hours/"), mend("/shop", "/store/"), mend("/a/b", "/x/old"),
             mend("/old", "/new/")]  # fmt: skip
    known = [f"{SITE}/visit", f"{SITE}/shop", f"{SITE}/shopping/", f"{SITE}/a/b", f"{SITE}/old"]
    cautions = {find: why for find, _, _, why in replacements(mends, known)}
    assert cautions == {
        "/visit": "stands within what is put there: done twice it doubles",
        "/shop": f"stands within {SITE}/shopping/, too",
        "/a/b": "",
        "/old": "stands within /x/old, which is put in another place",
    }


TABLE = {f"{SITE}/old": f"{SITE}/new/", f"{SITE}/a?b=1": f"{SITE}/a/1/"}
AROUND = st.sampled_from(
    ['<a href="{}">', "see {} there", "[x]({})", "'{}'", '{{"u":"{}"}}', "({})"]
)
WORDS = st.text(st.characters(codec="utf-8", exclude_characters="/\\"), max_size=30)


@given(
    st.lists(st.tuples(WORDS, AROUND, st.sampled_from(sorted(TABLE)), st.booleans()), max_size=6),
    WORDS,
)
def test_whole_addresses_change_and_nothing_else(
    parts: list[tuple[str, str, str, bool]], end: str
) -> None:
    text, wanted, changes = "", "", 0
    for word, around, address, whole in parts:
        old = address if whole else f"{address}er"
        text += word + " " + around.format(old) + "\n"
        wanted += word + " " + around.format(TABLE[address] if whole else old) + "\n"
        changes += whole
    found = replace_in((text + end).encode(), MovedTable(TABLE))
    assert (found.text.decode(), len(found.changes)) == (wanted + end, changes)


def test_a_frontier_takes_each_address_once_and_within_its_bounds() -> None:
    limits = Limits(
        frozenset({"www.quillhaven.example"}),
        most=3,
        depth=2,
        without=("/search*",),
        ignored=frozenset({"sort"}),
    )
    frontier = Frontier(limits)

    def take(text: str, depth: int = 0) -> str | None:
        return frontier.take(frontier.canonicalise(parse_address(text, SITE)), depth)

    assert take("/a?sort=up") == ""
    assert take("/a#top") is None
    assert take("/search?q=x") == "left out by a pattern"
    assert take("/deep", 3) == "too many links away"
    assert take("https://www.quillhaven.example.evil.example/") == "another host"
    assert take("/x/y/x/y/x/y/") == "a trap: its path repeats itself"
    assert take("/" + "a" * 3000) == "longer than 2,000 characters"
    assert [take("/b"), take("/c"), take("/d")] == ["", "", "beyond the number wanted"]


@pytest.mark.parametrize(
    ("charset", "head", "encoding", "title"),
    [
        ("", "", "utf-8", "Café"),
        ("; charset=iso-8859-1", "", "iso-8859-1", "Café"),
        ("", '<meta charset="iso-8859-1">', "iso-8859-1", "Café"),
        ("; charset=utf-8", '<meta charset="iso-8859-1">', "utf-8", "Café"),
        ("; charset=no-such-thing", '<meta charset="utf-8">', "utf-8", "Café"),
    ],
)
def test_pages_are_read_in_their_encoding(
    charset: str, head: str, encoding: str, title: str
) -> None:
    body = f"<html><head>{head}<title>Café</title></head><body><p>x</p></body></html>".encode(
        encoding
    )
    assert read_facts(body, f"text/html{charset}", f"{SITE}/").title == title


def test_what_a_page_says_of_itself() -> None:
    body = (
        b'<html lang="de-AT"><head><title> A  title </title><meta name=ROBOTS content="NoIndex, '
        b'follow"><meta name=description content=" About ">'
        b'<link rel="canonical" href="/own/"><link rel=alternate hreflang=EN href="/en/"><base '
        b'href="/deep/er/"></head>'
        b'<body><nav><a href="/">Home</a></nav><main><h1>Head</h1><a href="x/">X</a><a '
        b'href="x/">X</a><area href="/map/"><img srcset="a.png 1x, b.png 2x" alt="clock">'
        b'<a href="/img/"><img alt="A bell" src="/bell.png"></a><div '
        b'style="background:url(/no.png)"></div><style>@import "s.css"; '
        b"p{background:url(p.png)}</style></main>"
        b"<footer><iframe src=//other.example/f></iframe></footer></body></html>"
    )
    facts = read_facts(body, "text/html", f"{SITE}/page")
    assert (facts.title, facts.heading, facts.description, facts.language) == (
        "A title",
        "Head",
        "About",
        "de-AT",
    )
    assert (facts.robots, facts.canonical) == ("noindex, follow", f"{SITE}/own/")
    links = {
        (link.target.removeprefix(SITE), link.kind, link.text, link.place) for link in facts.links
    }
    assert links == {
        ("/", "link", "Home", "nav"),
        ("/own/", "canonical", "", "head"),
        ("/en/", "hreflang", "en", "head"),
        ("/deep/er/x/", "link", "X", "text"),
        ("/map/", "link", "", "text"),
        ("/deep/er/a.png", "resource", "", "text"),
        ("/deep/er/b.png", "resource", "", "text"),
        ("/img/", "link", "image: A bell", "text"),
        ("/bell.png", "resource", "", "text"),
        ("/deep/er/s.css", "resource", "", "text"),
        ("/deep/er/p.png", "resource", "", "text"),
        ("https://other.example/f", "link", "", "footer"),
    }
