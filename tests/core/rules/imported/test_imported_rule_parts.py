"""What one imported rule says of itself, and what a file of them answers, told by tables."""

from __future__ import annotations

import json
from typing import Any

import pytest

from upright_ledger.core.rules.imported.blocks import Block, holds, stages_around
from upright_ledger.core.rules.imported.rule import (
    AT_END,
    AT_END_WHOLE,
    BARE,
    GROUPS,
    HOST,
    INNER,
    METHOD,
    PATH,
    PORT,
    QUERY,
    RAW,
    REQUEST,
    REWRITTEN,
    SCHEME,
    STAGES_WITHIN,
    TARGET,
    WHOLE,
    WHOLE_BARE,
    Condition,
    ImportedRule,
    PatternNotUnderstoodError,
    QueryEdit,
    alternatives,
    request_of,
)
from upright_ledger.formats.tables.pairs import pieces_of

ORIGIN, HOST_NAME = "https://www.old.example", "www.old.example"


def rule(pattern: str, subject: str = PATH, to: str = "/n", **more: Any) -> ImportedRule:
    return ImportedRule("f:1", subject, pattern, more.pop("status", 301), pieces_of(to), **more)


def asked(target: str, host: str = HOST_NAME, origin: str = ORIGIN) -> Any:
    return request_of(origin, host, target)


def found(*rules: ImportedRule, target: str, origin: str = ORIGIN) -> tuple[int, str] | None:
    told = Block(rules).find(asked(target, origin=origin))
    return told and (told[0].status, told[1])


@pytest.mark.parametrize(
    ("one", "address", "is_pattern", "head"),
    [
        (rule("/a", literal=True), "/a", False, ""),
        (rule("/a?b=1", TARGET, literal=True), "/a?b=1", False, ""),
        (rule("/a%20b", RAW, literal=True), "/a%20b", False, ""),
        (rule("x", HOST, literal=True), "", False, ""),
        (rule("/a", literal=True, negate=True), "", False, ""),
        (rule("^/a$"), "/a", False, "/"),
        (rule("^/a/?$"), "/a", False, "/a"),
        (rule("^/ab(.*)$"), "/ab", True, "/a"),
        (rule("^/ab/?(.*)$"), "/ab", True, "/ab"),
        (rule("^/ab((?:/.*)?)$"), "/ab", True, "/a"),
        (rule(r"^/a\.b$"), "/a.b", False, "/a."),
        (rule("^a$", INNER, below="/shop/"), "/shop/a", False, "/shop/"),
        (rule("^/a$", INNER, below="/"), "/a", False, "//"),
        (rule("^abc/(.*)x", INNER, below="/shop/"), "", True, "/shop/abc"),
        (rule("^abc|d", INNER, below="/shop/"), "", True, "/shop/"),
        (rule("^abc|d"), "", True, ""),
        (rule("^abc|d", INNER, below="/"), "", True, ""),
        (rule("^/(abc|d)"), "", True, ""),
        (rule("^/ab[c|d]"), "", True, "/a"),
        (rule(r"^/ab\|d"), "", True, "/ab|"),
        (rule("^/abc(d|e)f"), "", True, "/ab"),
        (rule("^/abc)|("), "", True, ""),
        (rule("/abc"), "", True, ""),
        (rule("^/abc", negate=True), "", True, ""),
        (rule("^/abc", QUERY), "", True, ""),
        (rule("^x=1$", QUERY), "", True, ""),
        (rule("^/abc", RAW), "", True, "/ab"),
        (rule("^"), "", True, ""),
        (rule(".*", INNER, below="/s/"), "", True, "/s/"),
    ],
)  # fmt: skip
def test_what_addresses_a_rule_is_about(
    one: ImportedRule, address: str, is_pattern: bool, head: str
) -> None:
    assert (one.address, one.is_pattern, one.head) == (address, is_pattern, head)


