"""Languages of pages: what a host, a folder or the page itself says."""

from __future__ import annotations

import pytest

from upright_ledger.core.url.language import OTHER, code_of, marked, may_match, page_languages


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("en", "en"), (" de ", "de"), ("EN-gb", "en"), ("pt_BR", "pt"), ("zh-Hant", "zh"),
        ("it", "it"), ("xx", ""), ("eng", ""), ("en-", ""), ("en-gb-x", ""), ("", ""),
    ],
)  # fmt: skip
def test_a_code_is_two_small_letters(text: str, code: str) -> None:
    assert code_of(text) == code


H = "www.a.example"


@pytest.mark.parametrize(
    ("pages", "languages"),
    [
        ([(H, "/de/a", ""), (H, "/de/b", ""), (H, "/c", "")], ["de", "de", OTHER]),
        ([(H, "/de/a", ""), (H, "/c", "")], ["", ""]),  # one page alone marks nothing
        ([(H, "/de/a", ""), (H, "/x/b", "de")], ["de", "de"]),
        ([(H, "/DE/a", ""), (H, "/de-AT/b", "")], ["de", "de"]),
        ([(H, "/de", ""), (H, "/de", "")], ["", ""]),  # no folder
        ([("de.a.example", "/a", ""), ("DE.a.example", "/b", "")], ["de", "de"]),
        ([(H, "/it/a", ""), (H, "/it/b", "")], ["", ""]),  # an English word by itself
        (
            [(H, "/it/a", ""), (H, "/it/b", ""), (H, "/de/a", ""), (H, "/de/b", "")],
            ["it", "it", "de", "de"],
        ),
        ([(H, "/it/a", ""), (H, "/de/a", ""), (H, "/de/b", "")], [OTHER, "de", "de"]),
        ([(H, "/it/a", "it"), (H, "/it/b", "")], ["it", "it"]),
        ([(H, "/a", "fr-CA"), (H, "/b", "")], ["fr", ""]),
        ([(H, "/de/a", "en"), (H, "/de/b", "en")], ["en", "en"]),
        ([], []),
    ],
)
def test_the_language_of_each_page(pages: list[tuple[str, str, str]], languages: list[str]) -> None:
    assert page_languages(pages) == languages


@pytest.mark.parametrize(
    ("one", "other", "ones", "others", "may"),
    [
        ("de", "de", "de", "de", True), ("de", "en", "de", "en", False),
        ("", "en", "", "en", True), ("de", "", "de", "", True), (OTHER, OTHER, "de", "fr", True),
        (OTHER, "de", "de", "de", False), (OTHER, "de", "fr", "de", True),
        ("de", OTHER, "de", "de", False), ("de", OTHER, "de", "fr", True),
    ],
)  # fmt: skip
def test_pages_of_two_languages_are_one_page_only_where_they_may_be(
    one: str, other: str, ones: str, others: str, may: bool
) -> None:
    assert may_match(one, other, frozenset(ones.split()), frozenset(others.split())) is may


@pytest.mark.parametrize(
    ("authority", "target", "language"),
    [
        ("de.a.example", "/x", "de"), ("www.a.example", "/de/x", "de"),
        ("www.a.example", "/en-gb/x", "en"), ("www.a.example", "/en_gb/x?y", "en"),
        ("www.a.example", "/it/x", ""), ("it.a.example", "/x", ""), ("www.a.example", "/de", ""),
        ("www.a.example", "/den/x", ""), ("www.a.example", "/a/de/x", ""),
        ("www.a.example", "/?/de/x", ""),
    ],
)  # fmt: skip
def test_what_plainly_names_a_language(authority: str, target: str, language: str) -> None:
    assert marked(authority, target) == language
