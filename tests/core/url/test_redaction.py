"""Secrets: what is masked in queries, paths, addresses and lines, and what is not."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

import ugly
from properties import thorough
from upright_ledger.core.url.redaction import (
    MASK,
    Secrets,
    has_masked_segment,
    looks_random,
    names_a_visit,
)

PLAIN = Secrets()
HEX = "9f86d081884c7d65"
LONG_HEX = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b"
SHORT_TOKEN = "eyJhbGciOiJ.abcd."
TOKEN = "eyJhbGciOiJub25lIn0.eyJzdWIiOiJhZGEifQ."
BASE64 = "QmFzZVNpeHR5Rm91clRva2VuMTIzNDU2Nzg5MEFiQ2RFZg"


@pytest.mark.parametrize(
    ("name", "value", "secret"),
    [
        ("token", "x", True), ("id_token", "x", True), ("refreshToken", "x", True),
        ("user[password]", "x", True), ("user%5Bpassword%5D", "x", True), ("PASSWORD", "x", True),
        ("access-token", "x", True), ("APIKey", "x", True), ("api_key", "x", True),
        ("reset_key", "x", True), ("reset_code", "1234", True), ("key", "x", False),
        ("key", HEX, True), ("code", "summer", False), ("code", "a1b2c3d4", True),
        ("postcode", "a1b2c3d4", False), ("key_reset", "x", False), ("sid", "12", False),
        ("sid", HEX, True), ("session", "12", False), ("session", "1234", False),
        ("session", "12345", True), ("session_id", "7", False), ("sessionid", "x", True),
        ("mysession", "12345678", False), ("my_session", "12", False), ("PHPSESSID", "x", True),
        ("token", "", False), ("token", MASK, False), ("item", "12", False),
        ("item", LONG_HEX, True), ("item", LONG_HEX[:32], True), ("item", LONG_HEX[:31], False),
        ("item", "1" * 40, False), ("item", "a-title-of-many-words-that-is-long-enough", False),
        ("item", BASE64, True), ("tokens_of_love", "x", True), ("", "x", False),
    ],
)  # fmt: skip
def test_a_parameter_is_secret_by_its_name_or_by_its_value(
    name: str, value: str, secret: bool
) -> None:
    assert PLAIN.is_secret(name, value) is secret


def test_settings_add_names_and_take_names_out() -> None:
    own = Secrets(frozenset({"ref"}), frozenset({"token", "item"}))
    assert own.in_query(f"REF=1&Token=2&item={LONG_HEX}&password=3") == (
        f"REF=masked&Token=2&item={LONG_HEX}&password=masked"
    )
    assert PLAIN.in_query("ref=1&token=2") == "ref=1&token=masked"


@pytest.mark.parametrize(
    ("query", "masked"),
    [
        ("item=12&token=s3cret&q=a%40b.example", "item=12&token=masked&q=masked"),
        ("a=1&&b", "a=1&&b"), ("token", "token"), ("token=a=b", "token=masked"),
        ("q=ada@b.example", "q=masked"), ("ada%40b.example", "masked"),
        ("q=to%3Aada@b.example%20now", "q=to%3Amasked%20now"),
        ("q=%3Aada@b.example", "q=%3Amasked"), ("q=@b.example", "q=@b.example"),
        ("q=ada@b", "q=ada@b"), ("q=a@b@c.example", "q=masked"),
        ("q=a@b.example@c.example", "q=masked"), (f"q=x{SHORT_TOKEN}", f"q=x{SHORT_TOKEN}"),
        (f"q={TOKEN}&b=1", "q=masked&b=1"), (f"q=-{SHORT_TOKEN}", f"q=-{SHORT_TOKEN}"),
        (f"q=.{SHORT_TOKEN}x", "q=.masked"),
    ],
)  # fmt: skip
def test_secrets_go_out_of_a_query(query: str, masked: str) -> None:
    assert PLAIN.in_query(query) == masked


@pytest.mark.parametrize(
    ("path", "masked"),
    [
        ("/a/b", "/a/b"), ("/reset/a1b2c3d4", "/reset/masked"),
        ("/reset-password/a1b2c3d4/x", "/reset-password/masked/x"),
        ("/RESET/a1b2c3d4", "/RESET/masked"), ("/reset/summertime", "/reset/summertime"),
        ("/reset/a1b2c3d", "/reset/a1b2c3d"), ("/talk/a1b2c3d4", "/talk/a1b2c3d4"),
        ("/login/a1b2c3d4", "/login/masked"), (f"/x/{LONG_HEX}", "/x/masked"),
        (f"/x/{LONG_HEX[:39]}", f"/x/{LONG_HEX[:39]}"), (f"/{LONG_HEX}/x", "/masked/x"),
        ("/x/" + "a-long-title-of-a-page-with-many-words-in-it", None),
        ("/a;jsessionid=1A2B", "/a;jsessionid=masked"),
        ("/a;v=1/b;token=x/c", "/a;v=1/b;token=masked/c"), ("/(S(abc123))/x", "/(S(masked))/x"),
        ("/(A(b))/(X(y))/", "/(A(masked))/(X(masked))/"), ("/plan_(draft)", "/plan_(draft)"),
        (f"/verify/{TOKEN}", "/verify/masked"), (f"/x/{TOKEN}y/z", "/x/masked/z"),
        ("/unsubscribe/ada@b.example", "/unsubscribe/masked"),
        ("/u/ada%40b.example/x", "/u/masked/x"), ("/@ada/x", "/@ada/x"),
    ],
)  # fmt: skip
def test_secrets_go_out_of_a_path(path: str, masked: str | None) -> None:
    assert PLAIN.in_path(path) == (path if masked is None else masked)
    assert has_masked_segment(PLAIN.in_path(path)) is ("masked" in PLAIN.in_path(path).split("/"))


@pytest.mark.parametrize(
    ("url", "masked"),
    [
        ("http://a.example/reset/a1b2c3d4?token=x", "http://a.example/reset/masked?token=masked"),
        ("/reset/a1b2c3d4", "/reset/masked"),
        ("/a?u=http://b.example/?token=x", "/a?u=http://b.example/?token=x"),
        ("/go/http://b.example/reset/a1b2c3d4", "/go/http://b.example/reset/masked"),
        ("https://token.example/a", "https://token.example/a"),
        ("http://a.example?token=x", "http://a.example?token=masked"),
        ("?token=x", "?token=masked"),
    ],
)
def test_secrets_go_out_of_an_address(url: str, masked: str) -> None:
    assert PLAIN.in_url(url) == masked


@pytest.mark.parametrize(
    ("line", "masked"),
    [
        (
            '10.0.0.1 - ada [12/Nov/2026:10:00:00 +0000] "GET /a?token=x HTTP/1.1" 200 1',
            '10.0.0.1 - masked [12/Nov/2026:10:00:00 +0000] "GET /a?token=masked HTTP/1.1" 200 1',
        ),
        (
            '10.0.0.1 - - [12/Nov/2026:10:00:00 +0000] "GET /a HTTP/1.1" 200 1',
            '10.0.0.1 - - [12/Nov/2026:10:00:00 +0000] "GET /a HTTP/1.1" 200 1',
        ),
        ('{"token": "x", "path": "/a"}', '{"token": "masked", "path": "/a"}'),
        ("{'user':'ada','n':1}", "{'user':'masked','n':1}"),
        ('{"email": "ada", "status": 200}', '{"email": "masked", "status": 200}'),
        ("user=ada item=3", "user=masked item=3"),
        ("username=ada; token=x, b=2", "username=masked; token=masked, b=2"),
        ("mail of ada@b.example here", "mail of masked here"),
        (f"id {LONG_HEX} here", "id masked here"),
        (f"id {LONG_HEX[:39]} here", f"id {LONG_HEX[:39]} here"),
        ("see http://a.example/reset/a1b2c3d4 now", "see http://a.example/reset/masked now"),
        ("nothing of the sort", "nothing of the sort"),
        ("x=?auth=abc?d=e&f=g", "x=?auth=masked&f=g"),
        ("x=1?a=2?token=3?b=4", "x=1?a=2?token=masked"),
        ("x=1?a=2?b=4", "x=1?a=2?b=4"),
        ("x=1?token", "x=1?token"),
    ],
)
def test_secrets_go_out_of_a_line(line: str, masked: str) -> None:
    assert PLAIN.in_text(line) == masked


@pytest.mark.parametrize(
    ("value", "random"),
    [
        ("a1b2c3d4", True), ("a1b2c3d", False), ("ab12cd34", True), ("abcd1234", False),
        ("abc1234d", False), ("1234567890123456", False), (HEX, True), (HEX.upper(), True),
        ("abcdef0123456789", True), ("abcdef012345678", False), ("abcdefabcdefabcdef", False),
        ("AbCdEfGhIjKlMnOp", True), ("AbCdEfGhIjKlMnO", False), ("LongCaseClockMakers", True),
        ("Longcaseclockmakers", False), ("summer-2026-sale", False), ("x-a1b2c3d4", True),
        ("%61%31b2c3d4", True), ("", False),
    ],
)  # fmt: skip
def test_what_looks_drawn_at_random(value: str, random: bool) -> None:
    assert looks_random(value) is random


@pytest.mark.parametrize(
    ("name", "value", "visit"),
    [
        ("session", "12", False), ("session", "12345", True), ("session_id", "x", True),
        ("sid", "12345", False), ("sid", HEX, True), ("cfid", "7", False),
    ],
)  # fmt: skip
def test_what_names_a_visit(name: str, value: str, visit: bool) -> None:
    assert names_a_visit(name, value) is visit


@thorough
@given(ugly.paths, ugly.queries, st.sampled_from(["token", "password", "id_token", "auth"]))
def test_no_value_of_a_secret_survives_wherever_it_stands(path: str, query: str, name: str) -> None:
    secret = "Sw0rdf1sh-9Q"
    for text in (f"{path}?{query}&{name}={secret}", f"{path}?{name}={secret}&{query}"):
        for masked in (PLAIN.in_url(text), PLAIN.in_text(f'"GET {text} HTTP/1.1" 404')):
            assert secret not in masked


@thorough
@given(ugly.paths, ugly.queries)
def test_what_is_masked_once_stays_as_it_is(path: str, query: str) -> None:
    once = PLAIN.in_path(path), PLAIN.in_query(query)
    assert (PLAIN.in_path(once[0]), PLAIN.in_query(once[1])) == once
