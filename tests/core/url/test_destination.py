"""Destinations: the safe form, and the keys of pages with their twins."""

from __future__ import annotations

import re

import pytest
from hypothesis import given

import ugly
from properties import thorough
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.destination import (
    authority_of,
    differs_by_slash_only,
    is_safe_destination,
    page_key,
    read_destination,
    slash_twin,
)

NEW = "https://www.quillhaven.example"


@pytest.mark.parametrize(
    ("text", "safe"),
    [
        ("/a/", f"{NEW}/a/"), ("/a b;c{d}", f"{NEW}/a%20b%3Bc%7Bd%7D"), ("/it's", f"{NEW}/it%27s"),
        ("/$host", f"{NEW}/%24host"), ("/a|b^c`d<e>", f"{NEW}/a%7Cb%5Ec%60d%3Ce%3E"),
        ("/a[1]", f"{NEW}/a%5B1%5D"), ("/a?q=\"x\"&r='y'", f"{NEW}/a?q=%22x%22&r=%27y%27"),
        ("/a?q=b\\c", f"{NEW}/a?q=b%5Cc"), ("/a?q[0]=$x;{y}", f"{NEW}/a?q%5B0%5D=%24x%3B%7By%7D"),
        ("/a#b c", f"{NEW}/a#b%20c"), ("/a#$x;{y}", f"{NEW}/a#%24x%3B%7By%7D"),
        ("https://other.example:8443/x", "https://other.example:8443/x"),
        ("http://u:p@other.example/x", "http://other.example/x"), ("/é", f"{NEW}/%C3%A9"),
        ("/a%2Fb", f"{NEW}/a%2Fb"),
    ],
)  # fmt: skip
def test_a_destination_leaves_in_one_safe_form(text: str, safe: str) -> None:
    assert read_destination(text, NEW).text == safe
    assert is_safe_destination(safe)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("/a%0d%0aX: y", "escaped control byte"), ("/a?b=%00", "escaped control byte"),
        ("/a#%1f", "escaped control byte"), ("/a%7F", "escaped control byte"),
        ("/a\nb", "control character"), ("javascript:1", "is no web address"),
        ("data:text/html,x", "is no web address"), ("http://[::1", "cannot be read"),
        ("http://[::1]/", "cannot stand in a Location header"),
        ("http://a_b.example/", "cannot stand in a Location header"),
    ],
)  # fmt: skip
def test_a_destination_that_cannot_leave_is_refused(text: str, why: str) -> None:
    with pytest.raises(NotAnAddressError, match=why):
        read_destination(text, NEW)


@thorough
@given(ugly.paths, ugly.queries, ugly.texts(3))
def test_whatever_is_written_the_safe_form_is_safe_and_stays(
    path: str, query: str, fragment: str
) -> None:
    try:
        safe = read_destination(f"{path}?{query}#{fragment}", NEW)
    except NotAnAddressError:
        return
    assert is_safe_destination(safe.text)
    assert read_destination(safe.text, "").text == safe.text
    assert not re.search(r"[\"'\\`{}$;<>|^\[\] \x00-\x20\x7f-\U0010ffff]", safe.text)
    assert authority_of(safe.text) == safe.authority


@pytest.mark.parametrize(
    "text",
    [
        "/relative", "//x.example/", "https://x.example", 'https://x.example/"',
        "https://x.example/$a", "https://x.example/a;b", "https://x.example/a b",
        "https://x.example/a\n", "https://x.example:/a", "https://u@x.example/a",
        "ftp://x.example/", " https://x.example/",
    ],
)  # fmt: skip
def test_an_unsafe_text_is_seen(text: str) -> None:
    assert not is_safe_destination(text)


def test_a_page_has_one_key() -> None:
    assert page_key(parse_address(f"{NEW}/%61//b?x=1#y")) == f"{NEW}/a/b?x=1"
    assert page_key(parse_address(f"{NEW}/a/./")) == f"{NEW}/a/"
    assert authority_of(f"{NEW}:81/a/b") == "www.quillhaven.example:81"


@pytest.mark.parametrize(
    ("key", "twin"),
    [
        (f"{NEW}/a", f"{NEW}/a/"),
        (f"{NEW}/a?x=/1", f"{NEW}/a/?x=/1"),
        (f"{NEW}/a/b/?x=1?y", f"{NEW}/a/b?x=1?y"),
        (f"{NEW}/", f"{NEW}/"),
        (f"{NEW}/?x://y", f"{NEW}/?x://y"),
    ],
)
def test_a_key_has_a_twin_with_the_other_slash(key: str, twin: str) -> None:
    assert slash_twin(key) == twin
    assert slash_twin(twin) == key
    assert differs_by_slash_only(key, twin) is (key != twin)
    assert not differs_by_slash_only(key, f"{twin}x")
