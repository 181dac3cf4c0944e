"""The core of triage by itself: days taken apart, accounts, origins, damage, the fewest answers,
and what is news.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.noise import doubtful_class, set_aside_class
from upright_ledger.core.monitoring.changes import WRONG, Item, body_of, news, subject_of
from upright_ledger.core.monitoring.damaged_urls import Damage
from upright_ledger.core.monitoring.deploy_days import is_after, label_of, splits_of
from upright_ledger.core.monitoring.failure_account import (
    DeploymentContext,
    FailureState,
    Fix,
    LogCount,
    RecurrenceReason,
    account,
    recurrence_reason,
)
from upright_ledger.core.monitoring.priority import NextDecision, enough, rank
from upright_ledger.core.monitoring.retirement import Use, why_kept, window
from upright_ledger.core.monitoring.traffic_origin import KnownHosts, came_from, origin_of

LIVE = "2026-05-10T03:00:00Z"
AT = "http://www.quillhaven.example/a.html"
TIMES = st.integers(0, 3 * 86_400).map(
    lambda n: datetime(2026, 5, 9, tzinfo=UTC) + timedelta(seconds=n)
)


def iso(time: datetime) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ")


@given(
    live=st.lists(TIMES, min_size=1, max_size=3, unique=True),
    asked=TIMES,
    zone=st.sampled_from([-480, -60, 0, 120, 345]),
)
def test_a_request_is_after_a_build_exactly_when_it_is(
    live: list[datetime], asked: datetime, zone: int
) -> None:
    splits = splits_of(map(iso, live), zone)
    clock = asked + timedelta(minutes=zone)
    label = label_of(
        clock.strftime("%Y-%m-%d"), clock.hour * 3600 + clock.minute * 60 + clock.second, splits
    )
    assert label[:10] == clock.strftime("%Y-%m-%d")
    for time in live:
        assert is_after(label, iso(time)) == (asked >= time)


def test_of_a_day_that_is_not_taken_apart_nothing_is_after_it() -> None:
    assert [is_after(day, LIVE) for day in ("2026-05-09", "2026-05-10", "2026-05-11")] == [
        False,
        False,
        True,
    ]
    assert not is_after("2026-05-11", "")


def told(*rows: tuple[str, str, float], spelling: str = AT, people: bool = True) -> list[LogCount]:
    return [LogCount(spelling, f"2026-05-{day}", status, people, n) for day, status, n in rows]


@pytest.mark.parametrize(
    ("fix", "rows", "state", "lost", "since"),
    [
        (Fix(), [("05", "404", 3), ("12", "404", 2)], FailureState.NEW, 5, 0),
        (Fix(AnswerKind.MOVE, "t"), [("05", "404", 3)], FailureState.ANSWERED, 3, 0),
        (Fix(AnswerKind.MOVE, "t", LIVE), [("05", "404", 3)], FailureState.DEPLOYED, 0, 0),
        (
            Fix(AnswerKind.MOVE, "t", LIVE),
            [("05", "404", 3), ("10", "404", 9)],
            FailureState.DEPLOYED,
            0,
            0,
        ),
        (
            Fix(AnswerKind.MOVE, "t", LIVE),
            [("05", "404", 3), ("11", "3xx", 1)],
            FailureState.PROVEN,
            0,
            0,
        ),
        (
            Fix(AnswerKind.MOVE, "t", LIVE),
            [("11", "404", 2), ("11", "3xx", 5)],
            FailureState.RECURRING,
            2,
            2,
        ),
        (
            Fix(AnswerKind.MOVE, "t", LIVE),
            [("09", "2xx", 2), ("11", "2xx", 5)],
            FailureState.RECURRING,
            5,
            5,
        ),
        (Fix(AnswerKind.TEMPORARY, "t", LIVE), [("11", "3xx", 5)], FailureState.PROVEN, 0, 0),
        (
            Fix(AnswerKind.GONE, "t", LIVE),
            [("09", "404", 1), ("11", "410", 5)],
            FailureState.PROVEN,
            0,
            0,
        ),
        (Fix(AnswerKind.GONE, "t", LIVE), [("11", "404", 5)], FailureState.RECURRING, 5, 5),
        (Fix(AnswerKind.MOVE, "t", LIVE), [("11", "410", 5)], FailureState.RECURRING, 5, 5),
        (
            Fix(AnswerKind.KEEP, "t", LIVE),
            [("09", "404", 1), ("11", "2xx", 5)],
            FailureState.PROVEN,
            0,
            0,
        ),
        (Fix(AnswerKind.KEEP, "t", LIVE), [("11", "5xx", 5)], FailureState.RECURRING, 5, 5),
        (Fix(AnswerKind.IGNORE, "t"), [("11", "404", 5)], FailureState.ANSWERED, 5, 0),
    ],
)
def test_the_account_knows_the_fix(
    fix: Fix, rows: list[tuple[str, str, float]], state: str, lost: float, since: float
) -> None:
    found = account(told(*rows), fix)
    assert (found.state, found.lost, found.since) == (state, lost, since)


def test_bots_count_apart_and_a_soft_404_fails_whatever_its_status() -> None:
    found = account([*told(("11", "404", 2)), *told(("12", "404", 7), people=False)], Fix())
    assert (found.failed, found.bots, found.lost, found.first, found.last) == (
        2,
        7,
        2,
        "2026-05-11",
        "2026-05-12",
    )
    soft = account(
        told(("09", "3xx", 4), ("11", "3xx", 3)), Fix(AnswerKind.MOVE, "t", LIVE), soft=True
    )
    assert (soft.state, soft.lost) == (FailureState.RECURRING, 3)
    assert account(told(("01", "404", 4), ("12", "404", 3)), Fix()).trend("2026-05-14") == 3 - 4 * 1


OTHER = "http://m.quillhaven.example/a.html"


@pytest.mark.parametrize(
    ("rows", "around", "why"),
    [
        ([("11", "404", 2)], DeploymentContext({AT: True}), RecurrenceReason.OVERRULED),
        (
            [("11", "404", 2), ("12", "3xx", 2)],
            DeploymentContext({AT: True}),
            RecurrenceReason.SOME_NODES,
        ),
        ([("11", "2xx", 2)], DeploymentContext({AT: True}), RecurrenceReason.REAL_PAGE),
        ([("11", "5xx", 2)], DeploymentContext({AT: True}), RecurrenceReason.FAILS_THERE),
        ([("11", "404", 2)], DeploymentContext({AT: False}), RecurrenceReason.VARIANT),
        (
            [("11", "404", 2)],
            DeploymentContext({AT: True}, build_works=False),
            RecurrenceReason.NOT_DEPLOYED,
        ),
        (
            [("11", "404", 2)],
            DeploymentContext({AT: True}, frozenset({AT})),
            RecurrenceReason.OTHER_HOST,
        ),
        (
            [("09", "2xx", 2), ("11", "404", 2)],
            DeploymentContext({AT: True}),
            RecurrenceReason.OVERRULED,
        ),
    ],
)
def test_why_something_fails_again(
    rows: list[tuple[str, str, float]], around: DeploymentContext, why: str
) -> None:
    fix = Fix(AnswerKind.MOVE, "t", LIVE)
    assert recurrence_reason(account(told(*rows), fix), told(*rows), fix, around) == why


@pytest.mark.parametrize(
    ("referrer", "origin"),
    [
        ("", "direct"),
        ("-", "direct"),
        ("campaign:", "campaign"),
        ("campaign:https://partner.example/", "campaign"),
        ("https://www.quillhaven.example/shop/", "own page"),
        ("https://www.search.example/?q=clocks", "search engine"),
        ("https://social.example/@ada/1", "social network"),
        ("https://webmail.provider.example/inbox", "mail"),
        ("https://seek.example/", "search engine"),
        ("android-app://org.example.reader", "app"),
        ("https://user@www.quillhaven.example/", "own page"),
        ("https://quillhaven.example.evil.example/", "another site"),
        ("https://partner.example:8443/x", "another site"),
        ("javascript:alert(1)", "direct"),
        ("http://[::1", "another site"),
    ],
)
def test_where_a_request_comes_from(referrer: str, origin: str) -> None:
    known = KnownHosts(
        frozenset({"www.quillhaven.example"}), {"search engine": frozenset({"seek.example"})}
    )
    assert origin_of(referrer, known)[0] == origin


def test_what_no_referrer_accounts_for_came_directly() -> None:
    came = came_from(
        [("https://partner.example/a", 3), ("https://partner.example/b", 2), ("", 9)],
        10,
        KnownHosts(),
    )
    assert [(c.origin, c.whence, c.requests) for c in came] == [
        ("another site", "partner.example", 5),
        ("direct", "", 5),
    ]
    assert came_from([("https://partner.example/a", 3)], 2, KnownHosts())[0].requests == 3


PAGES = [
    "/visit/opening-hours/",
    "/visit/opening-times/",
    "/makers/harrow-1801/",
    "/catalogue/mantel-clock",
    "/a/",
]


@pytest.mark.parametrize(
    ("path", "meant"),
    [
        ("/visit/opening-hours/.", "/visit/opening-hours/"),
        ("/visit/opening-hours)", "/visit/opening-hours/"),
        ("/visit/opening-hours/%22", "/visit/opening-hours/"),
        ("/visit/opening-hours&quot;", "/visit/opening-hours/"),
        ("/visit/opening-hou", "/visit/opening-hours/"),
        ("/visit/opening-", None),  # two pages begin so
        ("/visit/openinghours/", "/visit/opening-hours/"),
        ("/Visit/Openign-Hours/", "/visit/opening-hours/"),
        ("/makers/harrow-1802/", None),
        ("/catalogue/mantle-clock", "/catalogue/mantel-clock"),
        ("/catalogue/man", None),  # too little is left of it
        ("/catalogue/something-else", None),
        ("/", None),
        ("/)", None),
    ],
)
def test_what_a_damaged_address_was_meant_to_be(path: str, meant: str | None) -> None:
    found = Damage((p, p) for p in PAGES).meant(path)
    assert (found.page if found else None) == meant


def test_the_fewest_answers_that_cover_most() -> None:
    ranked = rank(
        [NextDecision("entry", str(n), (n,), lost, 0) for n, lost in enumerate((1, 50, 9, 40))]
    )
    assert [d.lost for d in ranked] == [50, 40, 9, 1]
    assert enough(ranked) == 2
    assert enough([]) == 0
    assert enough([NextDecision("entry", "x", (1,), 0, 5)]) == 0


def test_only_what_changed_is_news() -> None:
    items = [
        Item(1, "http://www.quillhaven.example/a", FailureState.NEW, 5),
        Item(2, "http://www.quillhaven.example/b", FailureState.RECURRING, 2, "not deployed"),
        Item(3, "http://www.quillhaven.example/c", FailureState.PROVEN, 0),
        Item(4, "http://www.quillhaven.example/d", FailureState.NEW, 40),
        Item(5, "http://www.quillhaven.example/e\x1b[31m", WRONG, 0, "asked now: loop"),
        Item(6, "http://www.quillhaven.example/f", FailureState.DEPLOYED, 0),
        Item(7, "http://www.quillhaven.example/g", FailureState.NEW, 0),  # bots alone
    ]
    before = {
        3: (FailureState.RECURRING, 4.0),
        4: (FailureState.NEW, 10.0),
        6: (FailureState.ANSWERED, 1.0),
    }
    found = news(items, before)
    assert [(n.item.entry, n.kind) for n in found] == [
        (2, "fails again"),
        (5, "answers wrongly"),
        (1, "fails newly"),
        (4, "fails much more"),
        (3, "is mended"),
    ]
    assert news(items, {i.entry: (i.state, i.lost) for i in items}) == []
    assert (
        subject_of("Quillhaven", found)
        == "Quillhaven: addresses fail: 1 again, 1 wrongly, 1 newly, 1 much more"
    )
    assert subject_of("Quillhaven", found[4:]) == "Quillhaven: 1 addresses are mended"
    body = body_of(found, "12 new lines.")
    assert "\x1b" not in body
    assert "not deployed" in body


@pytest.mark.parametrize(
    ("use", "covered", "why"),
    [
        (Use(live="2025-01-01"), 1.0, ""),
        (Use(live="2025-01-01", bots=90), 1.0, ""),
        (Use(live="2025-01-01", last="2025-11-30"), 1.0, ""),
        (Use(live="2025-01-01", last="2026-04-01"), 1.0, "people asked for it"),
        (Use(live="2025-01-01", links=1), 1.0, "others link to it"),
        (Use(live="2025-01-01", impressions=3), 1.0, "search engines show it"),
        (Use(live="2026-01-01"), 1.0, "not live long enough"),
        (Use(), 1.0, "not live long enough"),
        (Use(live="2025-01-01"), 0.5, "the logs do not cover the time"),
    ],
)
def test_a_rule_is_retired_only_where_nobody_needs_it(use: Use, covered: float, why: str) -> None:
    first, last = window("2026-05-31", 182)
    assert (first, last) == ("2025-12-01", "2026-05-31")
    assert why_kept(use, first, covered) == why


@pytest.mark.parametrize(
    ("target", "kind"),
    [
        ("/visit/backup-clocks.html", ""),
        ("/journal/debugging-a-clock/", ""),
        ("/makers/wp.html", ""),
        ("/downloads/catalogue.zip", ""),
        ("/old/1998/index.html", ""),
        ("/test/", "probe"),
        ("/site.zip", "probe"),
        ("/.env.local", "probe"),
        ("/a/b/id_rsa", "probe"),
        ("/login.action", "probe"),
        ("/PhpMyAdmin-5/index.php", "probe"),
        ("/solr/admin/cores", "probe"),
        ("/api/jsonws/invoke", "probe"),
    ],
)
def test_scanners_are_told_from_pages_that_nobody_answered_yet(target: str, kind: str) -> None:
    assert (set_aside_class(target) or doubtful_class(target)) == kind


def test_answers_without_a_rule_are_never_deployed() -> None:
    assert account(told(("11", "404", 1)), Fix(AnswerKind.OPEN, "", LIVE)).state == FailureState.NEW
