"""Folding: which spellings are one entry, under which settings, and what of them is named."""

from __future__ import annotations

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

import slow_folding
import ugly
from properties import thorough
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold, fold_target
from upright_ledger.core.url.address import parse_address

FOLD, EXACT = FoldingPolicy(), FoldingPolicy(case="exact")
HEX = "9f86d081884c7d65"


@pytest.mark.parametrize(
    ("path", "folded", "mends"),
    [
        ("/a", "/a", ""), ("/a/", "/a", "trailing slash"), ("/", "/", ""),
        ("/A", "/a", "letter case"), ("/Ab/cD", "/ab/cd", "letter case"),
        ("/a/index.html", "/a", "index file, trailing slash"),
        ("/a/Index.HTML", "/a", "index file, letter case, trailing slash"),
        ("/index.php", "/", "index file"), ("/a/my-index.html", "/a/my-index.html", ""),
        ("/index.html/x", "/index.html/x", ""), ("/a//b", "/a/b", "repeated slashes"),
        ("/a/./b", "/a/b", "dot segments"), ("/a/../b", "/b", "dot segments"),
        ("/a/%2e%2E/b", "/b", "dot segments, percent encoding"),
        ("/%61", "/a", "percent encoding"), ("/a|b", "/a%7Cb", "percent encoding"),
        ("/caf%C3%A9", "/caf%C3%A9", ""), ("/caf%E9", "/caf%C3%A9", "Latin-1 escapes"),
        ("/CAF%c3%a9/", "/caf%C3%A9", "letter case, percent encoding, trailing slash"),
        ("/a;jsessionid=1F", "/a", "session parameter"),
        ("/a;JSESSIONID=1F/b", "/a/b", "session parameter"),
        ("/a;sid=1;v=2", "/a;v=2", "session parameter"),
        ("/(S(lit3))/a", "/a", "session parameter"), ("/(S(lit3)F(x))", "/", "session parameter"),
        ("/(S(lit3)/a", "/(s(lit3)/a", "letter case"), ("/a/amp", "/a", "amp view"),
        ("/a/AMP/", "/a", "amp view, letter case, trailing slash"), ("/amp", "/amp", ""),
        ("/a/b/print", "/a/b", "print view"), ("/a/print", "/a/print", ""),
        ("/print", "/print", ""), ("/a/amp/b", "/a/amp/b", ""), ("/a/page/2", "/a", "pagination"),
        ("/a/b/page/2/", "/a/b", "pagination, trailing slash"), ("/page/2", "/page/2", ""),
        ("/a/pages/2", "/a/pages/2", ""), ("/a/page/2b", "/a/page/2b", ""), ("/a/2", "/a/2", ""),
        ("/a.b", "/a.b", ""), ("/a.", "/a.", ""), ("/a./b", "/a./b", ""), ("/.a", "/.a", ""),
        ("/a..b", "/a..b", ""),
    ],
)  # fmt: skip
def test_a_path_folds_and_says_what_was_folded(path: str, folded: str, mends: str) -> None:
    found, named = FOLD.fold_path(path)
    assert found == folded
    assert ", ".join(sorted(named, key=str.lower)) == ", ".join(
        sorted(mends.split(", ") if mends else [], key=str.lower)
    )


@pytest.mark.parametrize(
    ("path", "folded", "observed"),
    [
        ("/A/B", "/A/B", "/A/B"), ("/A/INDEX.html", "/A", "/A/INDEX.html"),
        ("/A/AMP", "/A", "/A/AMP"), ("/A/", "/A", "/A/"), ("/A/b%e9", "/A/b%C3%A9", "/A/b%E9"),
    ],
)  # fmt: skip
def test_where_case_counts_it_stays(path: str, folded: str, observed: str) -> None:
    assert EXACT.fold_and_keep(path)[:2] == (folded, observed)
    assert "letter case" not in EXACT.fold_path(path)[1]


