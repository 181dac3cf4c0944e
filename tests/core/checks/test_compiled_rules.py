"""All answers of a move together: planned, checked, compiled, proved, and what is held back."""

from __future__ import annotations

from upright_ledger.core.checks.compiled_rules import CompiledRules
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Claim, Decision, usual
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import make_template
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.rule_answers import RuleAnswers
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.formats.server_config.apache_servers import read_apache

OLD, NEW, FAR = (
    "http://www.quillhaven.example",
    "https://www.quillhaven.example",
    "https://n.example",
)
SITE, HOST = "quillhaven.example", "www.quillhaven.example"
SITES = Sites(group_origins([OLD]), (NEW, FAR))
FOLD = FoldingPolicy()


def entry(
    number: int,
    key: str,
    kind: AnswerKind = AnswerKind.OPEN,
    goal: str = "",
    by: AnsweredBy = AnsweredBy.PERSON,
    **more: object,
) -> Entry:
    variants = more.pop("variants", (key.partition("?")[0],))
    return Entry(
        number, SITE, key, OLD + key, usual(kind, goal) if kind != "open" else Decision(kind), by,
        variants=variants, **more,
    )  # type: ignore[arg-type]  # fmt: skip


def compiled(
    *entries: Entry,
    claims: dict[int, list[Claim]] | None = None,
    templates: tuple[tuple[str, str], ...] = (),
    rules: str = "",
    queries: tuple[tuple[tuple[str, str], str], ...] = (),
    sessions: tuple[tuple[int, str], ...] = (),
    stock: dict[str, StockPage] | None = None,
    protected: tuple[Address, ...] = (),
) -> CompiledRules:
    made = [
        make_template(SITE, source, 301 if goal else 410, goal, OLD + source, fold=True)
        for source, goal in templates
    ]
    blocks = (Block(read_apache(rules, ".htaccess", folder="/").rules),) if rules else ()
    return CompiledRules(
        CheckContext(SITES, FOLD, stock or {}, frozenset({f"{NEW}/"})),
        RuleAnswers(SITES, FOLD, made, blocks),
        entries,
        claims or {},
        lambda: protected,
        lambda: queries,
        lambda: sessions,
        entries_of=lambda numbers: [e for e in entries if e.id in numbers],
    )


def location(made: CompiledRules, target: str) -> str | None:
    answer = made.rules.answer(HOST, target)
    return answer.location if answer else None


def test_answers_that_ask_for_a_rule_are_plans_and_others_are_not() -> None:
    made = compiled(
        entry(1, "/a", AnswerKind.MOVE, f"{FAR}/a/", where="x.csv row 2", query=QueryPolicy.DROP),
        entry(2, "/b", AnswerKind.GONE),
        entry(3, "/c", AnswerKind.KEEP),
        entry(4, "/d", AnswerKind.IGNORE),
        entry(5, "/e"),
        entry(6, "/f", AnswerKind.MOVE, f"{FAR}/f", AnsweredBy.TEMPLATE),
        entry(7, "/g", AnswerKind.TEMPORARY, f"{FAR}/g", AnsweredBy.RULE, host_given=False,
            old=f"{OLD}/G", variants=("/g", "/g/index.html")),
    )  # fmt: skip
    found = {p.legacy_url.removeprefix(OLD): p for p in made.plans}
    assert list(found) == ["/a", "/b", "/G"]
    a, b, g = found.values()
    assert (a.status, a.destination, a.where, a.query) == (301, f"{FAR}/a/", "x.csv row 2", "drop")
    assert (a.meant, a.imported, a.host_given) == (True, False, True)
    assert (b.status, b.destination) == (410, "")
    assert (g.status, g.meant, g.imported, g.host_given) == (302, False, True, False)
    assert g.paths == ("/g", "/g/", "/g/index.html")
    assert (location(made, "/a?utm_source=x"), location(made, "/b"), location(made, "/c")) == (
        f"{FAR}/a/", "", None,
    )  # fmt: skip


def test_what_contests_an_answer_is_a_plan_and_a_conflict() -> None:
    claim = Claim(1, f"{OLD}/A", 302, f"{FAR}/other", host_given=False, where="y.csv row 3")
    bare = claim._replace(old="", number=2, status=301)
    made = compiled(
        entry(1, "/a", AnswerKind.MOVE, f"{FAR}/a/", variants=("/a", "/a.b/")),
        claims={1: [claim, bare], 9: [claim]},
    )
    first, second, third = made.plans
    assert (second.legacy_url, second.status, second.destination) == (
        f"{OLD}/A", 302, f"{FAR}/other",
    )  # fmt: skip
    assert (second.host_given, second.where, second.meant) == (False, "y.csv row 3", False)
    assert third.legacy_url == first.legacy_url
    assert second.paths == first.paths
    assert "conflict" in {f.kind for f in made.findings}
    assert next(h.reason for h in made.held_back) == "two answers claim this address"
    assert location(made, "/a") is None


