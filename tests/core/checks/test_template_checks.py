"""Faults of templates, of imported rules, and of spellings that they do not answer."""

from __future__ import annotations

from two_sites import FAR, NEW, OLD, OTHER, SITES, template
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.template_checks import (
    check_imported,
    check_sessions,
    check_templates,
    check_variants,
)
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.formats.server_config.apache_servers import read_apache

FOLD = FoldingPolicy()


def rules(*templates: TemplateRule) -> RuleSet:
    return compile_rules([], [], SITES, FOLD, templates)[0]


def faults(*templates: TemplateRule) -> list[tuple[str, ...]]:
    around = CheckContext(SITES, FOLD, {}, frozenset())
    return [
        (f.kind, f.severity, f.legacy_url.removeprefix(OLD), f.detail, f.cause)
        for f in check_templates(templates, rules(*templates), around)
    ]


def test_a_template_that_is_not_built_says_why() -> None:
    away = "its destination lies on no new origin"
    itself = "it may lead onto itself"
    assert faults(
        template("/a/{x}", "https://elsewhere.example/{x}"),
        template("/{x}/{y}", f"{NEW}/{{y}}/{{x}}"),
        template("/c/{x}", f"{FAR}/{{x}}"),
    ) == [
        ("off-site", "error", "/a/{x}", f"{away}: it is not built", f"templates: {away}"),
        ("self", "error", "/{x}/{y}", f"{itself}: it is not built", f"templates: {itself}"),
    ]


def test_a_temporary_template_is_noted() -> None:
    for status in (302, 307):
        assert faults(template("/a/{x}", f"{FAR}/{{x}}", status)) == [
            ("temporary", "note", "/a/{x}",
                f"moves for a time only ({status}); use 301 if it is for good",
                f"a temporary status ({status}) where moves are for good")
        ]  # fmt: skip
    assert faults(template("/a/{x}", f"{FAR}/{{x}}", 308)) == []


def test_templates_that_take_addresses_from_each_other_are_noted_in_pairs() -> None:
    found = faults(
        template("/a/{x}/{y}", f"{FAR}/{{x}}"),
        template("/A/{x}/b", f"{FAR}/{{x}}"),
        template("/a/c-{x}/{y}", f"{FAR}/{{x}}"),
        template("/b/{x}/{y}", f"{FAR}/{{x}}"),
        template("/a/{x}", f"{FAR}/{{x}}"),
        template("/{+rest}", "", 410),
        template("/a/{x}/b", f"{FAR}/{{x}}", site=OTHER),
    )
    assert {(f[2], f[4]) for f in found} == {
        ("/a/{x}/{y}", "/a/{x}/b comes first"),
        ("/a/{x}/{y}", "/a/c-{x}/{y} comes first"),
        ("/A/{x}/b", "/a/c-{x}/{y} comes first"),
    }  # nothing of the one for all that is left, which is meant to come last
    assert {(f[0], f[1]) for f in found} == {("shadowed", "note")}
    assert "/a/{x}/b comes first where both fit, as at /a/a/b" in {f[3] for f in found}


def test_spellings_that_a_template_does_not_answer_are_said() -> None:
    set_of = rules(template("/a/{x}", f"{FAR}/{{x}}"))
    host = "www.quillhaven.example"
    rows = [(host, "/a/b", "a/{x}", "/b"), (host, "/a/%62", "a/{x}", "/b")]
    (found,) = check_variants(rows, set_of)
    assert (found.kind, found.severity, found.legacy_url, found.destination) == (
        "uncovered-variant", "warning", f"http://{host}/a/%62", "/b",
    )  # fmt: skip
    assert found.detail == (
        "this spelling was seen, and a/{x} does not answer it: decide it on its own"
    )
    assert found.cause == "spellings that a/{x} does not answer"


def test_visits_and_secrets_in_paths_are_told_apart() -> None:
    visit, secret = check_sessions(
        [(f"{OLD}/a;jsessionid=1?x=/masked/", f"{OLD}/a"), (f"{OLD}/reset/masked", f"{OLD}/r")]
    )
    assert visit.cause == "identifiers of visits in paths"
    assert f"which belongs to {OLD}/a: no rule answers that" in visit.detail
    assert secret.cause == "secrets in paths"
    assert "which are masked here" in secret.detail
    assert {(f.kind, f.severity, f.destination) for f in (visit, secret)} == {
        ("uncovered-variant", "warning", "")
    }
    assert visit.legacy_url == f"{OLD}/a;jsessionid=1?x=/masked/"


def test_an_imported_rule_that_is_never_asked_is_said() -> None:
    text = "Redirect 301 /a /x\nRedirect 301 /a/b /y\nRedirect 301 /c /z\n"
    block = Block(read_apache(text, "old.conf").rules)
    bases = {"www.quillhaven.example": NEW}
    (found,) = check_imported([(block, r) for r in block.rules], bases)
    assert (found.kind, found.severity) == ("shadowed", "warning")
    assert found.legacy_url == f"{NEW}/a/b"
    assert found.detail == ("never asked: the rule of old.conf:1 takes /a/b first (old.conf:2)")
    assert found.cause == "the rule of old.conf:1 comes first"
    assert list(check_imported([(block, r) for r in block.rules], {})) == []