def test_a_rule_is_for_the_one_host_that_its_conditions_name() -> None:
    a, b = (Condition(HOST, f"{n}.example", literal=True) for n in "ab")
    assert rule("/x", conditions=(a,)).host == "a.example"
    assert rule("/x", conditions=(a, Condition(SCHEME, "https", literal=True))).host == "a.example"
    assert rule("/x", conditions=(a, b)).host == ""
    assert (
        rule("/x", conditions=(Condition(HOST, "a.example", literal=True, negate=True),)).host == ""
    )
    assert rule("/x", conditions=(Condition(HOST, "^a"),)).host == ""


def test_conditions_come_in_groups_of_which_one_has_to_hold() -> None:
    a, b, c = (Condition(HOST, n) for n in "abc")
    either = alternatives([a, b])
    assert [x.or_next for x in either] == [True, False]
    groups = list(rule("/x", conditions=(*either, c)).groups)
    assert [[x.pattern for x in group] for group in groups] == [["a", "b"], ["c"]]
    open_end = Condition(HOST, "d", or_next=True)
    assert list(rule("/x", conditions=(a, open_end)).groups) == [(a,), (open_end,)]
    assert list(rule("/x").groups) == []


def test_rules_are_stored_and_come_back_the_same() -> None:
    one = rule(
        "^/a(.*)", INNER, "/n$1", nocase=True, negate=True, query=QueryEdit.DROP, encoding=WHOLE,
        conditions=(Condition(QUERY, "x", literal=True, nocase=True, negate=True, or_next=True),),
        below="/s/", base="/t/", stage=3, ends=False,
    )  # fmt: skip
    stored = json.loads(json.dumps(one.as_dict()))
    assert ImportedRule.from_dict(stored) == one
    for escape, encoding in ((True, GROUPS), (False, BARE)):  # as they were stored once
        older = {k: v for k, v in stored.items() if k != "encoding"} | {"escape": escape}
        assert ImportedRule.from_dict(older).encoding == encoding


@pytest.mark.parametrize(
    ("one", "why"),
    [
        (rule("(a", to=""), "not of the regular kind"),
        (rule("a(?=b)", to=""), "not of the regular kind"),
        (rule("(a)", to="/$2"), "it names the group 2, which its pattern does not have"),
        (rule("(", literal=True, to="/$1"), "it names the group 1"),
        (rule("a", conditions=(Condition(HOST, "(a"),)), "not of the regular kind"),
        (rule("()" * 201, to=""), "its pattern has 201 groups"),
    ],
)
def test_what_cannot_be_read_is_told(one: ImportedRule, why: str) -> None:
    with pytest.raises(PatternNotUnderstoodError) as told:
        one.check()
    assert why in str(told.value)
    assert "None" not in str(told.value)


@pytest.mark.parametrize(
    "one",
    [
        rule("(a)(?P<n>b)", to="/$2$1"),
        rule("(", literal=True),
        rule("a", conditions=(Condition(HOST, "(", literal=True),)),
        rule("()" * 200, to=""),
        ImportedRule("f:1", PATH, "(?P<n>b)", 301, (("group", "n"), ("group", "0"))),
    ],
)
def test_what_can_be_read_passes(one: ImportedRule) -> None:
    one.check()


def test_what_patterns_look_at_of_a_request() -> None:
    one = asked("/caf%C3%A9%2fx?A=1&b&a=2&c=", "www.old.example:8443")
    said = {
        name: one.subject(name) for name in (PATH, RAW, TARGET, QUERY, HOST, SCHEME, PORT, METHOD)
    }
    assert said == {
        PATH: "/caf\xc3\xa9/x", RAW: "/caf%C3%A9%2fx", TARGET: "/caf%C3%A9%2fx?A=1&b&a=2&c=",
        QUERY: "A=1&b&a=2&c=", HOST: "www.old.example", SCHEME: "https", PORT: "443", METHOD: "GET",
    }  # fmt: skip
    assert one.subject(REQUEST) == f"GET {one.target} HTTP/1.1"
    assert asked("/", origin="http://a.example").subject(PORT) == "80"
    for name, value in (("a", "1"), ("B", ""), ("c", ""), ("d", "")):
        assert one.subject(f"argument:{name}") == one.argument(name) == value


