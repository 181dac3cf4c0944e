"""Imported patterns as templates: which are made, which are left and why, and that none of those
made answers otherwise than its pattern.
"""

from __future__ import annotations

import random
import re
from typing import Any

import pytest
from test_imported_templates import SEGMENTS, rule_file

from upright_ledger.core.rules.compiler import make_template
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import request_of
from upright_ledger.core.rules.imported.templates import (
    NoTemplateError,
    template_of_pattern,
    templates_of,
)
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.origins import Site
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.formats.server_config.apache_servers import read_apache
from upright_ledger.formats.tables.pairs import pieces_of

OLD, SHOP, NEW = "http://www.old.example", "http://shop.old.example", "https://new.example"
SITES = [Site("old", (OLD,)), Site("shop", (SHOP,))]
BASES = {"www.old.example": NEW}
NO_COUNTERPART = "its pattern has no counterpart among templates"


def block(*lines: str, folder: str = "/") -> Block:
    return Block(read_apache("\n".join(("RewriteEngine On", *lines)), "f", folder=folder).rules)


def both(*blocks: Block, own: Any = (), sites: Any = SITES[:1]) -> tuple[list[Any], list[Any]]:
    """What is made, and what is left."""
    made, left = templates_of(blocks, sites, BASES, own, fold=False)
    return [
        (t.site, t.source.text, t.slash, t.status, t.destination, str(t.query)) for t in made
    ], left


@pytest.mark.parametrize(
    ("line", "template"),
    [
        (r"^b/([0-9]+)/(.*)$ /n/$1-$2 [R=301]",
            ("/b/{p1|digits}/{+rest}", "any", 301, f"{NEW}/n/{{p1}}-{{rest}}", "carry")),
        (r"^b/(\d+)$ /n/$1 [R=302]", ("/b/{p1|digits}", "bare", 302, f"{NEW}/n/{{p1}}", "carry")),
        (r"^b/([^/]+)/?$ https://x.example/$1 [R=301,QSA]",
            ("/b/{p1}", "any", 301, "https://x.example/{p1}", "carry")),
        (r"^b/([^/]*)/$ /n/$1/ [R=301,QSD]",
            ("/b/{p1}", "slashed", 301, f"{NEW}/n/{{p1}}/", "drop")),
        (r"^b/(\w+)\.php$ /n?i=$1 [R=301]",
            ("/b/{p1|word}.php", "any", 301, f"{NEW}/n?i={{p1}}", "drop")),
        (r"^b/(\w+)$ /n?i=$1 [R=301,QSA]",
            ("/b/{p1|word}", "bare", 301, f"{NEW}/n?i={{p1}}", "carry")),
        (r"^b/([A-Za-z0-9]+)/x$ /n/$1 [R=301]",
            ("/b/{p1|word}/x", "bare", 301, f"{NEW}/n/{{p1}}", "carry")),
        (r"^b/(a|b_c|d-e)/(.+)$ /n/$1/$2 [R=301]",
            ("/b/{p1|a,b_c,d-e}/{+rest}", "any", 301, f"{NEW}/n/{{p1}}/{{rest}}", "carry")),
        (r"^b/ /fixed [R=301]", ("/b/{+rest}", "any", 301, f"{NEW}/fixed", "carry")),
        (r"^b/(\d+)$ - [G]", ("/b/{p1|digits}", "bare", 410, "", "carry")),
    ],
)  # fmt: skip
def test_a_pattern_is_said_by_a_template(line: str, template: tuple[Any, ...]) -> None:
    assert both(block(f"RewriteRule {line}")) == ([("old", *template)], [])


