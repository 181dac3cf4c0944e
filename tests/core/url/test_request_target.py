"""What clients send: the guard, the canonical form of paths, letters, slashes and file names."""

from __future__ import annotations

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import slow_addresses
import ugly
from properties import thorough
from upright_ledger.core.url.request_target import (
    canonical_path,
    decoded_path,
    encode_path,
    lower_ascii,
    lower_path,
    names_file,
    reject_reason,
    split_target,
    toggle_slash,
)

BEGIN = "the target does not begin with a slash"
RAW = "it holds a raw control, blank, # or non-ASCII byte"
UNSAFE = "its path holds a backslash or an escaped slash, backslash or control byte"
BROKEN = "its path holds a broken percent escape"


@pytest.mark.parametrize(
    ("target", "reason"),
    [
        ("/", ""), ("/a?b=%2F%00%zz", ""), ("/%20%22%3B%7E", ""), ("/a?b=\\", ""),
        ("/a?b?c=%", ""), ("/a%C3%A9?%", ""), ("*", BEGIN), ("a/b", BEGIN), ("", BEGIN),
        ("http://quillhaven.example/", BEGIN), ("/a b", RAW), ("/a#b", RAW), ("/é", RAW),
        ("/a\x7f", RAW), ("/a\x00", RAW), ("/a\n", RAW), ("/a?b=é", RAW), ("/a\\b", UNSAFE),
        ("/a%2fb", UNSAFE), ("/a%2Fb", UNSAFE), ("/a%5cb", UNSAFE), ("/a%5C", UNSAFE),
        ("/a%00", UNSAFE), ("/a%0d%0ab", UNSAFE), ("/a%1f", UNSAFE), ("/a%7F", UNSAFE),
        ("/a%7f?b", UNSAFE), ("/a%", BROKEN), ("/a%2", BROKEN), ("/a%zz", BROKEN),
        ("/a%2?0", BROKEN),
    ],
)  # fmt: skip
def test_a_target_that_servers_read_differently_is_refused_with_its_reason(
    target: str, reason: str
) -> None:
    assert reject_reason(target) == reason


@thorough
@given(ugly.paths, ugly.queries)
@example("/a%", "")
@example("a", "")
def test_the_guard_looks_at_each_byte_as_the_standard_does(path: str, query: str) -> None:
    target = f"{path}?{query}" if query else path
    assert (not reject_reason(target)) == slow_addresses.may_be_answered(target)


@pytest.mark.parametrize(
    ("path", "canonical"),
    [
        ("/", "/"), ("//", "/"), ("/a//b/", "/a/b/"), ("/a/./b", "/a/b"), ("/a/../b", "/b"),
        ("/../b", "/b"), ("/a/..", "/"), ("/a/.", "/a/"), ("/a/b/..", "/a/"), ("/a/b/../..", "/"),
        ("/%61%2eb", "/a.b"), ("/a%2e%2e", "/a.."), ("/%2e%2e/a", "/a"), ("/a/%2E/b", "/a/b"),
        ("/a/...", "/a/..."), ("/caf%c3%a9", "/caf%C3%A9"), ("/café", "/caf%C3%A9"),
        ("/a%3Bb", "/a;b"), ("/a|b", "/a%7Cb"), ("/a%", "/a%25"), ("/100%25", "/100%25"),
        ("/.well-known/x", "/.well-known/x"), ("/A/b", "/A/b"), ("a", "/a"),
    ],
)  # fmt: skip
def test_all_spellings_of_a_path_have_one_canonical_form(path: str, canonical: str) -> None:
    assert canonical_path(path) == canonical
    assert encode_path(decoded_path(canonical)) == canonical


@thorough
@given(ugly.paths)
def test_the_canonical_form_is_what_the_standard_resolves_to(path: str) -> None:
    assert canonical_path(path) == slow_addresses.canonical_path(path)


@thorough
@given(st.binary(max_size=30))
def test_any_bytes_have_a_canonical_form_that_reads_back(raw: bytes) -> None:
    path = "/" + raw.decode("utf-8", "surrogateescape")
    canonical = canonical_path(path)
    assert canonical == slow_addresses.canonical_path(path)
    assert decoded_path(canonical) == slow_addresses.unescaped(canonical)
    assert encode_path(decoded_path(canonical)) == canonical


@thorough
@given(st.one_of(st.text(max_size=12), ugly.texts()))
def test_letters_are_folded_as_servers_fold_them(text: str) -> None:
    assert lower_ascii(text) == slow_addresses.folded(text)


@thorough
@given(ugly.paths)
def test_folding_a_canonical_path_folds_its_bytes_and_leaves_it_canonical(path: str) -> None:
    lowered = lower_path(canonical_path(path))
    assert decoded_path(lowered) == bytes(
        b + 32 if 65 <= b <= 90 else b for b in decoded_path(canonical_path(path))
    )
    assert encode_path(decoded_path(lowered)) == lowered


@pytest.mark.parametrize(
    ("path", "other"), [("/", "/"), ("/a", "/a/"), ("/a/", "/a"), ("/a/b", "/a/b/")]
)
def test_a_trailing_slash_goes_on_and_off_but_never_off_the_root(path: str, other: str) -> None:
    assert toggle_slash(path) == other
    assert toggle_slash(other) == path


@pytest.mark.parametrize(
    ("path", "file"),
    [
        ("/a/b.pdf", True), ("/a.HTML", True), ("/a.b", True), ("/a.abcde", True),
        ("/a.abcdef", False), ("/a.b/c", False), ("/a.b/", False), ("/a.", False),
        ("/a.b_c", False), ("/v1.2.3", True), ("/", False),
    ],
)  # fmt: skip
def test_a_file_name_has_a_short_ending(path: str, file: bool) -> None:
    assert names_file(path) is file


def test_a_target_is_split_at_its_first_question_mark() -> None:
    assert split_target("/a?b=c?d") == ("/a", "b=c?d")
    assert split_target("/a") == ("/a", "")
