"""Five real servers and the reference: the same status and Location, whatever the rules and the
requests are.
"""

from __future__ import annotations

import random
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conformance import HOSTS, NEW, OLD, SCHEME_HEADER, SITES, make_requests, make_rules
from conftest import needs_nginx, needs_server
from kept_files import rule_sets
from raw_http import ask, ask_headers
from server_comparison import answered_by_others, compare, write_build
from upright_ledger.core.inventory.declared_paths import unanswerable
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.destination import read_destination
from upright_ledger.servers import DIALECTS, load_dialect, load_server
from upright_ledger.web.local.real_nginx import run_nginx
from upright_ledger.web.local.real_servers import run_example

EACH_SERVER = pytest.mark.parametrize(
    "name", [pytest.param(n, marks=needs_server(n)) for n in DIALECTS]
)


def agrees(name: str, rules: RuleSet, rng: random.Random) -> None:
    """A real server and an interpreter of another hand answer as the rules."""
    with tempfile.TemporaryDirectory() as held:
        written, acting = write_build(name, rules, Path(held))
        requests = list(make_requests(rng, rules, 50))
        assert answered_by_others(rules, written, requests) == []
        with run_example(load_server(name).launch, Path(held)) as place:
            assert compare(name, written, requests, place, acting) == []


@EACH_SERVER
def test_a_real_server_agrees_with_the_files_that_are_kept(name: str) -> None:
    for what, rules in rule_sets():
        if len(rules):
            agrees(name, rules, random.Random(what))


@EACH_SERVER
@settings(max_examples=2)
@given(seed=st.integers(0, 1 << 30))
def test_a_real_server_agrees_with_the_reference(name: str, seed: int) -> None:
    rng = random.Random(seed)
    agrees(name, make_rules(rng), rng)


PIECES = (
    '"', "'", "\\", "{", "}", "${env.HOME}", "$host", "%{HTTP_HOST}", "%[src]", ";", "#", "`",
    "<script>", "$1", "\\1", "{1}",
    "%0", "%25", " ", "\t", "|", "[L,R=302]", "}}", "--]]", "]]", ")", "(", "*", "^", "$", "~^",
    "=", "&", ",", "\u212a", "é", "\x7f",
)  # fmt: skip
ATTACKS = (
    "{}/x", "/a{}b", "/{}", (
        "/x; }} location / {{ return 200 pwned; }} #{}"
    ), "/x code 302 if TRUE {}", '/x" [R=302,L] {}',
    '/x"]="301d||https://evil.example/||"{}', "/x\nRewriteRule ^ /pwned{}",
    "/x 301||https://evil.example|| {}", '/x"}},{{"handle":[]{}',
)  # fmt: skip


def hostile() -> RuleSet:
    """A rule for each hostile source and destination that can be had at all."""
    policy = FoldingPolicy()
    plans = [
        make_plan(
            parse_address(f"{OLD}/plain"), "quillhaven.example", policy, 301, f"{NEW}/plain-new/"
        )
    ]
    made = [form.format(piece) for form in ATTACKS for piece in PIECES]
    for n, text in enumerate(made):
        try:
            old = parse_address(f"{OLD}/h{n}/{text.lstrip('/')}")
            goal = read_destination(text if text.startswith("/") else f"/{text}", NEW).text
        except NotAnAddressError:
            continue
        if not unanswerable(old):
            plans.append(make_plan(old, "quillhaven.example", policy, 301, goal))
    rules, _ = compile_rules(
        plans,
        [],
        SITES,
        policy,
        [make_template("quillhaven.example", "/t/{x}", 301, f"{NEW}/{{x}}/", "t", fold=True)],
    )
    return rules


@settings(max_examples=30)
@given(seed=st.integers(0, 1 << 30))
def test_many_requests_at_once_get_what_each_gets(seed: int) -> None:
    rng = random.Random(seed)
    rules = make_rules(rng)
    requests = list(make_requests(rng, rules, 200))
    requests += [(host, path) for rule in rules.rules for path in rule.paths for host in HOSTS]
    assert list(rules.answers_of_rules(requests)) == [rules.answer_of_rules(*r) for r in requests]


@EACH_SERVER
def test_hostile_addresses_and_destinations_break_out_of_nothing(name: str, tmp_path: Path) -> None:
    rules = hostile()
    assert len(rules.rules) > 200
    written, _ = write_build(name, rules, tmp_path)
    assert len(written.rules) > 0.95 * len(rules.rules)
    with run_example(load_server(name).launch, tmp_path) as place:
        assert ask(place, "www.quillhaven.example", "/plain") == (301, f"{NEW}/plain-new/")
        for target in (
            "/",
            "/other",
            "/pwned",
            "/etc/passwd",
            "/t/a%0d%0aX-Evil:%20y",
            "/t/%24host",
            "/t/${env.HOME}",
        ):
            status, location = ask(place, "www.quillhaven.example", target)
            assert (status in {400, 403, 404}, location) == (True, ""), target
        for rule in written.rules:
            address = parse_address(rule.legacy_url)
            answer = written.answer(address.authority, address.target)
            assert answer is not None
            status, headers = ask_headers(place, address.authority, address.target)
            assert (status, headers.get("location")) == (answer.status, answer.location), rule
            assert answer.location.startswith(NEW + "/")
            assert not {"x-evil", "set-cookie"} & headers.keys()


