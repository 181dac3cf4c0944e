"""Many requests rehearsed at once: each ends as it would alone, and a run is kept as it was."""

from __future__ import annotations

import pickle
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conformance import HOSTS, NEW, SITES, make_requests, make_rules
from properties import in_brief
from upright_ledger.core.inventory.answer import (
    ANSWERS,
    AnswerKind,
    Decision,
    Expected,
    expected_outcome,
    expected_text,
)
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.target_pages import Pages, StockPage
from upright_ledger.core.tracing.answer_columns import AnswerColumns
from upright_ledger.core.tracing.offline import trace_offline
from upright_ledger.core.tracing.redirect_ends import RedirectEnds
from upright_ledger.core.tracing.rehearsal import Rehearsal, Rehearsed
from upright_ledger.core.tracing.request_columns import RequestColumns
from upright_ledger.core.tracing.results import Row, TraceTable
from upright_ledger.core.tracing.root_causes import with_rules
from upright_ledger.core.tracing.verdicts import judge
from upright_ledger.core.url.address import Address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.ledger.tables.runs.trace_blocks import pack, unpack

HOMES = frozenset({f"{NEW}/"})
POLICY = FoldingPolicy()


def in_columns(
    rehearsal: Rehearsal[Decision], urls: list[str], whose: list[Decision | None]
) -> Rehearsed:
    """As workers are asked: what answers goes over a wire."""
    columns = pickle.loads(pickle.dumps(AnswerColumns(rehearsal.ends)))
    return RequestColumns(rehearsal).judge(urls, whose, columns.ask(urls))


