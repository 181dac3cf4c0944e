"""The pages that rules lead to, pages that are kept, plans, and what rules answer by themselves."""

from __future__ import annotations

import pytest

from upright_ledger.core.inventory.answer import Decision, usual
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import make_template
from upright_ledger.core.rules.draft import asks_for_itself, is_same_path, make_plan
from upright_ledger.core.rules.finding import (
    SEVERITIES,
    Cause,
    Finding,
    FindingKind,
    causes,
    in_order,
)
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.kept_pages import KEPT_AS, lives_on, plan_of_kept
from upright_ledger.core.rules.rule_answers import RuleAnswers, Ruled
from upright_ledger.core.rules.target_pages import Pages, StockPage
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.formats.server_config.apache_servers import read_apache

OLD, NEW, FAR = (
    "http://www.quillhaven.example",
    "https://www.quillhaven.example",
    "https://n.example",
)
SITE = "quillhaven.example"
SITES = Sites(group_origins([OLD]), (NEW, FAR))
FOLD, EXACT = FoldingPolicy(), FoldingPolicy(case="exact")


@pytest.mark.parametrize(
    ("url", "status"),
    [
        (f"{NEW}/a", 200), (f"{OLD}/a", 200), (f"{NEW}/%61?x=1#y", 200), (f"{NEW}/q?x=1", 404),
        (f"{NEW}/q", 301), (f"{NEW}/q?x=2", 301), (f"{NEW}/both", 201), (f"{NEW}/plain", 202),
        (f"{OLD}/plain?u=a://b", 203), (f"{NEW}/far?u=a://b", 204), (f"{NEW}/none", None),
        (f"{NEW}/a/", None), ("https://elsewhere.example/a", None),
    ],
)  # fmt: skip
def test_a_page_is_found_whatever_the_scheme(url: str, status: int | None) -> None:
    pages = Pages(
        {
            f"{NEW}/a": StockPage(200), f"{NEW}/q": StockPage(301), f"{NEW}/q?x=1": StockPage(404),
            f"{OLD}/both": StockPage(500), f"{NEW}/both": StockPage(201),
            "https://elsewhere.example/a": StockPage(200), f"{OLD}/plain": StockPage(202),
            f"{OLD}/plain?u=a://b": StockPage(203), f"{NEW}/far?u=a://b": StockPage(204),
        },
        SITES,
    )  # fmt: skip
    page = pages.at(parse_address(url))
    assert (page.status if page else None) == status
    named = ["www.quillhaven.example/a", "www.quillhaven.example/b"]
    assert pages.named(named) == [StockPage(200), None]
    assert Pages({}, SITES).named(["x/a"]) == [None]
    assert Pages({}, SITES).at(parse_address(f"{NEW}/a")) is None


def entry(key: str, variants: tuple[str, ...], legacy: str = "", **more: object) -> Entry:
    answer = Decision("keep")
    return Entry(1, SITE, key, legacy or OLD + key, answer, variants=variants, **more)


@pytest.mark.parametrize(
    ("answered", "stock", "lives"),
    [
        (True, {f"{NEW}/a": StockPage(200)}, True),
        (True, {f"{OLD}/a": StockPage(200)}, True),
        (True, {f"{NEW}/a": StockPage(301)}, False),
        (True, {f"{NEW}/a": StockPage(200, planned=True)}, False),
        (True, {}, False),
        (False, {f"{NEW}/a": StockPage(200)}, False),
    ],
)
def test_a_page_lives_on_where_stock_and_log_say_so(
    answered: bool, stock: dict[str, StockPage], lives: bool
) -> None:
    assert lives_on(f"{OLD}/a", SITES, stock.get, answered=answered) is lives
    apart = Sites(group_origins([OLD]), (FAR,))
    assert not lives_on(f"{OLD}/a", apart, stock.get, answered=True)


