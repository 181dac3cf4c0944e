"""The short way for plain answers ends where the careful way does, whatever the answers are."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawn_moves import FAR, OLD, SITES, drawn
from properties import thorough
from upright_ledger.core.checks.compiled_rules import CompiledRules
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.told_answers import STATUSES, Told
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.rule_answers import RuleAnswers
from upright_ledger.core.rules.target_pages import StockPage


@thorough
@given(seed=st.integers(0, 1 << 40))
def test_both_ways_find_and_make_the_same(seed: int) -> None:
    short, careful = drawn(seed, short=True), drawn(seed, short=False)
    assert short.findings == careful.findings
    assert short.rules.rules == careful.rules.rules
    assert short.rules.digest == careful.rules.digest
    assert short.held_back == careful.held_back
    assert short.proof == careful.proof
    assert len(short) == len(careful)
    assert sorted(short.answers) == sorted(careful.answers)


def test_the_short_way_is_taken_often_enough_to_be_tried() -> None:
    taken = [len(drawn(seed, short=True)._parted[1]) for seed in range(60)]
    assert sum(n > 0 for n in taken) > 20
    assert max(taken) > 10


@pytest.mark.parametrize("status", sorted(STATUSES))
def test_plain_answers_make_no_plan(status: int) -> None:
    around = CheckContext(SITES, FoldingPolicy(), {f"{FAR}/x": StockPage(200)}, frozenset())
    page = "" if status == 410 else f"{FAR}/x"
    one = (1, "quillhaven.example", "/a", f"{OLD}/a", 1, status, page, "carry-tracking", "")
    made = CompiledRules(around, RuleAnswers(SITES, FoldingPolicy(), [], ()), (), {}, list, list,
                         list, Told(*zip(one)))  # fmt: skip
    assert (made.plans, len(made), made.findings) == ([], 1, [])
    assert made.rules.rules[0].paths == ("/a", "/a/")
