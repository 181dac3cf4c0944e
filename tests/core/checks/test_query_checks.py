"""Parameters that choose nothing any more, and campaigns that are dropped."""

from __future__ import annotations

from upright_ledger.core.checks.query_checks import check_campaigns, check_choices
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.draft import Plan, make_plan
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.query import QueryPolicy

OLD, NEW = "http://www.quillhaven.example", "https://new.example"
FOLD = FoldingPolicy()


def plan(old: str, new: str, query: QueryPolicy = QueryPolicy.CARRY_TRACKING) -> Plan:
    return make_plan(
        parse_address(OLD + old), "q", FOLD, 301 if new else 410, NEW + new if new else "",
        query=query, where="x.csv row 2",
    )  # fmt: skip


def test_all_values_at_one_page_are_said_once_a_path() -> None:
    rows = [plan(f"/p?i={n}&v=1", "/one/") for n in (3, 1, 2)]
    (found,) = check_choices(rows)
    assert (found.kind, found.severity) == ("query-lost", "warning")
    assert found.legacy_url == f"{OLD}/p?i=1&v=1"
    assert found.detail == (
        "all 3 values of i, v lead to one page; name the page of each, or answer /p as a whole "
        "(x.csv row 2)"
    )
    assert found.cause == "i, v no longer chooses a page at /p"


def test_few_values_several_pages_or_none_are_no_fault() -> None:
    assert list(check_choices([plan(f"/p?i={n}", "/one/") for n in (1, 2)])) == []
    assert list(check_choices([plan(f"/p?i={n}", f"/{n % 2}/") for n in range(5)])) == []
    assert list(check_choices([plan(f"/p?i={n}", "") for n in range(5)])) == []
    assert list(check_choices([plan(f"/{n}?i=1", "/one/") for n in range(5)])) == []
    assert list(check_choices([plan("/p", "/one/") for _ in range(5)])) == []
    again = [plan(f"/p?i={n % 2}", "/one/") for n in range(5)]
    assert list(check_choices(again)) == []


def test_campaigns_that_a_rule_drops_are_named() -> None:
    rows = [
        plan("/a", "/x", QueryPolicy.DROP),
        plan("/b", "/x"),
        plan("/c", "", QueryPolicy.DROP),
        plan("/d", "/x", QueryPolicy.DROP),
    ]
    seen = [
        (("q", "/a"), "utm_source=m=1&b=2"),
        (("q", "/a"), "gclid"),
        (("q", "/b"), "gclid=1"),
        (("q", "/c"), "gclid=1"),
        (("q", "/d"), "b=2&GCLID=1"),
        (("q", "/none"), "gclid=1"),
    ]
    (found,) = check_campaigns(rows, seen, FOLD)
    assert (found.kind, found.legacy_url) == ("query-lost", f"{OLD}/a")
    assert found.detail == (
        "was seen with gclid, utm_source, which its rule drops; carry-tracking keeps campaigns "
        "apart (x.csv row 2)"
    )
    assert found.cause == "rules that drop gclid, utm_source"
    assert list(check_campaigns(rows[1:2], seen, FOLD)) == []
