"""One line of a log: Common and Combined Log Format, W3C Extended Log File Format, JSON."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any, NamedTuple

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.word import Word
from upright_ledger.formats.files.json_text import read_json


class LogForm(Word):
    """The form of a log's lines."""

    COMBINED = "combined"
    W3C = "w3c"
    JSON_LINES = "json"


MONTHS = {
    m: f"{n:02}"
    for n, m in enumerate(
        ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1
    )
}


class LogLine(NamedTuple):
    """What a line says of a request, as it stands in the log.

    request: method, target and protocol. day: YYYY-MM-DD. agent: None where the format has none.
    clock: HH:MM:SS, or empty where that is not read.
    """

    request: str
    status: str
    day: str
    agent: str | None
    referrer: str
    host: str
    clock: str = ""


class NotALineError(ValueError):
    """A line that does not fit; the message says why."""


Parser = Callable[[str], LogLine | str]
"""Reads one line; a text names the class in which it is set aside. Raises NotALineError."""

_QUOTED = r'"((?:[^"\\]|\\.)*)"'
_LINE = re.compile(
    r"^(?P<head>[^\"]+)"
    r"\[(?P<day>\d{2})/(?P<month>[A-Z][a-z]{2})/(?P<year>\d{4}):(?P<clock>\d{2}:\d{2}:\d{2}) "
    r"[+-]\d{4}\] "
    rf"{_QUOTED.replace('(', '(?P<request>', 1)} (?P<status>\d{{3}}) (?:\d+|-)"
    rf"(?: {_QUOTED.replace('(', '(?P<referrer>', 1)} {_QUOTED.replace('(', '(?P<agent>', 1)})?",
)
_WORDS_BEFORE_TIME = 3  # client, identity and user; one more is a virtual host in front
_HEX = re.compile(rb"\\x([0-9A-Fa-f]{2})")
_VISITOR = re.compile(
    r"\b\d{1,3}(?:\.\d{1,3}){1,3}\b|(?:[0-9A-Fa-f]{0,4}:){5,}[0-9A-Fa-f]{0,4}|"
    r"[0-9A-Fa-f:]*::[0-9A-Fa-f:]*"
)
_VHOST = re.compile(r"^[A-Za-z0-9.-]+\.[A-Za-z][A-Za-z0-9-]*(?::\d+)?$")


def parse_combined(line: str) -> LogLine | str:
    """A line of the Common or Combined Log Format, with or without a virtual host in front."""
    if not line.strip():
        return AsideClass.BLANK
    match = _LINE.match(line)
    if match is None or match["month"] not in MONTHS:
        raise NotALineError("not a line of the Common or Combined Log Format")
    day = f"{match['year']}-{MONTHS[match['month']]}-{match['day']}"
    words = match["head"].split()
    host = words[0] if len(words) > _WORDS_BEFORE_TIME else ""
    told = (
        match["request"],
        match["status"],
        day,
        match["agent"],
        match["referrer"] or "",
        host_name(host),
    )
    return LogLine(*told, match["clock"])


def host_name(text: str) -> str:
    """A virtual host as a log names it, or an empty text where it is none."""
    return text if _VHOST.match(text) else ""


class W3cParser:
    """Lines of the W3C Extended Log File Format, whose `#Fields` directive may change on the
    way.
    """

    def __init__(self) -> None:
        self._at: dict[str, int] = {}
        self._width = 0
        self._day = ""

    def __call__(self, line: str) -> LogLine | str:
        if line.startswith("#"):
            self._directive(line)
            return AsideClass.BLANK
        if not line.strip():
            return AsideClass.BLANK
        cells = line.split(" ") if " " in line else line.split("\t")
        if len(cells) != self._width:
            raise NotALineError(f"it has {len(cells)} fields, and #Fields names {self._width}")
        stem, query = self._cell(cells, "cs-uri-stem"), self._cell(cells, "cs-uri-query")
        target = self._cell(cells, "cs-uri") or (f"{stem}?{query}" if query else stem)
        day = self._cell(cells, "date") or self._day
        status = self._cell(cells, "sc-status")
        if (
            not target
            or not re.fullmatch(r"\d{4}-\d\d-\d\d", day)
            or not re.fullmatch(r"\d{3}", status)
        ):
            raise NotALineError("its address, date or status is missing")
        method = self._cell(cells, "cs-method") or "GET"
        agent = (
            self._cell(cells, "cs(user-agent)").replace("+", " ")
            if "cs(user-agent)" in self._at
            else None
        )
        host = self._cell(cells, "cs-host") or self._cell(cells, "cs(host)")
        clock = self._cell(cells, "time")
        return LogLine(
            f"{method} {target} HTTP/1.1", status, day, agent, self._cell(cells, "cs(referer)"),
            host_name(host),
            clock if re.fullmatch(r"\d\d:\d\d:\d\d", clock) else "",
        )  # fmt: skip

    def _directive(self, line: str) -> None:
        name, _, value = line[1:].partition(":")
        if name.lower() == "fields":
            fields = value.split()
            self._at = {field.lower(): n for n, field in enumerate(fields)}
            self._width = len(fields)
        elif name.lower() in {"date", "start-date"} and (
            match := re.match(r"\s*(\d{4}-\d\d-\d\d)", value)
        ):
            self._day = match[1]

    def _cell(self, cells: list[str], field: str) -> str:
        at = self._at.get(field)
        return "" if at is None or cells[at] == "-" else cells[at]


