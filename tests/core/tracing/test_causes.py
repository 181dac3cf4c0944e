"""Why a trace is longer than one hop, what mends it, and how it is told."""

from __future__ import annotations

import itertools

import pytest

from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.tracing.results import Row, whose
from upright_ledger.core.tracing.root_causes import HopCause, hop_causes, remedy_of, with_rules
from upright_ledger.core.tracing.trace import Hop, Page, Trace
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.core.url.conventions import INDEX_FILES
from upright_ledger.core.url.difference import what_changed

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"
CHAIN = (Verdict.CHAIN,)
INDEX = frozenset(INDEX_FILES)


def way(*urls: str, status: int = 301, how: str = "") -> Trace:
    """A trace that leads from each address to the next, and ends in a page."""
    hops = [
        Hop(a, status, b, b, what_changed(a, b, INDEX), how=how)
        for a, b in itertools.pairwise(urls)
    ]
    return Trace(urls[0], (*hops, Hop(urls[-1], 200)), urls[-1], 200)


@pytest.mark.parametrize(
    ("verdict", "expected", "final", "remedy"),
    [
        ("loop", "", 0, "break-loop"), ("unreachable", "", 0, "look-at-server"),
        ("unanswered", "", 404, "decide"), ("unanswered", f"{NEW}/a", 404, "send-there"),
        ("unanswered", "410", 404, "decide"), ("chain", f"{NEW}/a", 200, "one-rule"),
        ("chain", f"{NEW}/a", 399, "one-rule"), ("chain", f"{NEW}/a", 400, "page"),
        ("chain", f"{OLD}/a", 200, "settle-form"),
        ("slash-mismatch", f"{NEW}/a", 200, "lead-there"),
        ("slash-mismatch", f"{OLD}/a", 404, "settle-form"),
        ("wrong-status", f"{OLD}/a", 200, "status"), ("ok", "", 200, ""),
    ],
)  # fmt: skip
def test_what_would_mend_a_trace(verdict: str, expected: str, final: int, remedy: str) -> None:
    trace = Trace(f"{OLD}/a", (), f"{NEW}/a", final)
    assert remedy_of(trace, (Verdict(verdict),), expected) == remedy
    home = Trace(f"{OLD}/a", (), f"{OLD}/a", 200)
    assert remedy_of(home, CHAIN, "410") == "settle-form"


def test_hops_name_the_rule_that_gives_the_same_answer_or_the_server() -> None:
    rule = ExactRule("q", "/a", (), ("/a",), 301, f"{NEW}/b", f"{OLD}/a")
    rules = RuleSet((rule,), {"www.quillhaven.example": "q"}, True, ())
    found = with_rules(way(f"{OLD}/a", f"{NEW}/b", f"{NEW}/b/"), rules)
    assert [h.rule for h in found.hops] == [f"{OLD}/a", "the server itself", ""]
    other = with_rules(way(f"{OLD}/a", f"{NEW}/c"), rules)
    assert other.hops[0].rule == "the server itself"
    temporary = with_rules(way(f"{OLD}/a", f"{NEW}/b", status=302), rules)
    assert temporary.hops[0].rule == "the server itself"


@pytest.mark.parametrize(
    ("before", "after", "text"),
    [
        (f"{OLD}/b", f"{NEW}/b", f"301 from {OLD} to {NEW}"),
        (f"{NEW}/b", f"{NEW}/b/", f"301 that puts a closing slash on at {NEW}"),
        (f"{NEW}/b/", f"{NEW}/b", f"301 that takes the closing slash off at {NEW}"),
        (f"{NEW}/B", f"{NEW}/b", f"301 that changes case at {NEW}"),
        (f"{NEW}/B", f"{NEW}/b/", f"301 that changes slash and case at {NEW}"),
        (f"{NEW}/b/index.html", f"{NEW}/b/", f"301 that changes index file at {NEW}"),
        (f"{OLD}/B", f"{NEW}/b", f"301 that changes scheme and case at {OLD}"),
        (f"{NEW}/b", f"{NEW}/c", f"301 by a further rule, at {NEW}"),
        (f"{NEW}/b?x=1", f"{NEW}/b", f"301 by a further rule, at {NEW}"),
        (f"{NEW}/b", f"{NEW}/b", "301 back to the same address"),
    ],
)
def test_each_hop_too_many_has_one_setting_that_makes_it(
    before: str, after: str, text: str
) -> None:
    trace = way(f"{OLD}/a", before, after)
    (found,) = hop_causes([(trace, 5, CHAIN, "")])
    assert found == HopCause(text, 1, 5, f"{OLD}/a")
    refreshed = way(f"{OLD}/a", before, after, status=200, how="refresh")
    (told,) = hop_causes([(refreshed, 5, CHAIN, "")])
    assert told.text == text.replace("301", "a page's refresh")


