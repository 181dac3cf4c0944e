"""Words of addresses and titles."""

from __future__ import annotations

import pytest
from hypothesis import given

import ugly
from properties import thorough
from upright_ledger.core.url.tokens import as_written, is_year, path_parts, plain, stem, tokens


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("long-case clock", ["long", "case", "clock"]),
        ("The history of clocks", ["history", "clock"]), ("of the", ["of", "the"]),
        ("page2", ["2"]), ("chapter007", ["chapter", "7"]), ("000", ["0"]),
        ("longCase", ["long", "case"]), ("LONGCase", ["longcase"]), ("HTTPServer", ["httpserver"]),
        ("Café Ünter", ["cafe", "unter"]), ("Fuer Koenige", ["fur", "konige"]),
        ("cafe\u0301", ["cafe"]), ("Москва", ["moskva"]),
        ("galleries glass bus this analysis", ["gallery", "glass", "bus", "analysis"]), ("", []),
        ("-_-", []),
    ],
)  # fmt: skip
def test_words_of_a_text(text: str, words: list[str]) -> None:
    assert tokens(text) == words


@pytest.mark.parametrize(
    ("word", "stemmed"),
    [
        ("clocks", "clock"), ("galleries", "gallery"), ("ties", "tie"), ("dies", "die"),
        ("lies", "lie"), ("flies", "fly"), ("gas", "gas"), ("cats", "cat"), ("glass", "glass"),
        ("status", "status"), ("analysis", "analysis"), ("clock", "clock"), ("s", "s"), ("", ""),
    ],
)  # fmt: skip
def test_plurals_meet_their_singular(word: str, stemmed: str) -> None:
    assert stem(word) == stemmed


def test_words_are_known_by_the_letters_in_which_they_stand() -> None:
    assert as_written("The Clocks of 007") == {
        "the": "the", "clock": "clocks", "of": "of", "7": "007",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("path", "parts"),
    [
        ("/a/b.html", ["a", "b"]), ("/a.html/b", ["a.html", "b"]), ("/a%20b/c.PHP5", ["a b", "c"]),
        ("/a/b.pdf", ["a", "b.pdf"]), ("//a///b/", ["a", "b"]), ("/x.aspx", ["x"]),
        ("/x.html.bak", ["x.html.bak"]), ("/", []),
    ],
)  # fmt: skip
def test_parts_of_a_path(path: str, parts: list[str]) -> None:
    assert path_parts(path) == parts


@pytest.mark.parametrize(
    ("word", "year"),
    [("1900", True), ("2100", True), ("1899", False), ("2101", False), ("199", False),
        ("02019", False)],
)  # fmt: skip
def test_a_year(word: str, year: bool) -> None:
    assert is_year(word) is year


@thorough
@given(ugly.texts())
def test_words_are_plain_and_their_own_words(text: str) -> None:
    for word in tokens(text):
        assert word.isascii()
        assert word.isalnum()
        assert word == word.lower()
    assert plain(plain(text)) == plain(text)
    assert set(tokens(text)) <= set(as_written(text))
