"""Templates part by part: how they are read, spelled as expressions, indexed, and met."""

from __future__ import annotations

import itertools
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from properties import thorough
from upright_ledger.core.rules.compiler import image_pattern, make_template
from upright_ledger.core.rules.templates.path_automata import (
    OTHER_LETTERS,
    common_path,
    common_paths,
    image_parts,
    mask_of,
    may_begin_alike,
    pattern_of,
    source_pattern,
)
from upright_ledger.core.rules.templates.template_index import (
    TemplateIndex,
    TemplateRule,
    first_segment,
)
from upright_ledger.core.rules.templates.template_samples import (
    head_of,
    is_identity,
    path_pieces,
    sample_text,
)
from upright_ledger.core.rules.templates.template_syntax import (
    Capture,
    CaptureKind,
    Goal,
    TemplateError,
    escaped,
    read_goal,
    read_source,
)
from upright_ledger.core.url.query import QueryPolicy

FAR = "https://n.example"
SITE = "quillhaven.example"


def template(source: str, goal: str, status: int = 301, **more: object) -> TemplateRule:
    return make_template(SITE, source, status, goal, source, fold=True, **more)  # type: ignore[arg-type]


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


SOURCES = [
    "/a/{x}", "/{x}/b", "/{x|digits}", "/{x|a,ab}b", "/a/{+r}", "/{+r}", "/{x|word}.{y|digits}",
    "/a{x}", "/{x}.a", "/A/{x}", "/b{?i}", "/{x|A,b}/",
]  # fmt: skip
TEXTS = ["/" + "".join(p) for n in range(5) for p in itertools.product("abA1./", repeat=n)]


@pytest.mark.parametrize("fold", [True, False])
@pytest.mark.parametrize("text", SOURCES)
def test_an_automaton_takes_what_its_expression_takes(text: str, fold: bool) -> None:
    source = read_source(text, fold=fold)
    for slash in ("any", "bare", "slashed"):
        pattern = source_pattern(source, fold, slash)
        expression = re.compile(source.regex(fold=fold, slash=slash))
        for path in TEXTS:
            assert pattern.accepts(path) == bool(expression.fullmatch(path)), (path, slash)
    assert not source_pattern(source, fold, "any").accepts("/é")


@pytest.mark.parametrize("fold", [True, False])
def test_two_patterns_share_a_shortest_path_exactly_where_both_take_one(fold: bool) -> None:
    sources = [read_source(s, fold=fold) for s in SOURCES]
    taken = [{p for p in TEXTS if re.fullmatch(s.regex(fold=fold), p)} for s in sources]
    for (one, some), (other, more) in itertools.product(zip(sources, taken, strict=True), repeat=2):
        first, second = source_pattern(one, fold, "any"), source_pattern(other, fold, "any")
        found = common_path(first, second)
        both = some & more
        if both:
            assert found is not None
            assert len(found) == min(map(len, both))
        if found is not None:
            assert all(re.fullmatch(s.regex(fold=fold), found) for s in (one, other))
        for letters in OTHER_LETTERS:
            another = common_path(first, second, letters)
            assert (another is None) == (found is None)
            if another is not None:
                assert all(re.fullmatch(s.regex(fold=fold), another) for s in (one, other))


@thorough
@given(st.lists(st.sampled_from(["a", "b", "Ab", "b.c"]), min_size=1, max_size=3, unique=True),
    st.lists(st.sampled_from(["a", "b", "aB", "x"]), min_size=1, max_size=3, unique=True),
    st.booleans(), st.integers(1, 4))  # fmt: skip
def test_all_shared_paths_are_told_where_they_are_few(
    some: list[str], more: list[str], fold: bool, most: int
) -> None:
    one = pattern_of(["/x/", Capture("l", CaptureKind.LIST, tuple(some))], fold=fold, slash="any")
    other = pattern_of(
        ["/X/" if fold else "/x/", Capture("l", CaptureKind.LIST, tuple(more))], fold=fold
    )
    folded = [{v.lower() for v in vs} if fold else set(vs) for vs in (some, more)]
    shared = {f"/x/{v}" for v in folded[0] & folded[1]}
    found = common_paths(one, other, fold=fold, most=most)
    assert found == (sorted(shared) if len(shared) <= most else None)
    endless = pattern_of(["/x/", Capture("s")], fold=fold)
    assert common_paths(endless, endless, fold=fold, most=64) is None
    ended = common_paths(endless, one, fold=fold, most=64)
    assert ended == sorted(f"/x/{v}" for v in folded[0])


def test_masks_and_beginnings() -> None:
    assert mask_of("ab") == 1 << 97 | 1 << 98
    assert may_begin_alike("/a/", "/A/b")
    assert may_begin_alike("/a/b", "/")
    assert not may_begin_alike("/a/", "/b")
    parts = image_parts(["/a", "x", "", "y", "/b"], [Capture("x"), Capture("y")])
    assert parts == ["/a", Capture("x"), Capture("y"), "/b"]


@pytest.mark.parametrize(
    ("source", "goal", "takes", "leaves"),
    [
        ("/a/{x}", "/n/{x}/?q={x2}#t", "", ""),
        ("/a/{x|digits}", "/n/{x}", "/n/7", "/n/a"),
        ("/a/{x|digits}", "/n?y={x}", "/n", "/n/7"),
        ("/a/{x|digits}", "/N/{x}#top", "/n/7", "/n/"),
        ("/a/{x}{?i|digits}", "/{i}/fixed", "/7/fixed", "/a/fixed"),
    ],
)
def test_where_a_template_can_lead(source: str, goal: str, takes: str, leaves: str) -> None:
    if not takes:
        with pytest.raises(TemplateError, match="does not capture"):
            template(source, FAR + goal)
        return
    rule = template(source, FAR + goal)
    image = image_pattern(rule, fold=True)
    assert image.accepts(takes)
    assert not image.accepts(leaves)
    assert not image_pattern(rule, fold=False).accepts(takes.replace("n", "N") + "x")


