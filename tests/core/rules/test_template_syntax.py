"""Templates by their grammar: how they are read, refused, and spelled as expressions."""

from __future__ import annotations

import re

import pytest

from two_sites import FAR, template
from upright_ledger.core.rules.templates.template_syntax import (
    Capture,
    CaptureKind,
    Goal,
    TemplateError,
    escaped,
    read_goal,
    read_source,
)


@pytest.mark.parametrize(
    ("text", "path", "params", "head", "literal", "slash"),
    [
        ("/a/{x}", "/a/{x}", (), "/a/", 3, True),
        ("/A/{x}/", "/a/{x}", (), "/a/", 3, True),
        ("/{x|digits}.html", "/{x|digits}.html", (), "/", 6, False),
        ("/{x}.html5x", "/{x}.html5x", (), "/", 8, True),
        ("/{x}.h/y", "/{x}.h/y", (), "/", 5, True),
        ("/{x|word}-{y|b,a,b}", "/{x|word}-{y|a,b}", (), "/", 2, True),
        ("/a/{+rest}", "/a/{+rest}", (), "/a/", 3, False),
        ("/c.php{?z}{?a|digits}", "/c.php", ("a", "z"), "/c.php", 6, False),
        ("/c{?i|1,2}", "/c", ("i",), "/c", 2, True),
        ("/a%7e/caf%c3%a9/{x}", "/a~/caf%C3%A9/{x}", (), "/a~/caf%C3%A9/", 14, True),
        ("/a b/{x}", "/a%20b/{x}", (), "/a%20b/", 7, True),
        ("/{?i}", "/", ("i",), "/", 1, False),
        ("/" + "/".join(f"{{c{n}}}" for n in range(9)), None, (), "/", 9, True),
    ],
)
def test_a_template_is_read_into_its_parts(
    text: str, path: str | None, params: tuple[str, ...], head: str, literal: int, slash: bool
) -> None:
    source = read_source(text, fold=True)
    assert source.path == (path or text)
    assert tuple(p.name for p in source.params) == params
    assert (source.head, source.literal, source.takes_slash) == (head, literal, slash)
    assert source.rank == (-literal, source.path)
    assert read_source(source.text, fold=True) == source
    assert source.text.startswith(source.path)
    exact = read_source("/Case/{x}", fold=False)
    assert exact.path == "/Case/{x}"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("{a}", "its path does not begin with a slash"),
        ("/plain", "it holds no capture such as {name}"),
        ("/{a}{b}", "two captures touch each other"),
        ("/{a}-{b}", "{a} may itself hold the '-' that follows it: narrow it"),
        ("/{a|digits}5{b}", "{a|digits} may itself hold the '5' that follows it: narrow it"),
        ("/{a|x-y}-{b}", "{a|x-y} may itself hold the '-' that follows it: narrow it"),
        ("/{a|X}x{b}", "{a|X} may itself hold the 'x' that follows it: narrow it"),
        ("/x{+rest}", "a rest begins within a segment"),
        ("/{+rest}/y", "a rest stands before the end"),
        ("/{A}", "'A' is no name of a capture: lower-case letters, digits and _ are"),
        ("/{}", "'' is no name of a capture: lower-case letters, digits and _ are"),
        ("/{1a}", "'1a' is no name of a capture: lower-case letters, digits and _ are"),
        ("/{a}/{a}", "two captures have one name"),
        ("/{a}{?a}", "two captures have one name"),
        ("/{a|b c}", "'b c' is neither digits nor word nor a list of plain values"),
        ("/{a|.}", "'.' is neither digits nor word nor a list of plain values"),
        ("/{a|b,..}", "'b,..' is neither digits nor word nor a list of plain values"),
        ("/{a|}", "'' is neither digits nor word nor a list of plain values"),
        ("/{+rest|digits}", "a rest cannot be narrowed"),
        ("/x{?+rest}", "a parameter cannot be a rest"),
        ("/a//{b}", "its path holds a doubled slash or a dot segment"),
        ("/a/../{b}", "its path holds a doubled slash or a dot segment"),
        ("/{b}/.", "its path holds a doubled slash or a dot segment"),
        ("/a%2F{b}", "its path holds a backslash or an escaped slash, backslash or control byte"),
        ("/a%zz{b}", "its path holds a broken percent escape"),
        ("/a?{b}", "a brace, ? or # stands alone in it"),
        ("/a#{b}", "a brace, ? or # stands alone in it"),
        ("/a}{b}", "a brace, ? or # stands alone in it"),
        ("/" + "/".join(f"{{c{n}}}" for n in range(10)), "it has more than 9 captures"),
    ],
)
def test_what_could_be_read_in_two_ways_is_refused_with_its_reason(text: str, why: str) -> None:
    with pytest.raises(TemplateError) as refused:
        read_source(text, fold=True)
    assert str(refused.value) == why


