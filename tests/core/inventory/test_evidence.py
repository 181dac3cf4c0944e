"""Evidence, its value, advice from it, and what answers expect."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from properties import thorough
from upright_ledger.core.inventory.advice import advice
from upright_ledger.core.inventory.answer import (
    STATUSES,
    AnswerKind,
    Decision,
    Expected,
    answer_of,
    expected_outcome,
    expected_text,
    usual,
)
from upright_ledger.core.inventory.declared_paths import declared_paths, unanswerable
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.evidence import (
    EntryEvidence,
    Figure,
    Weights,
    added_up,
    per_30_days,
    status_class,
    value,
)
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.packed import NO_DAYS, PackedDays
from upright_ledger.core.url.address import parse_address

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"


@pytest.mark.parametrize(
    ("figures", "worth"),
    [
        ({}, 0), ({"hits": 10}, 10), ({"hits": 10, "visits": 30, "clicks": 20}, 30),
        ({"hits": 10, "visits": 3, "clicks": 20}, 20),
        ({"linking domains": 2, "linking pages": 50}, 10), ({"linking pages": 50}, 50),
        ({"impressions": 1000}, 10), ({"listed": 99}, 0),
        ({"visits": 5, "linking domains": 1, "impressions": 100}, 11),
    ],
)  # fmt: skip
def test_the_value_formula(figures: dict[str, float], worth: float) -> None:
    assert value(figures, Weights()) == worth


def test_weights_weigh_each_its_own_figure() -> None:
    figures = {"clicks": 7.0, "linking domains": 11.0, "impressions": 13.0}
    assert value(figures, Weights(2, 3, 5, 17)) == 2 * 7 + 3 * 11 + 17 * 13
    assert value({"linking pages": 11.0}, Weights(2, 3, 5, 17)) == 5 * 11


@thorough
@given(
    st.dictionaries(
        st.sampled_from(["hits", "visits", "clicks", "linking pages", "impressions"]),
        st.floats(0, 1e6),
    ),
    st.sampled_from(["hits", "visits", "clicks", "linking pages", "impressions"]),
    st.floats(0, 1e6),
)
def test_more_evidence_is_never_worth_less(
    figures: dict[str, float], unit: str, more: float
) -> None:
    grown = figures | {unit: figures.get(unit, 0.0) + more}
    assert value(grown, Weights()) >= value(figures, Weights())


@pytest.mark.parametrize(
    ("amount", "days", "rate"), [(90, 90, 30), (10, 15, 20), (10, 0, 10), (10, -1, 10), (1, 1, 30)]
)
def test_amounts_are_compared_per_30_days(amount: float, days: int, rate: float) -> None:
    assert per_30_days(amount, days) == rate


@pytest.mark.parametrize(
    ("status", "name"),
    [(404, "404"), (410, "410"), (403, "4xx"), (200, "2xx"), (301, "3xx"), (599, "5xx"), (0, "")],
)
def test_statuses_are_told_by_their_hundred_but_for_two(status: int, name: str) -> None:
    assert status_class(status) == name


def test_figures_of_one_sort_are_added_up_and_days_with_them() -> None:
    one, two = PackedDays("2026-05-01:1 2026-05-02:2"), PackedDays("2026-05-02:5")
    alone = Figure("visits", 9, "", "")
    assert added_up(
        [
            Figure("hits", 3, "404", "people", one),
            alone,
            Figure("hits", 5, "404", "people", two),
            Figure("hits", 7, "404", "people"),
            Figure("hits", 8, "404", "bots", two),
            Figure("hits", 1, "2xx", "people"),
            Figure("hits", 4, "404", "people"),
        ]
    ) == [
        Figure("hits", 8, "404", "people", PackedDays("2026-05-01:1 2026-05-02:7")),
        alone,
        Figure("hits", 11, "404", "people", NO_DAYS),
        Figure("hits", 8, "404", "bots", two),
        Figure("hits", 1, "2xx", "people"),
    ]
    assert added_up([]) == []


@pytest.mark.parametrize(
    ("evidence", "proposal", "fallback", "said"),
    [
        (EntryEvidence(links=1), True, True, ""),
        (EntryEvidence(links=1, hits=1), False, True, "its section's page keeps the links"),
        (EntryEvidence(links=1), False, False, "a page that serves the same need"),
        (EntryEvidence(hits=1), False, False, "people ask for it"),
        (EntryEvidence(visits=1), False, True, "people ask for it"),
        (EntryEvidence(clicks=1), False, True, "people ask for it"),
        (EntryEvidence(impressions=1, bot_requests=9), False, True, "nobody links to it or asks"),
    ],
)
def test_advice_follows_the_evidence(
    evidence: EntryEvidence, proposal: bool, fallback: bool, said: str
) -> None:
    told = advice(evidence, has_proposal=proposal, has_fallback=fallback)
    assert said in told
    assert bool(told) is bool(said)
    assert told[:12] == ("no page fits" if said else "")


@pytest.mark.parametrize(
    ("answer", "expected"),
    [
        (
            Decision(AnswerKind.MOVE, 301, f"{NEW}/x/"),
            Expected(frozenset({301, 308}), f"{NEW}/x/", True, AnswerKind.MOVE),
        ),
        (
            Decision(AnswerKind.TEMPORARY, 302, f"{NEW}/x/"),
            Expected(frozenset({302, 307}), f"{NEW}/x/", True, AnswerKind.TEMPORARY),
        ),
        (Decision(AnswerKind.GONE, 410), Expected(frozenset({410}), "", False, AnswerKind.GONE)),
        (
            Decision(AnswerKind.KEEP),
            Expected(frozenset({200}), f"{OLD}/own", None, AnswerKind.KEEP),
        ),
        (Decision(AnswerKind.IGNORE), Expected(redirects=False, kind=AnswerKind.IGNORE)),
        (Decision(AnswerKind.OPEN), Expected(frozenset({301, 308}), kind=AnswerKind.OPEN)),
        (Decision(AnswerKind.WANTED), Expected(frozenset({301, 308}), kind=AnswerKind.WANTED)),
    ],
)
def test_what_each_answer_expects(answer: Decision, expected: Expected) -> None:
    assert expected_outcome(answer, f"{OLD}/own") == expected
    assert answer.has_rule is (answer.kind in {"move", "temporary", "gone"})
    due = "" if answer.kind in {"open", "wanted"} else ",".join(map(str, sorted(expected.statuses)))
    assert expected_text(expected) == (expected.final or due)


def test_statuses_and_answers_belong_together() -> None:
    for status, kind in STATUSES.items():
        assert answer_of(status, "/x") == Decision(kind, status, "/x")
    assert answer_of(0, "/x") == Decision(AnswerKind.KEEP)
    assert [(d.status, d.destination) for d in map(usual, AnswerKind, "abcdefg")] == [
        (301, "a"), (302, "b"), (410, "c"), (0, "d"), (0, "e"), (0, "f"), (0, "g"),
    ]  # fmt: skip
    assert usual(AnswerKind.GONE) == Decision(AnswerKind.GONE, 410, "")
    due = Expected(frozenset({308, 301}), kind=AnswerKind.MOVE)
    assert expected_text(due) == "301,308"
    assert expected_text(due._replace(kind=AnswerKind.OPEN)) == ""


@pytest.mark.parametrize(
    ("path", "variants", "case", "declared"),
    [
        ("/a", {"/A/Index.html"}, "fold", ("/a", "/a/", "/a/index.html")),
        ("/a.pdf", set(), "fold", ("/a.pdf",)),
        ("/a.pdf", {"/a.pdf/"}, "fold", ("/a.pdf", "/a.pdf/")),
        ("/", {"/index.php"}, "fold", ("/", "/index.php")),
        ("/A", {"/A/", "/A/B%C3%A9"}, "exact", ("/A", "/A/", "/A/B%C3%A9", "/A/B%E9")),
        ("/caf%C3%A9", set(), "fold", ("/caf%C3%A9", "/caf%C3%A9/", "/caf%E9", "/caf%E9/")),
        ("/a", {"/CAF%E9"}, "fold", ("/a", "/a/", "/caf%C3%A9", "/caf%E9")),
    ],
)
def test_every_path_that_a_rule_answers(
    path: str, variants: set[str], case: str, declared: tuple[str, ...]
) -> None:
    assert declared_paths(path, frozenset(variants), FoldingPolicy(case=case)) == declared


def test_what_no_rule_could_answer() -> None:
    assert unanswerable(parse_address(f"{OLD}/a%2Fb"))
    assert not unanswerable(parse_address(f"{OLD}/a?b=%2F"))


def test_an_entry_was_asked_for_in_all_its_spellings() -> None:
    entry = Entry(1, "s", "/a?b=1?c", f"{OLD}:81/a?b=1?c", variants=("/A", "/a/"))
    assert list(entry.requests) == [
        ("www.quillhaven.example:81", "/A?b=1?c"),
        ("www.quillhaven.example:81", "/a/?b=1?c"),
    ]
