"""Rule sets in tables: what they answer, their digest and order, and what no server can do."""

from __future__ import annotations

import pytest

from conftest import NEW, OLD
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.finding import Finding, causes
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins


def rule(
    path: str,
    destination: str,
    *,
    params: tuple[tuple[str, str], ...] = (),
    status: int = 301,
    query: str = "carry-tracking",
) -> ExactRule:
    paths = (path, f"{path}/")
    return ExactRule("q", path, params, paths, status, destination, OLD + path, query)


RULES = RuleSet(
    (
        rule("/a", f"{NEW}/b/"),
        rule("/drop", f"{NEW}/d/", query="drop"),
        rule("/all", f"{NEW}/e/?x=1#top", query="carry"),
        rule("/gone", "", status=410),
        rule("/p", f"{NEW}/plain/"),
        rule("/p", f"{NEW}/one/", params=(("i", "1"),)),
        rule("/p", f"{NEW}/both/", params=(("i", "1"), ("v", "x"))),
        rule("/own", f"{NEW}/own/"),
    ),
    {"www.quillhaven.example": "q", "quillhaven.example": "q"},
    fold_case=True,
    tracking=("utm_source", "gclid"),
)


@pytest.mark.parametrize(
    ("host", "target", "location"),
    [
        ("www.quillhaven.example", "/a", f"{NEW}/b/"),
        ("WWW.quillhaven.EXAMPLE.", "/A/", f"{NEW}/b/"),
        ("www.quillhaven.example:8080", "/%61", f"{NEW}/b/"),
        ("elsewhere.example", "/a", None),
        ("www.quillhaven.example", "/a?gclid=2&x=1&utm_source=m", f"{NEW}/b/?utm_source=m&gclid=2"),
        ("www.quillhaven.example", "/a?utm_source=a%ZZ&utm_source=ok", f"{NEW}/b/?utm_source=ok"),
        ("www.quillhaven.example", "/a?UTM_SOURCE=m", f"{NEW}/b/"),
        ("www.quillhaven.example", "/drop?gclid=2", f"{NEW}/d/"),
        ("www.quillhaven.example", "/all?z=2", f"{NEW}/e/?x=1&z=2#top"),
        ("www.quillhaven.example", "/gone", ""),
        ("www.quillhaven.example", "/none", None),
        ("www.quillhaven.example", "/a%2f", None),
        ("www.quillhaven.example", "/p", f"{NEW}/plain/"),
        ("www.quillhaven.example", "/p?other=1", f"{NEW}/plain/"),
        ("www.quillhaven.example", "/p?i=1", f"{NEW}/one/"),
        ("www.quillhaven.example", "/p?v=y&i=1", f"{NEW}/one/"),
        ("www.quillhaven.example", "/p?v=x&i=1", f"{NEW}/both/"),
        ("www.quillhaven.example", "/p?i=2", None),
        ("www.quillhaven.example", "/p?v=x", None),
        ("www.quillhaven.example", "/p?i=1&i=1", None),
        ("www.quillhaven.example", "/p?I=2", f"{NEW}/plain/"),
        ("www.quillhaven.example", "/own", f"{NEW}/own/"),
        ("www.quillhaven.example", "/own/?page=2", None),
        ("quillhaven.example", "/own/", f"{NEW}/own/"),
    ],
)
def test_what_a_rule_set_answers(host: str, target: str, location: str | None) -> None:
    answer = RULES.answer(host, target)
    assert (answer.location if answer else None) == location


def test_a_digest_is_of_the_meaning() -> None:
    same = RuleSet(RULES.rules, dict(RULES.site_of), True, RULES.tracking)
    assert same.digest == RULES.digest
    assert RuleSet(RULES.rules, dict(RULES.site_of), False, RULES.tracking).digest != RULES.digest
    assert (
        RuleSet(RULES.rules[1:], dict(RULES.site_of), True, RULES.tracking).digest != RULES.digest
    )


def test_rules_come_in_one_order_whatever_the_order_of_plans() -> None:
    sites, policy = Sites(group_origins([OLD]), (NEW,)), FoldingPolicy()
    plans = [
        make_plan(parse_address(f"{OLD}/{n}"), "quillhaven.example", policy, 301, f"{NEW}/x/{n}/")
        for n in "cab"
    ]
    forward, backward = (
        compile_rules(plans, [], sites, policy)[0],
        compile_rules(plans[::-1], [], sites, policy)[0],
    )
    assert forward.digest == backward.digest
    assert [r.path for r in forward.rules] == ["/a", "/b", "/c"]


@pytest.mark.parametrize(
    ("old", "new", "reason"),
    [
        ("/About", "/about", "letter case"),
        ("/p?i=1", "/p?i=1&x=2", "onto itself"),
        ("/p?i=1", "/p?x=2", ""),
        ("/p?i=1", "/p", ""),
        ("/a", "https://elsewhere.example/", "no new origin"),
        ("/a%2fb", "/c/", "escaped slash"),
        ("/a", "/b/", ""),
    ],
)
def test_what_no_server_can_do_is_held_back(old: str, new: str, reason: str) -> None:
    sites, policy = Sites(group_origins([OLD]), (NEW,)), FoldingPolicy()
    plan = make_plan(
        parse_address(old, OLD), "quillhaven.example", policy, 301, parse_address(new, NEW).text
    )
    _, held = compile_rules([plan], [], sites, policy)
    assert [reason in h.reason for h in held] == ([True] if reason else [])


def test_causes_gather_what_one_remedy_settles() -> None:
    found = [Finding("chain", "warning", f"/{n}", "/x", "", "the rule of /x") for n in range(3)]
    found += [
        Finding("chain", "warning", f"/l{n}", f"/y{n}", "", f"the rule of /y{n}") for n in range(2)
    ]
    found.append(Finding("loop", "error", "/z", "/z", "", "the loop through /z"))
    assert [(c.kind, c.text, c.count) for c in causes(found)] == [
        ("chain", "the rule of /x", 3),
        ("chain", "each for a reason of its own", 2),
        ("loop", "the loop through /z", 1),
    ]