@thorough
@given(ugly.paths, st.sampled_from(["", "/", "/amp", "/print", "/page/3", "/Index.html", ";sid=4"]),
    st.booleans())  # fmt: skip
def test_folding_is_what_it_says_step_by_step(path: str, tail: str, case: bool) -> None:
    assume("@" not in path and "%40" not in path)
    policy = FOLD if case else EXACT
    assert policy.fold_path(path + tail)[0] == slow_folding.fold_path(path + tail, case=case)


@thorough
@given(ugly.paths, ugly.queries)
def test_folding_once_is_folding_for_good(path: str, query: str) -> None:
    address = parse_address(f"http://a.example{path}?{query}")
    once = fold(address, FOLD)
    assume("%25" not in once.key and "#" not in once.key and "/page/" not in once.path)
    again = fold(parse_address(f"http://a.example{once.key}"), FOLD)
    assume(not again.mends & {"amp view", "print view", "index file"})  # one that stands twice
    assert again.key == once.key


@pytest.mark.parametrize(
    ("query", "key", "mends"),
    [
        ("a=1", "?a=1", ""), ("b=1&a=2", "?a=2&b=1", "parameter order"),
        ("a=2&a=1", "?a=2&a=1", ""), ("a=1&a=1", "?a=1", ""), ("a=%61&a=a", "?a=a", ""),
        ("A=1&a=1", "?A=1&a=1", ""), ("a", "?a=", ""), ("=1&&", "", ""),
        ("utm_source=x&UTM_anything=y&gclid=z&_ga=1", "", "tracking parameter"),
        ("PHPSESSID=1", "", "session parameter"), (f"sid={HEX}", "", "session parameter"),
        ("sid=12", "?sid=12", ""), ("session_id=12", "?session_id=12", ""),
        ("session_id=123456", "", "session parameter"), ("sid=masked", "", "session parameter"),
        ("print=1&amp=1", "", "view"), ("x=a+b&y=%e9", "?x=a%20b&y=%C3%A9", ""),
        ("a=1&utm_id=2", "?a=1", "tracking parameter"),
    ],
)  # fmt: skip
def test_a_query_folds_to_what_chooses_the_page(query: str, key: str, mends: str) -> None:
    found = fold_target("/x", query, FOLD)
    assert found.key == f"/x{key}"
    assert found.mends == frozenset([mends] if mends else [])


@thorough
@given(ugly.queries, st.one_of(st.none(), st.sets(ugly.names.filter(bool), max_size=4)))
def test_parameters_are_kept_as_told_step_by_step(query: str, significant: set[str] | None) -> None:
    assume(not any(s in query.lower() for s in ("sid", "@", "%40")))
    policy = FoldingPolicy(
        significant={} if significant is None else {"/x": tuple(sorted(significant))}
    )
    found = fold_target("/x", query, policy)
    assert list(found.params) == slow_folding.fold_query(query, significant)


def test_settings_name_what_chooses_the_page_by_path_or_pattern() -> None:
    policy = FoldingPolicy(
        significant={
            "/P.php/": ("item", "sid"),
            "/shop/*": ("id",),
            "/shop/long/*": ("id", "view"),
            "*.asp": (),
        }
    )
    for path, query, key in (
        ("/p.php", "view=1&ITEM=3&item=2", "/p.php?item=2"),
        ("/p.php", "sid=7", "/p.php?sid=7"),
        ("/shop/a", "id=1&view=2&utm_id=1", "/shop/a?id=1"),
        ("/SHOP/a", "id=1&view=2", "/shop/a?id=1"),
        ("/shop/long/a", "view=2&id=1", "/shop/long/a?id=1&view=2"),
        ("/x/y.asp", "a=1", "/x/y.asp"),
        ("/x/y.aspx", "a=1", "/x/y.aspx?a=1"),
        ("/shop", "a=1", "/shop?a=1"),
    ):
        assert fold_target(path, query, policy).key == key
    assert fold_target("/shop/a", "b=1", policy).mends == {"other parameter"}
    assert fold_target("/shop/a", "gclid=1", policy).mends == {"tracking parameter"}
    assert policy.significant_at("/none") is None
    assert policy.significant_at("/x.asp") == frozenset()