@in_brief
@given(seed=st.integers(0, 1 << 30))
def test_short_cuts_change_nothing(seed: int) -> None:
    rng = random.Random(seed)
    rules = make_rules(rng)
    requests = [
        (host, target) for host, target in make_requests(rng, rules, 150) if target.startswith("/")
    ]
    requests += [(host, path) for rule in rules.rules for path in rule.paths for host in HOSTS]
    goals = [rule.destination for rule in rules.rules if rule.destination] + [f"{NEW}/"]
    stock = {
        goal: StockPage(rng.choice((200, 200, 301, 404)), rng.choice(goals))
        for goal in rng.sample(goals, len(goals) // 2)
    }
    pages = Pages(stock, SITES)
    whose: dict[str, Decision | None] = {}
    for host, target in requests:
        answer = rules.answer(host, target, "http")
        goal = (
            answer.location.partition("?")[0]
            if answer and answer.location and rng.random() < 0.7
            else rng.choice(goals)
        )
        kind = rng.choice(ANSWERS)
        given_status = {"move": 301, "temporary": 302, "gone": 410}.get(kind, 0)
        url = _as_sent(f"{rng.choice(('http', 'https'))}://{host.lower()}{target}").without_fragment
        whose[url] = rng.choice(
            (None, Decision(kind, given_status, goal if given_status in {301, 302} else ""))
        )

    def due(entry: Decision | None, url: str) -> tuple[Expected, float]:
        if entry is None:
            return Expected(kind=AnswerKind.OPEN), 0.0
        return expected_outcome(entry, url), 2.5

    rehearsal = Rehearsal(RedirectEnds(rules, SITES, pages), HOMES, POLICY, due)
    rows = TraceTable()
    found = in_columns(rehearsal, [*whose], [*whose.values()])
    for (url, entry), location, outcome in zip(whose.items(), *found, strict=True):
        rows.extend(TraceTable([url], [3], [location], [outcome]))
        expected, value = due(entry, url)
        trace = trace_offline(_as_sent(url), rules, SITES, pages, POLICY.index_set)
        verdicts = judge(trace, expected, HOMES, POLICY)
        if verdicts[0] != "ok":
            trace = with_rules(trace, rules)
        assert rows[-1] == Row(trace, 3, verdicts, expected_text(expected), value)
    assert list(unpack(pack(rows))) == list(rows)


def _as_sent(url: str) -> Address:
    scheme, _, rest = url.partition("://")
    host, _, target = rest.partition("/")
    path, _, query = f"/{target}".partition("?")
    return Address(scheme, host, "", path, query)


GOALS = [
    *(
        NEW + tail
        for tail in ("/", "/?x=1", "/de/", "/de/x", "/n", "/n?x=1", "/n#top", "/N", "/n//x")
    ),
    "https://new.example/n",
    "https://new.example/de/n",
    "https://x.example/",
]
SOURCES = ["/a", "/b/c", "/de/a", "/en/a", "/A", "/a?x=1", "/gone", "/none", "/robots.txt"]


@in_brief
@given(
    moves=st.dictionaries(st.sampled_from(SOURCES[:6]), st.tuples(st.sampled_from([301, 302, 307]),
        st.sampled_from(GOALS)), min_size=1),
    stock=st.dictionaries(st.sampled_from(GOALS), st.sampled_from([0, 200, 204, 299, 301, 404])),
    dues=st.lists(st.tuples(st.sampled_from(SOURCES), st.sampled_from(["", *ANSWERS]),
        st.sampled_from(GOALS))),
    hosts=st.sampled_from([("www.quillhaven.example",), ("www.quillhaven.example", "x.example")]),
)  # fmt: skip
def test_homes_languages_and_dead_ends_are_judged_as_one_by_one(
    moves: dict[str, tuple[int, str]],
    stock: dict[str, int],
    dues: list[tuple[str, str, str]],
    hosts: tuple[str, ...],
) -> None:
    found = tuple(
        ExactRule("q", p, (), (p,), status, goal, f"http://www.quillhaven.example{p}")
        for path, (status, goal) in moves.items()
        if (p := path.partition("?")[0]) == path
    )
    gone = ExactRule("q", "/gone", (), ("/gone",), 410, "", "gone")
    rules = RuleSet((*found, gone), {"www.quillhaven.example": "q"}, True, ("utm_source",))
    pages = Pages({k: StockPage(v) for k, v in stock.items()}, SITES)
    asked: list[tuple[str, Decision | None]] = [(f"http://{hosts[0]}{s}", None) for s in SOURCES]
    for source, kind, goal in dues:
        status = {"move": 301, "temporary": 302, "gone": 410}.get(kind, 0)
        url = f"http://{hosts[-1]}{source}"
        if not kind:
            asked.append((url, None))
            continue
        there = goal if status in {301, 302} else ""
        asked.append((url, Decision(AnswerKind(kind), status, there)))

    def due_of(entry: Decision | None, url: str) -> tuple[Expected, float]:
        if entry is None:
            return Expected(kind=AnswerKind.OPEN), 0.0
        return expected_outcome(entry, url), 2.5

    rehearsal = Rehearsal(RedirectEnds(rules, SITES, pages), HOMES, POLICY, due_of)
    answered = in_columns(rehearsal, [url for url, _ in asked], [entry for _, entry in asked])
    for (url, entry), location, outcome in zip(asked, *answered, strict=True):
        (row,) = TraceTable([url], [1], [location], [outcome])
        expected, value = due_of(entry, url)
        trace = trace_offline(_as_sent(url), rules, SITES, pages, POLICY.index_set)
        verdicts = judge(trace, expected, HOMES, POLICY)
        trace = trace if verdicts[0] == "ok" else with_rules(trace, rules)
        assert row == Row(trace, 1, verdicts, expected_text(expected), value), (url, entry)


def test_what_plainly_ends_well_is_not_looked_at_twice(monkeypatch: pytest.MonkeyPatch) -> None:
    """Each short way is taken: without one, a million requests take an hour."""
    rules = RuleSet(
        (
            ExactRule("q", "/a", (), ("/a", "/a/"), 301, "https://new.example/n", "a"),
            ExactRule("q", "/gone", (), ("/gone",), 410, "", "g"),
        ),
        {"www.quillhaven.example": "q"},
        True,
        (),
    )
    looked: list[str] = []
    whole = Rehearsal.whole

    def counted(self: Rehearsal[Decision], url: str, due: Decision | None) -> object:
        looked.append(url)
        return whole(self, url, due)

    monkeypatch.setattr(Rehearsal, "whole", counted)
    judged: list[str] = []

    def due_of(entry: Decision | None, url: str) -> tuple[Expected, float]:
        judged.append(url.removeprefix(host))
        return expected_outcome(entry or Decision(AnswerKind.OPEN), url), 1.0

    host = "http://www.quillhaven.example"
    move = Decision(AnswerKind.MOVE, 301, "https://new.example/n")
    asked = [(f"{host}/a", move), (f"{host}/a/", move), (f"{host}/gone", None),
        (f"{host}/gone", None), (f"{host}/none", None), (f"{host}/none", None),
        (f"{host}/a", None)]  # fmt: skip
    apart = Sites(group_origins([host]), ("https://new.example",))
    stock = Pages({"https://new.example/n": StockPage(200)}, apart)
    rehearsal = Rehearsal(RedirectEnds(rules, apart, stock), HOMES, POLICY, due_of)
    locations, outcomes = in_columns(
        rehearsal, [url for url, _ in asked], [due for _, due in asked]
    )
    assert looked == []
    assert sorted(judged) == ["/a", "/a/", "/gone", "/none"], "what nobody decided is judged once"
    assert outcomes[2] is outcomes[3]
    assert outcomes[0] is outcomes[1]
    found = zip(locations, outcomes, strict=True)
    assert [(location, o.status, o.final_status) for location, o in found] == [
        ("https://new.example/n", 301, 200), ("https://new.example/n", 301, 200), ("", 410, 410),
        ("", 410, 410), ("", 404, 404), ("", 404, 404), ("https://new.example/n", 301, 200),
    ]  # fmt: skip
