"""Placing: the site, the entry, or the class in which an address is set aside."""

from __future__ import annotations

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import ugly
from properties import thorough
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.placing.classification import (
    Classified,
    Classifier,
    SpellingFacts,
)
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.core.url.request_target import MAX_LENGTH

OLD, SHOP = "http://www.quillhaven.example", "http://shop.quillhaven.example:8080"
SITES = Sites(group_origins([OLD, "http://quillhaven.example", SHOP]), ("https://new.example",))
PLACES = Classifier(SITES, FoldingPolicy())
SITE, OTHER = "quillhaven.example", "shop.quillhaven.example:8080"
NONE = frozenset[str]()


def brief(place: Classified) -> tuple[str, str, str, str]:
    return place.site, place.key, place.aside, place.doubt


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("/A/?b=1", (SITE, "/a?b=1", "", "")),
        ("https://quillhaven.example:443/a", (SITE, "/a", "", "")),
        ("http://m.quillhaven.example/a", (SITE, "/a", "", "")),
        (f"{SHOP}/a", (OTHER, "/a", "", "")),
        ("http://quillhaven.example:81/a", ("", "", "off-site", "")),
        ("http://elsewhere.example/a", ("", "", "off-site", "")),
        ("/a%2Fb", (SITE, "", "unanswerable", "")),
        ("/a%00", (SITE, "", "unanswerable", "")),
        ("/wp-login.php", (SITE, "/wp-login.php", "", "")),
        ("/a.css", (SITE, "", "furniture", "")),
        ("/plan.png", (SITE, "/plan.png", "", "page asset")),
        ("/robots.txt", (SITE, "/robots.txt", "", "page asset")),
        ("/a.sql", (SITE, "/a.sql", "", "")),
        ("/a1b2c3d4", (SITE, "/a1b2c3d4", "", "")),
    ],
)
def test_what_people_write_has_a_place(text: str, place: tuple[str, str, str, str]) -> None:
    assert brief(PLACES.written(text)) == place


@pytest.mark.parametrize(
    ("target", "place"),
    [
        ("/A/?b=1", (SITE, "/a?b=1", "", "")),
        ("http://quillhaven.example/a", (SITE, "/a", "", "")),
        ("http://elsewhere.example/a", ("", "", "off-site", "")),
        ("/a b", (SITE, "", "unanswerable", "")),
        ("/a/../b", (SITE, "/b", "", "probe")),
        ("/a/./b", (SITE, "/a/b", "", "")),
        ("/a/../../etc", (SITE, "/etc", "", "probe")),
        ("/plan.png", (SITE, "/plan.png", "", "page asset")),
        ("/a.sql", (SITE, "/a.sql", "", "probe")),
        ("/a1b2c3d4", (SITE, "/a1b2c3d4", "", "random")),
    ],
)
def test_what_clients_send_has_a_place(target: str, place: tuple[str, str, str, str]) -> None:
    assert brief(PLACES.sent(target)) == place


def test_a_place_says_how_it_was_written_and_what_was_folded() -> None:
    assert PLACES.written(f"{OLD}/A/./index.html?utm_id=1&b=2#c") == Classified(
        SITE,
        f"{OLD}/A/index.html?utm_id=1&b=2",
        "/a?b=2",
        "/A/index.html",
        f"{OLD}/A/index.html?b=2",
        "",
        frozenset(
            ["dot segments", "fragment", "index file", "letter case", "tracking parameter",
                "trailing slash"]
        ),
    )  # fmt: skip
    assert PLACES.sent("/A/?utm_id=1&b=2&zenid=3", "m.quillhaven.example") == Classified(
        SITE,
        "http://m.quillhaven.example/A/?b=2",
        "/a?b=2",
        "/A/",
        f"{OLD}/A/?b=2",
        "",
        frozenset(
            ["letter case", "mobile host", "session parameter", "tracking parameter",
                "trailing slash"]
        ),
    )  # fmt: skip
    assert PLACES.sent("/a?utm_id=1").spelling == f"{OLD}/a"
    assert PLACES.written("/a?token=x").spelling == f"{OLD}/a?token=masked"
    assert PLACES.written("http://elsewhere.example/reset/a1b2c3d4?token=x#y").spelling == (
        "http://elsewhere.example/reset/masked?token=masked"
    )
    assert PLACES.written("/wp-login.php?b=1").spelling == f"{OLD}/wp-login.php?b=1"
    mobile = Classifier(Sites(group_origins(["http://m.a.example"]), ("https://n.example",)),
        FoldingPolicy())  # fmt: skip
    assert mobile.written("/a").mends == NONE, "a mobile host that is the site's first is its own"