def test_samples_fill_what_captures_take() -> None:
    for capture in (Capture("x"), Capture("x", CaptureKind.DIGITS), Capture("x", CaptureKind.WORD),
            Capture("x", CaptureKind.REST), Capture("x", CaptureKind.LIST, ("p", "q"))):  # fmt: skip
        texts = [sample_text(capture, n) for n in range(8)]
        assert all(re.fullmatch(capture.regex(), t) for t in texts)
        assert len(set(texts)) > 1
    assert [sample_text(Capture("x", CaptureKind.LIST, ("p", "q")), n) for n in range(3)] == [
        "p",
        "q",
        "p",
    ]
    assert sample_text(Capture("x", CaptureKind.DIGITS), 0) == "7"


@pytest.mark.parametrize(
    ("goal", "pieces", "head"),
    [
        ("/n/{x}/z", ["/n/", "x", "/z"], "/n/"),
        ("/n/{x}?y=1", ["/n/", "x", ""], "/n/"),
        ("/n?y={x}", ["/n"], "/n"),
        ("/{x}#t", ["/", "x", ""], "/"),
    ],
)
def test_the_path_of_a_destination_in_pieces(goal: str, pieces: list[str], head: str) -> None:
    rule = template("/a/{x}", FAR + goal)
    assert path_pieces(rule) == pieces
    assert head_of(rule) == head


@pytest.mark.parametrize(
    ("source", "goal", "query", "identity"),
    [
        ("/a/{x}", "/a/{x}", "drop", True),
        ("/a/{x}", "/a/{x}/", "drop", False),
        ("/a/{x}", "/a/{x}?y=1", "drop", False),
        ("/a/{x}", "/a/{x}", "carry", False),
        ("/a/{x}{?i}", "/a/{x}", "drop", False),
        ("/a/{x}/{y}", "/a/{y}/{x}", "drop", False),
    ],
)
def test_a_template_that_leads_each_address_to_itself(
    source: str, goal: str, query: str, identity: bool
) -> None:
    assert is_identity(template(source, FAR + goal, query=QueryPolicy(query))) is identity


def test_what_protects_comes_first_then_the_longest_text() -> None:
    rows = [
        template("/{+r}", f"{FAR}/all"), template("/a/{x}", f"{FAR}/a"), template("/a/{x}/b", f"{FAR}/b"),
        template("/a/{x|digits}", f"{FAR}/d"), template("/keep/{+r}", "", 0), template("/A/{x}{?i}", f"{FAR}/i"),
    ]  # fmt: skip
    index = TemplateIndex(rows, fold=True)
    assert [g.source.path for g in index] == [
        "/keep/{+r}", "/a/{x}/b", "/a/{x|digits}", "/a/{x}", "/{+r}",
    ]  # fmt: skip
    for path, first in (
        ("/keep/x", "/keep/{+r}"), ("/A/1/B", "/a/{x}/b"), ("/a/x", "/a/{x}"), ("/z/y", "/{+r}"), ("/a/x/c", "/{+r}"),
    ):  # fmt: skip
        found = index.find(SITE, path)
        assert found is not None
        assert found[0].source.path == first
    assert index.find(SITE, "/") is None
    assert index.find("other", "/a/x") is None
    assert index.find(SITE, "no slash") is None
    group = next(g for g in index if g.source.path == "/a/{x}")
    assert (group.names, group.site) == ({"i"}, SITE)
    assert [r.params for r in group.rules] == [("i",), ()]
    exact = TemplateIndex(rows, fold=False)
    assert exact.find(SITE, "/A/1/B") is not None
    assert exact.find(SITE, "/A/1/B")[0].source.path == "/{+r}"  # type: ignore[index]


def test_of_the_rules_of_one_path_the_parameters_choose() -> None:
    rows = [
        template("/c{?i|digits}", f"{FAR}/i/{{i}}"), template("/c{?i|digits}{?v}", f"{FAR}/{{i}}/{{v}}"),
        template("/c{?w|a,b}", "", 410),
    ]  # fmt: skip
    (group,) = TemplateIndex(rows, fold=True)
    assert group.literal_paths == ("/c", "/c/")
    assert group.names == {"i", "v", "w"}
    for carried, chosen in (
        ({"i": "1"}, (rows[0], {"i": "1"})), ({"i": "1", "v": "x"}, (rows[1], {"i": "1", "v": "x"})),
        ({"i": "x"}, None), ({"w": "a"}, (rows[2], {"w": "a"})), ({"w": "A"}, None), ({}, None),
        ({"v": "x"}, None),
    ):  # fmt: skip
        assert group.choose(carried) == chosen
    (file,) = TemplateIndex([template("/c.php{?i}", f"{FAR}/{{i}}")], fold=True)
    assert file.literal_paths == ("/c.php",)
    (open_one,) = TemplateIndex(
        [template("/{x}{?i}", f"{FAR}/{{i}}"), template("/{x}", f"{FAR}/p")], fold=True
    )
    assert open_one.literal_paths == ()
    assert open_one.choose({})[0].destination == f"{FAR}/p"  # type: ignore[index]


@pytest.mark.parametrize(
    ("text", "first"),
    [
        ("/a/{x}", "a"),
        ("/a{x}", ""),
        ("/{x}/a", ""),
        ("/a{?i}", "a"),
        ("/a/b{?i}", "a"),
        ("/{+r}", ""),
    ],
)
def test_the_first_folder_where_it_is_literal(text: str, first: str) -> None:
    assert first_segment(read_source(text, fold=True)) == first


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
