"""What one line of a log says, in each format, and how formats are told apart."""

from __future__ import annotations

import json

import pytest

from upright_ledger.formats.logs.forms.any_line import ANY_LINE
from upright_ledger.formats.logs.forms.combined import COMBINED, minutes_ahead, parse_combined
from upright_ledger.formats.logs.forms.json_lines import JSON_LINES, JsonParser
from upright_ledger.formats.logs.forms.w3c import W3C, W3cParser
from upright_ledger.formats.logs.log_formats import format_of, is_log
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogLine,
    NotALineError,
    host_name,
    unescape,
    without_visitor,
)

TIME = "[03/May/2026:10:11:12 +0200]"


@pytest.mark.parametrize(
    ("line", "said"),
    [
        (
            f'1.2.3.4 - - {TIME} "GET /a HTTP/1.1" 404 5 "http://b.example/?q" "Agent \\"x\\" 1"',
            LogLine("GET /a HTTP/1.1", "404", "2026-05-03", 'Agent \\"x\\" 1',
                "http://b.example/?q",
                "", "10:11:12", "1.2.3.4"),
        ),
        (
            f'1.2.3.4 - ada {TIME} "GET /a HTTP/1.1" 404 -',
            LogLine("GET /a HTTP/1.1", "404", "2026-05-03", None, "", "", "10:11:12", "1.2.3.4"),
        ),
        (
            f'www.a.example:8080 1.2.3.4 - - {TIME} "-" 408 0 "-" "-"',
            LogLine("-", "408", "2026-05-03", "-", "-", "www.a.example:8080", "10:11:12",
                "1.2.3.4"),
        ),
        (
            f'host1 1.2.3.4 - - {TIME} "x" 200 0 "" "" "more" 0.5',
            LogLine("x", "200", "2026-05-03", "", "", "", "10:11:12", "1.2.3.4"),
        ),
        (
            f'1.2.3.4 - two words {TIME} "x" 200 0',
            LogLine("x", "200", "2026-05-03", None, "", "", "10:11:12", "1.2.3.4"),
        ),
    ],
)  # fmt: skip
def test_a_line_of_the_combined_format(line: str, said: LogLine) -> None:
    assert parse_combined(line) == said


@pytest.mark.parametrize(
    "line",
    [
        "free words",
        f'1.2.3.4 - - {TIME} "GET /a HTTP/1.1" 40 5',
        f'1.2.3.4 - - {TIME} "GET /a HTTP/1.1" 404 x',
        f'1.2.3.4 - - {TIME} "GET /a HTTP/1.1 404 5',
        f'1.2.3.4 - - {TIME.replace("May", "Mai")} "GET /a HTTP/1.1" 404 5',
        f'1.2.3.4 - - {TIME.replace("+0200", "+02:00")} "GET /a HTTP/1.1" 404 5',
        f'"1.2.3.4" - - {TIME} "GET /a HTTP/1.1" 404 5',
    ],
)
def test_what_is_no_line_of_the_combined_format_is_refused(line: str) -> None:
    with pytest.raises(NotALineError) as refused:
        parse_combined(line)
    assert str(refused.value) == "not a line of the Common or Combined Log Format"


def test_empty_lines_are_set_aside_in_each_format() -> None:
    for parse in (parse_combined, JsonParser(), W3cParser()):
        assert parse("") == parse("  ") == "blank"


SOUND = {"time": "2026-05-03T10:00:00Z", "status": 404, "path": "/a"}


