"""Matching: what a person would see at once, and what must never be proposed."""

from __future__ import annotations

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.core.matching import MatchPage, Proposals, propose
from upright_ledger.core.matching.auto_accept import PRUDENCE, Sample, accept_above, accept_within
from upright_ledger.core.url.language import OTHER, may_match, page_languages
from upright_ledger.core.url.tokens import path_parts, tokens

FILLER = [
    MatchPage(f"filler{n}", f"/stories/{a}-{b}/", f"{a} {b}")
    for n, (a, b) in enumerate(
        (x, y) for x in ("oak", "elm", "ash", "yew") for y in ("door", "roof", "gate", "wall")
    )
]
NEW_PAGES = [
    MatchPage("hours", "/visit/opening-hours/", "Opening hours – Quillhaven"),
    MatchPage(
        "tower", "/stories/the-tower-clock-restored/", "The tower clock restored – Quillhaven"
    ),
    MatchPage("report", "/documents/annual-report-2012.pdf", ""),
    MatchPage("cafe", "/besuch/cafe/", "Café im Hof"),
    *(
        MatchPage(f"item{n}", f"/collection/{kind}-clock-{n}/", f"{kind.title()} clock")
        for n, kind in zip(
            range(4001, 4009),
            ["brass", "silver", "oak", "walnut", "gilt", "slate", "marble", "ebony"],
            strict=True,
        )
    ),
    *FILLER,
]


@pytest.mark.parametrize(
    ("old", "best"),
    [
        (MatchPage("o", "/visit/hours-opening.html"), "hours"),
        (MatchPage("o", "/visit/OpeningHours.htm", "Opening hours | Museum"), "hours"),
        (
            MatchPage("o", "/journal/2011/03/tower-clock-restored.html", "Tower clock restored"),
            "tower",
        ),
        (MatchPage("o", "/journal/2011/03/towr-clock-restored.html"), "tower"),
        (MatchPage("o", "/files/annual-report-2012.pdf"), "report"),
        (MatchPage("o", "/besuch/caf%C3%A9.html"), "cafe"),
    ],
)
def test_the_page_a_person_would_pick_comes_first(old: MatchPage, best: str) -> None:
    proposals = propose([old], NEW_PAGES).found["o"]
    assert proposals[0].name == best
    assert proposals[0].confidence > 0.5
    assert proposals[0].reasons


def test_nothing_alike_means_no_proposal() -> None:
    assert (
        propose([MatchPage("o", "/guestbook/2003-07.html", "Guest book, page 12")], NEW_PAGES).found
        == {}
    )
    assert propose([], NEW_PAGES) == propose([MatchPage("o", "/x")], []) == Proposals()


def test_numbers_count_only_between_places_where_they_are_carried_over() -> None:
    catalogue = [
        MatchPage(f"c{n}", "/catalogue.php", f"{kind.title()} clock", (str(n),))
        for n, kind in zip(
            range(4001, 4008),
            ["brass", "silver", "oak", "walnut", "gilt", "slate", "marble"],
            strict=True,
        )
    ]
    untitled = MatchPage("untitled", "/catalogue.php", "", ("4008",))
    ticket = MatchPage("ticket", "/tickets/event-4008.html", "An evening of music")
    found = propose([*catalogue, untitled, ticket], NEW_PAGES).found
    assert found["untitled"][0].name == "item4008"
    assert found["untitled"][0].confidence >= 0.9
    assert all(p.confidence < 0.9 for p in found.get("ticket", []))


def test_a_close_second_takes_confidence_away() -> None:
    twins = [
        MatchPage("one", "/a/brass-dial/", "Brass dial"),
        MatchPage("two", "/b/brass-dial/", "Brass dial"),
        *FILLER,
    ]
    best = propose([MatchPage("o", "/x/brass-dial.html", "Brass dial")], twins).found["o"]
    assert best[0].confidence < 0.9
    assert len(best) == 2


