"""Reading back what was written: a line that is dropped, swapped or altered is noticed, wherever it
makes a difference.
"""

from __future__ import annotations

import os
import random
import re
from dataclasses import replace
from functools import cache, partial

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conformance import NEW, OLD, SCHEME_HEADER, SITES, make_requests, make_rules
from corruption import RULE_FILES, corruptions
from properties import in_brief
from server_comparison import SCHEMES, first_of
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import ALWAYS, CONNECTION, CanonicalForm
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_syntax import Goal
from upright_ledger.core.url.address import parse_address
from upright_ledger.servers import load_dialect
from upright_ledger.servers.interpreters import (
    DeclinedError,
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    in_bytes,
)
from upright_ledger.servers.protocol import ServerDialect
from upright_ledger.servers.reading_back import differences_in_meaning

SHOP = "http://shop.quillhaven.example"
EXACT = [
    (OLD, "/clocks/tower.html", 301, f"{NEW}/tower/", "carry-tracking"),
    (OLD, "/caf%C3%A9", 301, f"{NEW}/coffee/", "carry-tracking"),
    (OLD, "/Case/One", 301, f"{NEW}/one/?a=1", "carry-tracking"),
    (OLD, "/the-quick-brown-fox-jumps-over-the-lazy-dog", 301, f"{NEW}/fox/", "carry-tracking"),
    (OLD, "/all", 302, f"{NEW}/all/", "carry"),
    (OLD, "/all/fixed", 302, f"{NEW}/all/?b=2#top", "carry"),
    (OLD, "/bare", 307, f"{NEW}/bare/x", "drop"),
    (OLD, "/frag", 308, f"{NEW}/frag#there", "drop"),
    (OLD, "/frag/two", 308, "https://new.example/frag", "carry-tracking"),
    (OLD, "/seven", 307, "https://new.example/7", "carry-tracking"),
    (OLD, "/two", 302, "https://new.example/2", "carry-tracking"),
    (OLD, "/gone.html", 410, "", "carry-tracking"),
    (OLD, "/same/", 301, f"{NEW}/same/", "carry-tracking"),
    (OLD, "/$dollar/x?item=12&view=b", 301, f"{NEW}/p12b", "carry-tracking"),
    (OLD, "/$dollar/x?item=12", 301, f"{NEW}/p12", "carry"),
    (OLD, "/$dollar/x?item=Ab", 302, f"{NEW}/pAb?z=1", "carry-tracking"),
    (OLD, "/$dollar/x?item=aB", 410, "", "drop"),
    (OLD, "/$dollar/x", 301, f"{NEW}/px", "drop"),
    (OLD, "/clock/x?item=5", 301, f"{NEW}/clock/5", "drop"),
    (OLD, "/qm%3F/x?item=Ab", 301, f"{NEW}/q1", "drop"),
    (OLD, "/qm%3F/x?item=aB", 301, f"{NEW}/q2", "drop"),
    (OLD, "/catalogue.php?item=abc", 301, f"{NEW}/abc/", "drop"),
    (SHOP, "/list?item=1", 301, "https://new.example/l1", "carry-tracking"),
    (SHOP, "/clocks/tower.html", 301, "https://new.example/other/", "carry-tracking"),
    *(
        (SHOP, f"/folder/p{n}", 301, f"https://new.example/p{n}", "carry-tracking")
        for n in range(5)
    ),
]
TEMPLATES = [
    (
        OLD,
        "/journal/{year|digits}/{slug}.html",
        301,
        NEW + "/stories/{year}/{slug}/",
        "carry-tracking",
    ),
    (OLD, "/makers/{last|word}-{first}", 302, NEW + "/m/{first}?n={last}#x", "carry"),
    (OLD, "/old/{+rest}", 301, "https://new.example/{rest}", "drop"),
    (OLD, "/catalogue.php{?item|digits}", 301, NEW + "/item/{item}/", "carry-tracking"),
    (OLD, "/catalogue.php{?item|digits}{?view}", 308, NEW + "/item/{item}/{view}", "drop"),
    (OLD, "/{kind|clock,dial}/x", 410, "", "drop"),
    (SHOP, "/Case/{slug}", 307, "https://new.example/{slug}", "carry-tracking"),
    (SHOP, "/{a}/list.php{?item}", 410, "", "drop"),
]


@cache
def rules_of_every_kind(fold: bool) -> RuleSet:
    policy = FoldingPolicy(case="fold" if fold else "exact")
    plans = []
    for host, target, status, goal, query in EXACT:
        address = parse_address(host + target)
        plans.append(
            replace(make_plan(address, SITES.site_of(address), policy, status, goal), query=query)
        )
    sites = {OLD: "quillhaven.example", SHOP: "shop.quillhaven.example"}
    templates = [
        make_template(sites[o], t, s, goal, t, fold=fold, query=q) for o, t, s, goal, q in TEMPLATES
    ]
    standing = [parse_address(OLD + path) for path in ("/old/keep", "/journal/1850/stays.html")]
    forms = [
        CanonicalForm(sites[old], origin, ALWAYS, lower=fold, scheme_from=SCHEME_HEADER)
        for old, origin in ((OLD, NEW), (SHOP, "https://new.example"))
    ]
    rules = compile_rules(plans, [], SITES, policy, templates, standing, forms=forms)[0]
    return replace(rules, cache_control="max-age=600")


