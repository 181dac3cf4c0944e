"""Each server's files, executed, give what the rule set gives; what a server cannot say is held
back with its reason, and nothing fills the hole.
"""

from __future__ import annotations

import csv
import json
import random
from dataclasses import replace
from functools import cache

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conformance import NEW, OLD, SCHEME_HEADER, SITES, make_rules
from corruption import RULE_FILES
from properties import in_brief
from rule_kinds import EXACT, SHOP, TEMPLATES, differs, rules_of_every_kind
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import CONNECTION, CanonicalForm
from upright_ledger.core.rules.compiler import ExcludedRule, compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.exact_rule import Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.servers import load_dialect
from upright_ledger.servers.import_list import ListDialect, Profile
from upright_ledger.servers.interpreters import (
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    in_bytes,
)
from upright_ledger.servers.probes import probes
from upright_ledger.servers.protocol import (
    MOST_TOLD,
    ServerDialect,
    Translation,
    decoded,
    differing_entries,
    differing_lines,
    expressible,
    without_lower_case,
    without_paths,
)
from upright_ledger.servers.reading_back import differences_in_meaning

SERVERS = sorted(RULE_FILES)
FAR = "https://new.example"


def dialect(name: str) -> ServerDialect:
    return load_dialect(name)


@cache
def written(name: str, fold: bool) -> Translation:
    return dialect(name).write(rules_of_every_kind(fold))


@pytest.mark.parametrize("name", SERVERS)
@pytest.mark.parametrize("fold", [True, False])
def test_files_of_every_kind_of_rule_answer_as_the_rules(name: str, fold: bool) -> None:
    made = dialect(name).write(rules_of_every_kind(fold))
    for seed in range(3):
        assert differs(dialect(name), dict(made.files), made.rules, seed) == ""
    assert dialect(name).read_back(made.files, made.rules) == []


@in_brief
@given(seed=st.integers(0, 1 << 30), name=st.sampled_from(SERVERS))
def test_files_of_any_rules_answer_as_the_rules(seed: int, name: str) -> None:
    rules = make_rules(random.Random(seed), most=8)
    made = dialect(name).write(rules)
    assert differs(dialect(name), dict(made.files), made.rules, seed) == ""


@pytest.mark.parametrize("name", SERVERS)
def test_the_same_rules_give_the_same_files_and_each_says_what_it_is(name: str) -> None:
    made, again = (dialect(name).write(rules_of_every_kind(True)) for _ in range(2))
    assert made.files == again.files
    assert dialect(name).rule_file in made.files
    assert b"README.md" not in made.files["README.md"][:9]
    assert made.files["README.md"].startswith(b"# ")
    for data in made.files.values():
        assert b"\r" not in data
        assert b"{rules_file}" not in data


@pytest.mark.parametrize("name", SERVERS)
def test_what_a_server_bears_is_all_there_and_the_rest_is_named(name: str) -> None:
    rules = rules_of_every_kind(True)
    made = written(name, True)
    told = {r.legacy_url for r in made.refused}
    kept = {r.legacy_url for r in made.rules.answering}
    assert {r.legacy_url for r in rules.answering} - kept <= told
    assert all(r.kind == "refused" and r.reason for r in made.refused)


def rule_of(old: str, new: str = "/n", **more: object) -> object:
    address = parse_address(old, OLD)
    return make_plan(
        address, SITES.site_of(address), FoldingPolicy(), 301, parse_address(new, FAR).text, **more
    )


def compiled(*plans: object, templates: tuple[tuple[str, str], ...] = ()) -> RuleSet:
    made = [
        make_template("quillhaven.example", s, 301, g, OLD + s, fold=True) for s, g in templates
    ]
    return compile_rules(plans, [], SITES, FoldingPolicy(), made)[0]


