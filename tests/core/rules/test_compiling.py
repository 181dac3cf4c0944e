"""Compiling: what becomes a rule, what is held back and why, what templates must leave alone."""

from __future__ import annotations

import pytest

from two_sites import FAR, NEW, OLD, OTHER, SHOP, SITE, SITES, template
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.rules.compiler import compile_rules, template_fault
from upright_ledger.core.rules.draft import Plan, make_plan
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.finding import SEVERITIES, Finding, FindingKind
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.query import QueryPolicy

FOLD, EXACT = FoldingPolicy(), FoldingPolicy(case="exact")


def plan(
    old: str, new: str, status: int = 301, policy: FoldingPolicy = FOLD, **more: object
) -> Plan:
    address = parse_address(old, OLD)
    goal = new and parse_address(new, NEW).text
    return make_plan(address, SITES.site_of(address), policy, status if new else 410, goal, **more)


def held(*plans: Plan, policy: FoldingPolicy = FOLD, **more: object) -> list[tuple[str, str]]:
    _, found = compile_rules(plans, (), SITES, policy, **more)
    assert {h.kind for h in found} <= {"refused"}
    return [(h.legacy_url.removeprefix(OLD), h.reason) for h in found]


def test_a_sound_plan_is_a_rule_with_all_of_its_spellings() -> None:
    made, found = compile_rules(
        [plan("/B?i=1", "/n/?x#y", 308, query=QueryPolicy.DROP, variants=["/b/index.html"]),
            plan(f"{SHOP}/a", "")],
        (), SITES, FoldingPolicy(significant={"/b": ("i", "j"), "/never": ("k",)}),
    )  # fmt: skip
    assert found == []
    assert made.rules == (
        ExactRule(SITE, "/b", (("i", "1"),), ("/b", "/b/", "/b/index.html"), 308, f"{NEW}/n/?x#y",
            f"{OLD}/B?i=1", QueryPolicy.DROP),
        ExactRule(OTHER, "/a", (), ("/a", "/a/"), 410, "", f"{SHOP}/a"),
    )  # fmt: skip
    assert made.site_of == SITES.site_of_authority
    assert (made.fold_case, made.tracking, made.forms) == (True, FOLD.tracking, ())
    assert made.significant == {"/b": {"i", "j"}, "/never": {"k"}}
    exact, _ = compile_rules([], (), SITES, EXACT)
    assert not exact.fold_case


def test_patterns_of_significant_parameters_count_where_a_rule_stands() -> None:
    policy = FoldingPolicy(significant={"/shop/*": ("id",)})
    made, _ = compile_rules([plan("/shop/a?id=1", f"{FAR}/a", policy=policy)], (), SITES, policy)
    assert made.significant == {"/shop/a": {"id"}}


def test_rules_come_in_one_order_and_an_address_once() -> None:
    rows = [plan(f"/{n}", f"{FAR}/{n}") for n in "cab"] + [plan("/A/", f"{FAR}/second")]
    forward, backward = (compile_rules(r, (), SITES, FOLD)[0] for r in (rows, rows[::-1]))
    assert forward.digest == backward.digest
    assert [r.path for r in forward.rules] == ["/a", "/b", "/c"]
    assert forward.rules[0].destination == f"{FAR}/second", "the first by its address"


@pytest.mark.parametrize(
    ("kind", "reason"),
    [
        (FindingKind.LOOP, "it is part of a loop"),
        (FindingKind.SELF, "it leads onto itself"),
        (FindingKind.CONFLICT, "two answers claim this address"),
        (FindingKind.OFF_SITE, "it leads to a host that is none of the new site's"),
        (FindingKind.PLANNED, "the page it leads to is not published yet"),
        (FindingKind.CHAIN, ""),
        (FindingKind.DEAD_DESTINATION, ""),
    ],
)
def test_a_grave_fault_keeps_all_answers_of_its_address_out(kind: FindingKind, reason: str) -> None:
    rows = [plan("/a", f"{FAR}/a"), plan("/A", f"{FAR}/b"), plan("/c", f"{FAR}/c")]
    fault = Finding(kind, SEVERITIES[kind], f"{OLD}/a", "", "")
    made, found = compile_rules(rows, [fault], SITES, FOLD)
    assert [r.path for r in made.rules] == (["/c"] if reason else ["/a", "/c"])
    assert {(h.kind, h.reason) for h in found} == ({(kind, reason)} if reason else set())
    assert len(found) == (2 if reason else 0)


