"""Escapes: one spelling of a parameter's value, and the letters of old sites."""

from __future__ import annotations

import pytest
from hypothesis import example, given

import slow_addresses
import ugly
from properties import thorough
from upright_ledger.core.url.escapes import as_latin1, as_utf8, canonical_value, value_spellings


@pytest.mark.parametrize(
    ("written", "canonical"),
    [
        ("12", "12"), ("aB", "aB"), ("a+b", "a%20b"), ("%61", "a"), ("%41%7e", "A~"),
        ("%c3%a9", "%C3%A9"), ("%E9", "%C3%A9"), ("%80", "%E2%82%AC"), ("a%2Bb", "a%2Bb"),
        ("%2f", "%2F"), ("", ""), ("a/b", "a/b"), ("%zz", "%zz"), ("%", "%"), ("é", "é"),
    ],
)  # fmt: skip
def test_a_value_has_one_spelling(written: str, canonical: str) -> None:
    assert canonical_value(written) == canonical
    assert canonical in value_spellings(canonical)


@thorough
@given(ugly.values)
def test_the_spelling_is_what_the_standard_calls_equal(value: str) -> None:
    """Unreserved letters bare, escapes in upper case, "+" a blank; then Latin-1 as UTF-8. But for a
    digit that would, bare, make a broken escape before it whole.
    """
    plain, at = "", 0
    text = value.replace("+", "%20")
    while at < len(text):
        digits = text[at + 1 : at + 3]
        if text[at] == "%" and len(digits) == 2 and all(d in slow_addresses.HEX for d in digits):
            byte = int(digits, 16)
            broken = text[:at].endswith("%") or text[: at - 1].endswith("%")
            mends = broken and chr(byte) in slow_addresses.HEX
            bare = byte in slow_addresses.UNRESERVED and not mends
            plain += chr(byte) if bare else f"%{byte:02X}"
            at += 3
        else:
            plain += text[at]
            at += 1
    assert canonical_value(value) == slow_addresses.latin1_as_utf8(plain)
    assert canonical_value(canonical_value(value)) == canonical_value(value)


@pytest.mark.parametrize(
    ("text", "letters"),
    [
        ("/caf%E9", "/caf%C3%A9"),
        ("/%e9t%E9", "/%C3%A9t%C3%A9"),
        ("/%80", "/%E2%82%AC"),
        ("/caf%C3%A9", "/caf%C3%A9"),
        ("/%C3%A9%E9", "/%C3%83%C2%A9%C3%A9"),  # not UTF-8 as a whole, so none of it is
        ("/%81", "/%81"),  # no letter of Windows-1252
        ("/%81%E9", "/%81%E9"),
        ("/a%20b", "/a%20b"),
        ("/a", "/a"),
    ],
)
def test_letters_of_latin_1_become_those_of_utf_8(text: str, letters: str) -> None:
    assert as_utf8(text) == letters


@thorough
@given(ugly.paths)
def test_letters_are_told_by_reading_the_bytes(path: str) -> None:
    canonical = slow_addresses.canonical_path(path)
    assert as_utf8(canonical) == slow_addresses.latin1_as_utf8(canonical)


@pytest.mark.parametrize(
    ("text", "letters"),
    [
        ("/caf%C3%A9", "/caf%E9"),
        ("%E2%82%AC%C3%A9", "%80%E9"),
        ("/%E2%88%80", ""),  # no letter of Windows-1252
        ("/%E9", ""),  # no UTF-8
        ("%C3%83%C2%A9", ""),  # "Ã©", of which Latin-1 would be the "é" of UTF-8
        ("/plain", ""),
        ("/%20", ""),
    ],
)
def test_what_latin_1_would_have_written(text: str, letters: str) -> None:
    assert as_latin1(text) == letters


@thorough
@given(ugly.values)
def test_latin_1_is_the_way_back_from_utf_8(value: str) -> None:
    canonical = canonical_value(value)
    if canonical.isascii() and (back := as_latin1(canonical)):
        assert slow_addresses.unescaped(back).decode("cp1252", "replace") == (
            slow_addresses.unescaped(canonical).decode()
        )


@pytest.mark.parametrize(
    ("value", "spellings"),
    [
        ("12", ["12"]),
        ("a%20b", ["a%20b", "a+b"]),
        ("%C3%A9", ["%C3%A9", "%E9", "%c3%a9", "%e9"]),
        (
            "%C3%A9%20x",
            ["%C3%A9%20x", "%C3%A9+x", "%E9%20x", "%E9+x", "%c3%a9%20x", "%c3%a9+x", "%e9%20x",
                "%e9+x"],
        ),
        ("%2F", ["%2F", "%2f"]),
        ("", [""]),
    ],
)  # fmt: skip
def test_the_spellings_that_a_rule_answers(value: str, spellings: list[str]) -> None:
    assert list(value_spellings(value)) == spellings


@thorough
@given(ugly.values)
@example("%2F%2%61")
@example("%%61b")
def test_each_spelling_of_a_value_is_that_value(value: str) -> None:
    canonical = canonical_value(value)
    for spelling in value_spellings(canonical):
        assert canonical_value(spelling) == canonical
