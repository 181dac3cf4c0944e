"""What people write where an address is asked for."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.written_address import Written, as_written

ORIGINS = {"neu.example": "https://neu.example", "alt.example:8080": "http://alt.example:8080"}


@pytest.mark.parametrize(
    ("text", "meant"),
    [
        ("/a", "/a"),
        ("/", "/"),
        ("?a", "?a"),
        (" /a ", "/a"),
        ("http://x.example/a", "http://x.example/a"),
        ("www.x.example/a", "www.x.example/a"),
        ("www.example", "www.example"),
        ("shop.x.example/a", "shop.x.example/a"),
        ("neu.example", "https://neu.example"),
        ("NEU.example/p", "https://neu.example/p"),
        ("neu.example?p", "https://neu.example?p"),
        ("alt.example:8080/p", "http://alt.example:8080/p"),
        ("/files/Annual Report.pdf", "/files/Annual Report.pdf"),
        ("/a=b", "/a=b"),
        ("mailto:a@neu.example", "mailto:a@neu.example"),
        ("<https://neu.example/g>", "https://neu.example/g"),
        ("„https://neu.example/g“", "https://neu.example/g"),
    ],
)
def test_addresses_are_left_as_they_are_meant(text: str, meant: str) -> None:
    assert as_written(text, ORIGINS) == Written(meant)
    assert as_written(text, ORIGINS, words=False) == Written(meant)


@pytest.mark.parametrize(
    "text", ["visit/hours.html", "index.html", "a/b", "v1.2/x.y/z", "über/uns", "page.php?a=1"]
)
def test_a_path_may_lack_its_slash(text: str) -> None:
    assert as_written(text, ORIGINS, words=False) == Written(f"/{text}", True)


@pytest.mark.parametrize("text", ["about-us", "files/Annual Report.pdf", "Annual Report.pdf"])
def test_in_a_sheet_without_slashes_a_word_is_a_path(text: str) -> None:
    assert as_written(text, ORIGINS) == Written(f"/{text}", True)
    if "/" not in text and "." not in text:
        with pytest.raises(NotAnAddressError):
            as_written(text, ORIGINS, words=False)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "no address"),
        ("??", "no address"),
        ("#REF!", "no address"),
        ("#top", "no address"),
        ("…", "no address"),
        ("siehe https://neu.example", "more than one"),
        ("siehe Kommentar", "begins with a slash"),
        ("z. B. die Startseite", "begins with a slash"),
        ("=A2", "formula"),
        ('=HYPERLINK("https://neu.example/s"', "formula"),
        ("https://neu.example/i oder https://neu.example/j", "more than one"),
        ("/i, https://neu.example/j", "more than one"),
    ],
)
@pytest.mark.parametrize("words", [True, False])
def test_notes_and_formulas_are_no_addresses(text: str, why: str, words: bool) -> None:
    with pytest.raises(NotAnAddressError, match=why) as told:
        as_written(text, ORIGINS, words=words)
    assert str(told.value).startswith(repr(text))


def test_of_a_long_note_the_beginning_is_named() -> None:
    for length, shown in ((60, "=" + "x" * 59), (61, "=" + "x" * 59 + "…")):
        with pytest.raises(NotAnAddressError) as told:
            as_written("=" + "x" * (length - 1), ORIGINS)
        assert str(told.value).startswith(f"'{shown}' is")


@given(st.text('aZ/.?#=: \n-ü"', max_size=12), st.booleans())
def test_what_is_taken_is_the_text_with_at_most_a_beginning(text: str, words: bool) -> None:
    try:
        written = as_written(text, ORIGINS, words=words)
    except NotAnAddressError:
        return
    assert written.text.endswith(text.strip()) or "://" in text
    assert not written.lacked_slash or written.text == f"/{text.strip()}"
    assert not (written.lacked_slash and written.names_host)
    if not words:
        assert as_written(text, ORIGINS) == written
    if not written.names_host:
        try:
            assert parse_address(written.text, "https://neu.example").authority
        except NotAnAddressError:
            return
