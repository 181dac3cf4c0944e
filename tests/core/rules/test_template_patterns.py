"""Templates among each other: the paths that they share, where they lead, and which comes first."""

from __future__ import annotations

import itertools
import re
from urllib.parse import unquote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from properties import thorough
from two_sites import FAR, SITE, template
from upright_ledger.core.rules.compiler import image_pattern
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
    TemplateError,
    read_source,
)
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.request_target import reject_reason

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


WIDE = ["/a/{+r}", "/{+r}", "/a/{x}", "/{x}.a", "/a-{x}/{+r}", "/%2E{x}", "/{x}/b"]
PIECES = ["/", "a", "b", ".", "-", "%2E", "%2e", "%2f", "%C3", "%A9", "%", '"', "~", ":"]


@given(
    st.sampled_from(WIDE),
    st.lists(st.sampled_from(PIECES), max_size=8).map("".join),
    st.booleans(),
)
@thorough
def test_what_is_not_copied_takes_escapes_but_no_dots(text: str, tail: str, fold: bool) -> None:
    """Against segments told one by one."""
    source = read_source(text, fold=fold).widened(())
    path = f"{source.head}{tail}"
    if reject_reason(path):
        return
    fits = _told_segment_by_segment(text, path)
    expression = re.compile(source.regex(fold=fold, slash="bare"))
    assert bool(expression.fullmatch(path)) == fits
    assert source_pattern(source, fold, "bare").accepts(path) == fits


def _told_segment_by_segment(text: str, path: str) -> bool:
    wanted, given_ = text.replace("{+r}", "*").split("/")[1:], path.split("/")[1:]
    if wanted[-1] == "*":
        if given_[-1] == "" and len(given_) > len(wanted):
            given_.pop()
        wanted[-1:] = "*" * max(1, len(given_) - len(wanted) + 1)
    return len(wanted) == len(given_) and all(map(_fits, wanted, given_))


def _fits(wanted: str, segment: str) -> bool:
    before, hole, after = ("", "*", "") if wanted == "*" else wanted.partition("{x}")
    before = unquote(before)
    if not hole:
        return segment == wanted
    if not segment.startswith(before) or not segment.endswith(after):
        return False
    inside = segment[len(before) : len(segment) - len(after)]
    return len(segment) > len(before + after) and unquote(inside) not in {".", ".."}


def test_what_is_copied_of_a_template_decides_what_its_captures_take() -> None:
    def wide(source: str, goal: str) -> list[str]:
        return [c.name for c in template(source, goal).source.captures if c.wide]

    assert wide("/a/{x}/{+r}", "") == ["x", "r"]
    assert wide("/a/{x}/{+r}", f"{FAR}/{{x}}/") == ["r"]
    assert wide("/a/{x}/{+r}", f"{FAR}/{{r}}") == []
    assert wide("/a/{x|word}-{y|digits}/{z}.html", f"{FAR}/") == ["z"]
    for copying, left in (("{r}", []), ("{x}", ["r"]), ("", ["x", "r"])):
        both = template("/a/{x}/{+r}{?i}", f"{FAR}/{copying}"), template("/a/{x}/{+r}", "")
        (group,) = TemplateIndex(both, fold=True)
        assert [c.name for c in group.source.captures if c.wide] == left


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
            Capture("x", CaptureKind.REST), Capture("x", CaptureKind.LIST, ("p",
                "q"))):  # fmt: skip
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
        ("/a/{x}", "/a/{x}", "drop", True), ("/a/{x}", "/a/{x}/", "drop", False),
        ("/a/{x}", "/a/{x}?y=1", "drop", False), ("/a/{x}", "/a/{x}", "carry", False),
        ("/a/{x}{?i}", "/a/{x}", "drop", False), ("/a/{x}/{y}", "/a/{y}/{x}", "drop", False),
    ],
)  # fmt: skip
def test_a_template_that_leads_each_address_to_itself(
    source: str, goal: str, query: str, identity: bool
) -> None:
    assert is_identity(template(source, FAR + goal, query=QueryPolicy(query))) is identity


def test_what_protects_comes_first_then_the_longest_text() -> None:
    rows = [
        template("/{+r}", f"{FAR}/all"), template("/a/{x}", f"{FAR}/a"), template("/a/{x}/b",
            f"{FAR}/b"),
        template("/a/{x|digits}", f"{FAR}/d"), template("/keep/{+r}", "", 0),
            template("/A/{x}{?i}", f"{FAR}/i"),
    ]  # fmt: skip
    index = TemplateIndex(rows, fold=True)
    assert [g.source.path for g in index] == [
        "/keep/{+r}", "/a/{x}/b", "/a/{x|digits}", "/a/{x}", "/{+r}",
    ]  # fmt: skip
    for path, first in (
        ("/keep/x", "/keep/{+r}"), ("/A/1/B", "/a/{x}/b"), ("/a/x", "/a/{x}"), ("/z/y", "/{+r}"),
            ("/a/x/c", "/{+r}"),
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
    assert exact.find(SITE, "/A/1/B")[0].source.path == "/{+r}"


def test_of_the_rules_of_one_path_the_parameters_choose() -> None:
    rows = [
        template("/c{?i|digits}", f"{FAR}/i/{{i}}"), template("/c{?i|digits}{?v}",
            f"{FAR}/{{i}}/{{v}}"),
        template("/c{?w|a,b}", "", 410),
    ]  # fmt: skip
    (group,) = TemplateIndex(rows, fold=True)
    assert group.literal_paths == ("/c", "/c/")
    assert group.names == {"i", "v", "w"}
    for carried, chosen in (
        ({"i": "1"}, (rows[0], {"i": "1"})), ({"i": "1", "v": "x"}, (rows[1], {"i": "1",
            "v": "x"})),
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
    assert open_one.choose({})[0].destination == f"{FAR}/p"


@pytest.mark.parametrize(
    ("text", "first"),
    [
        ("/a/{x}", "a"), ("/a{x}", ""), ("/{x}/a", ""), ("/a{?i}", "a"), ("/a/b{?i}", "a"),
        ("/{+r}", ""),
    ],
)  # fmt: skip
def test_the_first_folder_where_it_is_literal(text: str, first: str) -> None:
    assert first_segment(read_source(text, fold=True)) == first
