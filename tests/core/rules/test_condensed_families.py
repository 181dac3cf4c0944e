"""Which families of exact rules become one template, piece by piece and as a whole."""

from __future__ import annotations

import pytest
from test_rule_set_parts import FAR, HOST, NEW, SITE, exact, rules, template

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules import condenser, rule_families
from upright_ledger.core.rules.condenser import condense
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.core.url.query import QueryPolicy

OLD = f"http://{HOST}"
SITES = Sites(group_origins([OLD]), (NEW, FAR))
NAMES = ("ada", "bo", "cyd")


@pytest.mark.parametrize(
    ("path", "readings"),
    [
        ("/a/b.html", ["/a /b .html"]),
        ("/a", ["/a "]),
        ("/a/1850-05-clock.htm", ["/a /1850-05-clock .htm", "/a /1850 -05 -clock .htm",
            "/a /1850 -05 -clock .htm"]),
        ("/qh17", ["/qh17 ", "/qh17 "]),
        ("/makers/ada_lee.html", ["/makers /ada_lee .html", "/makers /ada _lee .html"]),
        ("/a-b-c-d", ["/a-b-c-d "]),
        ("/2011.clock", ["/2011 .clock"]),
        ("/x/", ["/x / "]),
    ],
)  # fmt: skip
def test_ways_to_take_a_path_apart(path: str, readings: list[str]) -> None:
    told = [
        " ".join(sign + text for sign, text in pieces) for pieces in rule_families._readings(path)
    ]
    assert told == readings


@pytest.mark.parametrize(
    ("path", "goal", "carried"),
    [
        ("/j/clock.html", "/s/clock/", ("/j/{p2}.html", "/s/{p2}/")),
        ("/j/2011/clock-2011.html", "/s/clock-2011/", ("/j/{n2|digits}/{p3}.html", "/s/{p3}/")),
        ("/j/2011/clock", "/s/2011/clock", ("/j/{p2|digits}/{p3}", "/s/{p2}/{p3}")),
        ("/clock", "/s/clock", ("/{p1}", "/s/{p1}")),
        ("/j/clock", "/j/x", None),
        ("/j/a", "/s/a", None),
        ("/j/7", "/s/7", ("/j/{p2|digits}", "/s/{p2}")),
        ("/1850/clock", "/s/1850/x", ("/{p1|digits}/clock", "/s/{p1}/x")),
        ("/j/clock", "/s/xclock", None),
        ("/j/clock", "/clock/s/clock", ("/j/{p2}", "/clock/s/{p2}")),
        ("/p?i=12", "/n/12", ("/p{?i|digits}", "/n/{i}")),
        ("/p?i=ab", "/n/ab/x", ("/p{?i}", "/n/{i}/x")),
        ("/p?i=12&k=ab", "/n/ab/12", ("/p{?i|digits}{?k}", "/n/{k}/{i}")),
        ("/p?i=12", "/n/13", None),
        ("/p?I=12", "/n/12", None),
        ("/p?i=a%20b", "/n/a%20b", None),
    ],
)  # fmt: skip
def test_what_a_destination_repeats_is_carried(
    path: str, goal: str, carried: tuple[str, str] | None
) -> None:
    rule = exact(path, FAR + goal)
    pieces = next(rule_families._readings(rule.path))
    found = rule_families._carried(rule, pieces)
    assert found == (carried and (carried[0], FAR + carried[1]))


@pytest.mark.parametrize(
    ("path", "at", "goal", "carried"),
    [
        ("/m/ada_lee.htm", 1, "/p/lee-ada/", ("/m/{p2|word}_{p3|word}.htm", "/p/{p3}-{p2}/")),
        ("/a/1850-clock", 1, "/s/clock", ("/a/{n2|digits}-{p3|word}", "/s/{p3}")),
        ("/a/1850-clock", 1, "/s/1850/clock", ("/a/{p2|digits}-{p3|word}", "/s/{p2}/{p3}")),
        ("/x/qh17", 1, "/x/17", ("/x/qh{p2|digits}", "/x/{p2}")),
    ],
)  # fmt: skip
def test_parts_of_a_segment_are_carried_narrowly(
    path: str, at: int, goal: str, carried: tuple[str, str]
) -> None:
    rule = exact(path, FAR + goal)
    found = rule_families._carried(rule, list(rule_families._readings(path))[at])
    assert found == (carried[0], FAR + carried[1])