@pytest.mark.parametrize(
    ("name", "old", "reason"),
    [
        ("nginx", "/" + "x" * 4060, "nginx takes no words of 4,096 bytes or more"),
        ("apache", "/" + "x" * 400, "Apache's hashed maps take no more than 1,"),
        ("caddy", "/a%81", "its address is no UTF-8, which Caddy cannot compare"),
    ],
)
def test_what_a_server_cannot_take_is_held_back_with_its_reason(
    name: str, old: str, reason: str
) -> None:
    rules = compiled(rule_of(old), rule_of("/short"))
    made = dialect(name).write(rules)
    assert [r.reason[: len(reason)] for r in made.refused if r.legacy_url == OLD + old] == [reason]
    assert [r.path for r in made.rules.answering] == ["/short"]
    assert differs(dialect(name), dict(made.files), made.rules, 1) == ""


def fault(rule: Rule) -> str:
    """Cannot say what has an odd name; can say that anything else passes."""
    if "odd" not in rule.legacy_url:
        return ""
    return "odd" if rule.status or "never" in rule.legacy_url else ""


def named(found: list[ExcludedRule]) -> dict[str, str]:
    return {x.legacy_url.removeprefix(OLD): x.reason for x in found}


def test_what_is_held_back_passes_where_the_server_can_say_that() -> None:
    rules = compiled(rule_of("/odd"), rule_of("/plain"), templates=(("/{x}", f"{FAR}/{{x}}"),))
    kept, refused = expressible(rules, fault)
    assert named(refused) == {"/odd": "odd"}
    assert {r.path: r.status for r in kept.rules} == {
        "/odd": 0, "/plain": 301, "/favicon.ico": 0, "/robots.txt": 0,
    }  # fmt: skip
    assert kept.answer("www.quillhaven.example", "/odd") is None
    assert kept.answer("www.quillhaven.example", "/other") is not None


def test_where_it_cannot_even_pass_templates_that_would_fill_the_hole_go() -> None:
    rules = compiled(
        rule_of("/odd-never"), rule_of("/p/odd-never?i=1"), rule_of("/p/odd-never?j=1"),
        templates=(("/{x}", f"{FAR}/{{x}}"), ("/t/{x}", f"{FAR}/{{x}}")),
    )  # fmt: skip
    kept, refused = expressible(rules, fault)
    assert named(refused) == {
        "/odd-never": "odd", "/p/odd-never?i=1": "odd", "/p/odd-never?j=1": "odd",
        "/{x}": "it would answer an address whose own rule is held back",
    }  # fmt: skip
    assert kept.significant["/p/odd-never"] == {"i", "j"}
    assert [t.source.text for t in kept.templates if t.status] == ["/t/{x}"]


def test_a_template_that_cannot_be_said_closes_its_site_to_later_ones() -> None:
    rules = compiled(templates=(("/odd-never/{x}", f"{FAR}/{{x}}"), ("/t/{x}", f"{FAR}/{{x}}")))
    kept, refused = expressible(rules, fault)
    assert named(refused) == {
        "/odd-never/{x}": "odd", "/t/{x}": "an earlier template is held back",
    }  # fmt: skip
    assert not [t for t in kept.templates if t.status]
    passing, refused = expressible(
        compiled(templates=(("/odd/{x}", f"{FAR}/{{x}}"), ("/t/{x}", f"{FAR}/{{x}}"))), fault
    )
    assert named(refused) == {"/odd/{x}": "odd"}
    assert {t.source.text: t.status for t in passing.templates if "odd" in t.source.text} == {
        "/odd/{x}": 0
    }
    whole = compiled(rule_of("/plain"))
    assert expressible(whole, fault) == (whole, [])


def test_paths_that_cannot_be_compared_go_and_what_would_take_them() -> None:
    rules = compiled(
        rule_of("/a", variants=["/a/index.html"]), rule_of("/b"),
        templates=(("/a/{x}.html", f"{FAR}/{{x}}"), ("/c/{x}", f"{FAR}/{{x}}")),
    )  # fmt: skip
    kept, paths, refused = without_paths(rules, lambda p: p.endswith("index.html"))
    assert paths == ["/a/index.html"]
    assert {r.path: r.paths for r in kept.rules if r.status} == {
        "/a": ("/a", "/a/"), "/b": ("/b", "/b/"),
    }  # fmt: skip
    assert named(refused) == {
        "/a/{x}.html": "it would answer an address whose own rule is held back"
    }
    same, paths, refused = without_paths(rules, lambda _: False)
    assert (same, paths, refused) == (rules, [], [])