def test_the_order_of_pages_does_not_matter() -> None:
    old = [
        MatchPage(f"o{n}", f"/x/{p.title.lower().replace(' ', '-')}.html", p.title)
        for n, p in enumerate(NEW_PAGES)
    ]
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
        f"url,title,status\n{NEW}/about/,About,200\n{NEW}/contact/,Contact,200\n{NEW}/events/,"
        f"Concerts and talks,200\n{NEW}/,Home,200\n{NEW}/visit/hours/,Hours,200\n{NEW}/gone/,Gone,"
        "404\n",
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
    museum.write(
        "staging.csv", "Address,Page title,Status code\nhttps://staging.example/c/,C,200\n"
    )
    museum.write(
        "sitemap.xml",
        f"<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc>{NEW}/d/</loc></"
        "url></urlset>",
    )
    result = museum.json("stock", "list.txt", "sitemap.xml")
    assert result["pages"] == 3
    assert result["sources"][0]["set_aside"] == 1
    assert "say --publish-as" in museum("stock", "staging.csv", code=3).err
    assert museum.json("stock", "staging.csv", "--publish-as", NEW)["pages"] == 4
    assert (
        "no declared new origin"
        in museum("stock", "staging.csv", "--publish-as", "https://x.example", code=2).err
    )
    assert museum.json("stock", "list.txt")["sources"][0]["known"]
    museum.write(
        "access.log", '192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET /a HTTP/1.1" 200 1 "-" "x"\n'
    )
    assert "lists no destinations" in museum("stock", "access.log", code=3).err


LARKFIELD = {
    "/about-us/our-team/": "Meet the team",
    "/contact/opening-times/": "Opening times & directions",
    "/shop/roses/climbing/": "Climbing roses",
    "/shop/roses/shrub/": "Shrub roses",
    "/shop/trees/apple-braeburn/": "Apple tree “Braeburn”",
    "/shop/trees/apple-bramley/": "Apple tree “Bramley”",
    "/shop/tools/secateurs-classic-8/": "Classic secateurs",
    "/shop/tools/secateurs-professional/": "Professional secateurs",
    "/shop/benches/oak-2-seater/": "Oak bench, two-seater",
    "/shop/benches/oak-3-seater/": "Oak bench, three-seater",
    "/advice/pruning-roses/": "How to prune roses",
    "/advice/planting-bulbs-in-autumn/": "Planting bulbs in autumn",
    "/advice/lawn-care/": "The lawn care calendar",
    "/advice/growing-tomatoes/": "Growing tomatoes at home",
    "/advice/führung-durch-den-garten/": "",
    "/news/2024/new-greenhouse-opens/": "Our new greenhouse opens",
    "/o-nas/istoriya-sada/": "История сада",
}


@pytest.mark.parametrize(
    ("path", "best"),
    [
        ("/team.php", "/about-us/our-team/"),  # an extension
        ("/products/rose-shrub.html", "/shop/roses/shrub/"),  # other order, singular
        ("/products/braeburn_apple_tree.html", "/shop/trees/apple-braeburn/"),
        ("/products/secateurs_8in_classic.html", "/shop/tools/secateurs-classic-8/"),
        ("/tips/how-to-prune-your-roses.html", "/advice/pruning-roses/"),  # stop words, other form
        ("/tips/autumn-bulb-planting.html", "/advice/planting-bulbs-in-autumn/"),
        ("/tips/lawncare.html", "/advice/lawn-care/"),  # written as one word
        ("/tips/tomatos.html", "/advice/growing-tomatoes/"),  # misspelt
        (
            "/tips/fuehrung-durch-den-garten.html",
            "/advice/führung-durch-den-garten/",
        ),  # transliterated
        (
            "/history/%D0%B8%D1%81%D1%82%D0%BE%D1%80%D0%B8%D1%8F-%D1%81%D0%B0%D0%B4%D0%B0.html",
            "/o-nas/istoriya-sada/",
        ),
        ("/blog/2024/06/12/new-greenhouse/", "/news/2024/new-greenhouse-opens/"),  # dated
    ],
)
def test_slugs_meet_in_many_guises(path: str, best: str) -> None:
    new = [MatchPage(p, p, title) for p, title in LARKFIELD.items()]
    proposals = propose([MatchPage("o", path)], new).found["o"]
    assert proposals[0].name == best
    assert all(p.confidence <= proposals[0].confidence for p in proposals)


