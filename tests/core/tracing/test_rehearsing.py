"""Many requests rehearsed at once: each ends as it would alone, and a run is kept as it was."""

from __future__ import annotations

import random

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
from upright_ledger.core.rules.target_pages import Pages, StockPage
from upright_ledger.core.tracing.offline import trace_offline
from upright_ledger.core.tracing.rehearsal import Rehearsal
from upright_ledger.core.tracing.results import Row, TraceTable
from upright_ledger.core.tracing.root_causes import with_rules
from upright_ledger.core.tracing.verdicts import judge
from upright_ledger.core.url.address import Address
from upright_ledger.ledger.tables.runs.trace_blocks import pack, unpack

HOMES = frozenset({f"{NEW}/"})
POLICY = FoldingPolicy()


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

    def due(entry: Decision | None, address: Address) -> tuple[Expected, float]:
        if entry is None:
            return Expected(kind=AnswerKind.OPEN), 0.0
        return expected_outcome(entry, address.without_fragment), 2.5

    rehearsal = Rehearsal(rules, SITES, pages, HOMES, POLICY, due)
    rows = TraceTable()
    for (url, entry), (location, outcome) in zip(
        whose.items(), rehearsal.ask(whose.items()), strict=True
    ):
        rows.extend(TraceTable([url], [3], [location], [outcome]))
        expected, value = due(entry, _as_sent(url))
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