def test_captures_may_stand_beside_what_they_cannot_hold() -> None:
    for text in (
        "/{a|word}-{b}",
        "/{a|digits}x{b}",
        "/{a}/{b}",
        "/{a}-b",
        "/{a|b,c}x{d}",
        "/{a};{b}",
    ):
        assert len(read_source(text, fold=True).captures) in {1, 2}


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("https://{host}/x", "the destination's scheme and host are not literal"),
        ("/x/{a}", "the destination's scheme and host are not literal"),
        ("https://n.example{a}", "the destination's scheme and host are not literal"),
        ("https://n.example/{a}/{a}", "a capture stands twice in the destination"),
        ("https://n.example//{a}", "the destination's path holds an empty or dot segment"),
        ("https://n.example/a/./{a}", "the destination's path holds an empty or dot segment"),
        ("https://n.example/{a}/..", "the destination's path holds an empty or dot segment"),
        (
            "https://n.example/{a b}",
            "a destination takes captures by their bare names, as in {slug}",
        ),
        (
            "https://n.example/{a|digits}",
            "a destination takes captures by their bare names, as in {slug}",
        ),
        (
            "https://n.example/a b{c}",
            "the destination holds characters that cannot be written safely",
        ),
        (
            "https://n.example/#{c}",
            "the destination holds characters that cannot be written safely",
        ),
    ],
)
def test_a_destination_that_a_request_could_steer_is_refused(text: str, why: str) -> None:
    with pytest.raises(TemplateError) as refused:
        read_goal(text)
    assert str(refused.value) == why


def test_a_destination_is_filled_as_it_stands() -> None:
    goal = read_goal(f"{FAR}/a/{{x}}-{{y}}/?z={{w}}#top")
    assert goal == Goal((f"{FAR}/a/", "x", "-", "y", "/?z=", "w", "#top"))
    assert (goal.head, goal.names) == (f"{FAR}/a/", ("x", "y", "w"))
    assert goal.fill({"x": "1", "y": "2", "w": "3"}) == f"{FAR}/a/1-2/?z=3#top"
    assert goal.text == f"{FAR}/a/{{x}}-{{y}}/?z={{w}}#top"
    assert read_goal(f"{FAR}/?a=//b").text == f"{FAR}/?a=//b"


@pytest.mark.parametrize(
    ("text", "fold", "expression"),
    [
        ("a/B", False, "a/B"),
        ("aB1", True, "[Aa][Bb]1"),
        (".+*?()|$", False, "[.][+][*][?][(][)][|][$]"),
        ("\\^]", False, "\\\\\\^\\]"),
        ("é", True, "[é]"),
    ],
)
def test_a_text_is_an_expression_that_every_engine_reads_alike(
    text: str, fold: bool, expression: str
) -> None:
    assert escaped(text, fold=fold) == expression
    assert re.fullmatch(expression, text)
    assert escaped("a") == "a"


@pytest.mark.parametrize(
    ("capture", "holds", "lacks"),
    [
        (Capture("x"), "aZ0.-_~", "/%!"),
        (Capture("x", CaptureKind.DIGITS), "09", "a.-"),
        (Capture("x", CaptureKind.WORD), "aZ0", ".-_"),
        (Capture("x", CaptureKind.LIST, ("Ab", "c")), "aBcAC", "d-"),
    ],
)
def test_what_a_capture_may_hold(capture: Capture, holds: str, lacks: str) -> None:
    assert all(capture.may_hold(c) for c in holds)
    assert not any(capture.may_hold(c) for c in lacks)


@pytest.mark.parametrize(
    ("text", "fold", "slash", "spelled", "expression"),
    [
        ("/a/{x|digits}", True, "any", False, "(?i:/a/)([0-9]+)/?"),
        ("/a/{x|digits}", True, "bare", True, "/[Aa]/([0-9]+)"),
        ("/A/{x|word}", False, "slashed", False, "/A/([A-Za-z0-9]+)/"),
        ("/1/{x|b,aa,c}", True, "any", False, "/1/((?i:aa|b|c))/?"),
        ("/1/{x|b}", True, "any", True, "/1/((?:[Bb]))/?"),
        ("/1/{x|B}", False, "any", True, "/1/((?:B))/?"),
        ("/{x|digits}.htm", False, "any", False, "/([0-9]+)[.]htm"),
    ],
)
def test_a_template_as_an_expression(
    text: str, fold: bool, slash: str, spelled: bool, expression: str
) -> None:
    source = read_source(text, fold=fold)
    assert source.regex(fold=fold, slash=slash, spelled=spelled) == expression


@pytest.mark.parametrize(
    ("source", "goal", "why"),
    [
        (
            "/a/{x}",
            f"{FAR}/{{y}}/{{b}}",
            "the destination names {b}, which its source does not capture",
        ),
        ("/a/{+r}", f"{FAR}/{{r}}/z", "{r} stands before the end of the destination's path"),
    ],
)
def test_a_template_and_its_destination_belong_together(source: str, goal: str, why: str) -> None:
    with pytest.raises(TemplateError) as refused:
        template(source, goal)
    assert str(refused.value) == why
    assert template("/a/{+r}", f"{FAR}/{{r}}?z#y").destination == f"{FAR}/{{r}}?z#y"
    made = template("/a/{x}", "https://N.Example:443/{x}")
    assert (made.destination, made.goal_authority) == (f"{FAR}/{{x}}", "n.example")
    with pytest.raises(TemplateError, match="'no' is no way to treat a query"):
        template("/a/{x}", f"{FAR}/{{x}}", query="no")
    assert template("/a/{x}", "", 410).goal_authority == ""
