"""What a rule set answers, against a reading of its rules one after the other."""

from __future__ import annotations

import random

from hypothesis import given
from hypothesis import strategies as st

import slow_rules
from conformance import make_requests, make_rules
from properties import thorough


@thorough
@given(st.integers(0, 1 << 30))
def test_each_request_gets_what_the_rules_say_one_by_one(seed: int) -> None:
    rng = random.Random(seed)
    rules = make_rules(rng)
    requests = list(make_requests(rng, rules, 40))
    for host, target in requests:
        for scheme in ("", "http", "https"):
            answer = rules.answer(host, target, scheme)
            ours = (answer.status, answer.location) if answer else None
            assert ours == slow_rules.answer(rules, host, target, scheme), (host, target, scheme)
    many = rules.answers_of_rules(requests)
    assert list(many) == [rules.answer_of_rules(*r) for r in requests]