def test_an_address_that_grows_too_long_in_its_key_is_set_aside() -> None:
    path = "/" + "%E9" * 1400  # six letters each in UTF-8
    assert PLACES.sent(path).aside == "unanswerable"
    assert PLACES.written(path).aside == "unanswerable"
    assert PLACES.owner(parse_address(OLD + path)) == (SITE, "", "unanswerable")
    fits = "/" + "a" * (MAX_LENGTH - len(OLD) - 1)
    assert PLACES.sent(fits).aside == ""
    assert PLACES.owner(parse_address(OLD + fits)) == (SITE, fits, "")
    assert PLACES.sent(fits + "a").aside == "unanswerable"


@pytest.mark.parametrize(
    ("take_back", "text", "place"),
    [
        (("page asset",), "/plan.png", (SITE, "/plan.png", "", "")),
        (("/plans/*",), "/Plans/a.PNG", (SITE, "/plans/a.png", "", "")),
        (("/plans/*",), "/plan.png", (SITE, "/plan.png", "", "page asset")),
        (("furniture",), "/a.css", (SITE, "/a.css", "", "")),
        (("furniture",), "/wp-login.php", (SITE, "/wp-login.php", "", "")),
        (("probe",), "/wp-login.php", (SITE, "/wp-login.php", "", "")),
        (("unanswerable",), "/a%2Fb", (SITE, "", "unanswerable", "")),
        (("/A*",), "/a.css", (SITE, "/a.css", "", "")),
    ],
)
def test_classes_and_patterns_that_are_taken_back_are_entries(
    take_back: tuple[str, ...], text: str, place: tuple[str, str, str, str]
) -> None:
    own = Classifier(SITES, FoldingPolicy(take_back=take_back))
    assert brief(own.written(text)) == place
    if not text.endswith("%2Fb"):
        assert own.owner(parse_address(OLD + text)) == (place[0], place[1], place[2])
    assert Classifier(SITES, FoldingPolicy(take_back=("random",))).sent("/a1b2c3d4").doubt == ""


FACTS = [SpellingFacts(*(bool(n >> bit & 1) for bit in range(5))) for n in range(32)]


@pytest.mark.parametrize("facts", FACTS)
def test_what_is_known_settles_what_was_in_doubt(facts: SpellingFacts) -> None:
    named, answered, people, elsewhere, sought = facts
    asset = "" if elsewhere or named else "page asset"
    assert PLACES.seen(PLACES.sent("/plan.png"), facts).doubt == asset
    known = "" if elsewhere else "page asset"
    assert PLACES.seen(PLACES.sent("/robots.txt"), facts).doubt == known
    cleared = named or answered
    wanted = cleared or sought
    assert PLACES.seen(PLACES.sent("/a.sql"), facts).doubt == ("" if wanted else "probe")
    assert PLACES.seen(PLACES.sent("/a1b2c3d4"), facts).doubt == ("" if wanted else "random")
    bots = "" if cleared or people else "bots only"
    assert PLACES.seen(PLACES.sent("/a"), facts).doubt == bots
    back = Classifier(SITES, FoldingPolicy(take_back=("bots only",)))
    assert back.seen(back.sent("/a"), facts).doubt == ""
    sure = PLACES.sent("/wp-login.php")
    assert PLACES.seen(sure, facts).doubt == ("" if named else "probe")
    stocked = Classifier(SITES, FoldingPolicy())
    stocked.stocked = frozenset({(SITE, "/wp-login.php")})
    assert stocked.seen(sure, facts).doubt == ""


def test_page_assets_are_told_even_where_they_are_taken_back() -> None:
    back = Classifier(SITES, FoldingPolicy(take_back=("page asset",)))
    assert back.is_asset(back.written("/plan.png?x=/y"))
    assert not back.is_asset(back.written("/plan?x=/y.png"))


