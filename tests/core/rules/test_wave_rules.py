"""Rules of a wave: they say what all rules say, of its own addresses, and nothing of others."""

from __future__ import annotations

import random

from hypothesis import given
from hypothesis import strategies as st

from conformance import make_requests, make_rules
from properties import thorough
from two_sites import FAR, SITE, SITES, template
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.sections import Wave, waves_of
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.wave_rules import rules_within
from upright_ledger.core.url.query import QueryPolicy


def exact(path: str, goal: str = f"{FAR}/n") -> ExactRule:
    return ExactRule(SITE, path, (), (path,), 301, goal, f"http://{SITE}{path}", QueryPolicy.DROP)


def wave(*rules: object, sections: tuple[str, ...]) -> tuple[dict[str, bool], list[str], int]:
    """Which of some addresses are answered, which templates wait, and how many exact rules do."""
    templates = tuple(r for r in rules if not isinstance(r, ExactRule))
    whole = RuleSet(
        tuple(r for r in rules if isinstance(r, ExactRule)),
        dict(SITES.site_of_authority),
        True,
        (),
        {},
        templates,  # type: ignore[arg-type]
    )
    found = rules_within(whole, lambda _, path: path.startswith(sections), SITES, FoldingPolicy())
    paths = ("/a/x", "/a/special/x", "/a/y", "/b/x", "/c")
    answered = {
        p: found.rules.answer_of_rules("www.quillhaven.example", p) is not None for p in paths
    }
    return answered, [t.source.text for t in found.waiting], found.later


def test_a_later_rule_is_not_answered_by_a_template_of_this_wave() -> None:
    rules = (template("/a/{+r}", f"{FAR}/{{r}}"), exact("/a/y"), exact("/b/x"), exact("/c"))
    answered, waiting, later = wave(*rules, sections=("/a/x", "/a/abc", "/a/z", "/a/X"))
    assert (answered["/a/x"], answered["/a/y"], answered["/b/x"]) == (True, False, False)
    assert (waiting, later) == ([], 3)


def test_what_comes_first_later_keeps_its_addresses_open_until_then() -> None:
    general = template("/a/{+r}", f"{FAR}/{{r}}")
    special = template("/a/special/{x}", f"{FAR}/s/{{x}}")
    mine = ("/a/x", "/a/abc", "/a/z", "/a/X")
    answered, waiting, _ = wave(general, special, sections=mine)
    assert (answered["/a/x"], answered["/a/special/x"]) == (True, False)
    assert waiting == ["/a/special/{x}"]
    beyond, waiting, _ = wave(template("/{+r}", "", 410), general, sections=("/a/",))
    assert (beyond["/a/x"], beyond["/c"], waiting) == (True, False, ["/{+r}"])


@thorough
@given(st.integers(0, 1 << 30))
def test_a_wave_says_what_all_say_or_nothing(seed: int) -> None:
    rng = random.Random(seed)
    rules = make_rules(rng)
    heads = {r.path.split("/")[1] for r in rules.rules} | {"journal", "shop", "makers"}
    mine = tuple(f"/{h}" for h in sorted(heads) if rng.random() < 0.5)

    def within(_: str, key: str) -> bool:
        return key.startswith(mine)

    found = rules_within(rules, within, SITES, FoldingPolicy(case="exact")).rules
    for host, target in make_requests(rng, rules, 60):
        answer, whole = found.answer_of_rules(host, target), rules.answer_of_rules(host, target)
        if answer is not None:
            assert whole is not None
            assert (answer.status, answer.location) == (whole.status, whole.location)
    for rule in rules.rules:
        if not within(rule.site, rule.key) and not rule.params:
            host = next(h for h, site in rules.site_of.items() if site == rule.site)
            assert found.answer_of_rules(host, rule.path) is None


def test_waves_take_in_what_was_live_before() -> None:
    pilot, second, rest = waves_of([("pilot", ["a"]), ("second", ["b", "c"]), ("rest", ["*"])])
    assert pilot == Wave("pilot", ("a",), frozenset("a"))
    assert second.sections == frozenset("abc")
    assert (rest.sections, rest.has(""), rest.has("z")) == (frozenset(), True, True)
    assert not second.has("")
