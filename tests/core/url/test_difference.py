"""What a redirect changes of an address."""

from __future__ import annotations

import pytest
from hypothesis import given

import ugly
from properties import thorough
from upright_ledger.core.url.conventions import INDEX_FILES
from upright_ledger.core.url.difference import what_changed, without_index_file

INDEX = frozenset(INDEX_FILES)
HOST = "http://www.quillhaven.example"


@pytest.mark.parametrize(
    ("before", "after", "changed"),
    [
        ("/a", "/a", ()), ("/a", "/b", ("content",)), ("/a", "/a/", ("slash",)),
        ("/A", "/a", ("case",)), ("/A", "/a/", ("slash", "case")),
        ("/A/", "/a", ("slash", "case")), ("/a", "/A", ("case",)),
        ("/a/index.html", "/a/", ("index file",)), ("/a/", "/a/index.php", ("index file",)),
        ("/a/index.html", "/a", ("index file",)), ("/A/index.html", "/a/", ("case", "index file")),
        ("/a/Index.HTML", "/a/", ("index file",)), ("/a/index.html", "/b/", ("content",)),
        ("/a/index.html", "/a/index.php", ("content",)), ("/A/x", "/b/x", ("content",)),
        ("/a%2Fb", "/a/b", ()), ("/caf%C3%A9", "/caf%c3%a9", ()), ("/a//b", "/a/b", ()),
        ("/a?x=1", "/a", ("query",)), ("/a?x=1", "/a?x=2", ("query",)),
        ("/a?x=1", "/b/?x=2", ("content", "query")), ("/", "/index.html", ("index file",)),
    ],
)  # fmt: skip
def test_what_changed_of_a_path_and_query(
    before: str, after: str, changed: tuple[str, ...]
) -> None:
    assert what_changed(HOST + before, HOST + after, INDEX) == changed


@pytest.mark.parametrize(
    ("before", "after", "changed"),
    [
        ("http://a.example/", "https://a.example/", ("scheme",)),
        ("http://a.example/", "http://b.example/", ("host",)),
        ("http://a.example/", "http://a.example:81/", ("host",)),
        ("http://a.example/x?y", "https://b.example/x/", ("scheme", "host", "slash", "query")),
        ("http://", "http://a.example/", ("content",)),
        ("http://a.example/", "mailto:x", ("content",)),
    ],
)
def test_what_changed_of_an_origin(before: str, after: str, changed: tuple[str, ...]) -> None:
    assert what_changed(before, after, INDEX) == changed


@thorough
@given(ugly.paths, ugly.paths)
def test_a_change_is_one_whichever_way_it_went(one: str, other: str) -> None:
    there = what_changed(f"{HOST}/x{one}", f"{HOST}/x{other}", INDEX)
    assert there == what_changed(f"{HOST}/x{other}", f"{HOST}/x{one}", INDEX)


@pytest.mark.parametrize(
    ("path", "rest"),
    [("/a/index.html", "/a"), ("/a/INDEX.html", "/a"), ("/a/", "/a"), ("/a", "/a"), ("/", ""),
        ("/index.php", ""), ("/a/my-index.html", "/a/my-index.html")],
)  # fmt: skip
def test_what_a_page_and_its_index_file_have_in_common(path: str, rest: str) -> None:
    assert without_index_file(path, INDEX) == rest