def test_a_fragment_is_folded_and_named() -> None:
    found = fold(parse_address("http://a.example/A/?b=1#c"), FOLD)
    assert (found.path, found.params, found.variant) == ("/a", (("b", "1"),), "/A/")
    assert found.mends == {"fragment", "letter case", "trailing slash"}
    assert found.key == "/a?b=1"


def test_secrets_are_masked_before_anything_is_folded() -> None:
    assert fold_target("/reset/a1b2c3d4", "token=x&b=1", FOLD).key == (
        "/reset/masked?b=1&token=masked"
    )
    own = FoldingPolicy(secret=("Ref",), no_secret=("Token",), significant={"/y": ("password",)})
    assert fold_target("/x", "ref=1&token=2&password=3", own).key == (
        "/x?password=3&ref=masked&token=2"
    )


@pytest.mark.parametrize(
    ("name", "value", "purpose"),
    [
        ("utm_x", "", "tracking parameter"), ("UTM_X", "", "tracking parameter"),
        ("GCLID", "", "tracking parameter"), ("_gl", "", "tracking parameter"),
        ("zenid", "1", "session parameter"), ("cfid", "1", ""), ("cfid", HEX, "session parameter"),
        ("SessionID", "123456", "session parameter"), ("SessionID", "12", ""),
        ("sid", "masked", "session parameter"), ("Print", "", "view"), ("item", "1", ""),
    ],
)  # fmt: skip
def test_what_a_parameter_is_for(name: str, value: str, purpose: str) -> None:
    assert FOLD.purpose(name, value) == purpose
    assert FOLD.noise(name, value) == ("" if purpose == "view" else purpose)


def test_what_logs_need_not_keep_is_named_for_matching_and_one_that_counts_is_kept() -> None:
    policy = FoldingPolicy(
        tracking=("utm_source", "x.y"), tracking_only_folded=("ref",), session=("zenid", "sid"),
        view_params=("print",), significant={"/a": ("ref",)},
    )  # fmt: skip
    assert policy.noise_names == {
        "session parameter": "zenid",
        "tracking parameter": r"utm_source|x\.y|utm_\w*",
    }
    assert policy.noise_parameters == {"utm_source", "x.y", "zenid"}
    assert policy.noise("ref", "1") == ""
    assert policy.tracking_names == {"utm_source", "x.y", "ref"}
    kept = FoldingPolicy(tracking=("utm_source",), significant={"/a": ("UTM_source",)})
    assert "utm_" not in kept.noise_names["tracking parameter"]
    assert policy.index_set == frozenset(FOLD.index_files)


def test_a_policy_survives_being_stored() -> None:
    policy = FoldingPolicy(
        case="exact",
        take_back=("asset", "/x/*"),
        significant={"/p.php": ("view", "item"), "/a": ()},
    )
    stored = policy.as_dict()
    assert stored["significant"] == {"/a": [], "/p.php": ["item", "view"]}
    assert stored["take_back"] == ["asset", "/x/*"]
    again = FoldingPolicy.from_dict(stored)
    assert again.as_dict() == stored
    assert again.take_back == policy.take_back
    assert not again.folds_case
    assert FOLD.folds_case
    assert fold_target("/P.php", "view=1&item=2", again).key == "/P.php?item=2&view=1"


def test_names_in_settings_count_in_any_letter_case() -> None:
    policy = FoldingPolicy(index_files=("Default.aspx",), view_segments=("Print",))
    for path in ("/a/b/Default.aspx", "/a/b/default.ASPX", "/a//b/DEFAULT.aspx", "/a/b/PRINT"):
        assert policy.fold_path(path)[0] == "/a/b"
    assert policy.fold_path("/a/index.html")[0] == "/a/index.html"
