"""Requests followed through rules and stock, kept in columns, and what they must show."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from properties import thorough
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision, Expected, usual
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.target_pages import Pages, StockPage
from upright_ledger.core.tracing.comparison import (
    Ended,
    about_something_else,
    common_words,
    compared,
    likeness,
    text_likeness,
)
from upright_ledger.core.tracing.expected_outcomes import ExpectedOutcomes
from upright_ledger.core.tracing.offline import trace_offline
from upright_ledger.core.tracing.results import Outcome, Row, TraceTable, outcome_of
from upright_ledger.core.tracing.trace import MAX_HOPS, Hop, Page, Trace
from upright_ledger.core.tracing.verdicts import ORDER, Verdict
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.origins import Sites, group_origins

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"
SITES = Sites(group_origins([OLD]), (NEW, "https://new.example"))
SITE = "quillhaven.example"
NONE = frozenset[str]()


def rules(moves: dict[str, str]) -> RuleSet:
    found = tuple(
        ExactRule(SITE, a, (), (a,), 301 if b else 410, b, OLD + a) for a, b in moves.items()
    )
    return RuleSet(found, {"www.quillhaven.example": SITE}, True, ())


def ended(
    url: str, moves: dict[str, str], stock: dict[str, StockPage] | None = None
) -> tuple[list[int], str, int, bool]:
    trace = trace_offline(parse_address(url), rules(moves), SITES, Pages(stock or {}, SITES), NONE)
    return [h.status for h in trace.hops], trace.final_url, trace.final_status, trace.loops


@pytest.mark.parametrize(
    ("url", "statuses", "final", "status", "loops"),
    [
        (f"{OLD}/none", [404], f"{OLD}/none", 404, False),
        (f"{OLD}/gone", [410], f"{OLD}/gone", 410, False),
        (f"{OLD}/away", [301, 200], "https://new.example/page", 200, False),
        (f"{OLD}/unknown", [301], "https://new.example/unknown", 0, False),
        (f"{OLD}/off", [301, 404], "https://elsewhere.example/", 404, False),
        (f"{OLD}/asked", [301, 200], "https://new.example/asked", 200, False),
        (f"{OLD}/on", [301, 302, 200], "https://new.example/page", 200, False),
        (f"{OLD}/x", [301, 301], f"{NEW}/x", 0, True),
        ("https://new.example/moved", [302, 200], "https://new.example/page", 200, False),
        ("https://new.example/none", [404], "https://new.example/none", 404, False),
    ],
)
def test_a_request_is_followed_to_its_end(
    url: str, statuses: list[int], final: str, status: int, loops: bool
) -> None:
    moves = {
        "/gone": "", "/away": "https://new.example/page", "/unknown": "https://new.example/unknown",
        "/off": "https://elsewhere.example/", "/asked": "https://new.example/asked",
        "/on": "https://new.example/moved", "/x": f"{NEW}/y", "/y": f"{NEW}/x",
    }  # fmt: skip
    stock = {
        "https://new.example/page": StockPage(200),
        "https://new.example/asked": StockPage(0),
        "https://new.example/moved": StockPage(302, "https://new.example/page"),
    }
    found = ended(url, moves, stock)
    if loops:
        assert found[1:] == (f"{NEW}/y", 0, True) or found[3]
    else:
        assert found == (statuses, final, status, loops)


def test_a_way_without_end_is_given_up_where_browsers_do() -> None:
    far = {f"/{n}": f"{NEW}/{n + 1}" for n in range(40)}
    statuses, final, status, loops = ended(f"{OLD}/0", far)
    assert (len(statuses), status, loops) == (MAX_HOPS + 1, 0, True)
    assert final == f"{NEW}/{MAX_HOPS + 1}"
    near = {f"/{n}": f"{NEW}/{n + 1}" for n in range(MAX_HOPS)}
    assert ended(f"{OLD}/0", near)[2:] == (0, False)


_NODES = st.sampled_from(["/a", "/b", "/c", "/d", "/e"])


@thorough
@given(st.dictionaries(_NODES, st.one_of(_NODES, st.just(""))), _NODES)
def test_the_way_is_that_of_a_plain_walk(moves: dict[str, str], start: str) -> None:
    made = {a: f"{NEW}{b}" if b else "" for a, b in moves.items() if a != b}
    way, here = [start], start
    while made.get(here) and len(way) < 20:
        here = made[here].removeprefix(NEW)
        if here in way[1:] or (here == start and len(way) > 1 and made.get(here)):
            way.append(here)
            break
        way.append(here)
    found = ended(f"{OLD}{start}", made)
    if found[3]:
        assert len(set(way)) < len(way)
    else:
        assert found[1].removeprefix(NEW).removeprefix(OLD) == way[-1]
        assert len(way) - 1 == found[0].count(301)


def test_rows_come_out_of_columns_as_they_went_in() -> None:
    url, goal = f"{OLD}/a", f"{NEW}/b?x=1#y"
    plain = trace_offline(parse_address(url), rules({"/a": goal}), SITES, Pages({}, SITES), NONE)
    location, outcome = outcome_of(plain, (Verdict.OK,), goal, 2.5)
    assert (location, outcome) == (goal, Outcome(301, 0, (Verdict.OK,), goal, 2.5))
    long = plain._replace(hops=(*plain.hops, Hop("x", 301, "y", "y"), Hop("y", 200)))
    assert outcome_of(long, (Verdict.CHAIN,), "", 1.0) == (
        "", Outcome(301, 0, (Verdict.CHAIN,), "", 1.0, trace=long),
    )  # fmt: skip
    odd = plain._replace(page=Page("Title"))
    assert outcome_of(odd, (Verdict.OK,), "", 0.0)[1].trace == odd
    answered = Trace(url, (Hop(url, 410),), url, 410)
    assert outcome_of(answered, (Verdict.OK,), "410", 0.0) == (
        "", Outcome(410, 410, (Verdict.OK,), "410"),
    )  # fmt: skip
    table = TraceTable()
    rows = [
        Row(plain, 3, (Verdict.OK,), goal, 2.5),
        Row(long, 1, (Verdict.CHAIN,), "", 1.0),
        Row(answered, 2, (Verdict.OK,), "410"),
    ]
    for row in rows:
        table.append(row)
    table.extend(TraceTable([url], [7], [location], [outcome]))
    assert list(table)[:3] == rows
    assert table[3] == Row(plain, 7, (Verdict.OK,), goal, 2.5)
    assert len(table) == 4
    assert list(table[1:3]) == rows[1:3]
    again = TraceTable(["b", "a", "c"], [1, 2, 3], ["", "", ""], [outcome] * 3)
    assert again.in_order(["c", "a"]).urls == ["c", "a", "b"]
    assert again.in_order(["c", "a"]).hits == [3, 2, 1]
    page = Trace(url, (plain.hops[0], Hop(f"{NEW}/b?x=1", 200)), goal, 200)
    assert outcome_of(page, (Verdict.OK,), "", 0.0)[1].trace is None
    other = Trace(url, (plain.hops[0], Hop(f"{NEW}/c", 200)), goal, 200)
    assert outcome_of(other, (Verdict.OK,), "", 0.0)[1].trace == other


def entry(number: int, key: str, answer: Decision, **more: object) -> Entry:
    return Entry(number, SITE, key, OLD + key, answer, **more)  # type: ignore[arg-type]


def outcomes(
    *entries: Entry, formed: str = "", kept: dict[str, str] | None = None
) -> ExpectedOutcomes:
    def canonicalised(_: Address) -> str:
        return formed

    named = {(SITE, path): page for path, page in (kept or {}).items()}
    return ExpectedOutcomes(
        SITES, FoldingPolicy(), {(e.site, e.key): e for e in entries}, canonicalised,
        lambda: named, str.lower,
    )  # fmt: skip


def test_what_is_due_follows_from_the_entry_of_an_address() -> None:
    move = entry(1, "/a", usual(AnswerKind.MOVE, "https://new.example/a"))
    due = outcomes(move)
    assert due.entry_of(parse_address(f"{OLD}/A/?utm_id=1")) is move
    assert due.entry_of(parse_address("http://elsewhere.example/a")) is None
    assert due.of(parse_address(f"{OLD}/none")) == Expected(kind=AnswerKind.OPEN)
    found = due.of(parse_address(f"{OLD}/A/"))
    assert (found.final, found.kind, found.language, found.meant) == (
        "https://new.example/a", "move", "", False,
    )  # fmt: skip


def test_what_a_person_chose_is_meant_and_a_language_is_told_by_its_code() -> None:
    goal = usual(AnswerKind.MOVE, "https://new.example/a")
    chosen = outcomes(entry(1, "/a", goal, by=AnsweredBy.PERSON)).of(parse_address(f"{OLD}/a"))
    assert (chosen.meant, chosen.language) == (True, "")
    spoken = outcomes(entry(1, "/a", goal, language="de-AT", by=AnsweredBy.MATCH))
    assert spoken.of(parse_address(f"{OLD}/a")).language == "de"
    assert not spoken.of(parse_address(f"{OLD}/a")).meant


def test_a_destination_that_moves_on_is_not_where_to_arrive() -> None:
    chain = outcomes(
        entry(1, "/a", usual(AnswerKind.MOVE, f"{NEW}/b")),
        entry(2, "/b", usual(AnswerKind.TEMPORARY, f"{NEW}/c")),
        entry(3, "/c", usual(AnswerKind.GONE)),
        entry(4, "/x", usual(AnswerKind.MOVE, f"{NEW}/y")),
        entry(5, "/y", usual(AnswerKind.MOVE, f"{NEW}/x")),
    )
    found = chain.of(parse_address(f"{OLD}/a"))
    assert (found.final, found.kind, sorted(found.statuses)) == (f"{NEW}/c", "move", [301, 308])
    assert chain.of(parse_address(f"{OLD}/x")).final == f"{NEW}/x"


def test_forms_and_kept_pages_say_where_their_addresses_end() -> None:
    ignored = entry(1, "/n", Decision(AnswerKind.IGNORE))
    keep = entry(2, "/k", Decision(AnswerKind.KEEP))
    there = parse_address(f"{OLD}/k")
    assert outcomes(ignored).of(parse_address(f"{OLD}/n")).kind == "ignore"
    assert outcomes(ignored, formed="https://f").of(parse_address(f"{OLD}/n")).kind == "open"
    assert outcomes(keep).of(there).final == f"{OLD}/k"
    assert outcomes(keep, formed=f"{NEW}/k").of(there).final == f"{NEW}/k"
    spelled = outcomes(keep, kept={"/k": f"{NEW}/page"}).of(there)
    assert (spelled.final, spelled.kind) == (f"{NEW}/page", "move")
    gone = entry(3, "/k", usual(AnswerKind.GONE))
    assert outcomes(gone, kept={"/k": f"{NEW}/page"}).of(there).kind == "gone"


@pytest.mark.parametrize(
    ("before", "after", "became"),
    [
        (None, "ok", "added"), ("ok", None, "missing"), ("chain", "ok", "better"),
        ("ok", "chain", "worse"), ("ok", "ok", "same"), ("ok", "ok elsewhere", "elsewhere"),
    ],
)  # fmt: skip
def test_two_runs_side_by_side(before: str | None, after: str | None, became: str) -> None:
    def end(text: str | None) -> Ended | None:
        if text is None:
            return None
        verdict, _, url = text.partition(" ")
        return Ended(Verdict(verdict), url)

    assert compared(end(before), end(after)) == became
    assert [compared(Ended(v, ""), Ended(Verdict.OK, "")) for v in ORDER[:-1]] == ["better"] * 15


def test_pages_are_alike_by_the_words_that_tell_them_apart() -> None:
    titles = [f"Clock {w} | Quillhaven" for w in "abc"]
    assert common_words(titles) == {"clock", "quillhaven"}
    assert common_words(["Same", "Same"]) == {"same"}
    assert common_words(["Same"]) == common_words([]) == common_words(["", ""]) == frozenset()
    many = [f"a{w} three" for w in "bcde"] + [f"x{w} two" for w in "bcd"] + ["u", "v", "w"]
    assert common_words(many) == {"three"}
    quill = frozenset({"quillhaven"})
    assert likeness(["Big clock Quillhaven"], ["clock"], quill, NONE) == 1.0
    assert likeness(["big clock", "x y"], ["small clock", "bell"], NONE, NONE) == 0.5
    assert likeness(["quillhaven"], ["clock"], quill, NONE) is None
    assert likeness([], ["clock"], NONE, NONE) is None
    eight = "a b c d e f g h"
    assert text_likeness(eight, eight + " i", NONE, NONE) == 1.0
    assert text_likeness(eight, "a b c d w x y z q", NONE, NONE) == 0.5
    assert text_likeness(eight, eight, frozenset("a"), NONE) is None
    assert text_likeness("a b", eight, NONE, NONE) is None


@pytest.mark.parametrize(
    ("titles", "texts", "other"),
    [
        (None, None, False), (0.1, None, True), (0.2, None, False), (None, 0.1, True),
        (None, 0.2, False), (0.4, 0.1, True), (0.5, 0.1, False), (0.1, 0.3, False),
    ],
)  # fmt: skip
def test_pages_about_something_else(titles: float | None, texts: float | None, other: bool) -> None:
    assert about_something_else(titles, texts) is other