def many(count: int, old: str, new: str) -> tuple[list[MatchPage], list[MatchPage]]:
    """Pages with words of their own that moved from one form to another."""
    names = [
        f"{a}-{b}-{n}th"
        for n, (a, b) in enumerate(
            (x, y)
            for x in ["wren", "lark", "finch", "robin", "crane"]
            for y in ["gate", "wall", "roof", "door", "lane"]
        )
    ]
    chosen = names[:count]
    return [MatchPage(old.format(n), old.format(n)) for n in chosen], [
        MatchPage(new.format(n), new.format(n)) for n in chosen
    ]


def test_pages_of_two_languages_are_kept_apart() -> None:
    old = [MatchPage("o", "/preise/fuehrung.html", "Führung", language="de")]
    german, english = (
        MatchPage("de", "/de/fuehrung/", "Führung", language="de"),
        MatchPage("en", "/en/fuehrung/", "Führung", language="en"),
    )
    assert [p.name for p in propose(old, [english, german]).found["o"]] == ["de"]
    assert propose(old, [english]).found == {}


def test_what_is_known_teaches_how_the_rest_moved() -> None:
    old, new = many(20, "/archive/{}.html", "/stories/{}/")
    twins = [
        MatchPage("here", "/stories/mill-race/", ""),
        MatchPage("there", "/press/mill-race/", ""),
    ]
    asked = MatchPage("o", "/archive/mill-race.html")
    best = propose([*old, asked], [*new, *twins]).found["o"][0]
    assert best.name == "here"
    assert "pages beside it moved there, too" in best.reasons
    press = {p.name: n.name for p, n in zip(old, many(20, "", "/press/{}/")[1], strict=True)}
    elsewhere = [*many(20, "", "/press/{}/")[1], *twins]
    assert propose([*old, asked], elsewhere, press).found["o"][0].name == "there"


def test_a_retired_section_gets_fallbacks_and_no_home_page() -> None:
    old, new = many(12, "/archive/{}.html", "/stories/{}/")
    folder = MatchPage("folder", "/stories/", "Stories")
    result = propose([*old, MatchPage("lost", "/archive/xylophone-quartz.html")], [*new, folder])
    assert "lost" not in result.found
    assert result.fallbacks == {"lost": "folder"}


@pytest.mark.parametrize(
    ("pages", "languages"),
    [
        # one page marks nothing
        ([("de.quillhaven.example", "/a", ""), ("www.quillhaven.example", "/b", "")], ["", ""]),
        ([("de.quillhaven.example", "/a", ""), ("de.quillhaven.example", "/b", ""),
            ("www.quillhaven.example", "/c", "")], ["de", "de", OTHER]),
        # the IT department
        ([("quillhaven.example", "/it/help", ""), ("quillhaven.example", "/it/desk", "")],
            ["", ""]),
        ([("quillhaven.example", "/it/a", ""), ("quillhaven.example", "/it/b", ""),
            ("quillhaven.example", "/fr/a", ""), ("quillhaven.example", "/fr/b", "")],
            ["it", "it", "fr", "fr"]),
        ([("quillhaven.example", "/x", "en-GB"), ("quillhaven.example", "/y", "EN_us")],
            ["en", "en"]),
    ],
)  # fmt: skip
def test_languages_of_pages(pages: list[tuple[str, str, str]], languages: list[str]) -> None:
    assert page_languages(pages) == languages


def test_a_page_without_mark_is_in_none_of_the_languages_its_site_marks() -> None:
    marks = frozenset({"de"})
    assert not may_match(OTHER, "de", marks, frozenset({"de", "en"}))
    assert may_match(OTHER, "en", marks, frozenset({"de", "en"}))
    assert may_match("", "de", frozenset(), marks)
    assert not may_match("fr", "de", frozenset({"fr"}), marks)