def test_other_spellings_of_a_page_that_is_kept_lead_to_it() -> None:
    plan = plan_of_kept(
        entry("/a", ("/a/", "/A/", "/a/Index.html", "/a.amp"), f"{OLD}/a/"), SITES, FOLD, {}
    )
    assert plan is not None
    assert (plan.status, plan.destination, plan.where) == (301, f"{NEW}/a/", KEPT_AS)
    assert plan.paths == ("/a.amp", "/a/index.html")
    assert (plan.folded.path, plan.folded.params) == ("/a.amp", ())
    exact = plan_of_kept(entry("/a", ("/a/", "/a/Index.html"), f"{OLD}/a/"), SITES, EXACT, {})
    assert exact is not None
    assert exact.paths == ("/a/Index.html",)


def test_a_page_that_its_parameters_choose_keeps_them() -> None:
    page = entry("/p.php?i=1", ("/p.php", "/p.php/x"), f"{OLD}/p.php?i=1")
    plan = plan_of_kept(page, SITES, FOLD, {})
    assert plan is not None
    assert plan.destination == f"{NEW}/p.php?i=1"
    assert plan.folded.params == (("i", "1"),)


def test_a_page_without_other_spellings_or_apart_from_the_new_site_has_no_plan() -> None:
    assert plan_of_kept(entry("/a", ("/a", "/A/")), SITES, FOLD, {}) is None
    apart = Sites(group_origins([OLD]), (FAR,))
    assert plan_of_kept(entry("/a", ("/a", "/a/index.html")), apart, FOLD, {}) is None
    live = {f"{NEW}/a/index.html": StockPage(200)}
    assert plan_of_kept(entry("/a", ("/a", "/a/index.html")), SITES, FOLD, live) is None


def test_a_plan_knows_its_spellings_its_goal_and_its_name() -> None:
    old = parse_address(f"{OLD}/A/?b=1&utm_id=2#c")
    plan = make_plan(old, SITE, FOLD, 301, f"{NEW}/n/%61?x#y", variants=["/A/Index.html"])
    assert plan.key == (SITE, "/a?b=1")
    assert plan.paths == ("/a", "/a/", "/a/index.html")
    assert plan.page == f"{NEW}/n/a?x"
    assert plan.goal == parse_address(f"{NEW}/n/%61?x#y")
    assert plan.legacy_url == f"{OLD}/A/?b=1&utm_id=2"
    assert (plan.host_given, plan.meant, plan.where, plan.imported) == (True, False, "", False)
    assert plan.query == QueryPolicy.CARRY_TRACKING
    other = make_plan(
        old, SITE, FOLD, 410, "", host_given=False, meant=True, where="w", label="l",
        query=QueryPolicy.DROP, imported=True,
    )  # fmt: skip
    assert (other.goal, other.page, other.legacy_url) == (None, "gone", "l")
    assert (other.host_given, other.meant, other.where, other.query, other.imported) == (
        False, True, "w", "drop", True,
    )  # fmt: skip


@pytest.mark.parametrize(
    ("goal", "same", "itself"),
    [
        ("/P.php?i=1", True, True), ("/p.php?x=2&i=%31", True, True), ("/p.php?i=2", True, False),
        ("/p.php?i=2&i=1", True, False), ("/p.php", True, False), ("/q.php?i=1", False, False),
    ],
)  # fmt: skip
def test_a_destination_that_asks_for_its_own_rule(goal: str, same: bool, itself: bool) -> None:
    plan = make_plan(parse_address(f"{OLD}/p.php?i=1"), SITE, FOLD, 301, NEW + goal)
    there = parse_address(NEW + goal)
    assert is_same_path(plan, there, FOLD) is same
    assert asks_for_itself(plan, there, FOLD) is itself