def test_differences_are_told_a_few_at_a_time() -> None:
    found = {str(n): "x" for n in range(9)}
    wanted = {str(n): "y" for n in range(1, 10)}
    told = differing_entries("t", found, wanted)
    assert told[0] == "t: '0' reads as 'x' instead of None"
    assert told[1] == "t: '1' reads as 'x' instead of 'y'"
    assert len(told) == 5
    assert differing_entries("t", found, found) == []
    assert differing_lines("f", "a\nb", "a\nc\nd") == [
        "f, line 2: 'b' instead of 'c'", "f, line 3: '' instead of 'd'",
    ]  # fmt: skip
    assert differing_lines("f", "a", "a") == []
    assert len(differing_lines("f", "\n".join("abcdefgh"), "")) == 5
    assert decoded("/a%E9b") == "/a\udce9b"
    assert decoded("/a%20b") == "/a b"
    assert decoded("/a") == "/a"


def test_a_server_that_folds_no_letters_leaves_capitals() -> None:
    rules = rules_of_every_kind(True)
    bare = without_lower_case(rules)
    assert not any(f.lower for f in bare.forms)
    assert replace(bare, forms=rules.forms) == rules
    assert [f.slash for f in bare.forms] == [f.slash for f in rules.forms]


def test_probes_try_each_rule_in_its_own_ways() -> None:
    rules = rules_of_every_kind(True)
    asked = probes(rules)
    assert len(set(asked)) == len(asked)
    hit = {id(a.rule) for p in asked if (a := rules.answer(p.host, p.target, p.scheme)) is not None}
    for rule in rules.answering:
        assert id(rule) in hit, rule.legacy_url
    assert len(EXACT) + len(TEMPLATES) < len(asked)
    assert {p.host for p in asked} >= {*rules.site_of, "elsewhere.example", ""}
    assert any("%2f" in p.target for p in asked)
    assert any("utm_source" in p.target for p in asked)
    assert {p.scheme for p in asked} == {"", "http", "https"}
    assert SHOP.removeprefix("http://") in rules.site_of


def test_a_list_of_paths_tells_hosts_where_they_differ_and_no_path_twice() -> None:
    shop = Profile("shop", old="From", new="To", status="", paths_only=True, patterns=True)
    rules = compiled(
        rule_of("/a?i=1", f"{NEW}/n?x=1"), rule_of("/b", f"{FAR}/b"), rule_of(f"{SHOP}/b",
            f"{NEW}/s"),
        rule_of(f"{SHOP}/c", f"{NEW}/c"), templates=(("/t/{x}", f"{NEW}/t/{{x}}"),),
    )  # fmt: skip
    made = ListDialect(shop, {("quillhaven.example", "/b"): 9.0}, NEW).write(rules)
    assert list(csv.DictReader(made.files["import.csv"].decode().splitlines())) == [
        {"From": "/t/{x}", "To": "/t/{x}"}, {"From": "/b", "To": f"{FAR}/b"},
        {"From": "/c", "To": "/c"}, {"From": "/a?i=1", "To": "/n?x=1"},
    ]  # fmt: skip
    assert [(r.legacy_url, r.reason) for r in made.refused] == [
        (f"{SHOP}/b", "the list tells no hosts, and this path is in it for another old site")
    ]


@pytest.mark.parametrize(("name", "file"), [("csv", "import.csv"), ("jsonl", "import.jsonl")])
def test_a_list_holds_what_a_list_can_tell(name: str, file: str) -> None:
    rules = rules_of_every_kind(True)
    made = load_dialect(name).write(rules)
    assert load_dialect(name).read_back(made.files, made.rules) == []
    text = made.files[file].decode()
    rows = text.splitlines()[1:] if name == "csv" else [json.loads(r) for r in text.splitlines()]
    assert len(rows) == len(made.rules.answering)
    assert made.rules.forms == ()
    assert {r.legacy_url for r in made.refused} >= {f.legacy_url for f in rules.forms}
    damaged = {**made.files, file: made.files[file].replace(b"/tower/", b"/power/")}
    assert load_dialect(name).read_back(damaged, made.rules) != []
    short = {**made.files, file: b"\n".join(made.files[file].split(b"\n")[:-2]) + b"\n"}
    assert load_dialect(name).read_back(short, made.rules) != []