@pytest.mark.parametrize(
    ("one", "fits", "fits_not"),
    [
        (rule("/a", literal=True), ["/a", "/%61", "/a?x"], ["/A", "/a/", "/ab"]),
        (rule("/A", literal=True, nocase=True), ["/a", "/A"], ["/b"]),
        (rule("/a%20b", RAW, literal=True), ["/a%20b", "/a%20b?x"], ["/a%20B", "/a b"]),
        (rule("/A?x", TARGET, literal=True, nocase=True), ["/a?X"], ["/a"]),
        (rule("/a", literal=True, negate=True), ["/b", "/A"], ["/a"]),
        (rule("x=1", QUERY, literal=True), ["/?x=1"], ["/?X=1", "/?x=1&y"]),
        (rule("X=1", QUERY, literal=True, nocase=True), ["/?x=1"], ["/?x=2"]),
        (rule("/caf\u00e9", literal=True), ["/caf%C3%A9"], ["/cafe"]),
        (rule("^/b", negate=True), ["/a"], ["/b"]),
        (rule("^/B$", nocase=True), ["/b"], ["/b/"]),
        (rule("^/B/?$", nocase=True), ["/b", "/b/"], ["/b/c"]),
        (rule("^/b/(.*)$"), ["/b/", "/b/c/d"], ["/b", "/B/c"]),
        (rule("^/b(.*)$"), ["/b", "/bc", "/b/c"], ["/a"]),
        (rule("^/b((?:/.*)?)$"), ["/b", "/b/", "/b/c"], ["/bc"]),
        (rule("^c$", INNER, below="/b/"), ["/b/c"], ["/c", "/b/c/", "/B/c"]),
        (rule("^(.*)$", INNER, below="/caf\u00e9/"), ["/caf%C3%A9/", "/caf%C3%A9/x"], ["/cafe/"]),
        (rule("^$", INNER, below="/"), ["/"], ["/a"]),
        (rule("^/abcdefghijklmnopqrstuv"), ["/abcdefghijklmnopqrstuvw"], ["/abcdefghijklmnopqrs"]),
        (rule("^/a.b$"), ["/a%0Ab"], ["/ab"]),
        (rule("/x$"), ["/x", "/a/x"], ["/x/"]),
        (rule("^/caf\u00e9.$"), ["/caf%C3%A9x"], ["/caf%C3%A9xy"]),
    ],
)
def test_what_a_rule_fits(one: ImportedRule, fits: list[str], fits_not: list[str]) -> None:
    assert [t for t in fits if found(one, target=t, origin="http://a.example") is None] == []
    assert [t for t in fits_not if found(one, target=t) is not None] == []


def test_conditions_hold_together_or_one_instead_of_another() -> None:
    yes, no = Condition(QUERY, "x"), Condition(QUERY, "z")
    cases = [((yes,), True), ((no,), False), ((yes, no), False), ((no, yes), False)]
    cases += [(tuple(alternatives([a, b])), True) for a, b in ((yes, no), (no, yes), (yes, yes))]
    cases += [(tuple(alternatives([no, no])), False), ((*alternatives([yes, no]), no), False)]
    cases += [((*alternatives([yes, no]), yes), True), ((yes, *alternatives([no, yes])), True)]
    cases += [
        ((Condition(QUERY, "x=1", literal=True),), True),
        ((Condition(QUERY, "x", literal=True),), False),
    ]
    cases += [((Condition(QUERY, "X=1", literal=True, nocase=True),), True)]
    cases += [
        ((Condition(QUERY, "z", negate=True),), True),
        ((Condition(QUERY, "x", negate=True),), False),
    ]
    cases += [
        ((*alternatives([yes, no, no]), no), False),
        ((*alternatives([no, yes, no]), yes), True),
    ]
    for conditions, fits in cases:
        told = found(rule("^/a", conditions=conditions), target="/a?x=1")
        assert (told is not None) == fits, conditions
    assert holds(yes, "x")
    assert not holds(yes, "y")