@pytest.mark.parametrize(
    ("fields", "said"),
    [
        (SOUND, ("GET /a HTTP/1.1", "404", "2026-05-03", None, "", "")),
        (SOUND | {"query": "b=1"}, ("GET /a?b=1 HTTP/1.1", "404", "2026-05-03", None, "", "")),
        (SOUND | {"args": "?b=1"}, ("GET /a?b=1 HTTP/1.1", "404", "2026-05-03", None, "", "")),
        (
            SOUND | {"path": "/a?c", "query_string": "b=1"},
            ("GET /a?c HTTP/1.1", "404", "2026-05-03", None, "", ""),
        ),
        (SOUND | {"verb": "HEAD"}, ("HEAD /a HTTP/1.1", "404", "2026-05-03", None, "", "")),
        (
            SOUND | {"request": "POST /b HTTP/2.0", "path": "/x"},
            ("POST /b HTTP/2.0", "404", "2026-05-03", None, "", ""),
        ),
        (SOUND | {"request": "/x"}, ("GET /a HTTP/1.1", "404", "2026-05-03", None, "", "")),
        (
            SOUND | {"User-Agent": "A", "Referer": ["r", "s"], "HOST": "a.example"},
            ("GET /a HTTP/1.1", "404", "2026-05-03", "A", "r", "a.example"),
        ),
        (
            SOUND | {"agent": "-", "http_referer": [], "vhost": "nohost"},
            ("GET /a HTTP/1.1", "404", "2026-05-03", "", "", ""),
        ),
        (
            {"ts": "03/May/2026:10:00:00", "response": "200", "request": {"method": "GET",
                "uri": "/n", "host": "a.example"}},
            ("GET /n HTTP/1.1", "200", "2026-05-03", None, "", "a.example"),
        ),
        (
            {"ts": 1777800000, "status_code": 200, "url": "/t", "inner": {"url": "/no"}},
            ("GET /t HTTP/1.1", "200", "2026-05-03", None, "", ""),
        ),
        (
            {"@timestamp": 1777800000123, "code": 200, "target": "/t"},
            ("GET /t HTTP/1.1", "200", "2026-05-03", None, "", ""),
        ),
    ],
)  # fmt: skip
def test_a_line_of_json(fields: dict[str, object], said: tuple[str | None, ...]) -> None:
    assert JsonParser()(json.dumps(fields)) == LogLine(*said)


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("{", "it is no JSON object"),
        ("[1]", "it is no JSON object"),
        ("words", "it is no JSON object"),
        ("{}", "its request and its status cannot be found"),
        *(
            (json.dumps({k: v for k, v in SOUND.items() if k != gone}),
                f"its {what} cannot be found")
            for gone, what in (("status", "status"), ("path", "request"))
        ),
        (json.dumps(SOUND | {"status": 4}), "its status cannot be found"),
    ],
)  # fmt: skip
def test_a_line_of_json_that_tells_of_no_request_is_refused(line: str, why: str) -> None:
    with pytest.raises(NotALineError) as refused:
        JsonParser()(line)
    assert str(refused.value) == why


@pytest.mark.parametrize("time", [None, "tomorrow", "03/Mai/2026", -1, 1e21])
def test_a_line_of_json_whose_time_is_none_tells_no_day(time: object) -> None:
    told = JsonParser()(json.dumps(SOUND | {"time": time}))
    assert isinstance(told, LogLine)
    assert told.day == ""


def test_lines_of_w3c_follow_their_directives() -> None:
    parse = W3cParser()
    assert parse("#Version: 1.0") == "blank"
    assert parse("#Date: 2026-05-03 10:00:00") == "blank"
    parse(
        "#Fields: time cs-method cs-uri-stem cs-uri-query sc-status cs(User-Agent) cs(Referer) "
        "cs-host"
    )
    assert parse("10:11:12 HEAD /a b=1 404 My+Agent http://r cs.example") == LogLine(
        "HEAD /a?b=1 HTTP/1.1",
        "404",
        "2026-05-03",
        "My Agent",
        "http://r",
        "cs.example",
        "10:11:12",
    )
    assert parse("1:2 - /a - 404 - - -") == LogLine(
        "GET /a HTTP/1.1", "404", "2026-05-03", "", "", "", ""
    )
    with pytest.raises(NotALineError, match="it has 2 fields, and #Fields names 8"):
        parse("a b")
    parse("#fields: date sc-status cs-uri cs(Host)")
    assert parse("2026-05-04\t200\t/x?y\ta.example") == LogLine(
        "GET /x?y HTTP/1.1", "200", "2026-05-04", None, "", "a.example", ""
    )
    for bad in ("2026-5-4 200 /x -", "2026-05-04 20 /x -", "2026-05-04 200 - -"):
        with pytest.raises(NotALineError, match="its address, date or status is missing"):
            parse(bad)
    fresh = W3cParser()
    fresh("#Start-Date: 2026-05-09")
    fresh("#Fields: cs-uri-stem sc-status")
    found = fresh("/a 200")
    assert isinstance(found, LogLine)
    assert found.day == "2026-05-09"