@pytest.mark.parametrize(
    ("path", "goal", "moved"),
    [
        ("/shop/a/b", "/store/a/b", ("/shop/{+rest}", "/store/{rest}")),
        ("/shop/x/a/", "/a/", ("/shop/x/{+rest}", "/{rest}")), ("/shop/a", "/store/b", None),
        ("/shop/a", "/store/a/", None), ("/shop/a", "/store/a?x=1", None),
        ("/shop/a", "/store/a#x", None), ("/a/b", "/x/a/b", None), ("/a", "/", None),
        ("/shop/a?i=1", "/store/a", None),
    ],
)  # fmt: skip
def test_a_folder_that_moved_as_a_whole(
    path: str, goal: str, moved: tuple[str, str] | None
) -> None:
    found = rule_families._folder_moved(exact(path, FAR + goal))
    assert found == (moved and (moved[0], FAR + moved[1]))


@pytest.mark.parametrize(
    ("path", "holes"),
    [
        ("/a/b.h", ["/{name|*}/b.h a", "/{name|*}/b.h a", "/a/{name|*}.h b", "/a/{name|*}.h b"]),
        ("/a/7", ["/{name|*}/7 a", "/{name|*}/{n2|digits} a", "/a/{name|*} 7", "/a/{name|*} 7"]),
        ("/p?i=7", ["/p{?i|*} 7"]), ("/p?i=7&k=8", []), ("/p?I=7", []), ("/p?i=a%20b", []),
        ("/caf%C3%A9", []),
    ],
)  # fmt: skip
def test_a_path_with_one_name_left_open(path: str, holes: list[str]) -> None:
    found = rule_families._with_a_hole(exact(path, FAR + "/n"))
    assert [
        f"{source.replace(rule_families.HOLE, '*')} {value}" for source, value in found
    ] == holes


def condensed(
    made: RuleSet, known: list[str] | None = None, standing: list[str] | None = None,
    *, bold: bool = False,
) -> tuple[RuleSet, list[tuple[str, str, int]]]:  # fmt: skip
    asked = known or [r.legacy_url.removeprefix(OLD) for r in made.rules if r.status]
    kept: list[Address] = [parse_address(OLD + s) for s in standing or []]
    found, told = condense(
        made, [(HOST, t) for t in asked], kept, SITES, FoldingPolicy(), bold=bold
    )
    return found, [
        (c.template.source.text, c.template.destination.removeprefix(FAR), c.replaced) for c in told
    ]


def test_three_rules_alike_are_a_template_and_two_are_not() -> None:
    three = rules(*(exact(f"/j/{n}x.html", f"{FAR}/s/{n}x/") for n in NAMES))
    found, told = condensed(three)
    assert told == [("/j/{p2}.html", "/s/{p2}/", 3)]
    assert [r.path for r in found.rules if r.status] == []
    assert found.templates[0].legacy_url == f"{OLD}/j/{{p2}}.html"
    two = rules(*(exact(f"/j/{n}x.html", f"{FAR}/s/{n}x/") for n in NAMES[:2]))
    assert condensed(two) == (two, [])


def test_status_query_and_site_keep_families_apart() -> None:
    mixed = rules(
        *(exact(f"/j/{n}x", f"{FAR}/s/{n}x", status) for n, status in zip(NAMES, (301, 302, 308),
            strict=True)),
        *(exact(f"/k/{n}x", f"{FAR}/s/{n}x", query=q) for n, q in zip(NAMES, QueryPolicy,
            strict=True)),
    )  # fmt: skip
    assert condensed(mixed) == (mixed, [])


def test_many_rules_to_one_page_are_a_list_and_no_stranger_is_taken() -> None:
    many = rules(*(exact(f"/m/{n}", f"{FAR}/one/") for n in NAMES))
    found, told = condensed(many, ["/m/ada", "/m/bo", "/m/cyd", "/m/other"])
    assert told == [("/m/{name|ada,bo,cyd}", "/one/", 3)]
    assert found.answer(HOST, "/m/other") is None
    gone = rules(*(exact(f"/g/{n}.html", "", 410) for n in NAMES))
    assert condensed(gone)[1] == [("/g/{name|ada,bo,cyd}.html", "", 3)]
    valued = rules(*(exact(f"/p?i={n}", f"{FAR}/one/") for n in NAMES))
    assert condensed(valued)[1] == [("/p{?i|ada,bo,cyd}", "/one/", 3)]
    dated = rules(*(exact(f"/{y}/{n}", f"{FAR}/one/") for y in (2010, 2011) for n in NAMES))
    assert condensed(dated)[1][0] == ("/{n1|digits}/{name|ada,bo,cyd}", "/one/", 6)