def differs(dialect: ServerDialect, files: dict[str, bytes], rules: RuleSet, seed: int) -> str:
    """A request of another making that is answered otherwise than by the rules, or an empty
    text.
    """
    try:
        interpreter = dialect.interpreter(files)
        for n, (host, target) in enumerate(make_requests(random.Random(seed), rules, 300)):
            scheme_from = rules.forms[0].scheme_from if rules.forms else ""
            scheme = (
                "http"
                if scheme_from == CONNECTION
                else SCHEMES[n % len(SCHEMES)]
                if scheme_from
                else ""
            )
            answer = rules.answer(host, target, first_of(scheme))
            due = (
                ServerResponse(answer.status, in_bytes(answer.location), rules.cache_control)
                if answer
                else None
            )
            try:
                found = interpreter.answer(
                    ServerRequest(host, target, "http", {SCHEME_HEADER.lower(): scheme})
                )
            except DeclinedError:
                continue
            if found != due:
                return f"{host}{target}: {found} instead of {due}"
    except NotUnderstoodError as error:
        return str(error)
    return ""


@in_brief
@given(seed=st.integers(0, 1 << 30))
def test_what_is_written_reads_back_and_what_is_corrupted_does_not(seed: int) -> None:
    rng = random.Random(seed)
    rules = make_rules(rng, most=3)
    rules = (
        rules if rng.random() < 0.3 else replace(rules, forms=())
    )  # forms are asked in many ways
    name = rng.choice(sorted(RULE_FILES))
    dialect: ServerDialect = load_dialect(name)  # type: ignore[assignment]
    written = dialect.write(rules)
    assert dialect.read_back(written.files, written.rules) == []
    made = list(corruptions(name, written.files))
    if not made or not len(written.rules):
        return
    what, file, change = rng.choice(made)
    files = {**written.files, file: change()}
    assert dialect.read_back(files, written.rules) != [], what


@pytest.mark.parametrize("name", sorted(RULE_FILES))
@pytest.mark.parametrize("fold", [True, False])
def test_what_is_dropped_swapped_or_altered_is_noticed(name: str, fold: bool) -> None:
    dialect: ServerDialect = load_dialect(name)  # type: ignore[assignment]
    written = dialect.write(rules_of_every_kind(fold))
    assert dialect.read_back(written.files, written.rules) == []
    made = list(corruptions(name, written.files))
    most = int(os.environ.get("UPRIGHT_CORRUPTIONS", "3"))
    for n, (what, file, change) in enumerate(
        random.Random(name).sample(made, min(len(made), most))
    ):
        files = {**written.files, file: change()}
        assert dialect.read_back(files, written.rules) != [], what
        if differences_in_meaning(partial(dialect.interpreter, files), written.rules) == []:
            assert differs(dialect, files, written.rules, n) == "", what


def with_references_swapped(text: str) -> str:
    """A destination whose first two captures change places."""
    marks = {
        "{1}": "{2}",
        "{2}": "{1}",
        "\\1": "\\2",
        "\\2": "\\1",
        "c1}": "c2}",
        "c2}": "c1}",
        ".1}": ".2}",
        ".2}": ".1}",
    }
    return re.sub("|".join(map(re.escape, marks)), lambda m: marks[m[0]], text)


@pytest.mark.parametrize("name", sorted(RULE_FILES))
def test_a_writer_that_mistakes_one_capture_for_another_is_noticed(
    name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    fill = Goal.fill
    monkeypatch.setattr(
        Goal, "fill", lambda self, values: with_references_swapped(fill(self, values))
    )
    dialect = load_dialect(name)
    written = dialect.write(rules_of_every_kind(True))
    monkeypatch.undo()
    found = dialect.read_back(written.files, written.rules)
    assert found != []


@pytest.mark.parametrize("name", sorted(RULE_FILES))
def test_a_writer_that_forgets_a_part_of_the_meaning_is_noticed(name: str) -> None:
    dialect: ServerDialect = load_dialect(name)  # type: ignore[assignment]
    rules = dialect.write(rules_of_every_kind(True)).rules
    for forgetful in (
        replace(rules, tracking=rules.tracking[1:]),
        replace(rules, tracking=rules.tracking[::-1]),
        replace(rules, forms=rules.forms[1:]),
        replace(rules, cache_control=""),
        replace(rules, rules=tuple(r for r in rules.rules if r.status)),
        replace(rules, rules=tuple(replace(r, query="drop") for r in rules.rules)),
        replace(rules, site_of=dict(list(rules.site_of.items())[1:])),
        replace(rules, forms=tuple(replace(f, slash="") for f in rules.forms)),
    ):
        files = dialect.write(forgetful).files
        assert differences_in_meaning(partial(dialect.interpreter, files), rules) != []