def test_page_assets_that_are_entries_belong_to_someone_and_others_do_not() -> None:
    own = Classifier(SITES, FoldingPolicy())
    plan = parse_address(f"{OLD}/Plan.png")
    assert own.owner(plan, sent=True) == (SITE, "", "page asset")
    assert own.owner(plan) == (SITE, "/plan.png", "")
    own.kept = frozenset({(SITE, "/plan.png")})
    assert own.owner(plan, sent=True) == (SITE, "/plan.png", "")
    assert own.owner(parse_address("http://elsewhere.example/")) == ("", "", "off-site")
    assert own.owner(parse_address("http://quillhaven.example:443/a")) == (SITE, "/a", "")
    login = parse_address(f"{OLD}/wp-login.php")
    assert own.owner(login) == (SITE, "/wp-login.php", "")
    assert own.owner(login, sent=True) == (SITE, "", "probe")
    own.kept = frozenset({(SITE, "/wp-login.php")})
    assert own.owner(login, sent=True) == (SITE, "/wp-login.php", "")


@pytest.mark.parametrize(
    ("target", "key"),
    [
        ("/wp-login.php", "/wp-login.php"),
        ("/WP-login.php/", "/wp-login.php"),
        ("/a.sql", "/a.sql"),
        ("/a?utm_source=<script>", ""),  # an attack on a page is no hit of it
        ("/a/../b", ""),
        ("/b", ""),
    ],
)
def test_what_is_in_doubt_waits_for_an_entry_of_its_own_address(target: str, key: str) -> None:
    assert PLACES.sent(target).waits_for == key


@pytest.mark.parametrize(
    ("target", "host", "address"),
    [
        ("/a?b?c", "", f"{OLD}/a?b?c"),
        ("/a", "shop.quillhaven.example:8080", f"{SHOP}/a"),
        ("/a//%2e", "Quillhaven.example.", "http://quillhaven.example/a//%2e"),
        ("http://x.example/a?b", "", "http://x.example/a?b"),
    ],
)
def test_the_address_of_a_request(target: str, host: str, address: str) -> None:
    assert PLACES.sent_address(target, host).text == address
    based = Classifier(SITES, FoldingPolicy(), "https://base.example")
    assert based.sent_address("/a").text == "https://base.example/a"
    assert based.written("a").spelling == "https://base.example/a"


@thorough
@given(st.one_of(st.just(OLD), ugly.hosts.map("http://{}".format)), ugly.paths, ugly.queries)
def test_a_stored_spelling_is_placed_where_its_address_was(
    origin: str, path: str, query: str
) -> None:
    """Three ways to one answer: written, stored and refolded; and its owner."""
    assume("#" not in query)
    text = f"{origin}{path}?{query}"
    place = PLACES.written(text)
    if not place.site:
        return
    address = parse_address(place.spelling)
    assert PLACES.owner(address)[:2] == (place.site, place.key)
    if place.aside:
        return
    stored = PLACES.stored(place.spelling)
    assert stored[:6] == place[:6]
    assert PLACES.refolded(place.site, place.spelling) == place[2:5]
    assert place.legacy_url.endswith(place.key.partition("?")[1] + place.key.partition("?")[2])


@thorough
@given(ugly.paths, ugly.queries)
def test_what_a_client_sends_is_stored_without_noise_and_placed_alike(
    path: str, query: str
) -> None:
    target = f"{path}?{query}"
    sent = PLACES.sent(target)
    if sent.aside:
        assert sent.key == ""
        return
    again = PLACES.stored(sent.spelling)
    assert again[:6] == sent[:6]
    assert again.doubt == sent.doubt
    assert "utm_source=" not in sent.spelling


def test_a_spelling_without_origin_is_refused() -> None:
    with pytest.raises(NotAnAddressError, match="it names no origin"):
        PLACES.stored("/a")
    port = PLACES.stored(f"{SHOP}/a?b=1")
    assert (port.site, port.key, port.spelling) == (OTHER, "/a?b=1", f"{SHOP}/a?b=1")
    assert PLACES.stored("https://www.quillhaven.example/a").site == SITE