def test_a_long_list_is_cut_into_several() -> None:
    names = [f"n{n:03}{'x' * 40}" for n in range(120)]
    long = rules(*(exact(f"/m/{n}", f"{FAR}/one/") for n in names))
    told = condensed(long)[1]
    assert sum(n for _, _, n in told) == 120
    assert len(told) == 3
    assert all(len(source) < 2600 for source, _, _ in told)


def test_the_template_that_takes_the_most_comes_first() -> None:
    made = rules(
        *(exact(f"/a/{n}x", f"{FAR}/s/{n}x") for n in NAMES),
        *(exact(f"/b/{n}x", f"{FAR}/t/{n}x") for n in (*NAMES, "dee")),
    )
    assert condensed(made)[1] == [("/b/{p2}", "/t/{p2}", 4), ("/a/{p2}", "/s/{p2}", 3)]


def test_an_exception_keeps_its_rule_and_what_was_never_answered_stays_so() -> None:
    made = rules(
        *(exact(f"/j/{n}x", f"{FAR}/s/{n}x") for n in NAMES), exact("/j/odd", f"{FAR}/else"),
        exact("/j/gone", "", 410),
    )  # fmt: skip
    found, told = condensed(made, ["/j/adax", "/j/box", "/j/cydx", "/j/odd", "/j/gone", "/j/none"])
    assert told == [("/j/{p2}", "/s/{p2}", 3)]
    for target in ("/j/odd", "/j/gone", "/j/none", "/j/adax"):
        one, other = made.answer(HOST, target), found.answer(HOST, target)
        assert (one and one.location) == (other and other.location)
    kept, _ = condensed(made, standing=["/j/keep"])
    assert kept.answer(HOST, "/j/keep") is None
    assert {r.path for r in kept.rules if r.status == 0} >= {"/j/keep"}


def test_whose_answer_would_change_keeps_a_rule_of_its_own() -> None:
    """A rule with a spelling that the template does not take is not replaced."""
    made = rules(
        *(exact(f"/j/{n}x", f"{FAR}/s/{n}x") for n in NAMES),
        exact("/j/deex", f"{FAR}/s/deex", paths=("/j/deex", "/j/deex.htm")),
    )
    asked = [f"/j/{n}x" for n in (*NAMES, "dee")] + ["/j/deex.htm"]
    found, told = condensed(made, asked)
    assert told == [("/j/{p2}", "/s/{p2}", 3)]
    assert [r.path for r in found.rules if r.status] == ["/j/deex"]
    answer = found.answer(HOST, "/j/deex.htm")
    assert answer is not None
    assert answer.location == f"{FAR}/s/deex"


def test_a_folder_moves_as_a_whole_only_boldly() -> None:
    made = rules(*(exact(f"/shop/{n}/7{n}", f"{FAR}/store/{n}/7{n}") for n in NAMES))
    assert condensed(made, bold=True)[1] == [("/shop/{+rest}", "/store/{rest}", 3)]
    assert "{+rest}" not in condensed(made)[1][0][0]


def test_no_template_leads_on_to_another_rule() -> None:
    made = rules(
        *(exact(f"/j/{n}x", f"{NEW}/s/{n}x") for n in NAMES), exact("/s/other", f"{FAR}/far")
    )
    found, told = condensed(made)
    assert (found, told) == (made, [])
    stated = rules(
        *(exact(f"/j/{n}x", f"{FAR}/s/{n}x") for n in NAMES), template("/t/{x}", f"{FAR}/{{x}}")
    )
    kept, told = condensed(stated)
    assert [t.source.text for t in kept.templates if t.status] == ["/t/{x}", "/j/{p2}"]
    assert len(told) == 1


def test_nothing_to_condense_is_the_set_itself() -> None:
    empty = rules()
    assert condensed(empty) == (empty, [])
    alone = rules(exact("/a", f"{FAR}/b"), exact("/pass", "", 0))
    assert condensed(alone) == (alone, [])
    assert condenser.rule_key(alone.rules[0]) == (SITE, "/a")
