"""Matching: what a person would see at once, and what must never be proposed."""

from __future__ import annotations

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.core.matching import MatchPage, propose
from upright_ledger.core.words import path_parts, tokens

FILLER = [
    MatchPage(f"filler{n}", f"/stories/{a}-{b}/", f"{a} {b}")
    for n, (a, b) in enumerate((x, y) for x in ("oak", "elm", "ash", "yew") for y in ("door", "roof", "gate", "wall"))
]
NEW_PAGES = [
    MatchPage("hours", "/visit/opening-hours/", "Opening hours – Quillhaven"),
    MatchPage("tower", "/stories/the-tower-clock-restored/", "The tower clock restored – Quillhaven"),
    MatchPage("report", "/documents/annual-report-2012.pdf", ""),
    MatchPage("cafe", "/besuch/cafe/", "Café im Hof"),
    *(
        MatchPage(f"item{n}", f"/collection/{kind}-clock-{n}/", f"{kind.title()} clock")
        for n, kind in zip(
            range(4001, 4009), ["brass", "silver", "oak", "walnut", "gilt", "slate", "marble", "ebony"], strict=True
        )
    ),
    *FILLER,
]


@pytest.mark.parametrize(
    ("old", "best"),
    [
        (MatchPage("o", "/visit/hours-opening.html"), "hours"),
        (MatchPage("o", "/visit/OpeningHours.htm", "Opening hours | Museum"), "hours"),
        (MatchPage("o", "/journal/2011/03/tower-clock-restored.html", "Tower clock restored"), "tower"),
        (MatchPage("o", "/journal/2011/03/towr-clock-restored.html"), "tower"),
        (MatchPage("o", "/files/annual-report-2012.pdf"), "report"),
        (MatchPage("o", "/besuch/caf%C3%A9.html"), "cafe"),
    ],
)
def test_the_page_a_person_would_pick_comes_first(old: MatchPage, best: str) -> None:
    proposals = propose([old], NEW_PAGES)["o"]
    assert proposals[0].name == best
    assert proposals[0].confidence > 0.5
    assert proposals[0].reasons


def test_nothing_alike_means_no_proposal() -> None:
    assert propose([MatchPage("o", "/guestbook/2003-07.html", "Guest book, page 12")], NEW_PAGES) == {}
    assert propose([], NEW_PAGES) == propose([MatchPage("o", "/x")], []) == {}


def test_numbers_count_only_between_places_where_they_are_carried_over() -> None:
    catalogue = [
        MatchPage(f"c{n}", "/catalogue.php", f"{kind.title()} clock", (str(n),))
        for n, kind in zip(
            range(4001, 4008), ["brass", "silver", "oak", "walnut", "gilt", "slate", "marble"], strict=True
        )
    ]
    untitled = MatchPage("untitled", "/catalogue.php", "", ("4008",))
    ticket = MatchPage("ticket", "/tickets/event-4008.html", "An evening of music")
    found = propose([*catalogue, untitled, ticket], NEW_PAGES)
    assert found["untitled"][0].name == "item4008"
    assert found["untitled"][0].confidence >= 0.9
    assert all(p.confidence < 0.9 for p in found.get("ticket", []))


def test_a_close_second_takes_confidence_away() -> None:
    twins = [
        MatchPage("one", "/a/brass-dial/", "Brass dial"),
        MatchPage("two", "/b/brass-dial/", "Brass dial"),
        *FILLER,
    ]
    best = propose([MatchPage("o", "/x/brass-dial.html", "Brass dial")], twins)["o"]
    assert best[0].confidence < 0.9
    assert len(best) == 2


def test_the_order_of_pages_does_not_matter() -> None:
    old = [MatchPage(f"o{n}", f"/x/{p.title.lower().replace(' ', '-')}.html", p.title) for n, p in enumerate(NEW_PAGES)]
    assert propose(old, NEW_PAGES) == propose(old[::-1], NEW_PAGES[::-1])


def test_words() -> None:
    assert tokens("Öffnungszeiten & Anfahrt") == ["offnungszeiten", "anfahrt"]
    assert tokens("theTowerClocks2012") == ["tower", "clock", "2012"]
    assert path_parts("/a%20b/c.html") == ["a b", "c"]


def test_match_answers_equal_addresses_and_leaves_doubt_to_people(museum: Program) -> None:
    museum.write("urls.txt", "/about/\n/contact\n/events/\n/index.html\n/visit/hours.html\n/zzz\n")
    museum.write("titles.csv", "url,title\n/events/,Postcards of the harbour\n")
    museum.write(
        "stock.csv",
        f"url,title,status\n{NEW}/about/,About,200\n{NEW}/contact/,Contact,200\n{NEW}/events/,Concerts and talks,200\n{NEW}/,Home,200\n{NEW}/visit/hours/,Hours,200\n{NEW}/gone/,Gone,404\n",
    )
    museum("gather", "urls.txt", "titles.csv")
    assert "no pages in stock" in museum("match", code=2).err
    museum("stock", "stock.csv")
    result = museum.json("match", "--accept-above", "1.01")
    assert (result["same_address"], result["accepted"]) == (3, 0)
    museum("build", "--for", "nginx", "--out", "rules")
    listed = (museum.folder / "rules/redirects.csv").read_text()
    assert f"{OLD}/contact,{NEW}/contact/,301" in listed
    assert f"{OLD}/index.html,{NEW}/,301" in listed
    assert "/about" not in listed
    assert "/events" not in listed
    assert all(p["destination"] != f"{NEW}/" for p in result["proposals"])
    assert result["without_proposal"] >= 1
    again = museum.json("match", "--accept-above", "1.01")
    assert again["same_address"] == again["accepted"] == 0
    assert again["proposals"] == result["proposals"]


def test_stock_reads_lists_and_staging(museum: Program) -> None:
    museum.write("list.txt", f"{NEW}/a/\n/b/\nhttps://elsewhere.example/\n")
    museum.write("staging.csv", "Address,Page title,Status code\nhttps://staging.example/c/,C,200\n")
    museum.write(
        "sitemap.xml",
        f"<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc>{NEW}/d/</loc></url></urlset>",
    )
    result = museum.json("stock", "list.txt", "sitemap.xml")
    assert result["pages"] == 3
    assert result["sources"][0]["set_aside"] == 1
    assert "say --publish-as" in museum("stock", "staging.csv", code=3).err
    assert museum.json("stock", "staging.csv", "--publish-as", NEW)["pages"] == 4
    assert "no declared new origin" in museum("stock", "staging.csv", "--publish-as", "https://x.example", code=2).err
    assert museum.json("stock", "list.txt")["sources"][0]["known"]
    museum.write("access.log", '192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET /a HTTP/1.1" 200 1 "-" "x"\n')
    assert "lists no destinations" in museum("stock", "access.log", code=3).err
