"""Rule sets part by part: what each says, and that each part of the meaning is in the digest."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import pyarrow as pa
import pytest

from two_sites import FAR, NEW, OLD, SITE, template
from upright_ledger.core.rules.canonical_form import ALWAYS, NEVER, CanonicalForm
from upright_ledger.core.rules.exact_rule import Answer, ExactRule
from upright_ledger.core.rules.fast_lookup import NOTHING, UNSURE, PlainRules
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.formats.server_config.apache_servers import read_apache

HOST = "www.quillhaven.example"
SITES = {HOST: SITE, "shop.quillhaven.example": "shop"}


def exact(path: str, goal: str, status: int = 301, **more: object) -> ExactRule:
    bare, _, query = path.partition("?")
    params = tuple(tuple(p.split("=")) for p in query.split("&")) if query else ()
    return ExactRule(
        SITE, bare, params, more.pop("paths", (bare,)), status, goal, OLD + path, **more
    )


def rules(*found: object, **more: object) -> RuleSet:
    kept = tuple(r for r in found if isinstance(r, ExactRule))
    templates = tuple(r for r in found if not isinstance(r, ExactRule))
    return replace(
        RuleSet(kept, SITES, True, ("utm_source", "gclid"), templates=templates),
        **more,
    )


def location(made: RuleSet, target: str, host: str = HOST) -> str | None:
    answer = made.answer(host, target)
    return answer.location if answer else None


FORM = CanonicalForm(SITE, NEW, ALWAYS)
WHOLE = rules(
    exact("/a?i=1", f"{FAR}/a"),
    template("/t/{x}", f"{FAR}/{{x}}"),
    forms=(FORM,),
    cache_control="max-age=1",
    significant={"/p": frozenset({"i", "j"})},
)


@pytest.mark.parametrize(
    "changed",
    [
        replace(WHOLE, fold_case=False),
        replace(WHOLE, tracking=("gclid",)),
        replace(WHOLE, tracking=("gclid", "utm_source")),
        replace(WHOLE, site_of={HOST: SITE}),
        replace(WHOLE, significant={"/p": frozenset({"i"})}),
        replace(WHOLE, significant={"/q": frozenset({"i", "j"})}),
        replace(WHOLE, cache_control=""),
        replace(WHOLE, forms=()),
        *(replace(WHOLE, forms=(replace(FORM, **{k: v}),)) for k, v in {
            "site": "shop", "origin": FAR, "slash": NEVER, "lower": True,
                "scheme_from": "X"}.items()),
        *(replace(WHOLE, rules=(WHOLE.rules[0]._replace(**{k: v}),)) for k, v in {
            "site": "shop", "path": "/b", "params": (), "paths": ("/a", "/a/"), "status": 302,
            "destination": f"{FAR}/b", "query": QueryPolicy.DROP}.items()),
        *(replace(WHOLE, templates=(replace(WHOLE.templates[0], **{k: v}),)) for k, v in {
            "site": "shop", "status": 302, "destination": f"{FAR}/x", "query": QueryPolicy.DROP,
            "slash": "bare"}.items()),
        replace(WHOLE, templates=rules(template("/u/{x}", f"{FAR}/{{x}}")).templates),
    ],
)  # fmt: skip
def test_a_digest_changes_with_each_part_of_the_meaning(changed: RuleSet) -> None:
    assert changed.digest != WHOLE.digest
    named = WHOLE.rules[0]._replace(legacy_url="other")
    assert replace(WHOLE, rules=(named,), bases={HOST: NEW}).digest == WHOLE.digest
    turned = {"/p": frozenset({"j", "i"})}
    assert replace(WHOLE, significant=turned, site_of=dict(reversed(SITES.items()))).digest == (
        WHOLE.digest
    )


def test_forms_agree_about_all_but_their_origin() -> None:
    replace(WHOLE, forms=(FORM, replace(FORM, site="shop", origin=FAR)))
    for odd in ({"slash": NEVER}, {"lower": True}, {"scheme_from": "X"}):
        with pytest.raises(ValueError, match="agree about slash, letter case and scheme"):
            replace(WHOLE, forms=(FORM, replace(FORM, site="shop", **odd)))


def test_a_set_is_its_rules_exact_ones_first() -> None:
    passing = exact("/pass", "", 0)
    made = rules(template("/t/{x}", f"{FAR}/{{x}}"), exact("/a", f"{FAR}/a"), passing)
    assert len(made) == 3
    assert list(made) == [*made.rules, *made.templates]
    assert made.answering == (made.rules[0], made.templates[0])
    assert [(s, p) for s, p, _ in made.paths()] == [(SITE, "/a"), (SITE, "/pass")]


def test_the_answer_names_the_rule_that_gave_it() -> None:
    gone, passing = exact("/gone", "", 410), exact("/pass", "", 0)
    made = rules(gone, passing, exact("/a", f"{FAR}/a"), template("/t/{x}", "", 410), forms=(FORM,))
    assert made.answer(HOST, "/gone") == Answer(410, "", gone)
    assert made.answer(HOST, "/t/x") == Answer(410, "", made.templates[0])
    assert made.answer(HOST, "/a") == Answer(301, f"{FAR}/a", made.rules[2])
    assert made.answer(HOST, "/none") == Answer(301, f"{NEW}/none/", FORM)
    assert made.answer(HOST, "/pass") == Answer(301, f"{NEW}/pass/", FORM)
    assert made.answer_of_rules(HOST, "/none") is None
    assert made.answer("shop.quillhaven.example", "/none") is None
    assert made.answer("elsewhere.example", "/none") is None
    assert made.answer(HOST, "/%2F") is None
    assert made.find(HOST, "/t/x") == (made.templates[0], "")


def test_hosts_are_known_with_dots_capitals_and_ports_that_do_not_matter() -> None:
    made = rules(exact("/a", f"{FAR}/a"))
    for host in ("WWW.QUILLHAVEN.example", f"{HOST}.", f"{HOST}:8080", f"{HOST}..:1"):
        assert made.known_authority(host) == HOST
        assert location(made, "/a", host) == f"{FAR}/a"
    ported = replace(made, site_of={**SITES, "port.example:81": SITE})
    assert ported.known_authority(f"{HOST}.:8080") == f"{HOST}:8080"
    assert location(ported, "/a", "PORT.example.:81") == f"{FAR}/a"
    assert location(ported, "/a", f"{HOST}:8080") is None


def test_parameters_that_choose_and_those_that_do_not() -> None:
    made = rules(
        exact("/p?i=1&j=2", f"{FAR}/both"),
        exact("/p?i=1", f"{FAR}/one"),
        exact("/p?j=9", f"{FAR}/nine"),
        exact("/p", f"{FAR}/plain"),
        significant={"/p": frozenset({"k"})},
    )
    for target, goal in (
        ("/p?j=2&i=1", "/both"), ("/p?i=1&j=3", "/one"), ("/p?i=1&k=1", "/one"), ("/p?j=9",
            "/nine"),
        ("/p?x=1", "/plain"), ("/p?k=1", None), ("/p?i=2", None), ("/p?i=1&i=1", None), ("/p",
            "/plain"),
        ("/p?j=2", None), ("/p?i=1&j=9", "/one"),
    ):  # fmt: skip
        assert location(made, target) == (goal and FAR + goal), target


def test_a_template_of_one_path_shares_its_parameters_with_the_rules_there() -> None:
    made = rules(
        exact("/c.php?i=1", f"{FAR}/one"),
        template("/c.php{?v|digits}", f"{FAR}/v{{v}}"),
        template("/c.php{?w|digits}", f"{FAR}/w{{w}}"),
    )
    assert location(made, "/c.php?v=7") == f"{FAR}/v7"
    assert location(made, "/c.php?w=7") == f"{FAR}/w7"
    assert location(made, "/c.php?i=1") == f"{FAR}/one"
    assert location(made, "/c.php?v=7&i=1") is None or location(made, "/c.php?v=7&i=1")
    assert location(made, "/c.php?i=2") is None
    assert location(made, "/c.php?v=7&v=8") is None
    assert location(made, "/c.php?v=7&x=1&gclid=2") == f"{FAR}/v7?gclid=2"


def test_a_value_that_no_rule_knows_stays_open_under_a_template_beside() -> None:
    made = rules(exact("/t/x?i=1", f"{FAR}/one"), template("/t/{x}", f"{FAR}/t/{{x}}"))
    assert location(made, "/t/x") == f"{FAR}/t/x"
    assert location(made, "/t/x?i=2") is None
    assert location(made, "/t/y?i=2") == f"{FAR}/t/y"


def test_what_is_answered_at_once_is_what_plays_no_other_part() -> None:
    sure, gone = exact("/a", f"{FAR}/a", paths=("/a", "/a/")), exact("/g", "", 410)
    made = rules(
        sure, gone, exact("/own", f"{NEW}/x"), exact("/pass", "", 0),
        exact("/p", f"{FAR}/p"), exact("/p?i=1", f"{FAR}/one"), exact("/q?i=1", f"{FAR}/q"),
    )  # fmt: skip
    assert made.at_once == {
        (SITE, "/a"): Answer(301, f"{FAR}/a", sure),
        (SITE, "/a/"): Answer(301, f"{FAR}/a", sure),
        (SITE, "/g"): Answer(410, "", gone),
    }
    asked = [(h, p) for h in (HOST, HOST.upper(), "else.example") for p in ("/a", "/A", "/g",
        "/own",
        "/pass", "/p", "/p?i=1", "/q", "/a?gclid=1", "/none")]  # fmt: skip
    assert list(made.answers_of_rules(asked)) == [made.answer_of_rules(h, t) for h, t in asked]


def test_a_rule_does_not_fire_for_what_it_leads_to() -> None:
    made = rules(
        exact("/own", f"{NEW}/OWN/#top", paths=("/own", "/own/")),
        exact("/p?i=1", f"{NEW}/p?i=1&x=2"),
        exact("/r?i=1", f"{NEW}/r?i=2"),
        template("/t/{x}", f"{NEW}/t/{{x}}/"),
    )
    assert location(made, "/own/?page=2") is None
    assert location(made, "/p?i=1") is None
    assert location(made, "/r?i=1") == f"{NEW}/r?i=2"
    assert location(made, "/t/x/") is None
    assert location(replace(made, fold_case=False), "/own") == f"{NEW}/OWN/#top"


@pytest.mark.parametrize(
    ("policy", "goal", "query", "sent"),
    [
        ("carry-tracking", "/a", "gclid=2&x=1&utm_source=m", "/a?utm_source=m&gclid=2"),
        ("carry-tracking", "/a?b=1#c", "gclid=2", "/a?b=1&gclid=2#c"),
        ("carry-tracking", "/a", "xgclid=2", "/a"),
        ("carry-tracking", "/a", "gclid=%zz&gclid=3", "/a?gclid=3"),
        ("carry-tracking", "/a", "", "/a"),
        ("carry", "/a#c", "x=1&y", "/a?x=1&y#c"),
        ("carry", "/a", "", "/a"),
        ("drop", "/a", "gclid=2", "/a"),
    ],
)
def test_what_is_carried_of_a_query(policy: str, goal: str, query: str, sent: str) -> None:
    made = rules()
    assert made.location(QueryPolicy(policy), FAR + goal, query) == FAR + sent
    assert replace(made, tracking=()).carried(QueryPolicy.CARRY_TRACKING, "gclid=2") == ""


IMPORTED = Block(
    read_apache(
        "RewriteEngine On\nRewriteRule ^keep - [L]\nRewriteRule ^i/(.*)$ /j/$1 [R=301,L]\n"
        "RewriteRule ^s/(.*)$ //host.example/$1 [R=302,L]\n"
        "Redirect 301 /p https://n.example/imported\n"
        "Redirect gone /g\n",
        "old.conf",
        folder="/",
    ).rules
)


def test_imported_rules_are_asked_last_on_the_hosts_that_have_a_base() -> None:
    made = rules(
        exact("/i/own", f"{FAR}/own"), exact("/p?i=1", f"{FAR}/one"), exact("/keep/x", "", 0),
        blocks=(IMPORTED,), bases={HOST: NEW},
    )  # fmt: skip
    assert location(made, "/i/own") == f"{FAR}/own"
    assert location(made, "/i/x") == f"{NEW}/j/x"
    assert location(made, "/keep/x") is None
    assert location(made, "/p") == f"{FAR}/imported"
    assert location(made, "/p?i=2") is None, "a value that our rules know nothing of stays open"
    assert location(made, "/g") == ""
    found = made.answer(HOST.upper() + ".", "/s/x")
    assert found is not None
    assert (found.status, found.rule) == (302, IMPORTED.rules[2])
    assert found.location.endswith("//host.example/x")
    assert location(made, "/i/x", "shop.quillhaven.example") is None
    assert location(made, "/i%2Fx") is None
    assert location(replace(made, blocks=()), "/i/x") is None
    digest = replace(made, blocks=()).digest
    assert made.digest == digest


@pytest.mark.parametrize(
    ("path", "plain"),
    [("/a", True), ("/a/b.c/", True), ("/a-b_c~1", True), ("/", False), ("/A", True),
        ("/a//b", False), ("/.a", False), ("/a%20", False), ("/a?b", True), ("/a b", False), ("",
            False), ("/a?%zz", True), ("/a?b#c", False), ("/a?b c", False), ("/a?\xe4", False),
        ("/a/.b", False)],
)  # fmt: skip
def test_a_plain_path_is_what_no_server_changes(path: str, plain: bool) -> None:
    made = rules(exact("/known", f"{FAR}/a"))
    (status,) = PlainRules(made).answers(HOST, pa.array([path])).statuses
    assert bool(status != UNSURE) is plain


def test_the_short_way_answers_what_is_sure_and_says_where_it_is_not() -> None:
    made = rules(
        exact("/a", f"{FAR}/a"), exact("/g", "", 410), exact("/own", f"{NEW}/x"), exact("/pass",
            "", 0),
        exact("/p?i=1", f"{FAR}/p"),
        template("/t/{x}/{y}", f"{FAR}/100%25/{{x}}-{{y}}"), template("/u/{x}/{y}",
            f"{FAR}/{{y}}/{{x}}"),
        template("/v/{x}", f"{FAR}/fixed"), template("/w/{x}", "", 410), template("/o/{x}",
            f"{NEW}/{{x}}"),
        template("/q/{x}{?i}", f"{FAR}/{{x}}"), template("/k/{x}", "", 0),
    )  # fmt: skip
    unsure = (UNSURE, "")
    nothing = (NOTHING, "")
    wanted = {
        "/a": (301, f"{FAR}/a"), "/g": (410, ""), "/own": unsure, "/pass": nothing, "/p": nothing,
        "/none": nothing, "/t/x/y": (301, f"{FAR}/100%25/x-y"), "/t/z/y": (301,
            f"{FAR}/100%25/z-y"),
        "/u/x/y": unsure, "/v/x": (301, f"{FAR}/fixed"), "/w/x": (410, ""), "/o/x": unsure,
        "/q/x": nothing, "/k/x": nothing, "/A": (301, f"{FAR}/a"), "/T/x/Y": (301,
            f"{FAR}/100%25/x-Y"),
        "/a?b=1": (301, f"{FAR}/a"), "/p?i=2": unsure, "/q/x?j": unsure, "/none?x": nothing,
        "/t/x/y?utm_source=a&b": (301, f"{FAR}/100%25/x-y?utm_source=a"), "/g?utm_source=a": (410,
            ""),
    }  # fmt: skip
    assert short_way(made, wanted) == wanted
    elsewhere = PlainRules(made).answers("shop.example", pa.array(["/a"]))
    assert elsewhere.statuses.tolist() == [UNSURE]
    formed = replace(made, forms=(FORM,))
    blocked = replace(made, blocks=(IMPORTED,))
    for other in (formed, blocked):
        assert {p for p, told in short_way(other, wanted).items() if told == unsure} == {
            p for p, told in wanted.items() if told in (unsure, nothing)
        }
    for path, told in wanted.items():
        answer = made.answer(HOST, path)
        if told != unsure:
            assert told == ((answer.status, answer.location) if answer else nothing)


def short_way(made: RuleSet, paths: Iterable[str]) -> dict[str, tuple[int, str]]:
    """What the short way says of each."""
    statuses, locations = PlainRules(made).answers(HOST, pa.array([*paths]))
    return dict(zip(paths, zip(statuses.tolist(), locations.to_pylist(), strict=True), strict=True))