@pytest.mark.parametrize(
    ("lines", "why"),
    [
        ([r"RewriteRule ^w/([0-9]{4})$ /d/$1 [R=301]"], NO_COUNTERPART),
        ([r"RewriteRule ^w/(a)(b|c$ /d/$1 [R=301]"], None),
        ([r"RewriteRule x/(.*)$ /y/$1 [R=301]"],
            "its pattern does not begin at the start of the path"),
        ([r"RewriteRule ^x/(.*)y$ /y/$1 [R=301]"], "text follows on the rest of the path"),
        ([r"RewriteRule ^x/(\d+) /y/$1 [R=301]"], "its pattern does not end with the path"),
        ([r"RewriteRule ^x/(\d+)\$ /y/$1 [R=301]"], "its pattern does not end with the path"),
        ([r"RewriteRule ^x/(.*)$ /y/%{HTTP_HOST} [R=301]"],
            "its destination holds more than texts and groups"),
        ([r"RewriteRule ^x/(.*)$ /y/{$1 [R=301]"], "its destination holds a brace"),
        ([r"RewriteCond %{QUERY_STRING} ^x=1$", r"RewriteRule ^x/(.*)$ /y/$1 [R=301]"],
            "it has conditions"),
        ([r"RewriteCond %{HTTP_HOST} ^(www)\.", r"RewriteRule ^x/(.*)$ /y/%1 [R=301]"],
            "its destination holds more than texts and groups"),
        ([r"RewriteRule !^x/(.*)$ /y [R=301]"], "it looks at more than the path"),
    ],
)  # fmt: skip
def test_a_pattern_that_no_template_says_is_left_with_the_reason(
    lines: list[str], why: str | None
) -> None:
    assert both(block(*lines), sites=SITES) == (
        [],
        [(f"f:{len(lines) + 1}", why)] if why else [],
    )


FAMILY = r"RewriteRule ^x/([^/]+)$ /y/$1 [R=301]"


@pytest.mark.parametrize(
    ("before", "is_made"),
    [
        (r"RewriteRule ^x/ - [L]", False),
        (r"RewriteRule ^x/a$ - [L]", False),
        (r"RewriteRule ^x/(.*)z$ /q [R=301]", False),
        (r"RewriteRule ^(.*)/z$ /q [R=301]", False),
        (r"RewriteRule ^X/(.*)z$ /q [R=301,NC]", False),
        (r"RewriteRule ^z/(.*)z$ /q [R=301]", True),
        (r"RewriteRule ^x/a$ /q [R=301]", True),
        (r"RewriteRule ^x/(\d+)$ /q/$1 [R=301]", True),
        (r"RewriteRule ^x/(.*)$ /q/$1 [R=301]", True),  # whose template is asked first, too
        (r"RewriteRule ^x/([^/]+)/$ /q/$1 [R=301]", True),
        (r"RewriteRule ^(\w+)/b$ /q/$1 [R=301]", False),
    ],
)
def test_what_is_asked_first_and_might_take_an_address_keeps_a_template_back(
    before: str, is_made: bool
) -> None:
    made, left = both(block(before, FAMILY))
    wanted = ("old", "/x/{p1}", "bare", 301, f"{NEW}/y/{{p1}}", "carry")
    assert (wanted in made) == is_made
    assert any(where == "f:3" for where, _ in left) != is_made
    made, left = both(block(before), block(FAMILY))  # in two files
    assert (wanted in made) == (is_made or before.endswith("- [L]"))


def test_what_passes_on_within_its_module_keeps_back_what_is_of_the_same_module() -> None:
    """Redirect is read by another module than RewriteRule."""
    skip = r"RewriteRule ^x/ - [END]"
    alias = "RedirectMatch 301 ^/x/([^/]+)$ /y/$1"
    for lines, is_made in (((skip, alias), True), ((skip, FAMILY), False)):
        rules = read_apache("\n".join(("RewriteEngine On", *lines)), "f").rules
        made, _ = both(Block(rules))
        assert bool(made) == is_made, lines


def test_what_people_decided_is_asked_before_what_was_imported() -> None:
    own = [
        make_template(
            "old", "/x/{+some}", 301, f"{NEW}/{{some}}", f"{OLD}/x/{{+some}}", fold=False,
            query=QueryPolicy.DROP,
        )
    ]  # fmt: skip
    assert both(block(FAMILY), own=own) == (
        [("old", "/x/{p1}", "bare", 301, f"{NEW}/y/{{p1}}", "carry")],
        [],
    )
    wide = block(r"RewriteRule ^x/(.*)$ /y/$1 [R=301]")
    made, left = both(block(FAMILY), wide)
    assert [t[1] for t in made] == ["/x/{p1}"]
    assert left == [("f:2", "/x/{p1} takes some of its addresses first")]
    assert both(wide, own=own) == (
        [],
        [("f:2", "/x/{+some} takes some of its addresses first")],
    )