def test_the_threshold_follows_the_wanted_share_of_errors() -> None:
    sure = [0.999] * 50 + [0.95] * 10 + [0.92] * 10 + [0.5] * 30
    strict, loose = accept_within(sure, 0.01), accept_within(sure, 0.05)
    assert (strict.threshold, strict.accepted) == (0.999, 50)
    assert (loose.threshold, loose.accepted) == (0.92, 70)
    assert 0 < strict.errors < loose.errors <= 0.05 * loose.accepted
    assert accept_within([0.8, 0.7], 0.5).accepted == 0  # never below the least
    assert accept_within([], 0.5).share == 0.0
    assert accept_above(sure, 0.95).accepted == 60


def test_match_accepts_for_a_wanted_share_of_errors(museum: Program) -> None:
    names = [
        f"{a}-{b}"
        for a in ("brass", "oak", "slate", "gilt")
        for b in ("dial", "bell", "gong", "case", "hand")
    ]
    museum.write(
        "urls.txt",
        "".join(f"/journal/2011/{n}.html\n" for n in names)
        + "/journal/2011/oak-goong.html\n/zither/quartz.html\n",
    )
    museum.write(
        "stock.csv",
        "url,title\n"
        + "".join(f"{NEW}/stories/{n}/,{n.replace('-', ' ')}\n" for n in names)
        + f"{NEW}/stories/,Stories\n",
    )
    museum("gather", "urls.txt")
    museum("stock", "stock.csv")
    result = museum.json("match", "--max-error", "5%")
    assert result["accepted"] == 20
    assert result["expected_errors"] <= 0.05 * 20
    assert result["estimated"]
    assert [p["legacy_url"] for p in result["proposals"]] == [f"{OLD}/journal/2011/oak-goong.html"]
    assert (result["without_proposal"], result["fallbacks"]) == (1, 0)
    text = museum("undo") and museum("match", "--max-error", "0.05").out
    assert "accepted proposals less than 1 may be wrong" in text
    assert "no share" in museum("match", "--max-error", "5 or so", code=2).err
    assert "contradict" in museum("match", "--max-error", "1%", "--accept-above", "0.9", code=2).err


def test_the_order_of_gathering_does_not_matter(bare: Program) -> None:
    lists = [
        "/a/brass-dial.html\n/a/oak-bell.html\n/b/gilt-hand.html\n",
        "/b/slate-gong.html\n/a/oak-case.html\n/b/oak-hand.html\n",
    ]
    stock = "url,title\n" + "".join(
        f"{NEW}/{n}/,\n"
        for n in ("brass-dial", "oak-bell-tower", "gilt-hand", "slate-gongs", "case-of-oak")
    )
    found = []
    for name, order in (("one", lists), ("two", lists[::-1])):
        bare("open", name, "--old", OLD, "--new", NEW)
        program = Program(bare.folder / name)
        for n, text in enumerate(order):
            program.write(f"{n}.txt", text)
            program("gather", f"{n}.txt")
        program.write("stock.csv", stock)
        program("stock", "stock.csv")
        found.append(program.json("match", "--accept-above", "1.01")["proposals"])
    assert found[0] == found[1] != []


def test_a_reviewed_sample_sharpens_the_estimate() -> None:
    none, good = Sample(), Sample([(0.98, True)] * 300)
    bad = Sample([(0.98, True)] * 280 + [(0.98, False)] * 20)
    assert none.prudence == PRUDENCE
    assert good.prudence < 1 < bad.prudence
    assert none.most_wrong == 1.0
    assert good.most_wrong == pytest.approx(
        0.00994, abs=1e-4
    )  # 300 without an error: 1 % with 95 % certainty
    confidences = [0.98] * 100
    assert accept_within(confidences, 0.03, good.prudence).accepted == 100
    assert accept_within(confidences, 0.03, bad.prudence).accepted == 0