def test_other_spellings_of_a_page_that_is_kept_lead_there() -> None:
    page = entry(1, "/a", AnswerKind.KEEP, variants=("/a/", "/a/index.html"))
    page.legacy_url = f"{OLD}/a/"
    made = compiled(page)
    assert made.kept_as == {(SITE, "/a/index.html"): f"{NEW}/a/"}
    assert location(made, "/a/index.html") == f"{NEW}/a/"
    assert location(made, "/a/") is None
    alone = compiled(entry(1, "/a", AnswerKind.KEEP, variants=("/a/index.html",)))
    assert alone.plans == []


def test_templates_answer_and_leave_alone_what_is_protected() -> None:
    made = compiled(
        entry(1, "/t/%61", AnswerKind.MOVE, f"{FAR}/t/a", AnsweredBy.TEMPLATE,
            where=f"{OLD}/t/{{x}}", variants=("/t/a", "/t/a%20b")),
        templates=(("/t/{x}", f"{FAR}/t/{{x}}"), ("/u/{x}", "https://elsewhere.example/{x}")),
        protected=(parse_address(f"{OLD}/t/keep"),),
    )  # fmt: skip
    assert location(made, "/t/b") == f"{FAR}/t/b"
    assert location(made, "/t/keep") is None
    kinds = [(f.kind, f.legacy_url) for f in made.findings]
    assert ("off-site", f"{OLD}/u/{{x}}") in kinds
    assert ("uncovered-variant", f"http://{HOST}/t/a%20b") in kinds
    assert len(kinds) == 2
    assert [(h.legacy_url, h.kind) for h in made.held_back] == [(f"{OLD}/u/{{x}}", "refused")]
    bare = compiled(protected=(parse_address(f"{OLD}/t/keep"),))
    assert len(bare.rules) == 0


def test_a_template_that_leads_to_another_rule_is_held_back_with_the_way() -> None:
    made = compiled(
        entry(1, "/b/x", AnswerKind.MOVE, f"{FAR}/end"),
        templates=(("/a/{x}", f"{NEW}/b/{{x}}"), ("/c/{x}", f"{NEW}/a/{{x}}")),
    )
    held = {h.legacy_url.partition(".example")[2]: (h.kind, h.reason) for h in made.held_back}
    assert held["/a/x"][0] == "chain"
    assert "it would send requests on a second time" in held["/a/x"][1]
    assert location(made, "/a/x") is None
    assert location(made, "/a/y") == f"{NEW}/b/y"
    assert held["/c/{x}"][0] == "chain"
    assert made.proof.state == "witness"
    assert made.proof.held_back == len(made.held_back)
    assert {f.kind for f in made.findings} == {"chain"}


def test_imported_rules_are_asked_last_and_built_where_a_template_says_the_same() -> None:
    text = (
        "RewriteEngine On\n"
        "RewriteRule ^w/([0-9]+)$ https://n.example/w/$1 [R=301,L]\n"
        "RewriteCond %{QUERY_STRING} ^x=1$\n"
        "RewriteRule ^v/(.*)$ https://n.example/v/$1 [R=301,L]\n"
        "Redirect 301 /a https://n.example/imported\n"
    )
    made = compiled(
        entry(1, "/a", AnswerKind.MOVE, f"{FAR}/imported", AnsweredBy.RULE),
        entry(2, "/b", AnswerKind.MOVE, f"{FAR}/b"),
        rules=text,
    )
    assert location(made, "/w/7") == f"{FAR}/w/7"
    assert location(made, "/a") == f"{FAR}/imported"
    assert [x.legacy_url for x in made.left_out] == [".htaccess:4"]
    assert made.left_out[0].kind == "pattern"
    assert made.left_out[0].reason == (
        "the entries it answers are built, the pattern itself is not: it has conditions"
    )
    assert [r.path for r in made.all_rules.rules if r.status] == ["/b"]
    answer = made.all_rules.answer(HOST, "/v/z?x=1")
    assert answer is not None
    assert answer.location == f"{FAR}/v/z?x=1"
    assert len(list(made.imported)) == 3
    own = compiled(entry(2, "/b", AnswerKind.MOVE, f"{FAR}/b"))
    assert own.all_rules is own.rules


def test_queries_and_visits_are_asked_for_when_faults_are_looked_for() -> None:
    made = compiled(
        entry(1, "/a", AnswerKind.MOVE, f"{FAR}/a", query=QueryPolicy.DROP),
        entry(2, "/b", AnswerKind.KEEP),
        entry(3, "/c", AnswerKind.IGNORE),
        entry(4, "/reset/masked", AnswerKind.MOVE, f"{FAR}/r"),
        queries=(((SITE, "/a"), "gclid=1"),),
        sessions=(
            (1, f"{OLD}/a;jsessionid=1"),
            (1, f"{OLD}/a"),
            (2, f"{OLD}/b;jsessionid=1"),
            (3, f"{OLD}/c;jsessionid=1"),
            (4, f"{OLD}/reset/masked"),
            (9, f"{OLD}/z;jsessionid=1"),
        ),
    )
    assert [(f.kind, f.legacy_url.removeprefix(OLD)) for f in made.findings] == [
        ("uncovered-variant", "/a;jsessionid=1"),
        ("uncovered-variant", "/b;jsessionid=1"),
        ("uncovered-variant", "/reset/masked"),
        ("query-lost", "/a"),
    ]