@pytest.mark.parametrize(
    ("old", "new", "reason"),
    [
        ("/a%2Fb", f"{FAR}/c",
            "its path holds a backslash or an escaped slash, backslash or control byte"),
        ("/a?i=1&i=2&j=3", f"{FAR}/c",
            "no server tells apart addresses in which i is given with several values"),
        ("/a", f"{FAR}/c'd", "its destination holds characters that cannot be written safely"),
        ("/a", "https://elsewhere.example/", "its destination lies on no new origin"),
        ("/About", "/about",
            "only letter case changes, and servers that fold case cannot tell the two apart"),
        ("/About", f"{FAR}/about", ""),
        ("/About", "/about/", ""),
        ("/About?i=1", "/about", ""),
        ("/p?i=1", "/p?i=1&x=2", "it leads onto itself"),
        ("/p?i=1", "/p?x=2", ""),
        ("/p?i=1", "/p", ""),
        ("/a", "", ""),
        ("/a%2F", "", "its path holds a backslash or an escaped slash, backslash or control byte"),
    ],
)  # fmt: skip
def test_what_no_server_could_execute_is_held_back(old: str, new: str, reason: str) -> None:
    assert [r for _, r in held(plan(old, new))] == ([reason] if reason else [])


def test_letter_case_may_change_where_it_counts_and_a_query_must_not_come_back() -> None:
    assert held(plan("/About", "/about", policy=EXACT), policy=EXACT) == []
    carried = plan("/p?i=1", "/p", query=QueryPolicy.CARRY)
    assert held(carried) == [("/p?i=1", "it leads onto itself")]
    assert held(plan("/p", "/p/x", query=QueryPolicy.CARRY)) == []


def test_a_form_that_sends_a_destination_back_holds_the_plan() -> None:
    form = CanonicalForm(SITE, NEW, "always")
    back = plan("/a", "/a", policy=FOLD)
    found = held(back, forms=(form,))
    assert found == [
        ("/a", (f"the form of {SITE} sends its destination on to {NEW}/a/, where the rule itself "
            "would answer"))
    ]  # fmt: skip
    assert held(plan("/a", "/b"), forms=(form,)) == []
    assert held(plan("/a", "/a/"), forms=(form,)) == []
    assert held(plan("/a", f"{FAR}/a"), forms=(form,)) == []
    made, _ = compile_rules([], (), SITES, FOLD, forms=[form])
    assert made.forms == (form,)


@pytest.mark.parametrize(
    ("source", "goal", "query", "fault"),
    [
        ("/a/{x}", f"{FAR}/{{x}}", "drop", ""),
        (
            "/a/{x}",
            "https://elsewhere.example/{x}",
            "drop",
            "its destination lies on no new origin",
        ),
        ("/a/{x}", "", "drop", ""),
        ("/a/{x}", f"{NEW}/a/{{x}}", "drop", ""),
        ("/a/{x}.html", f"{NEW}/a/{{x}}.html", "drop", "it may lead onto itself"),
        ("/a/{x}", f"{NEW}/a/{{x}}/", "drop", ""),
        ("/a/{x}", f"{NEW}/b/{{x}}", "drop", ""),
        ("/{x}/{y}", f"{NEW}/{{y}}/{{x}}", "drop", "it may lead onto itself"),
        ("/{+r}", f"{NEW}/new/{{r}}", "drop", "it may lead onto itself"),
        ("/c.php{?i}", f"{NEW}/c.php", "drop", ""),
        ("/c.php{?i}", f"{NEW}/c.php", "carry", "it may lead onto itself"),
        ("/c.php{?i}", f"{NEW}/c.php?i={{i}}", "drop", "it may lead onto itself"),
        ("/c.php{?i}", f"{NEW}/c.php?j={{i}}", "drop", ""),
    ],
)
def test_a_template_that_cannot_be_executed_is_held_back(
    source: str, goal: str, query: str, fault: str
) -> None:
    rule = template(source, goal, query=QueryPolicy(query))
    assert (template_fault(rule, SITES, fold=True) or "") == fault
    made, found = compile_rules([], (), SITES, FOLD, [rule])
    assert [(h.legacy_url, h.kind, h.reason) for h in found] == (
        [(OLD + source, "refused", fault)] if fault else []
    )
    assert bool(made.templates) is not bool(fault)


