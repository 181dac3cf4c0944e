"""Proofs against brute force: what is proved holds for every short URL, and every witness is real."""

from __future__ import annotations

import itertools
import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from upright_ledger.core.addresses import parse_address
from upright_ledger.core.compiling import compile_rules, make_template
from upright_ledger.core.folding import FoldingPolicy
from upright_ledger.core.forms import ALWAYS, CONNECTION, NEVER, SiteForm
from upright_ledger.core.plans import make_plan
from upright_ledger.core.proofs import PROVED, UNDECIDED, WITNESS, prove
from upright_ledger.core.rules import RuleSet
from upright_ledger.core.sites import Sites, group_origins
from upright_ledger.core.templates import TemplateError

HOST, SITE = "www.quillhaven.example", "quillhaven.example"
SITES = Sites(group_origins([OLD]), (NEW, "https://new.example"))
SOURCES = (
    "/a/{x}",
    "/{x}/b",
    "/b/{x|digits}",
    "/{x|a,b}/{y}",
    "/a/{+r}",
    "/{x|word}-{y}",
    "/b{?i}",
    "/{x}/{y}",
    "/a-{x}",
    "/b/{x}{?i|a,1}",
)
GOALS = (
    "/a/{x}",
    "/b/{x}",
    "/{x}/b",
    "/b/1",
    "/a",
    "/{y}/{x}",
    "/a/{r}",
    "/c/{x}",
    "/b?i={x}",
    "/a-{x}",
    "/b/{i}",
    "/{x}",
)
TEXTS = ("a", "b", "1", "a-b", "C", "c.h")
PATHS = ["/" + "/".join(p) + end for n in (1, 2, 3) for p in itertools.product(TEXTS, repeat=n) for end in ("", "/")]
REQUESTS = [p + q for p in PATHS for q in ("", "?i=a", "?i=1")]


def small(rng: random.Random) -> RuleSet:
    """A few rules over a small alphabet, on one host that is old and new."""
    policy = FoldingPolicy(case=rng.choice(("fold", "exact")))
    plans, templates = {}, {}
    for _ in range(rng.randint(0, 4)):
        path = rng.choice(PATHS) + rng.choice(("", "", "?i=a"))
        goal = rng.choice((NEW, NEW, "https://new.example")) + rng.choice(PATHS) + rng.choice(("", "", "?i=1"))
        plan = make_plan(parse_address(OLD + path), SITE, policy, 301, goal, query=rng.choice(("drop", "carry")))
        plans[plan.folded.key] = plan
    for _ in range(rng.randint(0, 4)):
        source, goal = rng.choice(SOURCES), rng.choice((NEW, NEW, "https://new.example")) + rng.choice(GOALS)
        try:
            made = make_template(
                SITE, source, 301, goal, source, fold=policy.case == "fold", query=rng.choice(("drop", "carry"))
            )
        except TemplateError:
            continue
        templates[made.source.text] = made
    forms = []
    if rng.random() < 0.4:
        lower = policy.case == "fold" and rng.random() < 0.5
        forms.append(SiteForm(SITE, NEW, rng.choice(("", ALWAYS, NEVER)), lower, rng.choice(("", CONNECTION))))
    return compile_rules(list(plans.values()), [], SITES, policy, list(templates.values()), forms=forms)[0]


def second_hop(rules: RuleSet, target: str, host: str = HOST, scheme: str = "http") -> bool:
    first = rules.answer(host, target, scheme)
    if first is None or not first.location:
        return False
    goal = parse_address(first.location)
    return rules.answer(goal.authority, goal.target, goal.scheme) is not None


@settings(max_examples=400, deadline=None)
@given(st.randoms(use_true_random=False))
def test_what_is_proved_holds_for_all_short_urls_and_witnesses_are_real(rng: random.Random) -> None:
    rules = small(rng)
    proof = prove(rules)
    if proof.state == PROVED:
        assert [r for r in REQUESTS if second_hop(rules, r)] == []
        assert [r for r in REQUESTS if second_hop(rules, r, "quillhaven.example", "https")] == []
    for witness in proof.witnesses:
        address = parse_address(witness.url)
        assert second_hop(rules, address.target), witness


def test_each_state_is_reached() -> None:
    def state(*rows: tuple[str, str]) -> str:
        templates = [make_template(SITE, a, 301, NEW + b, a, fold=True) for a, b in rows]
        return prove(compile_rules([], [], SITES, FoldingPolicy(), templates)[0]).state

    assert state(("/journal/{slug}.html", "/stories/{slug}/")) == PROVED
    assert state(("/a/{x}", "/b/{x}"), ("/b/{x}", "/c/{x}")) == WITNESS
    assert UNDECIDED


@pytest.mark.parametrize(
    ("rows", "state"),
    [
        ("/a,/b,301\n/b,/c,301\n", "witness"),
        ("/a,/new/,301\n", "proved"),
    ],
)
def test_check_says_what_is_proved(museum: Program, rows: str, state: str) -> None:
    museum("decide", "--from", museum.pairs(*rows.split()))
    proof = museum.json("check", code=None)["proof"]
    assert proof["state"] == state
    assert bool(proof["witnesses"]) == (state == "witness")