def cased_rules(rng: random.Random) -> RuleSet:
    """Rules whose paths and values differ by letter case alone, which counts."""
    policy, plans = FoldingPolicy(case="exact"), []
    for n in range(rng.randint(6, 14)):
        path = rng.choice(
            ("/Case", "/case", "/CASE", "/a/Case", "/a/case", "/A/case")
        ) + rng.choice(("", ".html", "/x"))
        query = rng.choice(
            ("", "?item=1", "?item=2", "?item=Ab", "?item=aB", "?view=b", "?item=1&view=b")
        )
        address = parse_address(f"{OLD}{path}{query}")
        plans.append(
            make_plan(
                address, SITES.site_of(address), policy, rng.choice((301, 302)), f"{NEW}/n{n}"
            )
        )
    texts = rng.sample(("/{x}", "/a/{x}", "/Case/{x}", "/{x}{?item}"), rng.randint(0, 2))
    templates = [
        make_template("quillhaven.example", t, 301, f"{NEW}/t/", t, fold=False) for t in texts
    ]
    return compile_rules(plans, [], SITES, policy, templates)[0]


@EACH_SERVER
def test_letter_case_counts_where_it_is_exact(name: str) -> None:
    paths = ("/Case", "/case", "/CASE", "/cAse", "/a/Case", "/a/case", "/A/case", "/A/Case")
    tails = (
        "",
        "?item=1",
        "?item=2",
        "?item=ab",
        "?item=Ab",
        "?view=b",
        "?view=B",
        "?item=1&view=b",
        "?item=9",
        "?ITEM=1",
    )
    requests = [
        ("www.quillhaven.example", f"{p}{e}{t}")
        for p in paths
        for e in ("", ".html", "/x", ".HTML", "/X")
        for t in tails
    ]
    for seed in range(3):
        with tempfile.TemporaryDirectory() as held:
            written, acting = write_build(name, cased_rules(random.Random(seed)), Path(held))
            with run_example(load_server(name).launch, Path(held)) as place:
                assert compare(name, written, requests, place, acting) == []


@needs_nginx
@EACH_SERVER
def test_a_scheme_that_two_proxies_tell_leads_into_no_loop(name: str, tmp_path: Path) -> None:
    """The outer one ends TLS and says https; the inner one adds what it was asked by, or says it in
    a line of its own.
    """
    form = CanonicalForm("quillhaven.example", NEW, scheme_from=SCHEME_HEADER)
    plan = make_plan(
        parse_address(f"{OLD}/old"), "quillhaven.example", FoldingPolicy(), 301, f"{NEW}/new"
    )
    rules = compile_rules([plan], [], SITES, FoldingPolicy(), forms=[form])[0]
    write_build(name, rules, tmp_path)
    host, told = "www.quillhaven.example", f"{SCHEME_HEADER}: "
    with run_example(load_server(name).launch, tmp_path) as place:

        def proxies(folder: Path, port: int) -> str:
            passed = "proxy_set_header Host $http_host; proxy_set_header X-Forwarded-Proto"
            inner = f"unix:{folder}/inner"
            return (
                f"server {{ listen 127.0.0.1:{port}; location / {{ {passed} $arg_first; proxy_pass "
                f"http://{inner}:; }} }}\n"
                f'server {{ listen {inner}; location / {{ {passed} "$http_x_forwarded_proto, '
                f'$scheme"; proxy_pass http://{place[0]}:{place[1]}; }} }}'
            )

        with run_nginx(proxies, ()) as front:
            outer = (front.removeprefix("http://").partition(":")[0], int(front.rpartition(":")[2]))
            assert ask(outer, host, "/page?first=https")[1] == ""
            assert ask(outer, host, "/page?first=http") == (301, f"{NEW}/page?first=http")
            assert ask(outer, host, "/old?first=https") == (301, f"{NEW}/new")
        two_lines = (
            ask(place, host, "/page", f"{told}https\r\n{told}http"),
            ask(place, host, "/page", f"{told}http\r\n{told}https"),
        )
        assert two_lines == ((two_lines[0][0], ""), (301, f"{NEW}/page"))


@EACH_SERVER
@settings(max_examples=15)
@given(seed=st.integers(0, 1 << 30))
def test_what_is_held_back_leaves_a_hole_that_no_other_rule_fills(name: str, seed: int) -> None:
    rng = random.Random(seed)
    policy, plans = FoldingPolicy(), []
    longs = ["v" * rng.choice((3, 400, 1100, 3000, 4200)) for _ in range(3)]
    addresses = [
        "/shop",
        "/shop?item[]=1",
        "/caf%E9",
        "/caf%E9?item=1",
        *(f"/{v}" for v in longs),
        *(f"/shop?item={v}" for v in longs),
    ]
    for n, target in enumerate(rng.sample(addresses, rng.randint(2, 8))):
        goal = f"{NEW}/n{n}" + rng.choice(("", "/" + "g" * rng.choice((900, 3000, 4200))))
        plans.append(
            make_plan(parse_address(OLD + target), "quillhaven.example", policy, 301, goal)
        )
    texts = rng.sample(
        ("/{x}", "/{+rest}", "/shop{?item}", "/caf%E9{?item|1,2}"), rng.randint(0, 3)
    )
    templates = [
        make_template("quillhaven.example", t, 301, f"{NEW}/t/", t, fold=True) for t in texts
    ]
    rules = compile_rules(plans, [], SITES, policy, templates)[0]
    written = load_dialect(name).write(rules).rules
    asked = [
        a + tail
        for a in ["/shop", "/other", "/caf%E9", "/caf%C3%A9", *addresses]
        for tail in ("", "?item=9", "?item[]=1", "?item[]=9", "?x=1", "?item=1")
    ]
    assert (
        answered_by_others(
            rules, written, [("www.quillhaven.example", a) for a in asked if a.count("?") < 2]
        )
        == []
    )
