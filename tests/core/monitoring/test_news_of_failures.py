"""What is news, what is damaged, whence people came, and what comes first."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from properties import thorough
from upright_ledger.core.monitoring.campaigns import Campaigns
from upright_ledger.core.monitoring.changes import (
    WRONG,
    Item,
    News,
    NewsKind,
    body_of,
    news,
    subject_of,
)
from upright_ledger.core.monitoring.damaged_urls import Damage, MeantPage
from upright_ledger.core.monitoring.day_totals import gaps_of, weekly_shares, with_gaps
from upright_ledger.core.monitoring.failure_account import FailureState
from upright_ledger.core.monitoring.priority import NextDecision, enough, rank
from upright_ledger.core.monitoring.retirement import Use, why_kept, window
from upright_ledger.core.monitoring.traffic_origin import (
    KnownHosts,
    LostRequests,
    TrafficSource,
    came_from,
    origin_of,
)

A = "http://www.quillhaven.example/a"
STATES = [*FailureState, WRONG]


@pytest.mark.parametrize(
    ("before", "now", "lost", "kind"),
    [
        (("", 0), "recurring", 0, "fails again"), (("new", 9), "recurring", 0, "fails again"),
        (("recurring", 9), "recurring", 20, ""),
        (("recurring", 9), "recurring", 27, "fails much more"),
        (("recurring", 2), "recurring", 11, ""),
        (("recurring", 2), "recurring", 12, "fails much more"), (("", 0), "new", 1, "fails newly"),
        (("", 0), "new", 0, ""), (("new", 1), "new", 10, ""),
        (("new", 1), "new", 11, "fails much more"),
        (("answered", 1), "new", 11, "fails much more"), (("answered", 1), "answered", 90, ""),
        (("", 0), "wrong", 0, "answers wrongly"), (("wrong", 0), "wrong", 50, ""),
        (("", 0), "proven", 0, ""), (("new", 3), "proven", 0, "is mended"),
        (("wrong", 0), "proven", 0, "is mended"), (("proven", 0), "proven", 0, ""),
        (("new", 3), "deployed", 0, ""),
    ],
)  # fmt: skip
def test_what_is_news(before: tuple[str, float], now: str, lost: float, kind: str) -> None:
    item = Item(7, A, now, lost)
    found = news([item], {7: before} if before[0] else {})
    assert [n.kind for n in found] == ([kind] if kind else [])


@thorough
@given(
    st.lists(
        st.builds(Item, st.integers(0, 9), st.sampled_from([A, A + "b"]), st.sampled_from(STATES),
            st.integers(0, 50).map(float)),
        unique_by=lambda i: i.entry,
    ),
    st.dictionaries(st.integers(0, 9), st.tuples(st.sampled_from([str(s) for s in STATES]),
        st.integers(0, 50).map(float))),
)  # fmt: skip
def test_what_was_said_is_no_news_again(
    items: list[Item], before: dict[int, tuple[str, float]]
) -> None:
    found = news(items, before)
    said = before | {n.item.entry: (str(n.item.state), n.item.lost) for n in found}
    assert news(items, said) == []
    order = ["fails again", "answers wrongly", "fails newly", "fails much more", "is mended"]
    keys = [(order.index(n.kind), -n.item.lost, n.item.url) for n in found]
    assert keys == sorted(keys)


def test_a_message_says_all_of_it_and_nothing_that_steers() -> None:
    found = [
        *(News(NewsKind.AGAIN, Item(n, f"{A}{n}", FailureState.RECURRING, 0)) for n in range(21)),
        News(
            NewsKind.NEWLY, Item(30, f"{A}\x1b[31m\r\nX: y", FailureState.NEW, 1234, "why", "mail")
        ),
        News(NewsKind.MENDED, Item(31, A, FailureState.PROVEN, 0)),
        News(NewsKind.MENDED, Item(32, A, FailureState.PROVEN, 0)),
        News(NewsKind.MORE, Item(33, "x" * 600, FailureState.NEW, 2)),
        News(NewsKind.WRONGLY, Item(34, A, WRONG, 0)),
    ]
    lines = body_of(found, "3 new lines.").splitlines()
    assert lines[:4] == [
        "3 new lines.", "", "21 addresses fail again after their fix:", f"  {A}0",
    ]  # fmt: skip
    assert lines[22:30] == [
        f"  {A}19",
        "  and 1 more",
        "",
        "1 address fails, and nobody has answered it:",
        f"  {A}?[31m??X: y",
        "    1,234 requests by people; why; mail",
        "",
        "2 addresses are mended: asked for, and answered rightly:",
    ]
    assert f"  {'x' * 500}" in lines
    assert "1 address fails much more often than was said:" in lines
    assert "    2 requests by people" in lines
    assert "1 address is not answered as it should be:" in lines
    assert lines[-2:] == ["", "upright triage shows all of it."]
    assert subject_of("Q", found) == "Q: addresses fail: 21 again, 1 wrongly, 1 newly, 1 much more"
    assert subject_of("Q", found[22:24]) == "Q: 2 addresses are mended"


PAGES = Damage([("/a/clock", "C"), ("/a/clocks/", "D"), ("/A/CLOCK", "twice"),
    ("/b/pendulum-makers", "P"),
    ("/c/tower12", "T"), ("/", "H"), ("/d/wooden", "W"), ("/d/golden", "G")])  # fmt: skip


@pytest.mark.parametrize(
    ("path", "page", "damage"),
    [
        ("/a/clock.", "C", "punctuation stuck to it"),
        ("/a/clock%22/", "C", "punctuation stuck to it"),
        ("/a/Clock%E2%80%9d", "C", "punctuation stuck to it"),
        ("/a/clock&amp;", "C", "punctuation stuck to it"),
        ("/a/clock),", "C", "punctuation stuck to it"), ("/b/pend", "P", "cut off"),
        ("/b/pen", None, ""), ("/a/cloc", None, ""), ("/b/pendulum-maker", "P", "cut off"),
        ("/b/pendulun-makres", "P", "mistyped"), ("/b/pandulun-makres", None, ""),
        ("/c/tower13", None, ""), ("/c/towre12", "T", "mistyped"), ("/d/wolden", None, ""),
        ("/d/woden", None, ""), ("/d/woodem", "W", "mistyped"), ("/e/wooden", None, ""),
        ("/.", None, ""), ("/a/clock", None, ""),
    ],
)  # fmt: skip
def test_what_a_damaged_path_was_meant_to_be(path: str, page: str | None, damage: str) -> None:
    assert PAGES.meant(path) == (MeantPage(page, damage) if page else None)


KNOWN = KnownHosts(
    frozenset({"www.quillhaven.example", "quillhaven.example:8080"}),
    {"search engine": frozenset({"seek.example"}), "app": frozenset({"reader.example"})},
)


@pytest.mark.parametrize(
    ("referrer", "origin", "whence"),
    [
        ("", "direct", ""),
        ("-", "direct", ""),
        ("campaign:spring", "campaign", "spring"),
        ("http://www.quillhaven.example/x?y", "own page", "http://www.quillhaven.example/x?y"),
        ("http://www.quillhaven.example:81/x", "own page", "http://www.quillhaven.example:81/x"),
        ("http://quillhaven.example:8080/x", "own page", "http://quillhaven.example:8080/x"),
        ("https://SEEK.example:443/q", "search engine", "seek.example"),
        ("https://reader.example/", "app", "reader.example"),
        ("android-app://org.example.reader/x", "app", "org.example.reader"),
        ("ios-app://1/x", "app", "1"),
        ("https://www.search.example/?q", "search engine", "www.search.example"),
        ("https://t.social.example/", "social network", "t.social.example"),
        ("https://t.example/", "another site", "t.example"),
        ("https://mail.search.example/", "mail", "mail.search.example"),
        ("https://a.example.search/", "another site", "a.example.search"),
        ("https://u:p@partner.example/x", "another site", "partner.example"),
        ("partner.example", "direct", ""),
    ],
)
def test_whence_a_request_came(referrer: str, origin: str, whence: str) -> None:
    assert origin_of(referrer, KNOWN) == (origin, whence)


def test_what_no_referrer_accounts_for_came_directly_where_all_are_named() -> None:
    led = [("http://b.example/", 2), ("http://a.example/x", 2), ("http://a.example/y", 1), ("", 50)]
    others = [
        TrafficSource("another site", "a.example", 3),
        TrafficSource("another site", "b.example", 2),
    ]
    for whole, origin in ((True, "direct"), (False, "not told")):
        came = came_from([LostRequests(9, led, whole)], KNOWN)
        assert came == [TrafficSource(origin, "", 4), *others]
    both = [LostRequests(9, led, True), LostRequests(3, [("source:seek.example", 1)], False)]
    assert came_from(both, KNOWN) == [
        TrafficSource("direct", "", 4),
        *others,
        TrafficSource("not told", "", 2),
        TrafficSource("search engine", "seek.example", 1),
    ]
    assert came_from([LostRequests(0, [("", 3)], True)], KNOWN) == []


@pytest.mark.parametrize(
    ("told", "origin"),
    [
        ("google / organic", "search engine"), ("Organic Search", "search engine"),
        ("Organische Suche", "search engine"), ("bing", "search engine"),
        ("google / cpc", "campaign"), ("Paid Search", "campaign"), ("flyer / print", "campaign"),
        ("newsletter / email", "mail"), ("letters / E-Mail", "mail"),
        ("facebook.example / social", "social network"), ("Organic Social", "social network"),
        ("(direct) / (none)", "direct"), ("(direct)", "direct"), ("Direct", "direct"),
        ("partner.example / referral", "another site"), ("www.quillhaven.example", "own page"),
        ("(not set) / (not set)", "not told"), ("other / unknown", "another site"),
    ],
)  # fmt: skip
def test_what_exports_call_a_source(told: str, origin: str) -> None:
    assert origin_of(f"source:{told}", KNOWN)[0] == origin


@pytest.mark.parametrize(
    ("target", "campaign"),
    [
        ("/a?utm_source=letter&utm_medium=mail&utm_campaign=a+b", "a b (letter / mail)"),
        ("/a?b=1&UTM_Campaign=spring%20days", "spring days"), ("/a?utm_id=7", "7"),
        ("/a?utm_source=letter", "letter"), ("/a?gclid=Cj0KCQ", "gclid"),
        ("/a?mc_cid=0f3a9b77c1", "mc_cid"), ("/a?code=K17&gclid=x", "code=K17"),
        ("/a?code=&gclid=x", "code"), ("/a?utm_campaign=", "utm_campaign"), ("/a?b=1", ""),
        ("/a", ""), ("GET /a?utm_campaign=x&y=z HTTP/1.1", "x"), ("/a?utm_campaign=x#y", "x"),
        (f"/a?utm_campaign={'x' * 999}", "x" * 120), ("/a?utm_campaign=a%0Ab%00c", "a b c"),
        ("/utm_campaign=x", ""),
    ],
)  # fmt: skip
def test_the_campaign_of_a_request(target: str, campaign: str) -> None:
    assert Campaigns(r"utm_\w*|gclid|mc_cid|code").of(target) == campaign
    assert Campaigns("").of(target) == ""


def test_days_of_which_no_log_tells_are_gaps_and_no_zeroes() -> None:
    days = {f"2026-05-{n:02}": {"2xx": 9.0, "404": 1.0} for n in (1, 2, 5, 9)}
    assert gaps_of(days) == [("2026-05-03", "2026-05-04"), ("2026-05-06", "2026-05-08")]
    assert [day for day, classes in with_gaps(days).items() if not classes] == [
        "2026-05-03",
        "2026-05-06",
    ]
    assert with_gaps({}) == {} == dict(gaps_of({}))
    clocks = {"0001-01-01": {"404": 1.0}, "9999-12-31": {"404": 1.0}}
    assert gaps_of(clocks) == [("0001-01-02", "9999-12-30")]
    assert weekly_shares(clocks) is None
    assert weekly_shares(days) is None
    long = days | {"2026-05-30": {"404": 4.0}}
    assert weekly_shares(long) is None  # nothing is known of the week before the last
    assert weekly_shares(long | {"2026-05-20": {"2xx": 3.0, "404": 1.0}}) == (0.25, 1.0)


def test_decisions_come_by_what_they_save() -> None:
    def one(name: str, lost: float, value: float = 0, confidence: float = 0) -> NextDecision:
        return NextDecision("entry", name, (1,), lost, value, confidence=confidence)

    rows = [one("e", 1), one("d", 5), one("c", 5, 1), one("b", 5, 1, 0.5), one("a", 5, 1)]
    assert [d.name for d in rank(rows)] == ["b", "a", "c", "d", "e"]
    tens = [one(str(n), 10) for n in range(10)]
    assert (enough(tens), enough(tens, 0.5), enough(tens, 0.51)) == (9, 5, 6)
    assert enough([one("a", 0)]) == 0


@pytest.mark.parametrize(
    ("use", "covered", "why"),
    [
        (Use(live="2025-01-01"), 0.9, ""),
        (Use(live="2025-01-01"), 0.89, "the logs do not cover the time"),
        (Use(live="2025-12-01"), 1.0, "not live long enough"),
        (Use(live="2025-11-30"), 1.0, ""),
        (Use(), 1.0, "not live long enough"),
        (Use(live="2025-01-01", people=1), 1.0, "people asked for it"),
        (Use(live="2025-01-01", last="2025-12-01"), 1.0, "people asked for it"),
        (Use(live="2025-01-01", last="2025-11-30"), 1.0, ""),
        (Use(live="2025-01-01", clicks=1), 1.0, "search engines show it"),
        (Use(live="2025-01-01", impressions=1), 1.0, "search engines show it"),
        (Use(links=1, people=1, clicks=1), 0.0, "others link to it"),
    ],
)
def test_why_a_rule_stays(use: Use, covered: float, why: str) -> None:
    assert window("2026-05-31", 182) == ("2025-12-01", "2026-05-31")
    assert why_kept(use, "2025-12-01", covered) == why
