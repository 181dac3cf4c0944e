"""Matching: what a person would see at once, and what must never be proposed."""

from __future__ import annotations

import pytest

from upright_ledger.core.matching import MatchPage, Proposals, propose
from upright_ledger.core.matching.auto_accept import PRUDENCE, Sample, accept_above, accept_within
from upright_ledger.core.url.conventions import does_something
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
    assert "20 of 20 pages beside the old one moved there" in best.reasons
    press = {p.name: n.name for p, n in zip(old, many(20, "", "/press/{}/")[1], strict=True)}
    elsewhere = [*many(20, "", "/press/{}/")[1], *twins]
    assert propose([*old, asked], elsewhere, press).found["o"][0].name == "there"


@pytest.mark.parametrize(
    ("old", "first", "second", "why"),
    [
        ("/x/clock-tower-hill.html", "/y/tower-of-the-clock/", "/y/clock-hall-hill/",
            "the first fits better: this one lacks the word “tower”"),
        ("/archive/mill-race-walk.html", "/stories/mill-race/", "/press/mill-race/",
            "the first fits better: pages beside the old one moved elsewhere"),
    ],
)  # fmt: skip
def test_a_runner_up_tells_why_it_comes_second(old: str, first: str, second: str, why: str) -> None:
    others, moved = many(20, "/archive/{}.html", "/stories/{}/")
    new = [MatchPage(path, path) for path in (second, first)]
    best, behind = propose([MatchPage("o", old), *others], [*new, *moved]).found["o"]
    assert (best.name, behind.name) == (first, second)
    assert behind.reasons[-1] == why
    assert not any("the first fits" in reason for reason in best.reasons)


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


ENDINGS_OF_WORDS = ["installing", "contributing", "customizing", "migrated"]
OTHER_ENDINGS = ["installation", "contribute", "customization", "migrations"]


def test_what_is_written_otherwise_is_read_for_what_it_is() -> None:
    """Names of code are no stop words, "index/" is a name where "index.html" is none, words have
    other endings, and one side writes as one what the other does not.
    """
    names = [*ENDINGS_OF_WORDS, "read_html", "read_php", "webmidi", "functions/index"]
    goals = [*OTHER_ENDINGS, "read_html", "read_php", "web-midi-api", "functions/index"]
    old = [MatchPage(f"o{n}", f"/docs/{name}/") for n, name in enumerate(names)]
    new = [MatchPage(f"n{n}", f"/manual/{name}/") for n, name in enumerate(goals)]
    found = propose(old, [*new, MatchPage("folder", "/manual/functions/index.html"), *FILLER]).found
    assert {name: choices[0].name for name, choices in found.items()} == {
        f"o{n}": f"n{n}" for n in range(len(names))
    }


def test_of_twins_the_one_that_ends_alike_comes_first() -> None:
    new = [
        MatchPage("with", "/howto/shared-cache.html"),
        MatchPage("without", "/howto/shared-cache"),
        *FILLER,
    ]
    for path, best in (("/howto/cache/shared-cache", "without"), ("/h/shared-cache.html", "with")):
        assert propose([MatchPage("o", path)], new).found["o"][0].name == best


def test_another_address_of_a_page_is_not_sent_to_the_next_best() -> None:
    """Three old addresses of one page: that another one fits it says nothing for a neighbour."""
    package = [f"{kind}_{form}" for kind in ("read", "to") for form in ("csv", "json", "excel")]
    new = [MatchPage(name, f"/api/lib.{name}.html") for name in package]
    old = [
        MatchPage(f"{before} {name}", f"/generated/lib.{before}{name}.html")
        for name in package
        for before in ("", "io.", "io.parsers.")
    ]
    found = propose(old, [*new, *FILLER]).found
    assert {o.name: found[o.name][0].name for o in old} == {
        o.name: o.name.partition(" ")[2] for o in old
    }


@pytest.mark.parametrize(
    ("address", "acts"),
    [
        ("/shop/?add-to-cart=4711", True),
        ("/index.php?page=2&action=delete", True),
        ("/index.php?action=show&id=4", False),
        ("/account/logout.php", True),
        ("/wiki?do=EDIT", True),
        ("/news/remove-stains", False),
        ("/add", False),
        ("/calendar?mode=month", False),
    ],
)
def test_addresses_that_do_something(address: str, acts: bool) -> None:
    path, _, query = address.partition("?")
    assert does_something(path, query) is acts
