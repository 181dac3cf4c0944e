"""Logs of JSON objects read as columns say what they say line by line."""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from log_columns import assert_alike
from properties import in_brief
from upright_ledger.formats.logs.columns.json_scanner import JsonScanner
from upright_ledger.formats.logs.forms.json_lines import JSON_LINES, JsonParser
from upright_ledger.formats.logs.log_line import NotALineError


@pytest.fixture(autouse=True)
def _however_few(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(JsonScanner, "fewest", 1)


TARGETS = ["/", "/a?b=1", "/a b", "/%C3%A4", "/ä", '/q"x', "/a\\b", "x", "*", "", "-"]
TIMES = [
    "2026-05-03T10:00:00Z",
    "03/May/2026:10:00:00 +0000",
    "Sun, 03 May 2026 10:00:00 GMT",
    1777802400,
    1777802400.25,
    "1777802400.999999",
    1777802400123,
    "soon",
    0.012,
    "",
    None,
]
STATUSES = [200, "404", 404.0, 410, 99, "-", True, None, "404 "]
WORDS = st.sampled_from(["", "-", "handled request", "A/1 (x)", "A/1%20(x)", "http://r.example/"])
VALUES: dict[str, st.SearchStrategy[Any]] = {
    "request_uri": st.sampled_from(TARGETS),
    "uri": st.sampled_from(TARGETS),
    "request": st.sampled_from(["GET /r HTTP/1.1", "GET /r", "-", "/only"]),
    "method": st.sampled_from(["GET", "post", "-", ""]),
    "status": st.sampled_from(STATUSES),
    "ts": st.sampled_from(TIMES),
    "time": st.sampled_from(TIMES),
    "request_time": st.floats(0, 1e12, allow_nan=False),
    "host": st.sampled_from(["www.quillhaven.example", "localhost", "", "a.example:8080"]),
    "remote_addr": st.sampled_from(["10.0.0.1", "::1", "-", "client", ""]),
    "user_agent": WORDS,
    "referer": WORDS,
    "msg": st.sampled_from(
        ["handled request", '10.0.0.1 - - [03/May/2026:10:00:00 +0000] "GET /m HTTP/1.1" 404 1']
    ),
    "size": st.sampled_from([0, -1, 1.5, 1e30, 12345678901234567890]),
    "tags": st.lists(st.integers(0, 9) | WORDS, max_size=3),
    "flag": st.booleans() | st.none(),
}
NAMES = sorted(VALUES)
WHOLE = [
    "[", "]", "", "   ", "no object", '{"a":1', '{"status":-,"uri":"/a"}',
    '{"status":01,"uri":"/a"}',
    '{"uri" :"/a","status":404,"time":"2026-05-03"}',
    '{"uri":"/a","uri":"/b","status":404,"time":"2026-05-03"}',
    '2026-05-03 {"uri":"/a","status":404}',
    '{"uri":"/a\t","status":404,"time":"2026-05-03"}',
    '{"uri":"/a","status":4e2,"time":"2026-05-03"}', '{"uri":"\xff","status":404}', "\udcff{}",
]  # fmt: skip


@st.composite
def outlines(draw: st.DrawFn) -> list[tuple[str, ...]]:
    """Names of the objects of a log; those behind a dot stand an object deeper."""
    some = st.lists(st.sampled_from(NAMES), min_size=1, max_size=8, unique=True)
    deeper = st.sampled_from(["", "http.", "http.headers."])
    return [
        tuple(f"{draw(deeper)}{name}" for name in draw(some))
        for _ in range(draw(st.integers(1, 3)))
    ]


@st.composite
def logs(draw: st.DrawFn) -> list[str]:
    lines = []
    shapes = draw(outlines())
    for _ in range(draw(st.integers(1, 25))):
        if draw(st.integers(0, 9)) == 0:
            lines.append(draw(st.sampled_from(WHOLE)))
            continue
        found: dict[str, Any] = {}
        for name in draw(st.sampled_from(shapes)):
            *above, last = name.split(".")
            at = found
            for part in above:
                at = at.setdefault(part, {})
            at[last] = draw(VALUES[last])
        told = json.dumps(
            found,
            separators=draw(st.sampled_from([(",", ":"), (", ", ": ")])),
            ensure_ascii=draw(st.booleans()),
        )
        lines.append(told + draw(st.sampled_from(["", "", "", ",", "\r"])))
    return lines


@in_brief
@given(lines=logs())
@example(lines=['{"uri":"/a","status":404,"time":"2026-05-03","msg":"x"}'])
@example(lines=['{"uri":"/a","status":404,"time":"2026-05-03","tags":[1,2,"x"],"size":1.5}'] * 3)
@example(
    lines=[
        f'{{"uri":"/a","tags":{tags},"status":404,"time":{n}}}'
        for n, tags in enumerate(("[7]", "[]", "[200]", "[]"), 1777802400)
    ]
)
def test_columns_say_what_the_parser_says(lines: list[str]) -> None:
    parser = JSON_LINES.new_parser(lines, frozenset())
    assert isinstance(parser, JsonParser)
    assert_alike(lines, JsonScanner(parser, noise={}), parser)


def test_most_lines_of_usual_logs_are_read_as_columns() -> None:
    """Without it, ten times as much time is needed."""
    usual = [
        {"time": "2026-05-03T10:00:00+00:00", "remote_addr": "10.0.0.1", "request_uri": "/a",
            "request_method": "GET", "status": 404, "http_user_agent": "A/1",
            "request_time": 0.01, "http_referer": "-"},
        {"level": "info", "ts": 1777802400.25, "msg": "handled request", "request": {
            "remote_ip": "10.0.0.1", "method": "GET", "host": "www.quillhaven.example",
            "uri": "/a?b", "headers": {"User-Agent": ["A/1"], "Accept": []}}, "status": 404},
    ]  # fmt: skip
    lines = [json.dumps(one) for one in usual] * 20
    parser = JSON_LINES.new_parser(lines, frozenset())
    assert isinstance(parser, JsonParser)
    data = "".join(f"{line}\n" for line in lines).encode()
    columns, _ = JsonScanner(parser, noise={}).take_apart(np.frombuffer(data, np.uint8))
    assert len(columns.number) == len(lines)
    assert columns.odd == []


def test_objects_of_any_depth_end_nothing() -> None:
    lines = ['{"a":' * deep + "1" + "}" * deep for deep in (20, 100, 900, 980, 995, 2000)]
    whole = '{"uri":"/a","status":404,"time":"2026-05-03"}'
    assert assert_alike([*lines, whole], JsonScanner(JsonParser(), noise={}), JsonParser()) == 1


def test_a_broken_line_is_rejected_whatever_stands_beside_it() -> None:
    whole = '{"uri":"/a","status":404,"size":12,"time":"2026-05-03"}'
    broken = '{"uri":"/a","status":404,"size":-,"time":"2026-05-03"}'
    parser = JsonParser()
    data = f"{whole}\n{broken}\n{whole}\n".encode()
    columns, _ = JsonScanner(parser, noise={}).take_apart(np.frombuffer(data, np.uint8))
    assert columns.number.tolist() == [0, 2]
    ((at, _, text),) = columns.odd
    assert (at, text) == (1, broken)
    try:
        parser(text)
    except NotALineError:
        return
    raise AssertionError("a number without figures is none")