def test_causes_are_counted_once_a_trace_and_the_commonest_comes_first() -> None:
    slash = way(f"{NEW}/x", f"{NEW}/x/", f"{OLD}/y/", f"{OLD}/y", f"{NEW}/y")
    host = way(f"{OLD}/a", f"{NEW}/b", f"{NEW}/b/", f"{OLD}/b/", f"{NEW}/b/")
    rows = [
        (host, 2.0, CHAIN, ""),
        (host._replace(url=f"{OLD}/second"), 3.0, (Verdict.WRONG_STATUS, Verdict.CHAIN), ""),
        (slash, 7.0, (Verdict.OK,), ""),
        (way(f"{OLD}/c", f"{NEW}/d", f"{NEW}/d/"), 1.0, CHAIN, ""),
    ]
    found = hop_causes(rows)
    assert [(c.text, c.urls, c.hits, c.example) for c in found] == [
        (f"301 that puts a closing slash on at {NEW}", 3, 6.0, f"{OLD}/a"),
        (f"301 from {OLD} to {NEW}", 2, 5.0, f"{OLD}/a"),
        (f"301 from {NEW} to {OLD}", 2, 5.0, f"{OLD}/a"),
    ]


@pytest.mark.parametrize(
    ("final", "expected", "text"),
    [
        (f"{NEW}/b", f"{NEW}/b/", "a destination without its closing slash"),
        (f"{NEW}/b/", f"{NEW}/b", "a destination with a closing slash too many"),
        (f"{NEW}/b/", f"{NEW}/c", ""),
        (f"{NEW}/b/", "", ""),
    ],
)
def test_a_destination_with_the_wrong_slash_is_a_cause(
    final: str, expected: str, text: str
) -> None:
    found = hop_causes([(way(f"{OLD}/a", final), 1, (Verdict.SLASH_MISMATCH,), expected)])
    assert [c.text for c in found] == ([text] if text else [])
    assert hop_causes([(way(f"{OLD}/a", final), 1, CHAIN, expected)]) == []


def test_a_row_tells_its_way_where_it_is_not_one_clean_answer() -> None:
    long = way(f"{OLD}/a", f"{NEW}/b", f"{NEW}/b/")
    named = long._replace(
        hops=(long.hops[0]._replace(rule=f"{OLD}/a"),
            long.hops[1]._replace(rule="the server itself"),
            long.hops[2])
    )  # fmt: skip
    assert Row(named, 1, CHAIN, "").detail == (
        "301 changes scheme and content, by the rule of /a, then 301 changes slash, by the server "
        "itself"
    )
    assert Row(way(f"{OLD}/a", f"{NEW}/b"), 1, (Verdict.OK,), "").detail == ""
    slash = way(f"{NEW}/a", f"{NEW}/a/", status=200, how="refresh")
    assert Row(slash, 1, (Verdict.SLASH_MISMATCH,), "").detail == "a refresh changes slash"
    same = way(f"{NEW}/a", f"{NEW}/a", f"{NEW}/a")
    assert Row(same, 1, CHAIN, "").detail == "301 changes nothing, then 301 changes nothing"
    dead = Trace(f"{OLD}/a", (Hop(f"{OLD}/a", 0, error="no route"),), f"{OLD}/a", 0, Page())
    assert Row(dead, 1, (Verdict.UNREACHABLE,), "").detail == "no route"
    assert Row(dead, 1, (Verdict.UNREACHABLE, Verdict.OK), "").verdict == "unreachable"
    assert Row(Trace("x", (), "x", 0), 1, CHAIN, "").detail == ""
    assert (whose(""), whose("rules:3"), whose("http://a.example/x/y")) == (
        "", ", by rules:3", ", by the rule of /x/y",
    )  # fmt: skip