def test_groups_of_the_last_condition_that_found_something_can_be_named() -> None:
    def to(*conditions: Condition) -> tuple[int, str] | None:
        pieces = (("text", "/n/"), ("condition", "1"), ("text", "-"), ("group", "1"))
        return found(
            ImportedRule("f:1", PATH, "^/(a)", 301, pieces, conditions=conditions), target="/a?x=7"
        )

    seven, any_of = Condition(QUERY, "x=([0-9])"), Condition(QUERY, "(x)")
    assert to(seven) == (301, "/n/7-a?x=7")
    assert to(seven, any_of) == (301, "/n/x-a?x=7")
    assert to(seven, Condition(QUERY, "x=7", literal=True)) == (301, "/n/7-a?x=7")
    assert to(seven, Condition(QUERY, "(z)", negate=True)) == (301, "/n/7-a?x=7")
    assert to(*alternatives([Condition(QUERY, "(z)"), seven])) == (301, "/n/7-a?x=7")
    assert to() == (301, "/n/-a?x=7")


def test_the_first_rule_that_fits_answers_and_what_passes_ends_its_stage() -> None:
    first, second = rule("^/a", to="/1"), rule("/ab", literal=True, to="/2")
    assert found(first, second, target="/ab") == (301, "/1")
    assert found(second, first, target="/ab") == (301, "/2")
    assert found(second, first, target="/ac") == (301, "/1")
    skip = rule("^/a", status=0, to="", stage=2, ends=False)
    later = [rule("^/a", to=f"/{n}", stage=n) for n in (2, 2 * STAGES_WITHIN + 1, 3)]
    assert found(skip, *later, target="/a") == (301, "/3")
    assert found(skip, *later[:2], target="/a") is None
    stop = rule("^/a", status=0, to="", stage=2)
    assert found(stop, *later, target="/a") == (0, "")
    assert list(stages_around(3 * STAGES_WITHIN + 5)) == [3 * STAGES_WITHIN + 5, 3]
    assert list(stages_around(STAGES_WITHIN)) == [STAGES_WITHIN, 1]
    assert list(stages_around(7)) == [7]


def test_what_leads_to_itself_or_cannot_be_said_is_no_answer() -> None:
    itself = ImportedRule("f:1", PATH, "^/a", 301, (("text", "https://www.old.example/a"),))
    assert found(itself, target="/a") == (0, "")
    assert found(itself, target="/ab") == (301, "https://www.old.example/a")
    assert found(itself, target="/a", origin="http://www.old.example") == (
        301, "https://www.old.example/a",
    )  # fmt: skip
    control = rule("^/(a.*)$", to="/n/$1", encoding=BARE)
    assert found(control, target="/a%0Db") == (0, "")
    assert found(control, rule("^/", to="/later"), target="/a%0Db") == (0, "")


@pytest.mark.parametrize(
    ("encoding", "to", "target", "location"),
    [
        (GROUPS, "/n/$1", "/a/b%20c", "/n/b%20c"),
        (BARE, "/n/$1", "/a/b%20c", "/n/b c"),
        (GROUPS, "/n/$1", "/a/caf%C3%A9", "/n/caf%C3%A9"),
        (BARE, "/n/$1", "/a/caf%C3%A9", "/n/caf\u00e9"),
        (BARE, "/n/$1", "/a/caf%E9", "/n/caf%E9"),
        (GROUPS, "/n/$1", "/a/b?x=1", "/n/b?x=1"),
        (GROUPS, "/n/$1?y=2", "/a/b?x=1", "/n/b?y=2"),
        (GROUPS, "/n/$1#top", "/a/b?x=1", "/n/b?x=1#top"),
        (GROUPS, "/n/$1#a#b", "/a/b?x=1", "/n/b?x=1#a#b"),
        (GROUPS, "//n/$1", "/a/b", "https://www.old.example//n/b"),
        (AT_END, "/n/$1", "/a/b%3Fc", "/n/b%3Fc"),
        (AT_END, "/n/$1?y", "/a/b?x=1", "/n/b?y"),
        (AT_END, "/n/$1", "/a/b?x=1", "/n/b?x=1"),
        (AT_END_WHOLE, "/n m/$1?q r#s", "/a/b c", "/n%20m/b%20c?q r#s"),
        (AT_END_WHOLE, "n/$1", "/a/b", None),
        (AT_END_WHOLE, "ftp:x/$1", "/a/b", "ftp:x/b"),
        (WHOLE, "https://N.example/\u00e9/$1", "/a/b%20c?x", "https://N.example/%C3%A9/b%20c?x"),
        (WHOLE, "/n/$1?y z", "/a/b", "/n/b?y%20z"),
        (WHOLE, "/n/$1", "/a/b%3Fc", None),
        (WHOLE, "/n/$1?", "/a/b%3Fc?x", "/n/b?c%3F"),
        (WHOLE_BARE, "/n m/$1", "/a/b%20c?x=1", "/n m/b c?x=1"),
        (WHOLE_BARE, "/n?y $1", "/a/b", None),
        (REWRITTEN, "/n/$1", "/a/b%20c", "/n/b%20c"),
        (REWRITTEN, "/n/$1", "/a/b%2Bc", "/n/b+c"),
        (REWRITTEN, "/n/$1", "/a/b%3Fc", "/n/b?c"),
        (REWRITTEN, "/n?$1", "/a/b%26c", "/n?b%26c"),
        (REWRITTEN, "/n%2/$1", "/a/b", "/nb"),
        (REWRITTEN, "/n/$1", "/a/b?x=1", "/n/b?x=1"),
    ],
)  # fmt: skip
def test_destinations_are_encoded_as_by_the_server_they_come_from(
    encoding: str, to: str, target: str, location: str | None
) -> None:
    one = ImportedRule("f:1", PATH, "^/a/(.*)$", 301, pieces_of(to), encoding=encoding)
    assert found(one, target=target) == ((0, "") if location is None else (301, location))


