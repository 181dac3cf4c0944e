"""Five real servers and the reference: the same status and Location, whatever the rules and the requests are."""

from __future__ import annotations

import random
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conformance import HOSTS, NEW, OLD, SITES, compare, make_requests, make_rules, write_build
from conftest import needs_server
from servers import ask, ask_headers
from upright_ledger.core.addresses import NotAnAddressError, parse_address
from upright_ledger.core.compiling import compile_rules, make_template
from upright_ledger.core.destinations import read_destination
from upright_ledger.core.folding import FoldingPolicy, unanswerable
from upright_ledger.core.plans import make_plan
from upright_ledger.core.rules import RuleSet
from upright_ledger.web.local_servers import LAUNCHES, run_example

EACH_SERVER = pytest.mark.parametrize("name", [pytest.param(n, marks=needs_server(n)) for n in LAUNCHES])


@EACH_SERVER
@settings(max_examples=20, deadline=None, derandomize=True, database=None)
@given(seed=st.integers(0, 1 << 30))
def test_a_real_server_agrees_with_the_reference(name: str, seed: int) -> None:
    rng = random.Random(seed)
    rules = make_rules(rng)
    with tempfile.TemporaryDirectory() as held:
        written, acting = write_build(name, rules, Path(held))
        with run_example(name, Path(held)) as place:
            assert compare(name, written, list(make_requests(rng, written, 120)), place, acting) == []


PIECES = (
    '"', "'", "\\", "{", "}", "${env.HOME}", "$host", "%{HTTP_HOST}", "%[src]", ";", "#", "`", "<script>", "$1", "\\1", "{1}",
    "%0", "%25", " ", "\t", "|", "[L,R=302]", "}}", "--]]", "]]", ")", "(", "*", "^", "$", "~^", "=", "&", ",", "\u212a", "é", "\x7f",
)  # fmt: skip
ATTACKS = (
    "{}/x", "/a{}b", "/{}", "/x; }} location / {{ return 200 pwned; }} #{}", "/x code 302 if TRUE {}", '/x" [R=302,L] {}',
    '/x"]="301d||https://evil.example/||"{}', "/x\nRewriteRule ^ /pwned{}", "/x 301||https://evil.example|| {}", '/x"}},{{"handle":[]{}',
)  # fmt: skip


def hostile() -> RuleSet:
    """A rule for each hostile source and destination that can be had at all."""
    policy = FoldingPolicy()
    plans = [make_plan(parse_address(f"{OLD}/plain"), "quillhaven.example", policy, 301, f"{NEW}/plain-new/")]
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
        plans, [], SITES, policy, [make_template("quillhaven.example", "/t/{x}", 301, f"{NEW}/{{x}}/", "t", fold=True)]
    )
    return rules


@settings(max_examples=60, deadline=None)
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
    with run_example(name, tmp_path) as place:
        assert ask(place, "www.quillhaven.example", "/plain") == (301, f"{NEW}/plain-new/")
        for target in ("/", "/other", "/pwned", "/etc/passwd", "/t/a%0d%0aX-Evil:%20y", "/t/%24host", "/t/${env.HOME}"):
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