PLAIN = f'1.2.3.4 - - {TIME} "GET /a HTTP/1.1" 404 5'
JSON = json.dumps(SOUND | {"method": "GET"})


@pytest.mark.parametrize(
    ("lines", "form", "sure"),
    [
        ([PLAIN], COMBINED, True), ([PLAIN, "odd"], COMBINED, True),
        ([PLAIN, "odd", "odd"], ANY_LINE, True), ([f"a.example {PLAIN}"], COMBINED, True),
        ([JSON], JSON_LINES, True), (["  " + JSON, "odd"], JSON_LINES, True),
        (["odd", JSON], JSON_LINES, True), ([json.dumps({"a": 1})], JSON_LINES, False),
        ([json.dumps({"status": 1})], JSON_LINES, False),
        ([json.dumps({"Status": 1, "Agent": 2})], JSON_LINES, False), (["#Fields: a"], W3C, True),
        (["x", "#Fields: a"], W3C, True), (["Fields: a"], COMBINED, False),
        (["odd"], COMBINED, False), ([], COMBINED, False),
    ],
)  # fmt: skip
def test_the_first_lines_tell_the_format(lines: list[str], form: object, sure: bool) -> None:
    assert format_of(lines) is form
    assert is_log(lines) is sure
    assert Likeness.SURE > Likeness.SOME > Likeness.NONE


@pytest.mark.parametrize(
    ("zone", "minutes"), [("+0200", 120), ("-0330", -210), ("+0000", 0), ("+1345", 825)]
)
def test_how_far_a_clock_is_ahead(zone: str, minutes: int) -> None:
    assert minutes_ahead(["odd", PLAIN.replace("+0200", zone), PLAIN]) == minutes
    assert minutes_ahead(["odd"]) == 0
    assert W3C.minutes_ahead is not None
    assert W3C.minutes_ahead([]) == 0
    assert JSON_LINES.minutes_ahead is None


@pytest.mark.parametrize(
    ("text", "plain"),
    [
        ("/a", "/a"), ("/caf\\xc3\\xa9", "/café"), ('say \\"x\\"', 'say "x"'), ("a\\\\b", "a\\b"),
        ("\\xE9", "\udce9"), ("\\xg1", "\\xg1"),
    ],
)  # fmt: skip
def test_what_servers_escape_is_read_back(text: str, plain: str) -> None:
    assert unescape(text) == plain


@pytest.mark.parametrize(
    ("text", "host"),
    [("a.example", "a.example"), ("A.Example:81", "A.Example:81"), ("localhost", ""),
        ("1.2.3.4", ""), ("a.example/", ""), ("", ""), ("a b.example", "")],
)  # fmt: skip
def test_a_virtual_host(text: str, host: str) -> None:
    assert host_name(text) == host


@pytest.mark.parametrize(
    ("line", "left"),
    [
        ("192.0.2.1 - - x", "[visitor] - - x"), ("a.example 192.0.2.1 x", "[visitor] [visitor] x"),
        ("2001:db8::1 x", "[visitor] x"), ("word 2001:db8:0:0:0:0:0:1 x", "word [visitor] x"),
        ("word v1 x", "word v1 x"), ("word x", "word x"),
    ],
)  # fmt: skip
def test_visitors_leave_no_trace_in_what_is_kept(line: str, left: str) -> None:
    assert without_visitor(line) == left
