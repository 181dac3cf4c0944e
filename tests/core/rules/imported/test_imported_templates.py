"""Imported patterns that are built as templates answer nothing else than the patterns do."""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program, opened
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import request_of
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.formats.server_config.apache_servers import read_apache
from upright_ledger.ledger.store import open_ledger

SOURCES = (
    "^a/(.*)$", "^a/([0-9]+)/?$", "^a/b/([^/]+)$", "^([^/]+)/(b|c)$", "^a/b$", "^a/", "^(.*)$",
    r"^a/x\.html$", "^([0-9]{4})/(.+)$", "^b/([^/]+)/$", "^c-([0-9]+)/(.*)",
)  # fmt: skip
GOALS = (
    "/n/$1",
    "https://new.example/$1?x=1",
    "https://www.quillhaven.example/fixed/",
    "-",
    "https://new.example/$2/$1",
)
FLAGS = ("R=301,L", "R=302,L,QSA", "R=301,L,QSD", "L", "R=301,L,NC")
CONDITIONS = (
    "",
    "",
    "",
    r"RewriteCond %{QUERY_STRING} ^x=1$",
    r"RewriteCond %{HTTP_HOST} ^www\. [NC]",
)
SEGMENTS = ("a", "b", "c", "12", "2011", "x.html", "A", "c-7")


def rule_file(rng: random.Random) -> str:
    lines = ["RewriteEngine On"]
    for _ in range(rng.randint(1, 6)):
        goal = rng.choice(GOALS)
        flags = "L" if goal == "-" else rng.choice(FLAGS[:3] + FLAGS[4:])
        if condition := rng.choice(CONDITIONS):
            lines.append(condition)
        lines.append(f"RewriteRule {rng.choice(SOURCES)} {goal} [{flags}]")
    prefixes = rng.sample(("/a", "/b", "/old"), rng.randint(0, 2))
    lines += [f"Redirect 301 {prefix} https://new.example/moved" for prefix in prefixes]
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize("seed", range(6))
def test_what_is_built_of_patterns_says_what_the_patterns_say(seed: int, bare: Program) -> None:
    rng = random.Random(seed)
    for n in range(4):
        museum = bare.folder / str(n) / "museum"
        program = opened(
            museum, "--old", OLD, "--new", NEW, "--new", "https://new.example", "--case", "exact"
        )
        program.write(".htaccess", rule_file(rng))
        program("gather", ".htaccess", code=None)
        move = MoveState(open_ledger(Path(program.folder)))
        for _ in range(150):
            path = (
                "/"
                + "/".join(rng.choice(SEGMENTS) for _ in range(rng.randint(1, 3)))
                + rng.choice(("", "/"))
            )
            target = path + rng.choice(("", "", "?x=1", "?y=2&utm_source=m"))
            built = move.compiled.rules.answer("www.quillhaven.example", target)
            meant = move.compiled.all_rules.answer("www.quillhaven.example", target)
            # An entry has one answer for all its spellings, and those of its slash; a template has
            # none but its pattern's.
            if built is not None and isinstance(built.rule, TemplateRule):
                assert meant is not None, (target, built)
                assert (built.status, built.location) == (meant.status, meant.location), target


def test_patterns_are_built_where_templates_say_the_same_and_named_where_not(
    museum: Program,
) -> None:
    museum.write(
        ".htaccess",
        "RewriteEngine On\nRewriteRule ^blog/([0-9]+)/(.*)$ /archive/$1-$2 [R=301,L]\nRewriteRule "
        "^wiki/([0-9]{4})$ /docs/$1 [R=301,L]\nRedirect 301 /about /about-us\n",
    )
    museum("gather", ".htaccess")
    museum("build", "--for", "csv", "--out", "list", code=1)
    built = museum.json("build", "--for", "nginx", "--out", "nginx", code=1)
    rows = (museum.folder / "nginx/redirects.csv").read_text().splitlines()[1:]
    assert [r for r in rows if r.endswith("template")] == [
        f"{OLD}/blog/{{p1|digits}}/{{+rest}},{NEW}/archive/{{p1}}-{{rest}},301,carry,template",
        f"{OLD}/about/{{+rest}},{NEW}/about-us/{{rest}},301,carry,template",
    ]
    assert [h["legacy_url"] for h in built["held_back"]] == [".htaccess:3"]


@pytest.mark.parametrize("seed", range(40))
def test_what_is_looked_up_is_what_reading_line_by_line_finds(seed: int) -> None:
    rng = random.Random(seed)
    prefixes = "".join(
        f"Redirect 301 {p} /x\n"
        for p in rng.sample(["/a/b", "/a/", "/A", "/b/c/", "/c-7", "/2011"], 3)
    )
    text = (
        f"{rule_file(rng)}{prefixes}RewriteRule ^A/b/?$ /q [R,L,NC]\nRedirectMatch 301 ^/b(.*)$ "
        "/w\n"
    )
    rules = read_apache(text, "rules", folder="/" if rng.random() < 0.5 else "").rules
    whole, single = Block(rules), [(rule, Block([replace(rule, ends=True)])) for rule in rules]
    for _ in range(60):
        path = (
            "/"
            + "/".join(rng.choice((*SEGMENTS, "ab", "bc")) for _ in range(rng.randint(1, 4)))
            + rng.choice(("", "/", "//"))
        )
        request = request_of(OLD, "www.quillhaven.example", path + rng.choice(("", "?x=1")))
        due, done = None, set()
        for rule, block in single:
            if due is None and rule.stage not in done and (found := block.find(request)):
                due = found if rule.ends else None
                done |= set() if rule.ends else {rule.stage}
        assert whole.find(request) == due, path