@pytest.mark.parametrize(
    ("source", "goal", "slash"),
    [
        ("/a/{x}", f"{NEW}/a/{{x}}/", "bare"),
        ("/a/{x}", f"{NEW}/a/{{x}}", "slashed"),
        ("/a/{x}", f"{NEW}/b/{{x}}/", "any"),
        ("/a/{x}", f"{FAR}/a/{{x}}/", "any"),
        ("/a/{x}", f"{NEW}/a/{{x}}/?y=1#z", "bare"),
        ("/a/{x}.html", f"{NEW}/a/{{x}}.html/", "any"),
    ],
)
def test_a_template_that_only_puts_a_slash_on_answers_the_other_form_alone(
    source: str, goal: str, slash: str
) -> None:
    made, _ = compile_rules([], (), SITES, FOLD, [template(source, goal)])
    kept = [t for t in made.templates if t.status]
    assert [t.slash for t in kept] == ([slash] if kept else [])


def passes(made: RuleSet) -> dict[str, tuple[str, tuple[str, ...]]]:
    return {r.legacy_url: (r.site, r.paths) for r in made.rules if r.status == 0}


def test_templates_leave_alone_what_stands_and_what_browsers_ask_for() -> None:
    everything = template("/{+r}", f"{FAR}/{{r}}")
    standing = [
        parse_address(u) for u in (f"{OLD}/Keep/", f"{OLD}/keep", f"{OLD}/own", f"{SHOP}/keep",
            "https://elsewhere.example/keep", f"{OLD}/p?i=1")
    ]  # fmt: skip
    made, _ = compile_rules([plan("/own", f"{FAR}/own")], (), SITES, FOLD, [everything], standing)
    assert passes(made) == {
        f"{OLD}/robots.txt": (SITE, ("/robots.txt",)),
        f"{OLD}/favicon.ico": (SITE, ("/favicon.ico",)),
        f"{OLD}/Keep/": (SITE, ("/keep", "/keep/")),
        f"{OLD}/p?i=1": (SITE, ("/p", "/p/")),
    }
    assert [r.key for r in made.rules] == ["/own", "/favicon.ico", "/keep", "/p?i=1", "/robots.txt"]
    assert all(r.query == QueryPolicy.DROP for r in made.rules if r.status == 0)
    assert [(t.site, t.source.text, t.status) for t in made.templates] == [
        (SITE, "/{+r}", 301), (SITE, "/.well-known/{+rest}", 0), (OTHER, "/.well-known/{+rest}", 0),
    ]  # fmt: skip
    host = "www.quillhaven.example"
    for path in ("/robots.txt", "/keep/", "/.well-known/acme/x", "/p?i=1"):
        assert made.answer(host, path) is None
    for path in ("/keep/x", "/p?i=2", "/x/robots.txt"):
        assert made.answer(host, path) is not None or path == "/p?i=2"


def test_what_no_template_takes_needs_no_pass_and_what_is_stated_stays() -> None:
    narrow = template("/t/{x}", f"{FAR}/{{x}}")
    made, _ = compile_rules([], (), SITES, FOLD, [narrow], [parse_address(f"{OLD}/keep")])
    assert passes(made) == {}
    own = template("/.well-known/{+rest}", f"{FAR}/w/{{rest}}")
    stated, _ = compile_rules([], (), SITES, FOLD, [own])
    assert [t.status for t in stated.templates if t.site == SITE] == [301]
    free, _ = compile_rules([], (), SITES, FOLD, [narrow], (), ("/t/only",))
    assert list(passes(free)) == [f"{OLD}/t/only"]
    none, _ = compile_rules([], (), SITES, FOLD, (), [Address("http", "x", "", "/keep", "")])
    assert (len(none), none.templates) == (0, ())
