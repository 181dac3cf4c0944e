"""Accounts of failures against a second telling, and the days they are drawn up over."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from properties import thorough
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.monitoring.day_totals import DayTotals, totals, weekly_shares
from upright_ledger.core.monitoring.deploy_days import (
    Split,
    is_after,
    is_day,
    label_of,
    span_of,
    split_days,
    splits_of,
    to_the_minute,
)
from upright_ledger.core.monitoring.failure_account import (
    STATES,
    DeploymentContext,
    FailureAccount,
    Fix,
    LogCount,
    RecurrenceReason,
    account,
    is_failure,
    recurrence_reason,
)

LIVE = "2026-05-10T03:00:00Z"
A, B = "http://www.quillhaven.example/a", "http://www.quillhaven.example/A"
COUNTS = st.lists(
    st.builds(
        LogCount,
        st.sampled_from([A, B]),
        st.sampled_from(
            ["2026-05-01", "2026-05-09", "2026-05-10", f"2026-05-10B{LIVE}", f"2026-05-10A{LIVE}",
                "2026-05-11", "2026-05-20"]
        ),
        st.sampled_from(["2xx", "3xx", "404", "410", "4xx", "5xx", "soft 404", "redirect error"]),
        st.booleans(),
        st.integers(0, 9).map(float),
    ),
    max_size=8,
)  # fmt: skip
FIXES = st.builds(Fix, st.sampled_from(list(AnswerKind)), st.just("t"), st.sampled_from(["", LIVE]))


def plainly(counts: list[LogCount], fix: Fix, soft: bool) -> dict[str, object]:
    """The account as one would draw it up on paper."""
    right = {"move": "3xx", "temporary": "3xx", "gone": "410", "keep": "2xx"}.get(fix.kind, "none")

    def after(c: LogCount) -> bool:
        return bool(fix.live) and (c.day == f"2026-05-10A{LIVE}" or c.day[:10] > "2026-05-10")

    def fails(c: LogCount) -> bool:
        if c.status_class == right and not soft:
            return False
        if soft:
            return True
        if c.status_class in {"404", "5xx", "soft 404", "redirect error"}:
            return True
        if c.status_class == "410":
            return fix.kind != "gone"
        leaves = fix.kind in {"move", "temporary", "gone"}
        return c.status_class == "2xx" and leaves and after(c)

    bad = [c for c in counts if fails(c)]
    now = [c for c in bad if after(c) or not fix.live]
    days = sorted(c.day[:10] for c in bad)
    # Over is what failed at first and was answered rightly on all later days.
    ill = [c.day[:10] for c in bad if after(c)]
    well = [
        c.day[:10]
        for c in counts
        if after(c) and not fails(c) and c.status_class == right and not soft
        and c.spelling in {n.spelling for n in now}
    ]  # fmt: skip
    over = bool(ill and well) and max(ill) < min(well)
    return {
        "failed": sum(c.requests for c in bad if c.people),
        "bots": sum(c.requests for c in bad if not c.people),
        "since": sum(c.requests for c in bad if after(c)),
        "right": sum(
            c.requests for c in counts if after(c) and c.status_class == right and not soft
        ),
        "lost": 0.0 if over else sum(c.requests for c in now if c.people),
        "first": days[0] if days else "",
        "last": days[-1] if days else "",
        "named": any(c.requests == 0 for c in now),
        "spellings": {s: sum(c.requests for c in now if c.spelling == s) for s in (A, B)
            if any(c.spelling == s for c in now)},
        "statuses": {s: sum(c.requests for c in bad if c.status_class == s)
            for s in {c.status_class for c in bad}},
    }  # fmt: skip


@thorough
@given(COUNTS, FIXES, st.booleans())
def test_an_account_is_what_one_would_draw_up_on_paper(
    counts: list[LogCount], fix: Fix, soft: bool
) -> None:
    found = account(counts, fix, soft=soft)
    wanted = plainly(counts, fix, soft)
    assert {name: getattr(found, name) for name in wanted} == wanted
    if fix.kind in {"open", "wanted"}:
        state = "new"
    elif fix.kind == "ignore":
        state = "ignored"
    elif not fix.live:
        state = "answered"
    elif (wanted["since"] and not found.is_over) or wanted["named"]:
        state = "recurring"
    else:
        state = "proven" if wanted["right"] else "deployed"
    assert found.state == state


@thorough
@given(COUNTS, COUNTS, FIXES)
def test_no_request_is_lost_or_counted_twice_whatever_the_order(
    some: list[LogCount], more: list[LogCount], fix: Fix
) -> None:
    one, other = account([*some, *more], fix), account([*more, *some], fix)
    assert one == other
    parts = [account(some, fix), account(more, fix)]
    for name in ("failed", "bots", "since", "right"):
        assert getattr(one, name) == sum(getattr(p, name) for p in parts)
    # What is lost is none where the last word is a right answer: only their days add up.
    assert sum(one.days.values()) == sum(sum(p.days.values()) for p in parts)
    assert one.lost in {0.0, sum(one.days.values())}
    assert sum(one.sources.values()) == sum(one.days.values())


def test_states_come_in_the_order_of_what_asks_for_something() -> None:
    assert [str(s) for s in STATES] == [
        "recurring", "new", "answered", "deployed", "proven", "link mended", "ignored",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("status", "kind", "failure"),
    [("404", "move", True), ("410", "gone", False), ("410", "move", True), ("5xx", "gone", True),
        ("2xx", "move", False), ("4xx", "move", False), ("soft 404", "open", True),
        ("redirect error", "keep", True)],
)  # fmt: skip
def test_what_is_a_failure(status: str, kind: str, failure: bool) -> None:
    assert is_failure(status, kind) is failure


def test_a_trend_is_the_last_week_less_the_one_before() -> None:
    days = {f"2026-05-{n:02}": float(n) for n in range(1, 31)}
    assert FailureAccount(days=days).trend("2026-05-20") == sum(range(14, 21)) - sum(range(7, 14))


FIX = Fix(AnswerKind.MOVE, "t", LIVE)


@pytest.mark.parametrize(
    ("spellings", "statuses", "around", "why"),
    [
        ({A}, ["404"], DeploymentContext({}, frozenset({A, B})), RecurrenceReason.OTHER_HOST),
        ({A, B}, ["404"], DeploymentContext({}, frozenset({A})), RecurrenceReason.OVERRULED),
        ({A, B}, ["404"], DeploymentContext({A: False, B: False}), RecurrenceReason.VARIANT),
        ({A, B}, ["404"], DeploymentContext({A: False, B: True}), RecurrenceReason.OVERRULED),
        ({A}, ["404"], DeploymentContext({}, build_works=False), RecurrenceReason.NOT_DEPLOYED),
        ({A}, ["5xx"], DeploymentContext({}), RecurrenceReason.FAILS_THERE),
        ({A}, ["5xx", "404"], DeploymentContext({}), RecurrenceReason.OVERRULED),
        ({A}, ["404", "3xx"], DeploymentContext({}), RecurrenceReason.SOME_NODES),
        ({A}, ["404", "2xx"], DeploymentContext({}), RecurrenceReason.REAL_PAGE),
        (set(), ["404"], DeploymentContext({}), RecurrenceReason.OVERRULED),
    ],
)
def test_why_something_fails_after_its_fix(
    spellings: set[str], statuses: list[str], around: DeploymentContext, why: str
) -> None:
    found = FailureAccount(spellings=dict.fromkeys(spellings, 1.0))
    counts = [LogCount(A, "2026-05-11", s, True, 1) for s in statuses]
    early = [
        LogCount(A, "2026-05-09", "3xx", True, 1),
        LogCount("else", "2026-05-12", "3xx", True, 1),
    ]
    assert recurrence_reason(found, [*early, *counts], FIX, around) == why
    kept = Fix(AnswerKind.KEEP, "t", LIVE)
    page = [LogCount(A, "2026-05-11", "4xx", True, 1)]
    assert (
        recurrence_reason(found, page, kept, DeploymentContext({A: True}))
        == RecurrenceReason.OVERRULED
    )


@pytest.mark.parametrize(
    ("right", "wrong", "state", "why"),
    [
        ((21,), (23,), "recurring", RecurrenceReason.NO_LONGER),
        ((21, 22), (23, 24), "recurring", RecurrenceReason.NO_LONGER),
        ((22,), (22,), "recurring", RecurrenceReason.SOME_NODES),
        ((21, 23), (22,), "recurring", RecurrenceReason.SOME_NODES),
        ((21, 24), (22, 25), "recurring", RecurrenceReason.SOME_NODES),
        ((23, 24), (21, 22), "proven", None),
        ((), (21,), "recurring", RecurrenceReason.OVERRULED),
        ((21,), (), "proven", None),
    ],
)
def test_the_order_of_right_and_wrong_answers_tells_what_happened(
    right: tuple[int, ...], wrong: tuple[int, ...], state: str, why: RecurrenceReason | None
) -> None:
    told = [LogCount(A, f"2026-05-{n}", "3xx", True, 2) for n in right]
    told += [LogCount(A, f"2026-05-{n}", "404", True, 3) for n in wrong]
    # Another spelling, rightly answered all the while, says nothing of this one.
    told += [LogCount(B, f"2026-05-{n}", "3xx", True, 1) for n in range(20, 27)]
    found = account(told, FIX)
    assert found.state == state
    assert found.lost == (3 * len(wrong) if state == "recurring" else 0)
    if why is not None:
        assert recurrence_reason(found, told, FIX, DeploymentContext({A: True})) == why


@pytest.mark.parametrize(
    ("text", "day"),
    [("2026-02-28", True), ("2026-02-29", False), ("1990-01-01", True), ("1989-12-31", False),
        ("20260228", False), ("2026-2-28", False), ("", False), ("2026-W01-1", False)],
)  # fmt: skip
def test_a_day_of_the_calendar(text: str, day: bool) -> None:
    assert is_day(text) is day


def test_times_are_read_to_the_minute() -> None:
    assert to_the_minute("2026-05-14T03:04:05Z") == "2026-05-14 03:04 UTC"
    assert to_the_minute("") == ""


def days(*rows: tuple[int, float]) -> dict[str, float]:
    """Requests on days, counted from the first of January 2026."""
    return {(date(2026, 1, 1) + timedelta(n)).isoformat(): amount for n, amount in rows}


@pytest.mark.parametrize(
    ("rows", "strays"),
    [
        ([(0, 5.0), (1, 5.0)], []), ([(0, 2.0), (32, 50.0), (33, 50.0)], [0]),
        ([(0, 2.0), (31, 50.0), (33, 50.0)], []), ([(0, 3.0), (32, 50.0), (33, 50.0)], []),
        ([(0, 3.0), (40, 5000.0), (41, 5000.0)], [0]), ([(0, 50.0), (1, 50.0), (40, 2.0)], [40]),
        ([(0, 1.0), (50, 1.0), (100, 50.0)], [0, 50]), ([(0, 1.0), (50, 1.0)], []),
        ([(0, 50.0), (201, 2.0), (203, 3.0)], [201, 203]),
        ([(0, 50.0), (201, 4.0), (203, 3.0)], [203]), ([(0, 50.0), (201, 1.0)], [201]),
        ([(0, 5.0), (203, 5.0)], []), ([(203, 5.0)], []), ([], []),
    ],
)  # fmt: skip
def test_what_a_wrong_clock_wrote_is_no_part_of_the_span(
    rows: list[tuple[int, float]], strays: list[int]
) -> None:
    found = days(*rows)
    today = next(iter(days((200, 0))))
    span = span_of(found, today)
    wanted = {d: n for d, n in found.items() if d in days(*((s, 0) for s in strays))}
    assert dict(span.strays) == wanted
    kept = sorted(d for d in found if d not in wanted)
    assert (span.first, span.last) == ((kept[0], kept[-1]) if kept else ("", ""))


def test_a_clock_ahead_of_utc_shows_a_build_on_another_day() -> None:
    assert splits_of(["2026-05-10T23:30:00Z", LIVE], 60) == [
        Split("2026-05-10", 4 * 3600, LIVE),
        Split("2026-05-11", 1800, "2026-05-10T23:30:00Z"),
    ]
    splits = splits_of(["2026-05-10T23:30:00Z"], 60)
    assert split_days(splits) == ["2026-05-10", "2026-05-11"]
    assert label_of("2026-05-10", 86399, splits) == "2026-05-10B2026-05-10T23:30:00Z"
    assert label_of("2026-05-11", 1799, splits) == "2026-05-11B2026-05-10T23:30:00Z"
    assert label_of("2026-05-11", 1800, splits) == "2026-05-11A2026-05-10T23:30:00Z"
    assert label_of("2026-05-12", 0, splits) == "2026-05-12"


def test_what_days_add_up_to() -> None:
    week = {
        f"2026-05-{n:02}": {"2xx": 6.0, "404": 2.0, "410": 1.0, "5xx": 1.0} for n in range(1, 8)
    }
    assert totals(week) == DayTotals(70, 21, 7)
    assert totals(week).share == 0.3
    assert totals({}).share == 0.0
    assert totals({"d": {"2xx": 3.0}, "e": {"4xx": 1.0}}) == DayTotals(4, 0, 0)
    plain = {f"2026-05-{n:02}": {"2xx": float(n)} for n in range(1, 15)}
    late = {f"2026-05-{n:02}": {"404": 1.0} for n in range(15, 22)}
    assert weekly_shares(plain | late) == (0.0, 1.0)
    assert weekly_shares(plain) == (0.0, 0.0)
    assert weekly_shares(week) is None
    later = {f"2026-05-{n:02}": {"2xx": 1.0, "404": 1.0} for n in range(8, 15)}
    assert weekly_shares(week | later) == (0.2, 0.5)
    first = {"2026-04-01": {"404": 9.0}}
    assert weekly_shares(first | week | later) == (0.2, 0.5)
    empty = {f"2026-06-{n:02}": {} for n in range(1, 15)}
    assert weekly_shares(empty) is None  # nothing is known of either week


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
