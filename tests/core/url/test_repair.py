"""Mending: what copying, exporting and pasting do to addresses, and that sound ones stay."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

import ugly
from properties import thorough
from upright_ledger.core.url.repair import Repaired, is_sound, mend

A = "http://a.example"


@pytest.mark.parametrize(
    ("text", "mended", "kinds"),
    [
        (f"{A}/x", f"{A}/x", ()),
        (f"{A}/x\u200by", f"{A}/xy", ("invisible characters",)),
        (f"\ufeff{A}/x", f"{A}/x", ("invisible characters",)),
        (f"  {A}/x ", f"{A}/x", ("blanks around",)),
        (f"{A}/x\u00a0", f"{A}/x", ("blanks around",)),
        (f"{A}/x\u00a0y", f"{A}/x%20y", ("blanks around", "blanks inside")),
        (f"{A}/long=\r\n  path", f"{A}/long=path", ("line breaks",)),
        (f"{A}/a\tb", f"{A}/ab", ("line breaks",)),
        (f"{A}/?a=1&amp;b=2", f"{A}/?a=1&b=2", ("HTML entities",)),
        (f"{A}/?a=&#65;&#x42;&lt;", f"{A}/?a=AB<", ("HTML entities",)),
        (f"{A}/?a=1&ampere=2", f"{A}/?a=1&ampere=2", ()),
        (f"<{A}/x>", f"{A}/x", ("pasted punctuation",)),
        (f'"{A}/x".', f"{A}/x", ("pasted punctuation",)),
        (f"({A}/x)", f"{A}/x", ("pasted punctuation",)),
        (f"{A}/x).", f"{A}/x", ("pasted punctuation",)),
        (f"{A}/x_(y)", f"{A}/x_(y)", ()),
        (f"{A}/x_(y))", f"{A}/x_(y)", ("pasted punctuation",)),
        (f"[{A}/x[1]]", f"{A}/x[1]", ("pasted punctuation",)),
        (f"\u201e{A}/x\u201c", f"{A}/x", ("pasted punctuation",)),
        (f"{A}/x\u2026", f"{A}/x", ("pasted punctuation",)),
        (f"{A}/x,;:!*|", f"{A}/x", ("pasted punctuation",)),
        (f"( {A}/x )", f"{A}/x", ("pasted punctuation",)),
        (".", ".", ()),
        ("http:/a.example/x", f"{A}/x", ("damaged scheme",)),
        ("http:////a.example/x", f"{A}/x", ("damaged scheme",)),
        ("http//a.example/x", f"{A}/x", ("damaged scheme",)),
        ("HTTPS;//a.example/x", "https://a.example/x", ("damaged scheme",)),
        ("http://https://a.example/x", "https://a.example/x", ("damaged scheme",)),
        ("https:http://a.example/x", f"{A}/x", ("damaged scheme",)),
        (f"{A}/caf\u00c3\u00a9", f"{A}/café", ("mojibake",)),
        (f"{A}/\u00e2\u201a\u00ac", f"{A}/€", ("mojibake",)),
        (f"{A}/\u00c3\u0081x", f"{A}/Áx", ("mojibake",)),
        (f"{A}/caf%C3%83%C2%A9", f"{A}/caf%C3%A9", ("mojibake",)),
        (f"{A}/caf%c3%83%c2%a9", f"{A}/caf%C3%A9", ("mojibake",)),
        (f"{A}/%C3%83%C2%A9%E2%82%AC\u00c3\u00a9", f"{A}/%C3%A9%E2%82%ACé", ("mojibake",)),
        (f"{A}/%C3%82%C2%A9", f"{A}/%C2%A9", ("mojibake",)),
        (f"{A}/%C3%83%C2%83", f"{A}/%C3%83", ("mojibake",)),
        (f"{A}/\u00c3\u00a9\u0416", f"{A}/\u00c3\u00a9\u0416", ()),
        (f"{A}\\x\\y", f"{A}/x/y", ("backslashes",)),
        (f"{A}/x y", f"{A}/x%20y", ("blanks inside",)),
        (f" <{A}/x y&amp;z> ", f"{A}/x%20y&z",
            ("blanks around", "HTML entities", "pasted punctuation", "blanks inside")),
        ("((x))y)", "x))y", ("pasted punctuation",)),
        ("a.", "a", ("pasted punctuation",)),
        ('"\'a\'"', "a", ("pasted punctuation",)),
        ("", "", ()),
    ],
)  # fmt: skip
def test_damage_is_mended_and_named(text: str, mended: str, kinds: tuple[str, ...]) -> None:
    assert mend(text) == Repaired(mended, kinds)


@pytest.mark.parametrize(
    ("text", "mended", "day"),
    [
        (f"https://archive.example/web/20190704120000/{A}/x", f"{A}/x", "2019-07-04"),
        (f"https://archive.example/web/20190704120000id_/{A}/x", f"{A}/x", "2019-07-04"),
        (f"https://archive.example/20190704/{A}/x", f"{A}/x", "2019-07-04"),
        ("https://archive.example/web/2019/www.a.example/x", "www.a.example/x", ""),
        ("http://archive.example/20191231/www.a.example/x", "www.a.example/x", "2019-12-31"),
        ("https://archive.example/web/20191304/http:/a.example/x", f"{A}/x", ""),
        ("https://archive.example/web/20190732/http:/a.example/x", f"{A}/x", ""),
        ("https://archive.example/web/20191231/http:/a.example/x", f"{A}/x", "2019-12-31"),
        ("https://archive.example/web/20190101/http:/a.example/x", f"{A}/x", "2019-01-01"),
        ("https://archive.example/web/201907/http:/a.example/x", f"{A}/x", ""),
        ("https://archive.example/web/2019010/http:/a.example/x", f"{A}/x", ""),
        ("https://archive.example/web/20190704/https:/http://a.example/x", f"{A}/x", "2019-07-04"),
    ],
)
def test_what_an_archive_kept_is_the_address_with_its_day(text: str, mended: str, day: str) -> None:
    found = mend(text)
    assert (found.text, found.day) == (mended, day)
    assert found.mends in {("archive prefix",), ("archive prefix", "damaged scheme")}


@pytest.mark.parametrize(
    "text", [f"{A}/blog/2019/07/http-explained", f"{A}/a/b/20190704/x", f"{A}/go/123/www.b.example"]
)
def test_dates_and_numbers_in_a_path_are_no_archive(text: str) -> None:
    assert mend(text).day == ""
    assert mend(text).text == text


@pytest.mark.parametrize(
    ("text", "sound"),
    [
        (f"{A}/x", True), ("https://a.example/x?a=b%20c&d+e", True),
        ("https://www.a.example/x", True), ("http://www.a.example/x", True), ("/x/", True),
        ("/x=", True), ("/x_~-y", True), ("/x-", False), ("/x.", False), ("x", False), ("", False),
        ("ftp://a.example/", False), ("/é", False), ("/x y", False), ("/x;y", False),
        ("http:///a.example/x", False), (f"/go/{A}", False), ("/caf%C3%83%C2%A9x", False),
        ("/caf%C3%A9x", True),
    ],
)  # fmt: skip
def test_what_is_surely_sound_is_told_quickly(text: str, sound: bool) -> None:
    assert is_sound(text) is sound


@thorough
@given(st.one_of(ugly.texts(), st.builds("{}{}".format, st.sampled_from([A, "", "(", "http:/"]),
    ugly.paths), st.text(max_size=20)))  # fmt: skip
def test_mending_is_done_once_for_all_and_sound_texts_stay(text: str) -> None:
    found = mend(text)
    if is_sound(text):
        assert found == Repaired(text)
    assert bool(found.mends) is (found.text != text) or found.mends
    assert len(set(found.mends)) == len(found.mends)
    for sign in ("\u200b", "\n", "\t", "\\", " "):
        assert sign not in found.text
    assert found.text == found.text.strip()
