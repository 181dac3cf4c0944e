"""Proofs against brute force: what is proved holds for every short URL, and every witness is
real.
"""

from __future__ import annotations

import itertools
import random
from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from properties import thorough
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import ALWAYS, CONNECTION, NEVER, CanonicalForm
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.proofs.proof import ProofState
from upright_ledger.core.rules.proofs.prover import prove
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_syntax import TemplateError
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins

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
PATHS = [
    "/" + "/".join(p) + end
    for n in (1, 2, 3)
    for p in itertools.product(TEXTS, repeat=n)
    for end in ("", "/")
]
REQUESTS = [p + q for p in PATHS for q in ("", "?i=a", "?i=1")]


def small(rng: random.Random) -> RuleSet:
    """A few rules over a small alphabet, on one host that is old and new."""
    policy = FoldingPolicy(case=rng.choice(("fold", "exact")))
    plans, templates = {}, {}
    for _ in range(rng.randint(0, 4)):
        path = rng.choice(PATHS) + rng.choice(("", "", "?i=a"))
        goal = (
            rng.choice((NEW, NEW, "https://new.example"))
            + rng.choice(PATHS)
            + rng.choice(("", "", "?i=1"))
        )
        plan = make_plan(
            parse_address(OLD + path), SITE, policy, 301, goal, query=rng.choice(("drop", "carry"))
        )
        plans[plan.folded.key] = plan
    for _ in range(rng.randint(0, 4)):
        source, goal = (
            rng.choice(SOURCES),
            rng.choice((NEW, NEW, "https://new.example")) + rng.choice(GOALS),
        )
        try:
            made = make_template(
                SITE,
                source,
                301,
                goal,
                source,
                fold=policy.case == "fold",
                query=rng.choice(("drop", "carry")),
            )
        except TemplateError:
            continue
        templates[made.source.text] = made
    forms = []
    if rng.random() < 0.4:
        lower = policy.case == "fold" and rng.random() < 0.5
        forms.append(
            CanonicalForm(
                SITE, NEW, rng.choice(("", ALWAYS, NEVER)), lower, rng.choice(("", CONNECTION))
            )
        )
    return compile_rules(
        list(plans.values()), [], SITES, policy, list(templates.values()), forms=forms
    )[0]


def second_hop(rules: RuleSet, target: str, host: str = HOST, scheme: str = "http") -> bool:
    first = rules.answer(host, target, scheme)
    if first is None or not first.location:
        return False
    goal = parse_address(first.location)
    return rules.answer(goal.authority, goal.target, goal.scheme) is not None


@thorough
@given(st.integers(0, 1 << 30))
def test_what_is_proved_holds_for_all_short_urls_and_witnesses_are_real(seed: int) -> None:
    rules = small(random.Random(seed))
    proof = prove(rules)
    if proof.state == ProofState.PROVED:
        assert [r for r in REQUESTS if second_hop(rules, r)] == []
        assert [r for r in REQUESTS if second_hop(rules, r, "quillhaven.example", "https")] == []
    for witness in proof.witnesses:
        address = parse_address(witness.url)
        assert second_hop(rules, address.target), witness


def raw(*rows: tuple[str, ...]) -> RuleSet:
    """Templates (source, destination, query) as they stand, faults or not."""
    made = [make_template(SITE, r[0], 301, NEW + r[1], r[0], fold=True, query="drop") for r in rows]
    return RuleSet(
        (), dict(SITES.site_of_authority), fold_case=True, tracking=(), templates=tuple(made)
    )


@pytest.mark.parametrize(
    ("rows", "state"),
    [
        ([("/journal/{slug}.html", "/stories/{slug}/")], ProofState.PROVED),
        ([("/a/{x}", "/b/{x}"), ("/b/{x}", "/c/{x}")], ProofState.WITNESS),
        # All that could be sent on is taken by the other rule before.
        ([("/{x}/b", "/{x}/b"), ("/b/{x|a,b}", "/a/{x}")], ProofState.PROVED),
        # What could be sent on is without end, and no address was found that is.
        ([("/a/{x}", "/a/{x}"), ("/a/{+r}", "/z")], ProofState.UNDECIDED),
    ],
)  # fmt: skip
def test_each_state_is_reached(rows: list[tuple[str, str]], state: str) -> None:
    proof = prove(raw(*rows))
    assert (proof.state, [w.url for w in proof.witnesses]) == (
        state,
        [w.url for w in proof.witnesses] if state == ProofState.WITNESS else [],
    )
    assert (state == ProofState.UNDECIDED) == bool(proof.undecided and not proof.witnesses)


def test_the_share_of_each_state_and_what_is_undecided_is_never_wrong() -> None:
    counts: Counter[str] = Counter()
    for seed in range(400):
        rules = small(random.Random(seed))
        proof = prove(rules)
        counts[proof.state] += 1
        if proof.state == ProofState.PROVED:
            assert not any(second_hop(rules, r) for r in REQUESTS[::3])
    assert counts[ProofState.PROVED] > 100
    assert counts[ProofState.WITNESS] > 50
    assert counts[ProofState.UNDECIDED] < 40


@pytest.mark.parametrize("asked", ["/a?i=1", "/t/x?i=1"])
def test_a_query_that_is_carried_on_may_choose_a_rule(asked: str) -> None:
    policy = FoldingPolicy()
    chosen = make_plan(parse_address(f"{OLD}/b?i=1"), SITE, policy, 301, "https://new.example/one")
    plans = [chosen]
    templates = []
    if asked.startswith("/a"):
        plans.append(
            make_plan(parse_address(f"{OLD}/a"), SITE, policy, 301, f"{NEW}/b", query="carry")
        )
    else:
        templates.append(
            make_template(SITE, "/t/{x}", 301, f"{NEW}/b", "/t/{x}", fold=True, query="carry")
        )
    proof = prove(compile_rules(plans, [], SITES, policy, templates)[0])
    assert proof.state == ProofState.WITNESS
    assert "i=1" in proof.witnesses[0].url


@pytest.mark.parametrize(
    ("rows", "state"), [("/a,/b,301\n/b,/c,301\n", "witness"), ("/a,/new/,301\n", "proved")]
)
def test_check_says_what_is_proved(museum: Program, rows: str, state: str) -> None:
    museum("decide", "--from", museum.pairs(*rows.split()))
    proof = museum.json("check", code=None)["proof"]
    assert proof["state"] == state
    assert bool(proof["witnesses"]) == (state == "witness")