def test_findings_come_the_gravest_first_and_are_explained_together() -> None:
    def one(kind: FindingKind, url: str, cause: str = "") -> Finding:
        return Finding(kind, SEVERITIES[kind], url, "/x", "", cause)

    chain, loop, mass = FindingKind.CHAIN, FindingKind.LOOP, FindingKind.MASS_MOVE
    rows = [one(mass, "/a"), one(chain, "/c"), one(chain, "/b"), one(loop, "/z")]
    assert [f.legacy_url for f in in_order(rows)] == ["/z", "/b", "/c", "/a"]
    assert [SEVERITIES[k] for k in (loop, chain, mass)] == ["error", "warning", "note"]
    assert {k for k in FindingKind if SEVERITIES[k] == "error"} == {
        "loop", "self", "conflict", "off-site", "dead-destination", "source-live",
    }  # fmt: skip
    told = causes(
        [*(one(chain, f"/{n}", "one") for n in range(3)), one(chain, "/8", "x"), one(chain, "/9",
            "y"),
            one(mass, "/7", "alone"), *(one(loop, f"/{n}", "l") for n in range(3))]
    )  # fmt: skip
    assert told == [
        Cause(loop, "l", 3), Cause(chain, "one", 3), Cause(chain, "each for a reason of its own",
            2),
        Cause(mass, "alone", 1),
    ]  # fmt: skip


RULES = (
    "RewriteEngine On\nRewriteRule ^q/(.*)$ https://n.example/$1 [R=301,L,QSA]\n"
    "RewriteRule ^d/(.*)$ https://n.example/$1 [R=302,L,QSD]\n"
    "RewriteRule ^r/(.*)$ /s/$1 [R=301,L]\n"
    "RewriteRule ^x/(.*)$ https://n.example/?y=$1 [R=301,L]\nRewriteRule ^o/(.*)$ /n/$1 [R=303,L]\n"
    "RewriteRule ^g/ - [G]\n"
)


def test_rules_answer_where_nobody_decided() -> None:
    made = [
        make_template(SITE, source, 301, goal, OLD + source, fold=True)
        for source, goal in (
            ("/t/{x}", f"{FAR}/{{x}}"),
            ("/e/{x}", "https://elsewhere.example/{x}"),
        )
    ]
    block = Block(read_apache(RULES, "rules", folder="/").rules)
    given = RuleAnswers(SITES, FOLD, made, (block,))

    def told(path: str) -> Ruled | None:
        return given.answer(parse_address(OLD + path))

    assert told("/t/a") == Ruled(usual("move", f"{FAR}/a"), "template", f"{OLD}/t/{{x}}")
    assert told("/e/a") is None
    assert told("/q/a") == Ruled(Decision("move", 301, f"{FAR}/a"), "rule", "rules:2", "carry")
    assert told("/d/a") == Ruled(Decision("temporary", 302, f"{FAR}/a"), "rule", "rules:3", "drop")
    assert told("/r/a") == Ruled(Decision("move", 301, f"{NEW}/s/a"), "rule", "rules:4", "carry")
    assert told("/x/a") == Ruled(Decision("move", 301, f"{FAR}/?y=a"), "rule", "rules:5", "drop")
    assert told("/o/a") is None, "303 is no status of a rule"
    assert told("/g/a") == Ruled(Decision("gone", 410, ""), "rule", "rules:7", "carry")
    assert told("/none") is None
    assert bool(given)
    assert not RuleAnswers(SITES, FOLD, made[1:], ())
    assert RuleAnswers(SITES, FOLD, made[:1], ())
    alone = given.of_block(block)
    assert (alone.templates, alone.blocks) == ((), (block,))


def test_a_destination_without_host_lies_on_the_new_origin_of_its_host() -> None:
    sites = Sites(
        group_origins(["https://a.example", "http://a.example:81"]), ("http://a.example",)
    )
    given = RuleAnswers(sites, FOLD, [], ())
    assert given.bases["a.example"] == "http://a.example"
    assert given.bases["a.example:81"] == "http://a.example:81"
    assert given.bases["www.a.example"] == "https://www.a.example"