@pytest.mark.parametrize(
    ("profile", "held"),
    [
        (Profile("p"), {"/t/{x}": "no patterns"}),
        (Profile("p", patterns=True), {}),
        (
            Profile("p", queries=False),
            {"/t/{x}": "no patterns", "/a?i=1": "no addresses with a query"},
        ),
        (Profile("p", gone=False), {"/t/{x}": "no patterns", "/g": "no 410"}),
        (Profile("p", limit=1), {"/t/{x}": "no patterns", "/a?i=1": "1 rows", "/g": "1 rows"}),
        (Profile("p", limit=2), {"/t/{x}": "no patterns", "/g": "2 rows"}),
        (Profile("p", limit=3), {"/t/{x}": "no patterns"}),
    ],
)
def test_what_a_list_does_not_take_is_held_back_the_most_valuable_last(
    profile: Profile, held: dict[str, str]
) -> None:
    gone = make_plan(parse_address(f"{OLD}/g"), "quillhaven.example", FoldingPolicy(), 410, "")
    rules = compiled(
        gone, rule_of("/a?i=1"), rule_of("/b"), templates=(("/t/{x}", f"{NEW}/t/{{x}}"),)
    )
    worth = {("quillhaven.example", "/b"): 9.0, ("quillhaven.example", "/a?i=1"): 1.0}
    made = ListDialect(profile, worth, NEW).write(rules)
    told = {r.legacy_url.removeprefix(OLD): r.reason for r in made.refused}
    assert told.keys() == held.keys()
    for path, why in held.items():
        assert told[path].startswith(f"the list takes {why}")
    assert len(made.rules.answering) == 4 - len(held)
    assert ListDialect(profile, worth, NEW).read_back(made.files, made.rules) == []


class Asked:
    """An interpreter that notes what it is asked, and answers as the rules, or nothing."""

    def __init__(self, rules: RuleSet, *, answers: bool = True) -> None:
        self.rules, self.answers = rules, answers
        self.requests: list[ServerRequest] = []

    def answer(self, request: ServerRequest) -> ServerResponse | None:
        self.requests.append(request)
        scheme_from = self.rules.forms[0].scheme_from if self.rules.forms else ""
        scheme = request.headers.get(SCHEME_HEADER.lower(), "")
        scheme = {"": "", CONNECTION: request.scheme}.get(scheme_from, scheme)
        found = self.rules.answer(request.host, request.target, scheme)
        if found is None or not self.answers:
            return None
        return ServerResponse(found.status, in_bytes(found.location), self.rules.cache_control)


@pytest.mark.parametrize("scheme_from", [None, "", CONNECTION, SCHEME_HEADER])
def test_files_are_asked_with_the_scheme_where_forms_take_it_from(scheme_from: str | None) -> None:
    form = CanonicalForm("quillhaven.example", NEW, scheme_from=scheme_from or "")
    forms = () if scheme_from is None else (form,)
    rules = replace(compiled(rule_of("/a")), forms=forms, cache_control="max-age=9")
    right, silent = Asked(rules), Asked(rules, answers=False)
    assert differences_in_meaning(lambda: right, rules) == []
    schemes = {(r.scheme, r.headers.get(SCHEME_HEADER.lower())) for r in right.requests}
    assert schemes == {
        CONNECTION: {("http", None), ("https", None)},
        SCHEME_HEADER: {("http", ""), ("http", "http"), ("https", "https")},
    }.get(scheme_from or "", {("http", None)})
    told = differences_in_meaning(lambda: silent, rules)
    assert len(told) == MOST_TOLD
    assert f"/a gets no answer instead of 301 {FAR}/n (max-age=9)" in told[0]


def test_files_that_a_server_would_not_take_are_told() -> None:
    def refused() -> Asked:
        raise NotUnderstoodError("line 3")

    rules = compiled(rule_of("/a"))
    assert differences_in_meaning(refused, rules) == ["a server would not take it: line 3"]