_TIMES = (
    "time",
    "timestamp",
    "@timestamp",
    "time_local",
    "time_iso8601",
    "ts",
    "date",
    "datetime",
    "start_time",
)
_TARGETS = ("request_uri", "uri", "path", "url", "target", "request_path", "cs-uri-stem")
_STATUSES = ("status", "status_code", "response", "code", "response_status")
_AGENTS = ("http_user_agent", "user_agent", "agent", "useragent", "user-agent")
_REFERRERS = ("http_referer", "referer", "referrer", "http_referrer")
_HOSTS = ("host", "http_host", "server_name", "vhost", "request_host")


def parse_json(line: str) -> LogLine | str:
    """A line that is a JSON object with the names servers commonly give."""
    if not line.strip():
        return AsideClass.BLANK
    try:
        found = read_json(line)
    except ValueError:
        raise NotALineError("it is no JSON object") from None
    if not isinstance(found, dict):
        raise NotALineError("it is no JSON object")
    flat = _flat(found)
    request = _first(flat, ("request",))
    target = _first(flat, _TARGETS)
    if not request or " " not in request:
        query = _first(flat, ("query_string", "args", "query"))
        if target and query and "?" not in target:
            target = f"{target}?{query.removeprefix('?')}"
        method = _first(flat, ("method", "request_method", "verb")) or "GET"
        request = f"{method} {target} HTTP/1.1" if target else ""
    status = _first(flat, _STATUSES)
    day = _day_of(_first(flat, _TIMES))
    if not request or not day or not re.fullmatch(r"\d{3}", status):
        raise NotALineError("its address, time or status is missing")
    has_agent = any(name in flat for name in _AGENTS)
    agent = _first(flat, _AGENTS) if has_agent else None
    return LogLine(
        request, status, day, agent, _first(flat, _REFERRERS), host_name(_first(flat, _HOSTS))
    )


def _flat(found: dict[str, Any]) -> dict[str, Any]:
    """Names in lower case; of what is nested, the inner names, where they say nothing new to the
    outer ones.
    """
    flat: dict[str, Any] = {}
    for name, value in found.items():
        if isinstance(value, dict):
            for inner, text in value.items():
                flat.setdefault(str(inner).lower(), text)
        else:
            flat[str(name).lower()] = value
    return flat


def _first(flat: dict[str, Any], names: tuple[str, ...]) -> str:
    for name in names:
        value = flat.get(name)
        if isinstance(value, list):
            value = value[0] if value else None
        if value is not None and value not in ("", "-"):
            return str(value)
    return ""


def _day_of(text: str) -> str:
    if match := re.match(r"(\d{4})-(\d\d)-(\d\d)", text):
        return match[0]
    if (match := re.match(r"(\d{2})/([A-Z][a-z]{2})/(\d{4})", text)) and match[2] in MONTHS:
        return f"{match[3]}-{MONTHS[match[2]]}-{match[1]}"
    try:
        seconds = float(text)
    except ValueError:
        return ""
    seconds = seconds / 1000 if seconds > 1e11 else seconds  # some servers count milliseconds
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d") if 0 < seconds < 1e11 else ""


def unescape(text: str) -> str:
    """Undo what servers do to bytes they do not write bare: \\\\xHH, \\\\" and \\\\\\\\."""
    if "\\" not in text:
        return text
    raw = _HEX.sub(lambda m: bytes((int(m[1], 16),)), text.encode("utf-8", "surrogateescape"))
    return raw.decode("utf-8", "surrogateescape").replace('\\"', '"').replace("\\\\", "\\")


def without_visitor(line: str) -> str:
    """A line without what may name a visitor: addresses, and the word it begins with."""
    first, blank, rest = _VISITOR.sub("[visitor]", line).partition(" ")
    return f"{'[visitor]' if '.' in first else first}{blank}{rest}"
