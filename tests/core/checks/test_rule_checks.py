"""Faults in answers: contested, endless, chained, dead, or onto themselves."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from properties import thorough
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.rule_checks import check, check_crowds
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.rules.draft import Plan, make_plan
from upright_ledger.core.rules.finding import FindingKind
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"
FAR = "https://new.example"
SITE = "quillhaven.example"
SITES = Sites(group_origins([OLD, "http://shop.quillhaven.example"]), (NEW, FAR))
HOMES = frozenset({f"{NEW}/", f"{FAR}/"})
FOLD = FoldingPolicy()


def plan(old: str, new: str, status: int = 301, **more: object) -> Plan:
    address = parse_address(old, OLD)
    goal = parse_address(new, NEW).text if new else ""
    return make_plan(address, SITES.site_of(address), FOLD, status if new else 410, goal, **more)


def around(
    stock: dict[str, StockPage | int] | None = None, slash: str = "as-stock", **more: object
) -> CheckContext:
    pages = {
        parse_address(k, NEW).text: v if isinstance(v, StockPage) else StockPage(v)
        for k, v in (stock or {}).items()
    }
    return CheckContext(SITES, FOLD, pages, HOMES, slash, **more)


def faults(plans: list[Plan], context: CheckContext | None = None) -> list[tuple[str, ...]]:
    """Kind, severity, address, detail and cause, hosts left out."""
    return [
        (f.kind, f.severity, f.legacy_url.removeprefix(OLD), f.detail, f.cause)
        for f in check(plans, context or around())
    ]


def test_a_sound_move_has_no_fault() -> None:
    assert faults([plan("/a", "/b/"), plan("/c", ""), plan("/d/", f"{FAR}/d")]) == []


def test_a_chain_names_its_way_and_its_end() -> None:
    rows = [plan("/a", "/b"), plan("/b", "/c"), plan("/c", f"{FAR}/d/")]
    assert faults(rows) == [
        ("chain", "warning", "/a", "/a → /b → /c → /d/; lead it to /d/ at once",
            "the rule of /b moves it on"),
        ("chain", "warning", "/b", "/b → /c → /d/; lead it to /d/ at once",
            "the rule of /c moves it on"),
    ]  # fmt: skip


def test_a_chain_into_a_rule_of_a_file_or_an_end_says_so() -> None:
    rows = [plan("/a", "/b"), plan("/b", "/c/", imported=True, where="old.conf line 3")]
    assert faults(rows)[0][4] == "the rule of old.conf line 3 moves them on"
    gone = faults([plan("/a", "/b"), plan("/b", "")])
    assert gone == [
        ("chain", "warning", "/a", "/a → /b → 410; it ends in 410: answer it with --gone",
            "the rule of /b moves it on")
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("to", "on", "cause"),
    [
        ("/b", "/b/", "one missing slash"),
        ("/b/", "/b", "one slash too many"),
        ("/b", "/c/", "the rule of /b moves it on"),
    ],
)
def test_a_chain_that_changes_the_slash_alone_says_that(to: str, on: str, cause: str) -> None:
    found = [f for f in faults([plan("/a", to), plan("/b", on)]) if f[2] == "/a"]
    assert [(f[0], f[4]) for f in found] == [("chain", cause)]


def test_a_loop_is_named_once_for_all_who_lead_into_it() -> None:
    rows = [plan("/x", "/a"), plan("/b", "/c"), plan("/c", "/a"), plan("/a", "/b")]
    cause = "the loop through /a"
    assert faults(rows) == [
        ("loop", "error", "/a", "never ends: /a → /b → /c → /a", cause),
        ("loop", "error", "/b", "never ends: /b → /c → /a → /b", cause),
        ("loop", "error", "/c", "never ends: /c → /a → /b → /c", cause),
        ("loop", "error", "/x", "never ends: /x → /a → /b → /c → /a", cause),
    ]


@pytest.mark.parametrize(
    ("old", "new", "given", "itself"),
    [
        (f"{NEW}/a", "/a", True, True), (f"{NEW}/A", "/a", True, True),
        (f"{NEW}/%61", "/a", True, True), (f"{NEW}/a", "/a/", True, False),
        (f"{NEW}/a", f"{FAR}/a", True, False), ("http://quillhaven.example/a", "/a", True, False),
        ("http://quillhaven.example/a", "/a", False, True), (f"{NEW}/a?i=1", "/a?i=1", True, True),
        (f"{NEW}/a?i=1", "/a?x=2&i=1", True, True), (f"{NEW}/a?i=1", "/a?i=2", True, False),
        (f"{NEW}/a?i=1", "/a", True, False), (f"{NEW}/a?i=%31", "/A/?i=1", True, True),
    ],
)  # fmt: skip
def test_a_rule_onto_itself_is_no_rule(old: str, new: str, given: bool, itself: bool) -> None:
    found = faults([plan(old, new, host_given=given)])
    assert [f[0] for f in found if f[0] == "self"] == (["self"] if itself else [])
    if itself:
        in_case = old in {f"{NEW}/A", f"{NEW}/a?i=%31"}
        assert found[0][3:] == (
            "leads onto itself but for its letter case; lower_case in [form], and a canonical "
            "origin of its [[site]], settle that for all addresses"
            if in_case
            else "leads onto itself; answer it with --keep",
            "a rule onto itself changes nothing",
        )


def test_two_answers_for_one_address_are_a_conflict_once() -> None:
    assert faults([plan("/a", "/b/"), plan("/A/", "/c/")]) == [
        ("conflict", "error", "/a", f"claimed by {NEW}/b/ and {NEW}/c/; decide on one",
            "two answers for one address")
    ]  # fmt: skip
    assert faults([plan("/a", "/b/"), plan("/a", "/b/", 308)]) == [
        ("conflict", "error", "/a", "claimed with the statuses 301 and 308; decide on one",
            "two answers for one address")
    ]  # fmt: skip
    assert faults([plan("/a", "/b/"), plan("/a/", "/b/")]) == []
    gone = faults([plan("/a", "/b/"), plan("/a", "")])
    assert gone[0][3] == f"claimed by gone and {NEW}/b/; decide on one"


def test_two_answers_that_differ_by_the_slash_are_that_fault() -> None:
    assert faults([plan("/a", f"{FAR}/b/"), plan("/a/", f"{FAR}/b")]) == [
        ("slash-mismatch", "warning", "/a",
            f"its spellings lead to {FAR}/b and {FAR}/b/: one page, two slash forms",
            "one page is given with and without its slash")
    ]  # fmt: skip
    three = faults([plan("/a", "/b/"), plan("/a/", "/b"), plan("/A", "/c")])
    assert "conflict" in [f[0] for f in three]


def test_a_temporary_answer_is_a_note_where_a_person_meant_it() -> None:
    detail = "moves for a time only (302); use 301 if it is for good"
    cause = "a temporary status (302) where moves are for good"
    assert faults([plan("/a", "/b/", 302)]) == [("temporary", "warning", "/a", detail, cause)]
    assert faults([plan("/a", "/b/", 302, meant=True)])[0][1] == "note"
    assert faults([plan("/a", "/b/", 307, where="x.csv row 2")])[0][3] == (
        "moves for a time only (307); use 301 if it is for good (x.csv row 2)"
    )


def test_inner_pages_at_the_home_page_are_named_and_the_home_page_is_not() -> None:
    assert faults([plan("/a", f"{FAR}/"), plan("/index.html", f"{FAR}/"), plan("/b",
        f"{FAR}/x")]) == [
        ("home-fallback", "warning", "/a",
            "leads to the home page; name the page that took its place, or 410",
            "inner pages sent to the home page")
    ]  # fmt: skip


def test_a_form_that_moves_a_destination_on_makes_a_chain() -> None:
    form = CanonicalForm(SITE, NEW, "always")
    found = faults([plan("/a", "/b")], around(forms=(form,)))
    assert found == [
        ("chain", "warning", "/a", f"/a → {NEW}/b → {NEW}/b/; lead it to {NEW}/b/ at once",
            "the form of the site moves it on")
    ]  # fmt: skip
    assert faults([plan("/a", "/b/")], around(forms=(form,))) == []
    assert faults([plan("/a", f"{FAR}/b")], around(forms=(form,))) == []


@pytest.mark.parametrize(
    ("goal", "stock", "kind", "detail", "cause"),
    [
        ("/b/", {"/b/": 200}, "", "", ""),
        ("/b/?x=1#y", {"/b/": 200}, "", "", ""),
        ("/b/?x=1", {"/b/?x=1": 404, "/b/": 200}, "dead-destination", "answers 404",
            "/b/?x=1 answers 404"),
        ("/b/", {"/c/": 200}, "unknown-destination", "not in the stock of new pages",
            "no page /b/ in stock"),
        ("/b/", {"http://www.quillhaven.example/b/": 200}, "unknown-destination",
            f"the stock has this page as {OLD}/b/: its scheme alone is wrong",
            "destinations on https in place of http"),
        ("/b", {"/b/": 200}, "slash-mismatch", f"the site has this page as {NEW}/b/",
            "one missing slash"),
        ("/b/", {"/b": 299}, "slash-mismatch", f"the site has this page as {NEW}/b",
            "one slash too many"),
        ("/b", {"/b/": 301}, "unknown-destination", "not in the stock of new pages",
            "no page /b in stock"),
        ("/b", {"/b": 200, "/b/": 200}, "", "", ""),
        ("/b/", {"/b/": 301}, "redirecting-destination", "answers 301 itself",
            "/b/ redirects itself"),
        ("/b/", {"/b/": StockPage(302, f"{NEW}/c/")}, "redirecting-destination",
            f"answers 302 to {NEW}/c/ itself", "/b/ redirects itself"),
        ("/b/", {"/b/": 399}, "redirecting-destination", "answers 399 itself",
            "/b/ redirects itself"),
        ("/b/", {"/b/": 400}, "dead-destination", "answers 400", "/b/ answers 400"),
        ("/b/", {"/b/": 500}, "dead-destination", "answers 500", "/b/ answers 500"),
        ("/b/", {"/b/": 0}, "", "", ""),
        ("/b/", {"/b/": StockPage(200, planned=True)}, "planned",
            "the page is planned and not published yet", "pages still to be published"),
    ],
)  # fmt: skip
def test_a_destination_is_held_against_the_stock(
    goal: str, stock: dict[str, StockPage | int], kind: str, detail: str, cause: str
) -> None:
    found = faults([plan("/a", goal)], around(stock))
    assert [(f[0], f[3], f[4]) for f in found] == ([(kind, detail, cause)] if kind else [])


def test_a_destination_on_no_new_origin_is_off_site() -> None:
    apart = Sites(group_origins([OLD]), (FAR,))
    context = CheckContext(apart, FOLD, {}, frozenset())
    away = make_plan(parse_address(f"{OLD}/a"), SITE, FOLD, 301, "https://elsewhere.example/x")
    own = make_plan(parse_address(f"{OLD}/b"), SITE, FOLD, 301, f"{OLD}/x")
    assert faults([away, own], context) == [
        ("off-site", "error", "/a", "elsewhere.example is no declared new origin",
            "destinations on elsewhere.example"),
        ("off-site", "error", "/b", f"ends on the old site at {OLD}/x, where no rule answers",
            "destinations on www.quillhaven.example"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("slash", "goal", "cause"),
    [
        ("always", "/b", "one missing slash"), ("always", "/b/", ""),
        ("never", "/b/", "one slash too many"), ("never", "/b", ""), ("never", "/", ""),
        ("always", "/b.pdf", ""), ("never", "/b.pdf", ""), ("as-stock", "/b", ""),
    ],
)  # fmt: skip
def test_a_settled_slash_decides_without_a_stock(slash: str, goal: str, cause: str) -> None:
    found = [f for f in faults([plan("/a", f"{FAR}{goal}")], around(slash=slash))
        if f[0] == "slash-mismatch"]  # fmt: skip
    assert [f[4] for f in found] == ([cause] if cause else [])


@pytest.mark.parametrize(
    ("slashed", "unslashed", "faulty"), [(8, 2, 2), (2, 8, 2), (7, 3, 0), (9, 0, 0), (10, 0, 0)]
)
def test_a_clear_habit_of_destinations_is_a_policy(
    slashed: int, unslashed: int, faulty: int
) -> None:
    goals = [f"{FAR}/s{n}/" for n in range(slashed)] + [f"{FAR}/b{n}" for n in range(unslashed)]
    goals += [f"{FAR}/f.pdf", f"{FAR}/"]
    rows = [plan(f"/{n}", goal) for n, goal in enumerate(goals)]
    assert [f[0] for f in faults(rows)].count("slash-mismatch") == faulty


def test_a_rule_over_a_live_page_is_an_error_unless_it_leads_there() -> None:
    live = around({"/a/": 200, "/b/": 200, "/c": 200})
    detail = f"hides the live page {NEW}/a/"
    assert faults([plan("/a", "/b/")], live) == [
        ("source-live", "error", "/a", detail, "rules that hide live pages")
    ]
    assert faults([plan("/a", "")], live)[0][3] == detail
    assert faults([plan("/a?x=1", "/b/")], live) == []
    assert [f[0] for f in faults([plan("/c", "/c/")], live)] == ["slash-mismatch"]
    assert faults([plan("/d", "/b/")], live) == []
    moved = around({"/a/": 301, "/b/": 200})
    assert faults([plan("/a", "/b/")], moved) == []


def test_many_addresses_at_one_page_are_noted_from_25_on() -> None:
    crowd = [plan(f"/{n:02}", "/one/", where=f"x.csv row {n}") for n in range(25)]
    (found,) = check_crowds(crowd[::-1], HOMES)
    assert (found.kind, found.severity, found.legacy_url) == ("mass-move", "note", f"{OLD}/00")
    assert found.detail == (
        "25 addresses lead to this one page; does it stand for all of them? (x.csv row 0)"
    )
    assert found.cause == "many addresses lead to /one/"
    assert list(check_crowds(crowd[1:], HOMES)) == []
    assert list(check_crowds([plan(f"/{n}", "/") for n in range(30)], HOMES)) == []
    assert list(check_crowds([plan(f"/{n}", "") for n in range(30)], HOMES)) == []


_PATHS = st.sampled_from(["/a", "/b", "/c", "/d", "/e", "/end/"])


@thorough
@given(st.dictionaries(_PATHS.filter(lambda p: p != "/end/"), _PATHS, min_size=1))
def test_chains_and_loops_are_those_of_a_plain_walk(moves: dict[str, str]) -> None:
    """Each address walked by itself, with a dictionary."""
    wanted = {}
    for start, goal in moves.items():
        way = [start]
        while way[-1] in moves and moves[way[-1]] not in way:
            way.append(moves[way[-1]])
        if goal == start:
            continue  # onto another scheme: no rule for what it asks for itself
        following = moves.get(way[-1])
        if following is not None and following != way[-1]:
            wanted[start] = "loop"
        elif len([p for p in way if p in moves and moves[p] != p]) > 1:
            wanted[start] = "chain"
    found = {
        f.legacy_url.removeprefix(OLD): str(f.kind)
        for f in check([plan(a, b) for a, b in moves.items()], around())
        if f.kind in {FindingKind.CHAIN, FindingKind.LOOP}
    }
    assert found == wanted