@pytest.mark.parametrize("encoding", [GROUPS, WHOLE, REWRITTEN])
@pytest.mark.parametrize(
    ("query", "to", "location"),
    [
        (QueryEdit.KEEP, "/n", "/n?x=1"),
        (QueryEdit.APPEND, "/n", "/n?x=1"),
        (QueryEdit.APPEND, "/n?y=2", "/n?y=2&x=1"),
        (QueryEdit.DROP, "/n", "/n"),
        (QueryEdit.DROP, "/n?y=2", "/n?y=2"),
    ],
)
def test_what_becomes_of_a_request_s_query(
    encoding: str, query: QueryEdit, to: str, location: str
) -> None:
    if encoding == REWRITTEN and query == QueryEdit.APPEND and "?" not in to:
        location = "/n&x=1"  # as nginx does it where no question mark stands
    one = rule("^/a", to=to, encoding=encoding, query=query)
    assert found(one, target="/a?x=1") == (301, location)
    assert found(one, target="/a") == (301, to)


def test_variables_and_bases_stand_in_destinations() -> None:
    def to(*pieces: tuple[str, str], **more: Any) -> str:
        told = found(
            ImportedRule("f:1", PATH, "^/a", 301, pieces, query=QueryEdit.DROP, **more),
            target="/a%20b?x=1",
        )
        assert told is not None
        return told[1]

    assert to(("variable", PATH)) == "/a%20b"
    assert to(("variable", PATH), encoding=BARE) == "/a b"
    assert to(("text", "/n"), ("variable", "is_args"), ("variable", QUERY)) == "/n?x=1"
    assert (
        to(("text", "/"), ("variable", HOST), ("variable", TARGET)) == "/www.old.example/a%20b?x=1"
    )
    assert to(("text", "n"), base="/s/") == "/s/n"
    assert to(("text", "/n"), base="/s/") == "/n"
    assert to(("text", "https://N.example/"), base="/s/") == "https://N.example/"
    assert to(("text", "/n"), ("group", "1")) == "/n"
    bare = ImportedRule("f:1", PATH, "^/a", 301, (("text", "/n"), ("variable", "is_args")))
    assert found(bare, target="/a") == (301, "/n")


def test_rules_are_found_by_the_hosts_that_they_name() -> None:
    named = Condition(HOST, "WWW.old.example", literal=True, nocase=True)
    other = Condition(HOST, "b.example", literal=True)
    either = tuple(alternatives([other, named]))
    for conditions, fits in (((named,), True), ((other,), False), (either, True)):
        assert (found(rule("^/a", conditions=conditions), target="/a") is not None) == fits
    negated = (Condition(HOST, "b.example", literal=True, negate=True),)
    assert found(rule("^/a", conditions=negated), target="/a") == (301, "/n")