def test_saved_pages_say_what_they_are(museum: Program) -> None:
    head = (
        '<html lang="en"><head><title>{title}</title>{link}<meta name="description" content="All '
        'about it"></head>'
    )
    body = "<body><h1>{title}</h1><a href='/visit/a.html'>Where to find us</a></body></html>"
    saved = "<!-- saved from url=(0042)http://www.quillhaven.example/x17.html -->"
    museum.write(
        "old.html",
        f"<!doctype html>{saved}" + (head + body).format(title="The harbour bell", link=""),
    )
    link = f'<link rel="canonical" href="{NEW}/stories/harbour-bell/">'
    museum.write(
        "new.html", "<!doctype html>" + (head + body).format(title="The harbour bell", link=link)
    )
    museum.write("mute.html", "<!doctype html>" + (head + body).format(title="Nobody", link=""))
    museum("gather", "old.html")
    assert museum.json("stock", "new.html")["pages"] == 1
    assert "does not say its own address" in museum("stock", "mute.html", code=3).err
    proposals = museum.json("match", "--accept-above", "1.01")["proposals"]
    found = {p["legacy_url"]: p for p in proposals}[f"{OLD}/x17.html"]
    assert found["destination"] == f"{NEW}/stories/harbour-bell/"
    assert "has the same title" in found["reason"]


def test_the_words_of_links_help(museum: Program) -> None:
    museum.write("links.csv", f"url,anchor text\n{OLD}/d/4711.html,The turret clock of Sandholt\n")
    others = "".join(f"{NEW}/stories/{n}/,{n}\n" for n in ("bell", "dial", "gong", "hand", "case"))
    museum.write(
        "stock.csv", f"url,title\n{NEW}/stories/sandholt/,The turret clock of Sandholt\n{others}"
    )
    museum("gather", "links.csv")
    museum("stock", "stock.csv")
    (best,) = museum.json("match", "--accept-above", "1.01")["proposals"]
    assert best["destination"] == f"{NEW}/stories/sandholt/"


def test_how_an_answer_was_found_stays_with_it_for_good(museum: Program) -> None:
    museum.write(
        "old.csv",
        "url,title\n/clocks/tower.html,The tower clock of Quillhaven\n/clocks/pocket.html,Pocket "
        "watches by Ada\n/x,Something else\n",
    )
    museum.write(
        "new.csv",
        f"url,title,status\n{NEW}/collection/tower-clock/,The tower clock of "
        f"Quillhaven,200\n{NEW}/collection/pocket/,Pocket watches by "
        f"Ada,200\n{NEW}/collection/towers/,Towers of the town,200\n",
    )
    museum("gather", "old.csv")
    museum("stock", "new.csv")
    museum("match", "--accept-above", "0.2")
    before = {
        e["legacy_url"]: (e["confidence"], e["reason"], e["by"], e["author"])
        for e in museum.json("entries", "--by", "match")["entries"]
    }
    assert len(before) >= 2
    assert all(
        0 < c <= 1 and reason and who == ("match", "tester")
        for c, reason, *rest in before.values()
        for who in [tuple(rest)]
    )
    museum("match")  # nothing more to accept: the others keep what they had
    assert {
        e["legacy_url"]: (e["confidence"], e["reason"], e["by"], e["author"])
        for e in museum.json("entries", "--by", "match")["entries"]
    } == before
    museum("review", "--out", "sample.csv", "--sample", "2")
    tower = f"{OLD}/clocks/tower.html"
    assert "confidence" in museum("entries", "/clocks/tower.html").out
    museum("decide", "/clocks/tower.html", "--gone", UPRIGHT_AUTHOR="ada")
    gone = museum.json("entries", "/clocks/tower.html")
    assert (gone["by"], gone["author"], gone["confidence"]) == ("person", "ada", "")
    museum("undo")
    again = museum.json("entries", "/clocks/tower.html")
    assert (again["confidence"], again["reason"], again["by"], again["author"]) == before[tower]
    museum("decide", "/clocks/tower.html", "--to", again["destination"])
    kept = museum.json("entries", "/clocks/tower.html")
    assert (kept["by"], kept["confidence"], kept["reason"]) == ("person", *before[tower][:2])
    lowest = min(c for c, *_ in before.values())
    assert museum.json("entries", "--answer", "move", "--below", lowest)["entries"] == []


def test_proposing_without_titles_is_said(museum: Program) -> None:
    museum("gather", museum.write("old.txt", "/clocks/tower.html\n"))
    museum("stock", museum.write("new.txt", f"{NEW}/towers/\n"))
    said = museum("match").out
    assert "None of the old pages has a title" in said
    assert "1.01" not in said