def test_a_template_is_for_the_sites_that_its_conditions_name() -> None:
    shop = block(
        r"RewriteCond %{HTTP_HOST} ^shop\. [OR]", r"RewriteCond %{HTTP_HOST} ^store\.", FAMILY
    )
    assert [t[0] for t in both(shop, sites=SITES)[0]] == ["shop"]
    every = both(block(FAMILY), sites=SITES)[0]
    assert [(t[0], t[4]) for t in every] == [
        ("old", f"{NEW}/y/{{p1}}"),
        ("shop", f"{SHOP}/y/{{p1}}"),
    ]
    secure = block("RewriteCond %{HTTPS} on", FAMILY)
    assert both(secure, sites=SITES) == ([], [])
    taken = block(r"RewriteCond %{HTTP_HOST} ^shop\.", r"RewriteRule ^x/ - [L]", FAMILY)
    assert [t[0] for t in both(taken, sites=SITES)[0]] == ["old"]


@pytest.mark.parametrize(
    ("pattern", "new", "said"),
    [
        ("^/b/(.*)$", "/n/$1", ("/b/{+rest}", "/n/{rest}")),
        ("^/b/([^/]+)/$", "/n/$1/", ("/b/{p1}/", "/n/{p1}/")),
        ("^/b/([^/]+)/?$", "/n/$1", ("/b/{p1}", "/n/{p1}")),
        (r"^/b\.c/(\d+)$", "/n/$1", ("/b.c/{p1|digits}", "/n/{p1}")),
        ("^/b((?:/.*)?)$", "/n$1", ("/b/{+rest}", "/n/{rest}")),
        ("^/b/([0-9]+)-(\\w+)$", "https://x.example/$2/$1",
            ("/b/{p1|digits}-{p2|word}", "https://x.example/{p2}/{p1}")),
    ],
)  # fmt: skip
def test_a_regular_expression_of_a_sheet_is_said_by_a_template(
    pattern: str, new: str, said: tuple[str, str]
) -> None:
    assert template_of_pattern(pattern, pieces_of(new), 301) == said


@pytest.mark.parametrize(
    "pattern", ["/b/(.*)$", "^b/(.*)$", "^/b/$", "^/b$", "^/b/(.)$", "^/b/(.*)"]
)
def test_what_of_a_sheet_no_template_says(pattern: str) -> None:
    if pattern == "^/b/(.*)":
        assert template_of_pattern(pattern, pieces_of("/n"), 301) == ("/b/{+rest}", "/n")
        return
    with pytest.raises(NoTemplateError):
        template_of_pattern(pattern, pieces_of("/n"), 301)


@pytest.mark.parametrize("seed", range(60))
def test_templates_answer_as_the_rules_they_were_made_of(seed: int) -> None:
    """And each pattern is made or left, never neither."""
    rng = random.Random(seed)
    rules = read_apache(rule_file(rng), "f", folder="/" if rng.random() < 0.7 else "").rules
    whole = Block(rules)
    made, left = templates_of([whole], SITES[:1], BASES, (), fold=False)
    due = [r for r in rules if r.is_pattern and r.status]
    assert len(made) + len(left) == len({(r.where, r.pattern) for r in due})
    answers = RuleSet((), {"www.old.example": "old"}, False, (), templates=tuple(made))
    for _ in range(100):
        names = [rng.choice(SEGMENTS) for _ in range(rng.randint(1, 3))]
        target = f"/{'/'.join(names)}{rng.choice(('', '/'))}{rng.choice(('', '', '?x=1'))}"
        answer = answers.answer("www.old.example", target)
        told = whole.find(request_of(OLD, "www.old.example", target))
        if answer is None:
            continue
        assert told is not None, target
        rule, location = told
        location = re.sub(r"^(?=/)", NEW, location)
        assert (rule.status, location) == (answer.status, answer.location), target
